//! What every command that writes has in common: the drives, the guard's word, the question, the run and its record.

use std::fs::File;
use std::io::{self, BufRead, BufReader, IsTerminal, Read};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::Duration;

use jiff::Timestamp;
use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::devices::{After, Platform, PlatformError};
use pyrotyp_core::drive::{Choice, Drive, Tag};
use pyrotyp_core::guard::{Circumstances, Cleared, Confirmed, Plan};
use pyrotyp_core::hash::BLOCK_BYTES;
use pyrotyp_core::image::Inspection;
use pyrotyp_core::job::journal::{Heading, Notes, SpentNotes};
use pyrotyp_core::job::{Checked, Order, Outcome, Pacing, ReadBack, Source, Start, Target, Writing, journal};
use pyrotyp_core::ledger::Begun;
use pyrotyp_core::plan::Intent;
use pyrotyp_core::published::Report;
use pyrotyp_core::record::{DriveIdentity, DriveRecord, ImageRecord, JobResult, RECORD_VERSION, Record, job_name};
use pyrotyp_core::shelf::Identity;
use pyrotyp_core::stop::Cancel;
use pyrotyp_core::text::{Shown, shell};
use pyrotyp_core::{Level, guard, job, ledger, machine};

use crate::asked::{Common, Job};
use crate::exit::{Exit, Failure, chain, of_job, plain};
use crate::live::job_progress::JobProgress;
use crate::out::{put, put_document, say, warn};
use crate::session::attached::{ARRIVING, choose_drive};
use crate::session::folders::state_folder;
use crate::session::settings::survey;
use crate::session::{Session, shelf_notes};
use crate::show::{card, json, text};

impl Job {
    pub(crate) fn read_back(&self) -> ReadBack {
        if self.skip_readback { ReadBack::Skip } else { ReadBack::Whole }
    }

    fn writing(&self) -> Writing {
        if self.only_changed { Writing::OnlyChanged } else { Writing::Everything }
    }

    fn after(&self) -> After {
        if self.eject { After::Eject } else { After::Keep }
    }

    fn start(&self) -> Start {
        if self.resume { Start::GoOn } else { Start::Over }
    }
}

/// The image of a job, as people know it.
#[derive(Clone, Copy)]
pub(crate) struct Image<'a> {
    /// How it is called: a path, or an address.
    pub path: &'a Path,
    /// Whether there is a file at that path.
    pub is_file: bool,
    pub inspection: &'a Inspection,
    /// Length of the file or of what comes, where that is known.
    pub bytes: Option<u64>,
    /// What its check has found.
    pub report: Option<&'a Report>,
    /// What it will be compared with on the way, in words.
    pub expects: Option<&'a str>,
}

impl Image<'_> {
    fn is_packed(&self) -> bool {
        self.inspection.container.is_some()
    }
}

/// The drives that were chosen, and what the guard needs to know of them.
pub(crate) struct Chosen {
    pub choices: Vec<Choice>,
    pub plan: Plan,
    pub circumstances: Circumstances,
}

impl Chosen {
    fn drives(&self) -> impl Iterator<Item = &Drive> {
        self.choices.iter().map(|choice| &choice.drive)
    }

    /// The room of the smallest of them, in bytes.
    pub(crate) fn room(&self) -> u64 {
        self.drives().map(|drive| drive.bytes).min().unwrap_or(0)
    }

    /// What stands for a drive when it is confirmed: its tag, or where it is if its tag fits others.
    fn word_for(&self, drive: &Drive) -> String {
        if self.circumstances.namesakes(drive).next().is_some() {
            place(drive).to_owned()
        } else {
            drive.tag.to_string()
        }
    }

    /// Whether the words that were typed are those for these drives, each once.
    fn is_confirmed_by(&self, typed: &str) -> bool {
        let separates = |c: char| c.is_whitespace() || c == ',';
        let mut words: Vec<&str> = typed.split(separates).filter(|word| !word.is_empty()).collect();
        let takes_one = |drive: &Drive| {
            let word = self.word_for(drive);
            let fits = |typed: &&str| {
                typed.parse::<Tag>().is_ok_and(|tag| tag.as_str() == word)
                    || [place(drive), &drive.path].contains(typed) && word == place(drive)
            };
            let found = words.iter().position(fits);
            found.map(|at| words.remove(at)).is_some()
        };
        self.drives().all(takes_one) && words.is_empty()
    }
}

