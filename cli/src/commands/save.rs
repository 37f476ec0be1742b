//! `pyrotyp save`: a drive into a file.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::devices::{After, Claimed, DriveIo, Platform, Sectors};
use pyrotyp_core::drive::Drive;
use pyrotyp_core::image::{self, FileMap, Inspection};
use pyrotyp_core::job::JobFault;
use pyrotyp_core::job::save::{Filling, Packing, SaveOrder, Saved, part_path, save};
use pyrotyp_core::record::{DriveIdentity, ImageRecord, JobKind};
use pyrotyp_core::text::{Shown, chain, shell};
use pyrotyp_core::{ledger, machine, plan};

use crate::asked::Save;
use crate::exit::{Exit, Failure, of_job, plain};
use crate::live::job_progress::JobProgress;
use crate::out::{put, put_document, say};
use crate::session::Session;
use crate::session::attached::{choose_drive, needs_medium, platform};
use crate::session::folders::state_folder;
use crate::session::unasked::{Unclaimed, claim_unasked};
use crate::show::json;
use crate::show::saved::{self, Missing, SavedDrive};

/// Saves one drive; it stays as it is.
pub(crate) fn run(asked: &Save, session: &Session<'_>) -> Result<Exit, Failure> {
    let file = free_name(&asked.file)?;
    let platform = &*platform(session.common)?;
    let choice = choose_drive(platform, &asked.drive, session.cancel, &|text| say(session.common, text))?;
    let of = &choice.drive;
    if choice.partition.is_some() {
        let text = format!("`{}` is a partition, and a whole drive is saved", asked.drive.shown());
        return Err(Failure::new(Exit::Refused, text, format!("name the drive: {}", of.tag)));
    }
    needs_medium(of)?;
    lies_elsewhere(&file, of, platform)?;
    let opened = Opened::of(of, platform, session)?;
    let saved = save_opened(asked, &file, Subject { of, drive: opened.drive() }, session);
    opened.give_back();
    saved
}

/// A name that nothing has.
fn free_name(file: &Path) -> Result<PathBuf, Failure> {
    let next = "choose another name";
    if file.exists() {
        return Err(Failure::new(Exit::Usage, format!("{} is there already", file.shown()), next));
    }
    let folder = file.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    if !folder.is_dir() {
        return Err(Failure::new(
            Exit::Usage,
            format!("{} is no folder", folder.shown()),
            "make it, or choose another",
        ));
    }
    if file.file_name().is_none() {
        return Err(Failure::new(Exit::Usage, format!("{} is no name for a file", file.shown()), next));
    }
    Ok(file.to_owned())
}

/// Refuses to save a drive onto itself.
fn lies_elsewhere(file: &Path, of: &Drive, platform: &dyn Platform) -> Result<(), Failure> {
    let folder = file.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    if platform.drives_holding(folder)?.contains(&of.path) {
        let text = format!("{} lies on drive {} itself", file.shown(), of.tag);
        return Err(Failure::new(Exit::Refused, text, "choose a folder on another drive"));
    }
    Ok(())
}

/// A drive that nobody changes while it is read.
enum Opened {
    Claimed(Box<dyn Claimed>),
    /// It can't be changed at all.
    Protected(Box<dyn DriveIo>),
}

impl Opened {
    fn of(drive: &Drive, platform: &dyn Platform, session: &Session<'_>) -> Result<Self, Failure> {
        if drive.write_protected {
            return Ok(Self::Protected(platform.open(drive)?));
        }
        match claim_unasked(JobKind::Save, "what is on it", drive, platform, session.common) {
            Ok(claimed) => Ok(Self::Claimed(claimed)),
            Err(Unclaimed::Refused(failure)) => Err(failure),
            Err(Unclaimed::Claim(error)) => Err(error.into()),
        }
    }

    fn drive(&self) -> &dyn DriveIo {
        match self {
            Self::Claimed(drive) => &**drive,
            Self::Protected(drive) => &**drive,
        }
    }

    fn give_back(self) {
        if let Self::Claimed(drive) = self {
            // Nothing was changed on it.
            let _ = drive.release(After::Keep);
        }
    }
}

/// The drive that is saved.
#[derive(Clone, Copy)]
struct Subject<'a> {
    of: &'a Drive,
    drive: &'a dyn DriveIo,
}

