//! `pyrotyp write`: the whole job.

use std::io::{self, BufRead, IsTerminal};
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::Duration;

use jiff::Timestamp;
use pyrotyp_core::digest::{Proof, Report};
use pyrotyp_core::drive::{After, Choice, Drive, Platform, PlatformError, Role, Tag};
use pyrotyp_core::guard::{self, Circumstances, Cleared};
use pyrotyp_core::image::ReadAt;
use pyrotyp_core::job::{self, Order, Outcome, ReadBack};
use pyrotyp_core::ledger::{self, DriveRecord, ImageRecord, Record};
use pyrotyp_core::{Cancel, Level};

use super::check::{self, Depth, Known};
use super::settings::known_to_bench;
use super::{Content, OpenedImage, choose_drive, fit_to_write, on_shelf_or_file, open_image, platform, state_folder};
use crate::asked::{Common, Write};
use crate::exit::{Exit, Failure, chain, of_job};
use crate::show::progress::Progress;
use crate::show::{card, json, text};
use crate::{put, say};

impl Write {
    fn read_back(&self) -> ReadBack {
        if self.skip_readback { ReadBack::Skip } else { ReadBack::Whole }
    }

    fn after(&self) -> After {
        if self.eject { After::Eject } else { After::Keep }
    }
}

/// The image and the drive, both found and judged: nothing has been changed.
struct Plan {
    image: OpenedImage,
    choice: Choice,
    circumstances: Circumstances,
}

/// Writes one image to one drive.
pub fn run(asked: &Write, common: &Common, cancel: &Cancel) -> Result<Exit, Failure> {
    let at_terminal = io::stdin().is_terminal() && io::stderr().is_terminal();
    if !asked.unattended && !at_terminal {
        return Err(Failure::new(
            Exit::Refused,
            "nobody can confirm the drive: this is no terminal",
            "run it at a terminal, or add --unattended and name the drive by its tag",
        ));
    }
    let asked = &Write { image: on_shelf_or_file(&asked.image, common)?, ..asked.clone() };
    let platform = platform(common)?;
    let started = Timestamp::now().to_string();
    let mut plan = plan(asked, &*platform, common, cancel)?;
    let ready = match prepare(asked, &mut plan, &*platform, common, cancel) {
        Ok(ready) => ready,
        Err(failure) => {
            if common.json {
                put(&json::write(&record(&plan, asked, &started, None)))?;
            }
            return Err(failure);
        }
    };
    let order = Order {
        image: ready.content.bytes(),
        inspection: &plan.image.inspection,
        checked_sha256: ready.checked_sha256,
        read_back: asked.read_back(),
        after: asked.after(),
    };
    let mut progress = Progress::of_job(common, asked.read_back() == ReadBack::Whole);
    let outcome = job::run(&order, &*platform, ready.cleared, cancel, &mut progress);
    progress.finish();
    report(&plan, asked, &started, outcome, common)
}

/// All that a job needs, with nothing changed so far.
struct Ready {
    cleared: Cleared,
    content: Content,
    checked_sha256: Option<String>,
}

