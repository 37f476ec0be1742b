//! A job that may begin: run, put on record, and told.

use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::time::Duration;

use pyrotyp_core::compose::Storage;
use pyrotyp_core::devices::Platform;
use pyrotyp_core::drive::Drive;
use pyrotyp_core::guard::Cleared;
use pyrotyp_core::job::{Checked, JobFault, Order, Outcome, Pacing, Source, Target};
use pyrotyp_core::ledger::Begun;
use pyrotyp_core::plan::{Came, Plan, blocks_of, end_record};
use pyrotyp_core::record::DriveIdentity;
use pyrotyp_core::shelf::Identity;
use pyrotyp_core::text::Shown;
use pyrotyp_core::{job, ledger};

use super::planning::Image;
use crate::asked::Common;
use crate::exit::{Exit, Failure, chain, of_job, plain};
use crate::live::job_progress::JobProgress;
use crate::out::{put, put_document, say, warn};
use crate::session::Session;
use crate::session::examining::Examining;
use crate::session::folders::state_folder;
use crate::show::gauged::{LookDepth, LookedAt};
use crate::show::text::WrittenImage;
use crate::show::unpacked::UnpackedFiles;
use crate::show::{gauged, json, text};

/// What is said on the way by whoever gives the image.
pub(crate) type Heard = Receiver<String>;

/// A job that may begin.
pub(crate) struct Ready<'a> {
    pub image: Image<'a>,
    pub source: &'a dyn Source,
    pub checked: Checked,
    pub plan: &'a Plan,
    pub cleared: Vec<Cleared>,
    /// When the command began, RFC 3339.
    pub started: &'a str,
    /// What is said on the way by whoever gives the image.
    pub news: Option<Heard>,
    pub told_as: ToldAs<'a>,
}

/// How it is told what came of the job.
#[derive(Clone, Copy)]
pub(crate) enum ToldAs<'a> {
    /// An image on drives.
    Image,
    /// A drive as plain storage.
    Storage(&'a Storage),
    /// A drive that was looked at.
    Gauge(LookDepth),
    /// An image's files on drives.
    Unpacked(UnpackedFiles<'a>),
}

/// A job that is on record as begun, for whoever does it.
pub(crate) struct Doing<'a> {
    pub order: Order<'a>,
    pub targets: Vec<Target>,
    pub progress: &'a JobProgress,
}

/// Runs the job, keeps its record, and tells how it came out.
pub(crate) fn run(ready: Ready<'_>, platform: &dyn Platform, session: &Session<'_>) -> Result<Exit, Failure> {
    carry_out(ready, session, &|Doing { order, targets, progress }| {
        job::run(&order, platform, targets, session.cancel, progress)
    })
}