/// The last part of where a drive is: `sdb` of `/dev/sdb`.
fn place(drive: &Drive) -> &str {
    drive.path.rsplit(['/', ':']).next().unwrap_or(&drive.path)
}

/// Who can say yes.
pub(crate) enum Confirming {
    /// Nobody needs to.
    Unattended,
    /// Whoever sits at the terminal, on standard input.
    Input,
    /// Whoever sits at the terminal, although something else comes on standard input.
    Terminal(File),
}

/// Where the image comes from, as far as the question goes.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum ImageFrom {
    /// Where the question is answered.
    StandardInput,
    /// Anywhere else.
    Elsewhere,
}

impl Confirming {
    /// Beside an image that comes from there.
    pub(crate) fn find(asked: &Job, from: ImageFrom) -> Result<Self, Failure> {
        if asked.unattended {
            return Ok(Self::Unattended);
        }
        let takes_input = from == ImageFrom::StandardInput;
        let is_shown = io::stderr().is_terminal();
        if takes_input
            && is_shown
            && let Ok(terminal) = File::open("/dev/tty")
        {
            return Ok(Self::Terminal(terminal));
        }
        if !takes_input && is_shown && io::stdin().is_terminal() {
            return Ok(Self::Input);
        }
        Err(Failure::new(
            Exit::Refused,
            "nobody can confirm the drive: this is no terminal",
            "run it at a terminal, or add --unattended and name the drive by its tag",
        ))
    }
}

/// Finds the drives that are meant, each once.
pub(crate) fn choose(
    names: &[String],
    image: &Image<'_>,
    asked: &Job,
    platform: &dyn Platform,
    session: &Session<'_>,
) -> Result<Chosen, Failure> {
    if asked.unattended && names.iter().any(|name| name == ARRIVING) {
        let text =
            "nobody confirms the drive that is plugged in next, and that it comes next proves nothing (no-proof)";
        return Err(Failure::new(Exit::Refused, text, "name the drive by its tag, or leave --unattended away"));
    }
    let mut choices: Vec<Choice> = Vec::new();
    for name in names {
        let choice = choose_drive(platform, name, session.cancel, &|text| say(session.common, text))?;
        if choices.iter().any(|known| known.drive.path == choice.drive.path) {
            let text = format!("drive {} ({}) is named twice", choice.drive.tag, choice.drive.path);
            return Err(Failure::new(Exit::Usage, text, "name each drive once"));
        }
        choices.push(choice);
    }
    let confirmed = if asked.unattended { Confirmed::ByNobody } else { Confirmed::ByPerson };
    let file = image.is_file.then_some(image.path);
    let circumstances = survey(platform, session.common, &Intent { image: file, choices: &choices, confirmed })?;
    let plan = Plan {
        image: image.path.to_string_lossy().into_owned(),
        needs_bytes: image.inspection.needs_bytes.max(image.bytes.filter(|_| !image.is_packed()).unwrap_or(0)),
        laid_out_for: image.inspection.sector_bytes,
    };
    Ok(Chosen { choices, plan, circumstances })
}

/// The guard's word about all drives: all of them, or none.
pub(crate) fn clear(chosen: &Chosen, image: &Image<'_>, asked: &Job) -> Result<Vec<Cleared>, Failure> {
    chosen.choices.iter().map(|choice| clear_one(choice, chosen, image, asked)).collect()
}

