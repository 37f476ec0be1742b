//! `pyrotyp gauge`: can this drive be trusted?

use std::path::Path;

use jiff::Timestamp;
use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::devices::Platform;
use pyrotyp_core::drive::{Choice, Drive, Surface};
use pyrotyp_core::image::Summary;
use pyrotyp_core::job::gauge::{self, Pattern, QuickLook, marked_bytes, quick_look};
use pyrotyp_core::job::{self as engine, Checked, KeptImage, Outcome};
use pyrotyp_core::record::{DriveIdentity, ImageRecord, JobKind, Trust};
use pyrotyp_core::text::chain;
use pyrotyp_core::{ledger, plan};

use crate::asked::{Gauge, Job};
use crate::exit::{Exit, Failure, of_job, plain};
use crate::live::job_progress::JobProgress;
use crate::out::{put, put_document, say};
use crate::session::Session;
use crate::session::attached::{choose_drive, needs_medium, platform};
use crate::session::folders::state_folder;
use crate::session::pending_restore::restore_drive;
use crate::show::card::OnDrives;
use crate::show::gauged::{LookDepth, LookedAt};
use crate::show::{gauged, json};
use crate::writing::asking::Asking;
use crate::writing::confirming::{Confirming, ImageFrom};
use crate::writing::job::{self, Doing, Ready, ToldAs};
use crate::writing::planning::{self, Chosen, Image};

/// Looks at one drive: quickly, by reading all of it, or by filling it.
pub(crate) fn run(asked: &Gauge, session: &Session<'_>) -> Result<Exit, Failure> {
    if asked.restore {
        return restore(asked, session);
    }
    let job = asked.consent.job();
    let depth = match (asked.read, asked.whole) {
        (true, _) => LookDepth::Read,
        (_, true) => LookDepth::Whole,
        _ => LookDepth::Quick,
    };
    if depth != LookDepth::Read {
        planning::confirmable(&asked.drive, &job)?;
    }
    let platform = &*platform(session.common)?;
    let choice = choose_drive(platform, &asked.drive, session.cancel, &|text| say(session.common, text))?;
    needs_medium(&choice.drive)?;
    let looking = Gauging { choice, depth, job: &job, platform, session };
    if depth == LookDepth::Read { looking.read() } else { looking.write() }
}

/// Restores what an interrupted quick test left on one drive. Each sector proves by its mark that it belongs to the backup.
fn restore(asked: &Gauge, session: &Session<'_>) -> Result<Exit, Failure> {
    let platform = &*platform(session.common)?;
    let drive = choose_drive(platform, &asked.drive, session.cancel, &|text| say(session.common, text))?.drive;
    needs_medium(&drive)?;
    let restored_bytes = restore_drive(&drive, platform, session.common)?;
    if session.common.json {
        put_document(&json::restored(&drive, restored_bytes))?;
    } else {
        put(&gauged::restored(&drive, restored_bytes))?;
    }
    Ok(Exit::Done)
}

struct Gauging<'a> {
    choice: Choice,
    depth: LookDepth,
    job: &'a Job,
    platform: &'a dyn Platform,
    session: &'a Session<'a>,
}