/// Puts the job on record, has it done by `work`, and tells how it came out.
pub(crate) fn carry_out(
    ready: Ready<'_>,
    session: &Session<'_>,
    work: &dyn Fn(Doing<'_>) -> Vec<Outcome>,
) -> Result<Exit, Failure> {
    let Ready { image, source, checked, plan, cleared, started, news, told_as } = ready;
    let state = state_folder(session.common);
    let order = Order {
        source,
        needs: plan.needs(),
        inspection: Some(image.inspection),
        checked,
        read_back: plan.how.read_back,
        writing: plan.how.writing,
        after: plan.how.after,
        pacing: Pacing::default(),
        claim_check: image.behind.and_then(|behind| behind.kept),
    };
    let drives: Vec<DriveIdentity> = plan.attached().map(DriveIdentity::of).collect();
    // What was made of an image is not what it is.
    let is_itself = image.is_file && image.behind.is_none() && matches!(told_as, ToldAs::Image);
    let before = is_itself.then(|| Identity::of(image.path).ok()).flatten();
    let begun = begin(plan, started, state.as_deref());
    let progress = match (told_as, drives.first()) {
        // It is over within a minute, and nothing is lost when it is stopped.
        (ToldAs::Gauge(LookDepth::Quick), Some(drive)) => JobProgress::comparing(session.common, drive),
        _ => JobProgress::writing(session.common, session.cancel, &drives, plan.how.read_back),
    };
    let targets = plan.targets(cleared, state.as_deref());
    let is_over = AtomicBool::new(false);
    let outcomes = std::thread::scope(|scope| {
        if let Some(news) = news {
            let (progress, is_over) = (&progress, &is_over);
            scope.spawn(move || pass_on(&news, progress, is_over));
        }
        let outcomes = work(Doing { order, targets, progress: &progress });
        is_over.store(true, Ordering::Relaxed);
        outcomes
    });
    progress.finish();
    let sha256 = outcomes.iter().find_map(|outcome| outcome.sha256.as_deref());
    // Of a packed image, it is the sum of what is inside.
    if let (Some(hex), Some(before), false) = (sha256, before, image.is_packed()) {
        Examining::of(session).examiner(session).note_written(image.path, hex, &before);
    }
    let about = JobSubject { image, plan, told_as };
    report(about, OnRecord { started, begun }, outcomes, session.common)
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

/// A job that was refused, or that nobody confirmed: it is put on record too, and its document goes with the failure.
pub(crate) fn refused(plan: &Plan, started: &str, failure: Failure, session: &Session<'_>) -> Failure {
    let mut record = plan.record(started, Came::Refused);
    record.drives.iter_mut().for_each(|drive| drive.outcome.fault = Some(failure.text.clone()));
    let kept = state_folder(session.common).map(|state| ledger::put(&state, &record)).transpose();
    let job = kept.unwrap_or_else(|error| {
        say(session.common, &format!("what was refused is not on record: {}\n", plain(&error)));
        None
    });
    failure.with_document(json::write(&record, job.as_deref()))
}

/// Puts the job on record before anything is written.
fn begin(plan: &Plan, started: &str, state: Option<&Path>) -> Option<Begun> {
    let Some(state) = state else {
        warn("the job is not on record: there is no home folder; --state names another\n");
        return None;
    };
    let begun = ledger::begin(state, &plan.record(started, Came::Begun));
    begun
        .inspect_err(|error| {
            let text = format!("the job is not on record below {}: {}", state.shown(), plain(error));
            warn(&format!("{text}; --state names another folder\n"));
        })
        .ok()
}

/// A job's place on record.
struct OnRecord<'a> {
    /// When its command began, RFC 3339.
    started: &'a str,
    /// Nothing where it could not be put there.
    begun: Option<Begun>,
}

/// What a job was about.
struct JobSubject<'a> {
    image: Image<'a>,
    plan: &'a Plan,
    told_as: ToldAs<'a>,
}