/// The guard's word, and whose fault it is if the word is no.
fn clear_one(choice: &Choice, chosen: &Chosen, image: &Image<'_>, asked: &Job) -> Result<Cleared, Failure> {
    let about_image = &image.inspection.findings;
    guard::clear(choice, &chosen.plan, &chosen.circumstances, about_image, &asked.accept).map_err(|refused| {
        let image_alone = refused.standing.iter().all(|finding| about_image.contains(finding));
        let drive = &choice.drive;
        let mut text = match (image_alone, refused.standing.first()) {
            (true, Some(finding)) => format!("{}: {} ({})", image.path.shown(), finding.text, finding.id),
            _ => format!("drive {} ({}, {}) stays as it is", drive.tag, drive.name(), drive.path),
        };
        if !image_alone {
            for finding in &refused.standing {
                text.push_str(&format!("\n   {}: {}", finding.id, finding.text));
            }
        }
        let mut next = refused.standing.first().map(|finding| finding.next.clone()).unwrap_or_default();
        let is_liftable = refused.standing.iter().all(|finding| finding.level == Level::Ask);
        let accept: Vec<String> = refused.standing.iter().map(|finding| format!("--accept {}", finding.id)).collect();
        if image_alone && is_liftable {
            next = format!("{next}, or write it all the same with {}", accept.join(" "));
        } else if is_liftable && accept.len() > 1 {
            next = format!("choose another drive, or name all of these findings: {}", accept.join(" "));
        }
        let exit = if image_alone { Exit::Image } else { Exit::Refused };
        Failure { findings: refused.standing, ..Failure::new(exit, text, next) }
    })
}

/// Whether all drives may be claimed, before anything is asked or computed.
pub(crate) fn may_claim(chosen: &Chosen, platform: &dyn Platform) -> Result<(), Failure> {
    chosen.drives().try_for_each(|drive| platform.may_claim(drive)).map_err(|error| match error {
        PlatformError::NoPermission { .. } => Failure { next: with_sudo(), ..error.into() },
        other => other.into(),
    })
}

/// This very command with the rights that it needs, as it can be typed.
fn with_sudo() -> String {
    let mut words: Vec<String> = std::env::args_os().map(|word| shell::word(&word.to_string_lossy())).collect();
    // Root looks for programs elsewhere than a person does.
    if let (Some(first), Ok(own)) = (words.first_mut(), std::env::current_exe()) {
        *first = shell::path(&own);
    }
    format!("sudo {}", words.join(" "))
}

/// A long check and a question lie between: somebody may need a drive by now. Whether it is another one, the claim sees.
pub(crate) fn look_again(
    chosen: &mut Chosen,
    image: &Image<'_>,
    platform: &dyn Platform,
    common: &Common,
) -> Result<(), Failure> {
    let drives = platform.drives()?;
    for choice in &mut chosen.choices {
        if let Some(now) = drives.iter().find(|now| now.is_still(&choice.drive)) {
            choice.drive = now.clone();
        }
    }
    let file = image.is_file.then_some(image.path);
    let confirmed = chosen.circumstances.confirmed;
    let intent = Intent { image: file, choices: &chosen.choices, confirmed };
    chosen.circumstances = survey(platform, common, &intent)?;
    Ok(())
}

/// What `--resume` will do on each drive, in words; nothing where it is not asked for.
///
/// Another image under way is refused, and with nobody to see it, so is having nothing to go on with on any of them.
pub(crate) fn resuming(
    chosen: &Chosen,
    bytes: Option<u64>,
    sha256: Option<&str>,
    asked: &Job,
    common: &Common,
) -> Result<Vec<String>, Failure> {
    if !asked.resume {
        return Ok(Vec::new());
    }
    let state = state_folder(common);
    let mut goes_on = false;
    let mut fresh = None;
    let words = chosen.drives().map(|drive| {
        let mut nothing = |why: String| {
            let words = format!("nothing to go on with ({why}): everything is written anew");
            fresh.get_or_insert_with(|| format!("drive {}: there is nothing to go on with: {why}", drive.tag));
            Ok(words)
        };
        let Some(path) = notes_of(state.as_deref(), drive) else {
            return nothing("no notes are kept about a drive without a serial number of its own".to_owned());
        };
        match journal::find(&path, &Heading::new(&chosen.plan.image, bytes, sha256, &drive.tag, drive.bytes)) {
            Notes::Flushed(blocks) if blocks.len() < 2 => {
                nothing("the drive had not confirmed anything yet".to_owned())
            }
            Notes::Flushed(blocks) => {
                goes_on = true;
                let kept = human_bytes((blocks.len() as u64).saturating_mul(BLOCK_BYTES));
                Ok(format!("goes on behind the first {kept}, if the drive still holds them"))
            }
            Notes::Nothing(why) => nothing(why),
            Notes::Other(what) => {
                let text = format!("drive {}: there is nothing to go on with: {what}", drive.tag);
                Err(Failure::new(Exit::Refused, text, "run the same command without --resume to start over"))
            }
        }
    });
    let words = words.collect::<Result<Vec<_>, Failure>>()?;
    match fresh.filter(|_| asked.unattended && !goes_on) {
        Some(text) => Err(Failure::new(Exit::Refused, text, "leave --resume away to write it from the start")),
        None => Ok(words),
    }
}