fn save_opened(asked: &Save, file: &Path, subject: Subject<'_>, session: &Session<'_>) -> Result<Exit, Failure> {
    let Subject { of, drive } = subject;
    let started = Timestamp::now();
    let sectors = Sectors::of(drive);
    let inspection = image::inspect(&sectors).map_err(|error| {
        let text = format!("drive {} can't be read: {}", of.tag, plain(&error));
        Failure::new(Exit::Drive, text, "plug it into another port; if it stays so, give --whole")
    });
    let (bytes, inspection) = reach(asked, of, inspection)?;
    room_for(file, bytes)?;
    let order = SaveOrder {
        drive: &of.tag,
        bytes,
        file,
        packing: Packing::of(file),
        filling: if asked.fill_unreadable { Filling::Zeros } else { Filling::None },
    };
    let progress = JobProgress::comparing(session.common, &DriveIdentity::of(of));
    let done = save(&order, drive, session.cancel, &progress);
    progress.finish();
    let image = ImageRecord {
        file: std::path::absolute(file).unwrap_or_else(|_| file.to_owned()).to_string_lossy().into_owned(),
        bytes: Some(bytes),
        says: inspection.as_ref().map(Inspection::summary).unwrap_or_default(),
        ..ImageRecord::default()
    };
    let record = plan::saving(image, of, &done, &started.to_string());
    if let Some(state) = state_folder(session.common)
        && let Err(error) = ledger::put(&state, &record)
    {
        say(session.common, &format!("this is not on record: {}\n", plain(&error)));
    }
    let done = done.map_err(|fault| failed(&fault, of, file))?;
    let missing = missing(&done, &sectors, inspection.as_ref());
    let whole = missing.is_empty() || asked.fill_unreadable;
    let exit = if whole { Exit::Done } else { Exit::Drive };
    if session.common.json {
        put_document(&json::save(&record, &done))?;
        return Ok(exit);
    }
    let (tag, name) = (of.tag.to_string(), of.name());
    let seconds = Timestamp::now().duration_since(started).as_secs_f64();
    let about = SavedDrive { tag: &tag, name: &name, drive_bytes: of.bytes, seconds, file, missing: &missing };
    put(&saved::saved(&done, &about, session.common))?;
    Ok(exit)
}

/// How much of the drive counts, in bytes, and what it is, where that can be told.
fn reach(
    asked: &Save,
    of: &Drive,
    inspection: Result<Inspection, Failure>,
) -> Result<(u64, Option<Inspection>), Failure> {
    if asked.whole {
        return Ok((of.bytes, inspection.ok()));
    }
    let inspection = inspection?;
    match inspection.span.declared_bytes.filter(|bytes| *bytes > 0) {
        Some(bytes) => Ok((bytes.min(of.bytes), Some(inspection))),
        None => {
            let text = format!("nothing on drive {} tells how far what is on it reaches", of.tag);
            Err(Failure::new(Exit::Refused, text, "give --whole for all of it"))
        }
    }
}

/// Says before anything is read that there is no room for it; what is packed may well fit.
fn room_for(file: &Path, bytes: u64) -> Result<(), Failure> {
    let folder = file.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let there = part_path(file).metadata().map_or(0, |part| part.len());
    let Some(room) = machine::free_bytes(folder).filter(|_| Packing::of(file) == Packing::Plain) else { return Ok(()) };
    if bytes.saturating_sub(there) <= room {
        return Ok(());
    }
    let text = format!("there is no room for {} in {}, only {}", human_bytes(bytes), folder.shown(), human_bytes(room));
    Err(Failure::new(
        Exit::Usage,
        text,
        "choose a folder on another disk, or a name that ends in .zst, which is packed",
    ))
}

fn failed(fault: &JobFault, of: &Drive, file: &Path) -> Failure {
    let text = format!("drive {}: {}", of.tag, chain(fault));
    let goes_on = format!("run the same command again: it goes on with {}", shell::path(&part_path(file)));
    let next = match fault {
        JobFault::Stopped { .. } | JobFault::Read { .. } => goes_on,
        other => other.next_step().to_owned(),
    };
    Failure::new(of_job(fault.result(), Some(fault)), text, next)
}

/// What could not be read, and what lies there.
fn missing(done: &Saved, sectors: &Sectors<'_>, inspection: Option<&Inspection>) -> Vec<Missing> {
    let map = inspection.and_then(|inspection| FileMap::of(sectors, inspection).ok());
    let one = |range: &std::ops::Range<u64>| Missing {
        offset: range.start,
        bytes: range.end - range.start,
        file: map.as_ref().and_then(|map| map.at(range.start)).map(str::to_owned),
    };
    done.unreadable.iter().map(one).collect()
}
