//! `pyrotyp rehearse`: does it start a PC? Tried in an emulated one.

use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use pyrotyp_core::devices::{Platform, Sectors};
use pyrotyp_core::drive::Drive;
use pyrotyp_core::image::{Firmware, Inspection};
use pyrotyp_core::record::{ImageRecord, JobResult, Record, TrialStart};
use pyrotyp_core::rehearse::{Rehearsal, RehearseError, Runner, TrialOrder, TrialStick, rehearse};
use pyrotyp_core::text::{Shown, chain};
use pyrotyp_core::{ledger, machine, plan};

use crate::asked::{Rehearse, TrialFirmware};
use crate::exit::{Exit, Failure, plain};
use crate::live::trial_progress::TrialProgress;
use crate::out::{put, put_document, say};
use crate::paper;
use crate::session::Session;
use crate::session::attached::platform;
use crate::session::examining::content;
use crate::session::folders::state_folder;
use crate::session::images::{on_shelf_or_file, open_image};
use crate::show::json;
use crate::show::rehearsed::{self, Rehearsed};
use crate::writing::copying::meant;
use crate::writing::reading::looked_into;

/// Sectors of a stick as which an image is tried, in bytes; one whose tables count in others is tried as such a stick.
const SECTOR_BYTES: u32 = 512;

/// Tries an image or a drive, by one firmware or both.
pub(crate) fn run(asked: &Rehearse, session: &Session<'_>) -> Result<Exit, Failure> {
    let subject = match meant(&asked.what, session)? {
        Some(drive) => TrialSubject::drive(drive, &*platform(session.common)?)?,
        None => TrialSubject::image(&on_shelf_or_file(&asked.what, session.common)?, session)?,
    };
    let started = Timestamp::now().to_string();
    let trials = subject.tried(asked, session)?;
    let record = subject.put_on_record(trials, &started, session);
    if session.common.json {
        put_document(&json::rehearse(&record.starts))?;
    } else {
        let of = Rehearsed {
            image: &record.image,
            drive: record.drives.first().map(|one| &one.drive),
            starts: &record.starts,
        };
        put(&rehearsed::rehearsed(&of, session.common))?;
    }
    Ok(match record.result {
        JobResult::Verified => Exit::Done,
        JobResult::Failed => Exit::Image,
        _ => Exit::Stopped,
    })
}

/// What is tried.
struct TrialSubject {
    stick: TrialStick,
    image: ImageRecord,
    drive: Option<Drive>,
    inspection: Inspection,
}

fn not_opened(what: &str, error: &io::Error) -> Failure {
    Failure::new(
        Exit::Unexpected,
        format!("{what} can't be handed to the emulator: {}", plain(error)),
        "run the same command again",
    )
}

impl TrialSubject {
    fn drive(drive: Drive, platform: &dyn Platform) -> Result<Self, Failure> {
        let inspection = looked_into(&drive, &Sectors::of(&*platform.open(&drive)?))?;
        let file = platform.open_shared(&drive)?;
        let stick = TrialStick::of(file, drive.sector_bytes)
            .map_err(|error| not_opened(&format!("drive {}", drive.tag), &error))?;
        let image = ImageRecord { file: drive.path.clone(), says: inspection.summary(), ..ImageRecord::default() };
        Ok(Self { stick, image, drive: Some(drive), inspection })
    }

    fn image(path: &Path, session: &Session<'_>) -> Result<Self, Failure> {
        let opened = open_image(path, session.common)?;
        let called = path.shown();
        let sector_bytes = opened.inspection.tables.sector_bytes.unwrap_or(SECTOR_BYTES);
        let stick = if opened.is_packed() {
            let room = machine::free_bytes(&std::env::temp_dir()).unwrap_or(u64::MAX);
            let content = content(path, &opened, room, session)?;
            TrialStick::of_bytes(content.bytes(), sector_bytes, session.cancel)
        } else {
            opened.file.again().and_then(|file| TrialStick::of(file, sector_bytes))
        };
        let stick = stick.map_err(|error| match session.cancel.is_set() {
            true => stopped(&RehearseError::Stopped),
            false => not_opened(&called, &error),
        })?;
        let file = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        let image = ImageRecord {
            file: file.to_string_lossy().into_owned(),
            bytes: Some(opened.bytes()),
            says: opened.inspection.summary(),
            ..ImageRecord::default()
        };
        Ok(Self { stick, image, drive: None, inspection: opened.inspection })
    }