/// Where notes about a drive are kept; nowhere if they could be taken for those of another one.
fn notes_of(state: Option<&Path>, drive: &Drive) -> Option<PathBuf> {
    state.filter(|_| !drive.tag.is_unsure()).map(|state| journal::path_of(state, &drive.tag))
}

/// What the card asks about.
#[derive(Clone, Copy)]
pub(crate) struct Question<'a> {
    /// The drives.
    pub(crate) chosen: &'a Chosen,
    /// The image.
    pub(crate) image: &'a Image<'a>,
    /// What a job on each drive would go on with, in words.
    pub(crate) resuming: &'a [String],
}

/// Shows the card and waits for the tags to be typed: one question, which can't be answered by habit.
pub(crate) fn confirm(
    question: Question<'_>,
    asked: &Job,
    confirming: Confirming,
    cancel: &Cancel,
) -> Result<(), Failure> {
    let Question { chosen, image, resuming } = question;
    let judged = |choice| guard::findings_for_choice(choice, Some(&chosen.plan), &chosen.circumstances);
    let on_card: Vec<card::OnCard<'_>> = chosen
        .choices
        .iter()
        .enumerate()
        .map(|(number, choice)| card::OnCard {
            drive: &choice.drive,
            findings: judged(choice),
            resuming: resuming.get(number).map(String::as_str),
            word: chosen.word_for(&choice.drive),
        })
        .collect();
    let checksum = image.expects.map_or_else(|| card::checksum_words(image.report), str::to_owned);
    let shown = card::card(image.path, image.inspection, &checksum, &on_card, asked.read_back());
    if let Confirming::Unattended = confirming {
        return Ok(());
    }
    // The card is the question: it is shown even when told to be quiet.
    warn(&shown);
    // What was typed before the card was shown answers nothing on it.
    let input: Box<dyn Read + Send> = if let Confirming::Terminal(terminal) = confirming {
        machine::forget_typed(&terminal);
        Box::new(terminal)
    } else {
        machine::forget_typed(io::stdin());
        Box::new(io::stdin())
    };
    warn(&card::question(&on_card));
    let typed = ask(input, cancel)?;
    if chosen.is_confirmed_by(&typed) {
        return Ok(());
    }
    let what = match (on_card.len() > 1, card::has_places(&on_card)) {
        (false, false) => "the drive's tag",
        (false, true) => "the drive's place",
        (true, false) => "the tags of the drives",
        (true, true) => "what stands for each of the drives",
    };
    let text = match typed.trim() {
        "" => "not confirmed: no tag was typed, and nothing was changed".to_owned(),
        other => format!("not confirmed: `{}` is not {what}, and nothing was changed", other.shown()),
    };
    Err(Failure::new(Exit::Refused, text, "look at `pyrotyp drives`, then run the same command again"))
}

/// A line from the terminal; Ctrl-C ends the wait.
fn ask(input: Box<dyn Read + Send>, cancel: &Cancel) -> Result<String, Failure> {
    let (sender, receiver) = channel();
    std::thread::spawn(move || {
        let mut line = String::new();
        let _ = BufReader::new(input).read_line(&mut line);
        // Nobody listens any more after Ctrl-C.
        let _ = sender.send(line);
    });
    loop {
        match receiver.recv_timeout(Duration::from_millis(50)) {
            Ok(line) => return Ok(line),
            Err(RecvTimeoutError::Timeout) if !cancel.is_set() => {}
            Err(_) => {
                return Err(Failure::new(Exit::Stopped, "stopped; nothing was changed", "run the same command again"));
            }
        }
    }
}

/// What is said on the way by whoever gives the image.
pub(crate) type Heard = Receiver<String>;