impl Gauging<'_> {
    /// A surface check: nothing is written, so nobody is asked.
    fn read(&self) -> Result<Exit, Failure> {
        let Self { session, platform, choice, .. } = self;
        let drive = &choice.drive;
        let started = Timestamp::now();
        let open = platform.open(drive)?;
        let progress = JobProgress::comparing(session.common, &DriveIdentity::of(drive));
        let found = gauge::surface(&*open, session.cancel, &progress);
        progress.finish();
        let image = ImageRecord {
            file: LookDepth::Read.called().to_owned(),
            says: Summary { label: Some(LookDepth::Read.called().to_owned()), ..Summary::default() },
            ..ImageRecord::default()
        };
        let record = plan::surface(image, drive, &found, &started.to_string());
        if let Some(state) = state_folder(session.common)
            && let Err(error) = ledger::put(&state, &record)
        {
            say(session.common, &format!("this is not on record: {}\n", plain(&error)));
        }
        let result = record.result;
        let found = found.map_err(|fault| {
            let text = format!("drive {}: {}", drive.tag, chain(&fault));
            Failure::new(
                of_job(result, Some(&fault)),
                text,
                "plug it into another port, and run the same command again",
            )
        })?;
        if session.common.json {
            put_document(&json::gauge(&record, Some(&found)))?;
        } else {
            let (tag, name) = (drive.tag.to_string(), drive.name());
            let seconds = Timestamp::now().duration_since(started).as_secs_f64();
            let of = LookedAt { tag: &tag, name: &name, depth: LookDepth::Read, seconds };
            put(&gauged::gauged(&found, &of, session.common))?;
        }
        Ok(of_job(result, None))
    }

    /// With marks, or a pattern: the way of every job that writes.
    fn write(self) -> Result<Exit, Failure> {
        let Self { choice, depth, job, platform, session } = self;
        let (tag, drive_bytes, sector_bytes) =
            (choice.drive.tag.clone(), choice.drive.bytes, choice.drive.sector_bytes);
        let quick = depth == LookDepth::Quick;
        let state = state_folder(session.common);
        if quick && state.is_none() {
            let text = "there is no state folder to back up the tested sectors";
            return Err(Failure::new(Exit::Refused, text, "name one with --state"));
        }
        let confirming = confirming(&choice.drive, depth, job)?;
        let started = Timestamp::now().to_string();
        let seed = format!("{tag} {started}");
        let whole_bytes = drive_bytes - drive_bytes % u64::from(sector_bytes.max(1));
        let pattern = Pattern::new(&seed, whole_bytes);
        let inspection = planning::made(&pattern, sector_bytes, depth.called())?;
        let image = Image {
            path: Path::new(depth.called()),
            is_file: false,
            inspection: &inspection,
            bytes: Some(pattern.size()),
            hole_bytes: if quick { whole_bytes.saturating_sub(marked_bytes(whole_bytes)) } else { 0 },
            report: None,
            expects: None,
            checks: &[],
            behind: None,
        };
        let chosen = Chosen { kind: JobKind::Gauge, choices: vec![choice] };
        let mut plan = planning::plan_for(chosen, &image, job, platform, session)?;
        let content = OnDrives::Gauge { depth, bytes: marked_bytes(whole_bytes) };
        let cleared = Asking { platform, session, content }
            .ask(&mut plan, confirming)
            .map_err(|failure| job::refused(&plan, &started, failure, session))?;
        let (source, told_as) = (KeptImage(&pattern), ToldAs::Gauge(depth));
        let checked = Checked::default();
        let ready =
            Ready { image, source: &source, checked, plan: &plan, cleared, started: &started, news: None, told_as };
        job::carry_out(ready, session, &|doing: Doing<'_>| match &state {
            Some(state) if quick => {
                let look = QuickLook { needs: doing.order.needs, state, seed: &seed, after: doing.order.after };
                let cleared = doing.targets.into_iter().map(|target| target.cleared);
                cleared.map(|cleared| quick_look(&look, platform, cleared, session.cancel, doing.progress)).collect()
            }
            _ => {
                let outcomes = engine::run(&doing.order, platform, doing.targets, session.cancel, doing.progress);
                outcomes.into_iter().map(|outcome| filled(outcome, drive_bytes)).collect()
            }
        })
    }
}

/// Who says yes: where nothing is on the drive and all stays as it is, nobody needs to.
fn confirming(drive: &Drive, depth: LookDepth, job: &Job) -> Result<Confirming, Failure> {
    if depth == LookDepth::Quick && drive.holds.surface == Surface::Empty && drive.volumes().next().is_none() {
        return Ok(Confirming::Unattended);
    }
    Confirming::find(job, ImageFrom::Elsewhere)
}

/// A drive that was filled: where it is known what is the matter with it, that is the result, and no fault of the job.
fn filled(mut outcome: Outcome, claimed_bytes: u64) -> Outcome {
    let gauged = gauge::of_filled(&outcome, claimed_bytes);
    if gauged.verdict != Trust::Unknown {
        (outcome.fault, outcome.told.fault) = (None, None);
        outcome.told.gauged = Some(gauged);
    }
    outcome
}