/// Guard, permission, checksums, unpacking, and the question.
fn prepare(
    asked: &Write,
    plan: &mut Plan,
    platform: &dyn Platform,
    common: &Common,
    cancel: &Cancel,
) -> Result<Ready, Failure> {
    clear(plan, asked)?;
    platform.may_claim(&plan.choice.drive).map_err(|error| match error {
        PlatformError::NoPermission { .. } => Failure { next: with_sudo(), ..error.into() },
        other => other.into(),
    })?;
    let sums = check_image(asked, plan, common, cancel)?;
    let content = plan.image.content(&asked.image, plan.choice.drive.bytes, common, cancel)?;
    // Only now is it known how much comes out of a packed image.
    plan.circumstances.needs_bytes = Some(plan.image.inspection.needs_bytes.max(content.bytes().size()));
    if !asked.unattended {
        confirm(asked, plan, sums.as_ref(), cancel)?;
    }
    let checked_sha256 = match &content {
        Content::Plain(_) => sums.and_then(|sums| sha256_of(&sums)),
        Content::Unpacked(unpacked) => Some(unpacked.sha256.clone()),
    };
    // A long check and a question lie between: somebody may need the drive by now. Whether it is another one, the claim sees.
    if let Some(now) = platform.drives()?.into_iter().find(|now| now.is_still(&plan.choice.drive)) {
        plan.choice.drive = now;
    }
    Ok(Ready { cleared: clear(plan, asked)?, content, checked_sha256 })
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

/// Whether a technician could mean this drive: a stick, or a card, that nothing speaks against.
fn could_be_meant(drive: &Drive) -> bool {
    let found = guard::findings(drive, &Circumstances::default());
    matches!(drive.role(), Role::Stick | Role::Card) && found.iter().all(|finding| finding.level == Level::Note)
}

fn plan(asked: &Write, platform: &dyn Platform, common: &Common, cancel: &Cancel) -> Result<Plan, Failure> {
    let image = open_image(&asked.image, common)?;
    fit_to_write(&asked.image, &image.inspection)?;
    let choice = choose_drive(platform, &asked.to, cancel, &|text| say(common, text))?;
    let is_other = |drive: &&Drive| !drive.is_still(&choice.drive) && could_be_meant(drive);
    let others = platform.drives()?.iter().filter(is_other).map(|drive| drive.tag.to_string()).collect();
    let circumstances = Circumstances {
        laid_out_for: image.inspection.sector_bytes,
        others,
        needs_bytes: Some(image.inspection.needs_bytes),
        image_on: platform.drives_holding(&asked.image)?,
        unattended: asked.unattended,
        ..known_to_bench(platform, common)?
    };
    Ok(Plan { image, choice, circumstances })
}

/// The guard's word, and whose fault it is if the word is no.
fn clear(plan: &Plan, asked: &Write) -> Result<Cleared, Failure> {
    let about_image = &plan.image.inspection.findings;
    guard::clear(&plan.choice, &plan.circumstances, about_image, &asked.accept).map_err(|refused| {
        let image_alone = refused.standing.iter().all(|finding| about_image.contains(finding));
        let drive = &plan.choice.drive;
        let mut text = match (image_alone, refused.standing.first()) {
            (true, Some(finding)) => format!("{}: {} ({})", asked.image.display(), finding.text, finding.id),
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

/// Compares with everything there is; `None` if there is nothing.
fn check_image(asked: &Write, plan: &Plan, common: &Common, cancel: &Cancel) -> Result<Option<Report>, Failure> {
    let report = check::examine(&asked.image, &plan.image, &Known::of(&asked.against), Depth::Enough, common, cancel)?;
    if let Some(failure) = check::refusal(&asked.image, &report) {
        return Err(failure);
    }
    if report.checked.is_empty() && !matches!(report.proof(), Proof::Signed(_)) {
        let lists: Vec<_> = report.unlisted.iter().map(|list| list.display().to_string()).collect();
        let why = if lists.is_empty() {
            "none was given or found".into()
        } else {
            format!("{} does not name it", lists.join(", "))
        };
        say(common, &format!("no checksum to compare the image with: {why}\n"));
        if let Proof::Undamaged = report.proof() {
            say(common, "what it carries inside or lies beside it says that it is not damaged\n");
        }
    }
    Ok((!report.sums.is_empty()).then_some(report))
}

fn sha256_of(findings: &Report) -> Option<String> {
    let sums = findings.sums.iter();
    sums.filter(|sum| sum.algorithm == pyrotyp_core::digest::Algorithm::Sha256).map(|sum| sum.hex.clone()).next()
}

/// Shows the card and waits for the tag to be typed: one question, which can't be answered by habit.
fn confirm(asked: &Write, plan: &Plan, sums: Option<&Report>, cancel: &Cancel) -> Result<(), Failure> {
    let found = guard::findings_for_choice(&plan.choice, &plan.circumstances);
    let about_image = plan.image.inspection.findings.iter();
    let all: Vec<_> = about_image.chain(&found).cloned().collect();
    let read_back = asked.read_back() == ReadBack::Whole;
    let shown = card::card(&asked.image, &plan.image.inspection, sums, &plan.choice.drive, &all, read_back);
    // The card is the question: it is shown even when told to be quiet.
    let _ = io::Write::write_all(&mut anstream::stderr(), shown.as_bytes());
    let typed = ask(cancel)?;
    match typed.trim().parse::<Tag>() {
        Ok(tag) if tag == plan.choice.drive.tag => Ok(()),
        _ => {
            let text = match typed.trim() {
                "" => "not confirmed: no tag was typed, and nothing was changed".to_owned(),
                other => format!("not confirmed: `{other}` is not the drive's tag, and nothing was changed"),
            };
            Err(Failure::new(Exit::Refused, text, "look at `pyrotyp drives`, then run the same command again"))
        }
    }
}

/// A line from the terminal; Ctrl-C ends the wait.
fn ask(cancel: &Cancel) -> Result<String, Failure> {
    let (sender, receiver) = channel();
    std::thread::spawn(move || {
        let mut line = String::new();
        let _ = io::stdin().lock().read_line(&mut line);
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

/// The record of the job; without an outcome, it was refused.
fn record(plan: &Plan, asked: &Write, started: &str, outcome: Option<&Outcome>) -> Record {
    let drive = DriveRecord::refused(&plan.choice.drive);
    let drive = match outcome {
        None => drive,
        Some(outcome) => DriveRecord {
            result: outcome.result,
            head: outcome.head,
            fault: outcome.fault.as_ref().map(|fault| chain(fault)),
            stages: outcome.stages.clone(),
            differences: outcome.differences.clone(),
            more_differences: outcome.more_differences,
            ..drive
        },
    };
    Record {
        job: ledger::job_name(started, &drive.tag),
        started: started.to_owned(),
        ended: Timestamp::now().to_string(),
        version: env!("CARGO_PKG_VERSION"),
        result: drive.result,
        image: ImageRecord {
            file: std::path::absolute(&asked.image).unwrap_or(asked.image.clone()).display().to_string(),
            bytes: plan.image.file.size(),
            label: plan.image.inspection.label.clone(),
            sha256: outcome.and_then(|outcome| outcome.sha256.clone()),
        },
        drives: vec![drive],
    }
}

fn report(plan: &Plan, asked: &Write, started: &str, outcome: Outcome, common: &Common) -> Result<Exit, Failure> {
    let record = record(plan, asked, started, Some(&outcome));
    let kept = match state_folder(common) {
        Some(state) => ledger::keep(&state, &record).map_err(|error| error.to_string()),
        None => Err("there is no home folder; --state names another".to_owned()),
    };
    if let Err(reason) = kept {
        say(common, &format!("the job's record could not be kept: {reason}\n"));
    }
    if let Some(fault) = &outcome.release_fault {
        say(common, &format!("{}\n   next: {}\n", chain(fault), fault.next_step()));
    }
    if common.json {
        put(&json::write(&record))?;
    } else {
        put(&text::written(&asked.image, &plan.image.inspection, &plan.choice.drive, &outcome, common))?;
    }
    let exit = of_job(outcome.result, outcome.fault.as_ref());
    match &outcome.fault {
        None => Ok(exit),
        Some(fault) => {
            let text = format!("drive {}: {}{}", plan.choice.drive.tag, chain(fault), text::head_words(&outcome));
            Err(Failure::new(exit, text, fault.next_step()))
        }
    }
}