/// A job that may begin.
pub(crate) struct Ready<'a> {
    pub image: Image<'a>,
    pub source: &'a dyn Source,
    pub checked: Checked,
    pub chosen: &'a Chosen,
    pub cleared: Vec<Cleared>,
    /// When the command began, RFC 3339.
    pub started: &'a str,
    /// What is said on the way by whoever gives the image.
    pub news: Option<Heard>,
}

/// Runs the job, keeps its record, and tells how it came out.
pub(crate) fn run(
    ready: Ready<'_>,
    asked: &Job,
    platform: &dyn Platform,
    session: &Session<'_>,
) -> Result<Exit, Failure> {
    let Ready { image, source, checked, chosen, cleared, started, news } = ready;
    let state = state_folder(session.common);
    let order = Order {
        source,
        plan: &chosen.plan,
        inspection: Some(image.inspection),
        checked,
        read_back: asked.read_back(),
        writing: asked.writing(),
        after: asked.after(),
        pacing: Pacing::default(),
    };
    let target = |cleared: Cleared| {
        let journal = notes_of(state.as_deref(), cleared.drive());
        Target { cleared, journal, start: asked.start() }
    };
    let tags: Vec<&str> = chosen.drives().map(|drive| drive.tag.as_str()).collect();
    let before = image.is_file.then(|| Identity::of(image.path).ok()).flatten();
    let begun = begin(&image, chosen, started, state.as_deref());
    let progress = JobProgress::new(session.common, &tags, asked.read_back());
    let targets = cleared.into_iter().map(target).collect();
    let is_over = AtomicBool::new(false);
    let outcomes = std::thread::scope(|scope| {
        if let Some(news) = news {
            let (progress, is_over) = (&progress, &is_over);
            scope.spawn(move || pass_on(&news, progress, is_over));
        }
        let outcomes = job::run(&order, platform, targets, session.cancel, &progress);
        is_over.store(true, Ordering::Relaxed);
        outcomes
    });
    progress.finish();
    let sha256 = outcomes.iter().find_map(|outcome| outcome.sha256.as_deref());
    // Of a packed image, it is the sum of what is inside.
    if let (Some(hex), Some(before), false) = (sha256, before, image.is_packed()) {
        shelf_notes::learn(image.path, hex, &before, session.common);
    }
    report(&image, chosen, OnRecord { started, begun }, outcomes, session.common)
}

/// Says what is heard from elsewhere, above the lines that move.
fn pass_on(news: &Heard, progress: &JobProgress, is_over: &AtomicBool) {
    while !is_over.load(Ordering::Relaxed) {
        match news.recv_timeout(Duration::from_millis(50)) {
            Ok(text) => progress.remark(text.trim_start()),
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => return,
        }
    }
}

/// Puts the job on record before anything is written.
fn begin(image: &Image<'_>, chosen: &Chosen, started: &str, state: Option<&Path>) -> Option<Begun> {
    let Some(state) = state else {
        warn("the job is not on record: there is no home folder; --state names another\n");
        return None;
    };
    let begun = ledger::begin(state, &record(image, chosen, started, &Came::Begun));
    begun
        .inspect_err(|error| {
            let text = format!("the job is not on record below {}: {}", state.shown(), plain(error));
            warn(&format!("{text}; --state names another folder\n"));
        })
        .ok()
}

/// The record of a job that was refused.
pub(crate) fn refused(image: &Image<'_>, chosen: &Chosen, started: &str) -> Record {
    record(image, chosen, started, &Came::Refused)
}

/// How far a job came.
enum Came<'a> {
    Refused,
    Begun,
    Ended(&'a [Outcome]),
}