    /// A trial by each firmware that is asked for.
    fn tried(&self, asked: &Rehearse, session: &Session<'_>) -> Result<Vec<Rehearsal>, Failure> {
        let all: &[Firmware] = match asked.firmware {
            None => &[Firmware::Bios, Firmware::Uefi],
            Some(TrialFirmware::Bios) => &[Firmware::Bios],
            Some(TrialFirmware::Uefi) => &[Firmware::Uefi],
        };
        let says = &self.image.says;
        let names: Vec<String> = says.title.iter().chain(&says.label).cloned().collect();
        let mut runner = Runner::Processor;
        let one = |firmware: &Firmware| {
            let order = TrialOrder {
                stick: &self.stick,
                firmware: *firmware,
                secure_boot: asked.secure_boot && *firmware == Firmware::Uefi,
                wait: Duration::from_secs(asked.wait),
                names: &names,
                has_start: self.inspection.boots.iter().any(|boot| boot.firmware == *firmware),
                runner,
            };
            let progress = TrialProgress::new(asked.wait, session.common);
            let tried = rehearse(&order, session.cancel, &|news| progress.tell(news));
            progress.finish();
            let trial = tried.map_err(|error| stopped(&error))?;
            // A processor that was no help is none the next time.
            if !trial.start.accelerated {
                runner = Runner::Program;
            }
            Ok(trial)
        };
        all.iter().map(one).collect()
    }

    /// The record, with the pictures beside it; that it can't be kept is said, and changes nothing.
    fn put_on_record(&self, trials: Vec<Rehearsal>, started: &str, session: &Session<'_>) -> Record {
        let starts: Vec<TrialStart> = trials.iter().map(|trial| trial.start.clone()).collect();
        let mut record = plan::rehearsal(self.image.clone(), self.drive.as_ref(), starts, started);
        let Some(state) = state_folder(session.common) else { return record };
        let tell = |what: &str, error: &io::Error| say(session.common, &format!("{what}: {}\n", plain(error)));
        let kept = ledger::begin(&state, &record).and_then(|begun| {
            begun.job().clone_into(&mut record.job);
            for (start, trial) in record.starts.iter_mut().zip(&trials) {
                let png = trial.picture.as_ref().map(paper::screen_png).transpose().map_err(io::Error::other);
                let keep = |png: Vec<u8>| ledger::keep_picture(&state, begun.job(), start.firmware, &png);
                let kept = png.and_then(|png| png.map(keep).transpose());
                start.picture = kept.inspect_err(|error| tell("a picture is not kept", error)).unwrap_or_default();
            }
            begun.end(&record)
        });
        kept.unwrap_or_else(|error| tell("this is not on record", &error));
        let path = |name: String| absolute(ledger::picture_path(&state, &name));
        record.starts.iter_mut().for_each(|start| start.picture = start.picture.take().map(path));
        record
    }
}

fn absolute(path: PathBuf) -> String {
    std::path::absolute(&path).unwrap_or(path).to_string_lossy().into_owned()
}

fn stopped(error: &RehearseError) -> Failure {
    let exit = match error {
        RehearseError::Stopped => Exit::Stopped,
        RehearseError::NoEmulator { .. } | RehearseError::NoFirmware | RehearseError::NoKeys => Exit::Usage,
        _ => Exit::Unexpected,
    };
    Failure::new(exit, chain(error), error.next_step())
}