fn report(
    about: JobSubject<'_>,
    on_record: OnRecord<'_>,
    outcomes: Vec<Outcome>,
    common: &Common,
) -> Result<Exit, Failure> {
    let JobSubject { image, plan, told_as } = about;
    let OnRecord { started, begun } = on_record;
    let mut record = plan.record(started, Came::Ended(&outcomes));
    let on_record = begun.as_ref().map(|begun| begun.job().to_owned());
    if let Some(begun) = begun {
        begun.job().clone_into(&mut record.job);
        // Before the record ends: whoever reads that finds them.
        if let ToldAs::Image | ToldAs::Unpacked(_) = told_as {
            keep_blocks(&record.job, &outcomes, common);
        }
        if let Err(error) = end_record(&begun, &record, &outcomes) {
            warn(&format!("how the job ended is not on record: {}\n", plain(&error)));
        }
    }
    for fault in outcomes.iter().filter_map(|outcome| outcome.release_fault.as_ref()) {
        say(common, &format!("{}\n   next: {}\n", chain(fault), fault.next_step()));
    }
    let drives: Vec<&Drive> = plan.attached().collect();
    let failures = drives.iter().zip(&outcomes).filter_map(|(drive, outcome)| failure(drive, outcome, told_as));
    let failures: Vec<Failure> = failures.collect();
    let exit_of = |outcome: &&Outcome| outcome.told.result == record.result;
    let gravest = outcomes.iter().find(exit_of).map(|outcome| of_job(outcome.told.result, outcome.fault.as_ref()));
    let exit = gravest.unwrap_or(Exit::Unexpected);
    let failure = failures.into_iter().reduce(together);
    if common.json {
        let document = match told_as {
            ToldAs::Image => json::write(&record, on_record.as_deref()),
            ToldAs::Storage(storage) => json::reclaim(&record, storage),
            ToldAs::Unpacked(files) => json::unpack(&record, files),
            ToldAs::Gauge(_) => json::gauge(&record, outcomes.first().and_then(|one| one.told.gauged.as_ref())),
        };
        return match failure {
            Some(failure) => Err(Failure { exit, ..failure }.with_document(document)),
            None => put_document(&document).map(|()| exit),
        };
    }
    for (drive, outcome) in drives.iter().zip(&outcomes) {
        put(&match told_as {
            ToldAs::Image => {
                let (path, inspection) = (image.path, image.inspection);
                let (sum, spare) = (record.image.sha256.as_deref(), record.image.spare.as_slice());
                text::written(WrittenImage { path, inspection, sum, spare }, drive, outcome, common)
            }
            ToldAs::Storage(storage) => text::reclaimed(storage, drive, outcome, common),
            ToldAs::Unpacked(files) => text::unpacked(files, drive, outcome, common),
            ToldAs::Gauge(depth) => looked_at(depth, drive, outcome, common),
        })?;
    }
    put(&text::all_written(&drives, &outcomes))?;
    match failure {
        None => Ok(exit),
        Some(failure) => Err(Failure { exit, ..failure }),
    }
}

/// Keeps what was written by its blocks: a drive can then be compared without the image.
fn keep_blocks(job: &str, outcomes: &[Outcome], common: &Common) {
    let Some((blocks, state)) = blocks_of(outcomes).zip(state_folder(common)) else { return };
    if let Err(error) = ledger::keep_blocks(&state, job, &blocks) {
        warn(&format!("the digests of its blocks are not kept: {}\n", plain(&error)));
    }
}

/// Why a job did not end well on a drive, and what to do next.
fn failure(drive: &Drive, outcome: &Outcome, told_as: ToldAs<'_>) -> Option<Failure> {
    let fault = outcome.fault.as_ref()?;
    let file = outcome.told.fault_file.as_ref().map_or(String::new(), |file| format!("\n   there lies {file}"));
    let name = text::called(drive);
    let text = format!("drive {} ({name}): {}{file}{}", drive.tag, chain(fault), text::head_words(outcome));
    let next = match (outcome.told.conclusion, told_as) {
        (Some(conclusion), _) => conclusion.next_step(),
        (None, ToldAs::Gauge(LookDepth::Quick)) if fault.is_gone() => {
            "plug it in again, then run the same command with --restore"
        }
        (None, ToldAs::Storage(_) | ToldAs::Gauge(_)) => begun_anew(fault),
        (None, ToldAs::Image | ToldAs::Unpacked(_)) => fault.next_step(),
    };
    Some(Failure::new(of_job(outcome.told.result, Some(fault)), text, next))
}

/// What to do about a job that is never gone on with.
fn begun_anew(fault: &JobFault) -> &'static str {
    match fault {
        JobFault::Stopped { .. } | JobFault::Died(_) => "run the same command again",
        JobFault::Write { .. } | JobFault::Flush { .. } | JobFault::Read { .. } => {
            "try another port and run the same command again; if it fails there too, discard the drive"
        }
        other => other.next_step(),
    }
}

/// What a look at a drive has found; nothing where it came to nothing.
fn looked_at(depth: LookDepth, drive: &Drive, outcome: &Outcome, common: &Common) -> String {
    let (tag, name) = (drive.tag.to_string(), drive.name());
    let seconds = outcome.told.stages.iter().map(|stage| stage.seconds).sum();
    let of = LookedAt { tag: &tag, name: &name, depth, seconds };
    outcome.told.gauged.as_ref().map_or(String::new(), |found| gauged::gauged(found, &of, common))
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