/// The record of a job that came so far.
fn record(image: &Image<'_>, chosen: &Chosen, started: &str, came: &Came<'_>) -> Record {
    let outcomes: &[Outcome] = if let Came::Ended(outcomes) = came { outcomes } else { &[] };
    let drives = chosen.drives().enumerate().map(|(number, drive)| match outcomes.get(number) {
        Some(outcome) => DriveRecord { drive: DriveIdentity::of(drive), outcome: outcome.told.clone() },
        None if matches!(came, Came::Begun) => DriveRecord::begun(drive),
        None => DriveRecord::refused(drive),
    });
    let drives: Vec<DriveRecord> = drives.collect();
    let absolute = image.is_file.then(|| std::path::absolute(image.path).ok()).flatten();
    let tag = drives.first().map_or("", |drive| &drive.drive.tag);
    Record {
        job: job_name(started, tag),
        started: started.to_owned(),
        ended: (!matches!(came, Came::Begun)).then(|| Timestamp::now().to_string()),
        record: RECORD_VERSION,
        version: env!("CARGO_PKG_VERSION").to_owned(),
        result: JobResult::of_all(drives.iter().map(|drive| drive.outcome.result)),
        image: ImageRecord {
            file: absolute.unwrap_or_else(|| image.path.to_owned()).to_string_lossy().into_owned(),
            bytes: image.bytes.or_else(|| outcomes.iter().find_map(|outcome| outcome.image_bytes)),
            label: image.inspection.label.clone(),
            sha256: outcomes.iter().find_map(|outcome| outcome.sha256.clone()),
        },
        drives,
    }
}

/// A job's place on record.
struct OnRecord<'a> {
    /// When its command began, RFC 3339.
    started: &'a str,
    /// Nothing where it could not be put there.
    begun: Option<Begun>,
}

fn report(
    image: &Image<'_>,
    chosen: &Chosen,
    on_record: OnRecord<'_>,
    outcomes: Vec<Outcome>,
    common: &Common,
) -> Result<Exit, Failure> {
    let OnRecord { started, begun } = on_record;
    let mut record = record(image, chosen, started, &Came::Ended(&outcomes));
    let on_record = begun.as_ref().map(|begun| begun.job().to_owned());
    if let Some(begun) = begun {
        begun.job().clone_into(&mut record.job);
        match begun.end(&record) {
            Ok(()) => outcomes.iter().filter_map(|one| one.spent_notes.as_ref()).for_each(SpentNotes::remove),
            Err(error) => warn(&format!("how the job ended is not on record: {}\n", plain(&error))),
        }
    }
    for fault in outcomes.iter().filter_map(|outcome| outcome.release_fault.as_ref()) {
        say(common, &format!("{}\n   next: {}\n", chain(fault), fault.next_step()));
    }
    let drives: Vec<&Drive> = chosen.drives().collect();
    let failures = drives.iter().zip(&outcomes).filter_map(|(drive, outcome)| failure(drive, outcome));
    let failures: Vec<Failure> = failures.collect();
    let exit_of = |outcome: &&Outcome| outcome.told.result == record.result;
    let gravest = outcomes.iter().find(exit_of).map(|outcome| of_job(outcome.told.result, outcome.fault.as_ref()));
    let exit = gravest.unwrap_or(Exit::Unexpected);
    let failure = failures.into_iter().reduce(together);
    if common.json {
        let document = json::write(&record, on_record.as_deref());
        return match failure {
            Some(failure) => Err(Failure { exit, ..failure }.with_document(document)),
            None => put_document(&document).map(|()| exit),
        };
    }
    for (drive, outcome) in drives.iter().zip(&outcomes) {
        put(&text::written(image.path, image.inspection, drive, outcome, common))?;
    }
    put(&text::all_written(&drives, &outcomes))?;
    match failure {
        None => Ok(exit),
        Some(failure) => Err(Failure { exit, ..failure }),
    }
}

/// Why a job did not end well on a drive, and what to do next.
fn failure(drive: &Drive, outcome: &Outcome) -> Option<Failure> {
    let fault = outcome.fault.as_ref()?;
    let file = outcome.told.fault_file.as_ref().map_or(String::new(), |file| format!("\n   there lies {file}"));
    let name = text::called(drive);
    let text = format!("drive {} ({name}): {}{file}{}", drive.tag, chain(fault), text::head_words(outcome));
    let next = outcome.told.conclusion.map_or(fault.next_step(), |conclusion| conclusion.next_step());
    Some(Failure::new(of_job(outcome.told.result, Some(fault)), text, next))
}

/// Two failures in one: what is to be done is told once where it is the same.
fn together(first: Failure, second: Failure) -> Failure {
    let text = format!("{}\npyrotyp: {}", first.text, second.text);
    let next = if first.next.contains(&second.next) {
        first.next
    } else {
        format!("{}\n   next: {}", first.next, second.next)
    };
    Failure { text, next, ..first }
}
