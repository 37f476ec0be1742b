//! What every command that writes has in common: the drives, the guard's word, the question, the run and its record.

use std::fs::File;
use std::io::{self, BufRead, BufReader, IsTerminal, Read};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::Duration;

use jiff::Timestamp;
use pyrotyp_core::digest::Report;
use pyrotyp_core::drive::{After, Choice, Drive, Platform, PlatformError, Role, Tag};
use pyrotyp_core::guard::{self, Circumstances, Cleared};
use pyrotyp_core::image::Inspection;
use pyrotyp_core::job::{
    self, Checked, JobResult, Order, Outcome, Pacing, ReadBack, Start, Supply, Target, Writing, journal,
};
use pyrotyp_core::ledger::{self, DriveRecord, ImageRecord, Record};
use pyrotyp_core::{Cancel, Finding, Level};

use super::settings::known_to_bench;
use super::{choose_drive, state_folder};
use crate::asked::{Common, Job};
use crate::exit::{Exit, Failure, chain, of_job, plain};
use crate::show::job_progress::JobProgress;
use crate::show::{card, json, text};
use crate::{put, say};

impl Job {
    pub fn read_back(&self) -> ReadBack {
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
pub struct Image<'a> {
    /// How it is called: a path, or an address.
    pub path: &'a Path,
    pub inspection: &'a Inspection,
    /// Length of the file or of what comes, where that is known.
    pub bytes: Option<u64>,
    /// What its check has found.
    pub report: Option<&'a Report>,
    /// What it will be compared with on the way, in words.
    pub expects: Option<&'a str>,
}

/// A drive that was chosen, and what the guard needs to know of it.
pub struct Chosen {
    pub choice: Choice,
    pub circumstances: Circumstances,
}

/// Who can say yes.
pub enum Confirming {
    /// Nobody needs to.
    Unattended,
    /// Whoever sits at the terminal, on standard input.
    Input,
    /// Whoever sits at the terminal, although something else comes on standard input.
    Terminal(File),
}

impl Confirming {
    /// `takes_input` says whether the image comes on standard input.
    pub fn find(asked: &Job, takes_input: bool) -> Result<Self, Failure> {
        if asked.unattended {
            return Ok(Self::Unattended);
        }
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

/// Whether a technician could mean this drive: a stick, or a card, that nothing speaks against.
fn could_be_meant(drive: &Drive) -> bool {
    let found = guard::findings(drive, &Circumstances::default());
    matches!(drive.role(), Role::Stick | Role::Card) && found.iter().all(|finding| finding.level == Level::Note)
}

/// Finds the drives that are meant, each once.
pub fn choose(
    names: &[String],
    image: &Image<'_>,
    asked: &Job,
    platform: &dyn Platform,
    common: &Common,
    cancel: &Cancel,
) -> Result<Vec<Chosen>, Failure> {
    let mut choices: Vec<Choice> = Vec::new();
    for name in names {
        let choice = choose_drive(platform, name, cancel, &|text| say(common, text))?;
        if choices.iter().any(|known| known.drive.path == choice.drive.path) {
            let text = format!("drive {} ({}) is named twice", choice.drive.tag, choice.drive.path);
            return Err(Failure::new(Exit::Usage, text, "name each drive once"));
        }
        choices.push(choice);
    }
    let is_chosen = |drive: &Drive| choices.iter().any(|choice| drive.is_still(&choice.drive));
    let is_other = |drive: &&Drive| !is_chosen(drive) && could_be_meant(drive);
    let others = platform.drives()?.iter().filter(is_other).map(|drive| drive.tag.to_string()).collect();
    let image_on = if image.path.exists() { platform.drives_holding(image.path)? } else { Vec::new() };
    let circumstances = Circumstances {
        laid_out_for: image.inspection.sector_bytes,
        others,
        needs_bytes: Some(image.inspection.needs_bytes),
        image_on,
        unattended: asked.unattended,
        ..known_to_bench(platform, common)?
    };
    Ok(choices.into_iter().map(|choice| Chosen { choice, circumstances: circumstances.clone() }).collect())
}

/// The guard's word about all drives: all of them, or none.
pub fn clear(chosen: &[Chosen], image: &Image<'_>, asked: &Job) -> Result<Vec<Cleared>, Failure> {
    chosen.iter().map(|chosen| clear_one(chosen, image, asked)).collect()
}

/// The guard's word, and whose fault it is if the word is no.
fn clear_one(chosen: &Chosen, image: &Image<'_>, asked: &Job) -> Result<Cleared, Failure> {
    let about_image = &image.inspection.findings;
    guard::clear(&chosen.choice, &chosen.circumstances, about_image, &asked.accept).map_err(|refused| {
        let image_alone = refused.standing.iter().all(|finding| about_image.contains(finding));
        let drive = &chosen.choice.drive;
        let mut text = match (image_alone, refused.standing.first()) {
            (true, Some(finding)) => format!("{}: {} ({})", image.path.display(), finding.text, finding.id),
            _ => format!("drive {} ({}, {}) stays as it is", drive.tag, drive.name(), drive.path),
        };
        if !image_alone {
            for finding in &refused.standing {
                text.push_str(&format!("\n   {}: {}", finding.id, finding.text));
            }
        }
        let mut next = refused.standing.first().map(|finding| finding.next.clone()).unwrap_or_default();
        if image_alone && let Some(finding) = refused.standing.first().filter(|finding| finding.level == Level::Ask) {
            next = format!("{next}, or write it all the same with --accept {}", finding.id);
        }
        Failure::new(if image_alone { Exit::Image } else { Exit::Refused }, text, next)
    })
}

/// Whether all drives may be claimed, before anything is asked or computed.
pub fn may_claim(chosen: &[Chosen], platform: &dyn Platform) -> Result<(), Failure> {
    let may = |chosen: &Chosen| platform.may_claim(&chosen.choice.drive);
    chosen.iter().try_for_each(may).map_err(|error| match error {
        PlatformError::NoPermission { .. } => Failure { next: with_sudo(), ..error.into() },
        other => other.into(),
    })
}

/// This very command with the rights that it needs, as it can be typed.
fn with_sudo() -> String {
    let is_plain = |c: char| c.is_alphanumeric() || "-_./:=,+@%".contains(c);
    let quoted = |word: String| {
        if !word.is_empty() && word.chars().all(is_plain) { word } else { format!("'{}'", word.replace('\'', "'\\''")) }
    };
    let words: Vec<String> = std::env::args_os().map(|word| quoted(word.to_string_lossy().into_owned())).collect();
    format!("sudo {}", words.join(" "))
}

/// A long check and a question lie between: somebody may need a drive by now. Whether it is another one, the claim sees.
pub fn look_again(chosen: &mut [Chosen], platform: &dyn Platform) -> Result<(), Failure> {
    let drives = platform.drives()?;
    for chosen in chosen {
        if let Some(now) = drives.iter().find(|now| now.is_still(&chosen.choice.drive)) {
            chosen.choice.drive = now.clone();
        }
    }
    Ok(())
}

/// Shows the card and waits for the tags to be typed: one question, which can't be answered by habit.
pub fn confirm(
    chosen: &[Chosen],
    image: &Image<'_>,
    asked: &Job,
    confirming: Confirming,
    cancel: &Cancel,
) -> Result<(), Failure> {
    let input: Box<dyn Read + Send> = match confirming {
        Confirming::Unattended => return Ok(()),
        Confirming::Input => Box::new(io::stdin()),
        Confirming::Terminal(terminal) => Box::new(terminal),
    };
    let found: Vec<(&Drive, Vec<Finding>)> = chosen
        .iter()
        .map(|one| (&one.choice.drive, guard::findings_for_choice(&one.choice, &one.circumstances)))
        .collect();
    let checksum = image.expects.map_or_else(|| card::checksum_words(image.report), str::to_owned);
    let shown = card::card(image.path, image.inspection, &checksum, &found, asked.read_back());
    // The card is the question: it is shown even when told to be quiet.
    let _ = io::Write::write_all(&mut anstream::stderr(), shown.as_bytes());
    let typed = ask(input, cancel)?;
    let mut wanted: Vec<Tag> = chosen.iter().map(|chosen| chosen.choice.drive.tag.clone()).collect();
    wanted.sort();
    if tags_in(&typed).is_some_and(|tags| tags == wanted) {
        return Ok(());
    }
    let what = if wanted.len() > 1 { "the tags of the drives" } else { "the drive's tag" };
    let text = match typed.trim() {
        "" => "not confirmed: no tag was typed, and nothing was changed".to_owned(),
        other => format!("not confirmed: `{other}` is not {what}, and nothing was changed"),
    };
    Err(Failure::new(Exit::Refused, text, "look at `pyrotyp drives`, then run the same command again"))
}

/// The tags that were typed, in order; `None` if any word is something else.
fn tags_in(typed: &str) -> Option<Vec<Tag>> {
    let words = typed.split(|c: char| c.is_whitespace() || c == ',').filter(|word| !word.is_empty());
    let mut tags = words.map(|word| word.parse().ok()).collect::<Option<Vec<Tag>>>()?;
    tags.sort();
    Some(tags)
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
pub type Heard = Receiver<String>;

/// A job that may begin.
pub struct Ready<'a> {
    pub image: Image<'a>,
    pub supply: &'a dyn Supply,
    pub checked: Checked,
    pub chosen: &'a [Chosen],
    pub cleared: Vec<Cleared>,
    /// When the command began, RFC 3339.
    pub started: &'a str,
    /// What is said on the way by whoever gives the image.
    pub news: Option<Heard>,
}

/// Runs the job, keeps its record, and tells how it came out.
pub fn run(
    ready: Ready<'_>,
    asked: &Job,
    platform: &dyn Platform,
    common: &Common,
    cancel: &Cancel,
) -> Result<Exit, Failure> {
    let Ready { image, supply, checked, chosen, cleared, started, news } = ready;
    let state = state_folder(common);
    let name = image.path.display().to_string();
    let order = Order {
        supply,
        name: &name,
        inspection: Some(image.inspection),
        checked,
        read_back: asked.read_back(),
        writing: asked.writing(),
        after: asked.after(),
        pacing: Pacing::default(),
    };
    let target = |cleared: Cleared| {
        let journal = state.as_ref().map(|state| journal::path_of(state, &cleared.drive().tag));
        Target { cleared, journal, start: asked.start() }
    };
    let tags: Vec<&str> = chosen.iter().map(|chosen| chosen.choice.drive.tag.as_str()).collect();
    let progress = JobProgress::new(common, &tags, asked.read_back() == ReadBack::Whole);
    let targets = cleared.into_iter().map(target).collect();
    let is_over = AtomicBool::new(false);
    let outcomes = std::thread::scope(|scope| {
        if let Some(news) = news {
            let (progress, is_over) = (&progress, &is_over);
            scope.spawn(move || pass_on(&news, progress, is_over));
        }
        let outcomes = job::run(&order, platform, targets, cancel, &progress);
        is_over.store(true, Ordering::Relaxed);
        outcomes
    });
    progress.finish();
    report(&image, chosen, started, outcomes, common)
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

/// The record of a job that was refused.
pub fn refused(image: &Image<'_>, chosen: &[Chosen], started: &str) -> Record {
    record(image, chosen, started, &[])
}

/// The record of the job; without outcomes, it was refused.
fn record(image: &Image<'_>, chosen: &[Chosen], started: &str, outcomes: &[Outcome]) -> Record {
    let drives = chosen.iter().enumerate().map(|(number, chosen)| {
        let drive = DriveRecord::refused(&chosen.choice.drive);
        match outcomes.get(number) {
            None => drive,
            Some(outcome) => DriveRecord {
                result: outcome.result,
                head: outcome.head,
                fault: outcome.fault.as_ref().map(|fault| chain(fault)),
                fault_file: outcome.fault_file.clone(),
                stages: outcome.stages.clone(),
                written_bytes: outcome.written_bytes,
                read_again: outcome.read_again,
                conclusion: outcome.conclusion,
                differences: outcome.differences.clone(),
                more_differences: outcome.more_differences,
                ..drive
            },
        }
    });
    let drives: Vec<DriveRecord> = drives.collect();
    let is_address = image.path.to_string_lossy().contains("://");
    let absolute = if is_address || !image.path.exists() { None } else { std::path::absolute(image.path).ok() };
    let tag = drives.first().map_or("", |drive| &drive.tag);
    Record {
        job: ledger::job_name(started, tag),
        started: started.to_owned(),
        ended: Timestamp::now().to_string(),
        version: env!("CARGO_PKG_VERSION"),
        result: JobResult::of_all(drives.iter().map(|drive| drive.result)),
        image: ImageRecord {
            file: absolute.unwrap_or_else(|| image.path.to_owned()).display().to_string(),
            bytes: image.bytes.or_else(|| outcomes.iter().find_map(|outcome| outcome.image_bytes)),
            label: image.inspection.label.clone(),
            sha256: outcomes.iter().find_map(|outcome| outcome.sha256.clone()),
        },
        drives,
    }
}

fn report(
    image: &Image<'_>,
    chosen: &[Chosen],
    started: &str,
    outcomes: Vec<Outcome>,
    common: &Common,
) -> Result<Exit, Failure> {
    let record = record(image, chosen, started, &outcomes);
    let kept = match state_folder(common) {
        Some(state) => ledger::keep(&state, &record)
            .map_err(|error| format!("below {}: {}; --state names another folder", state.display(), plain(&error))),
        None => Err("anywhere: there is no home folder; --state names another".to_owned()),
    };
    if let Err(reason) = kept {
        say(common, &format!("the job's record could not be kept {reason}\n"));
    }
    for fault in outcomes.iter().filter_map(|outcome| outcome.release_fault.as_ref()) {
        say(common, &format!("{}\n   next: {}\n", chain(fault), fault.next_step()));
    }
    let drives: Vec<&Drive> = chosen.iter().map(|chosen| &chosen.choice.drive).collect();
    if common.json {
        put(&json::write(&record))?;
    } else {
        for (drive, outcome) in drives.iter().zip(&outcomes) {
            put(&text::written(image.path, image.inspection, drive, outcome, common))?;
        }
        put(&text::all_written(&drives, &outcomes))?;
    }
    let failures = drives.iter().zip(&outcomes).filter_map(|(drive, outcome)| failure(drive, outcome));
    let failures: Vec<Failure> = failures.collect();
    let exit_of = |outcome: &&Outcome| outcome.result == record.result;
    let gravest = outcomes.iter().find(exit_of).map(|outcome| of_job(outcome.result, outcome.fault.as_ref()));
    let exit = gravest.unwrap_or(Exit::Unexpected);
    match failures.into_iter().reduce(together) {
        None => Ok(exit),
        Some(failure) => Err(Failure { exit, ..failure }),
    }
}

/// Why a job did not end well on a drive, and what to do next.
fn failure(drive: &Drive, outcome: &Outcome) -> Option<Failure> {
    let fault = outcome.fault.as_ref()?;
    let file = outcome.fault_file.as_ref().map_or(String::new(), |file| format!("\n   there lies {file}"));
    let name = text::called(drive);
    let text = format!("drive {} ({name}): {}{file}{}", drive.tag, chain(fault), text::head_words(outcome));
    let next = outcome.conclusion.map_or(fault.next_step(), |conclusion| conclusion.next_step());
    Some(Failure::new(of_job(outcome.result, Some(fault)), text, next))
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
