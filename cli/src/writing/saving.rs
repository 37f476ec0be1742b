//! What is on a drive into a file: for its own sake, or before it is erased.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::devices::{DriveIo, Platform, Sectors};
use pyrotyp_core::drive::{Drive, Surface};
use pyrotyp_core::image::Inspection;
use pyrotyp_core::job::save::{Filling, Packing, SaveOrder, Saved, part_path, save, sum_path};
use pyrotyp_core::job::{self, JobFault};
use pyrotyp_core::plan::Plan;
use pyrotyp_core::record::{DriveIdentity, ImageRecord, JobKind, JobResult, Record};
use pyrotyp_core::text::{Shown, chain, shell};
use pyrotyp_core::{ledger, machine, plan};

use super::reading::{ReadDrive, looked_into, reach};
use crate::asked::Write;
use crate::exit::{Exit, Failure, of_job, plain};
use crate::live::job_progress::JobProgress;
use crate::out::say;
use crate::session::Session;
use crate::session::examining::content;
use crate::session::folders::state_folder;
use crate::session::images::open_image;

fn folder_of(file: &Path) -> &Path {
    file.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// A name that nothing has.
pub(crate) fn free_name(file: &Path) -> Result<PathBuf, Failure> {
    let next = "choose another name";
    if file.exists() {
        return Err(Failure::new(Exit::Usage, format!("{} is there already", file.shown()), next));
    }
    // One that an earlier run of this file made goes with its part.
    if sum_path(file).exists() && !part_path(file).metadata().is_ok_and(|part| part.len() > 0) {
        let text = format!("{} is there already, and is about another file", sum_path(file).shown());
        return Err(Failure::new(Exit::Usage, text, "remove it, or choose another name"));
    }
    let folder = folder_of(file);
    if !folder.is_dir() {
        return Err(Failure::new(
            Exit::Usage,
            format!("there is no folder {}", folder.shown()),
            "make it, or choose another",
        ));
    }
    if file.file_name().is_none() {
        return Err(Failure::new(Exit::Usage, format!("{} is no name for a file", file.shown()), next));
    }
    Ok(file.to_owned())
}

/// Refuses to save a drive onto itself.
pub(crate) fn lies_elsewhere(file: &Path, of: &Drive, platform: &dyn Platform) -> Result<(), Failure> {
    let folder = folder_of(file);
    if platform.drives_holding(folder)?.contains(&of.path) {
        let text = format!("{} lies on drive {} itself", file.shown(), of.tag);
        return Err(Failure::new(Exit::Refused, text, "choose a folder on another drive"));
    }
    Ok(())
}

/// What is to be saved of a drive, and where.
pub(crate) struct ToSave<'a> {
    pub of: &'a Drive,
    /// How much of it, in bytes.
    pub bytes: u64,
    /// What is on it, where that could be told.
    pub inspection: Option<&'a Inspection>,
    pub file: &'a Path,
    pub filling: Filling,
}

/// A drive that was saved, and what is on record of that.
pub(crate) struct OnFile {
    pub done: Saved,
    pub record: Record,
}

/// Saves it, and puts that on record.
pub(crate) fn save_to(wanted: &ToSave<'_>, drive: &dyn DriveIo, session: &Session<'_>) -> Result<OnFile, Failure> {
    let ToSave { of, bytes, inspection, file, filling } = *wanted;
    let started = Timestamp::now();
    room_for(file, bytes)?;
    let order = SaveOrder { drive: &of.tag, bytes, file, packing: Packing::of(file), filling };
    let progress = JobProgress::comparing(session.common, &DriveIdentity::of(of));
    let done = save(&order, drive, session.cancel, &progress);
    progress.finish();
    let image = ImageRecord {
        file: std::path::absolute(file).unwrap_or_else(|_| file.to_owned()).to_string_lossy().into_owned(),
        bytes: Some(bytes),
        says: inspection.map(Inspection::summary).unwrap_or_default(),
        ..ImageRecord::default()
    };
    let record = plan::saving(image, of, &done, &started.to_string());
    if let Some(state) = state_folder(session.common)
        && let Err(error) = ledger::put(&state, &record)
    {
        say(session.common, &format!("this is not on record: {}\n", plain(&error)));
    }
    let done = done.map_err(|fault| failed(&fault, of, file))?;
    Ok(OnFile { done, record })
}

/// Says before anything is read that there is no room for it; what is packed may well fit.
fn room_for(file: &Path, bytes: u64) -> Result<(), Failure> {
    let folder = folder_of(file);
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
        JobFault::Stopped { .. } | JobFault::Read { .. } | JobFault::Died(_) => goes_on,
        other => other.next_step().to_owned(),
    };
    Failure::new(of_job(fault.result(), Some(fault)), text, next)
}

/// What is saved before anything is erased.
pub(crate) struct SavedFirst {
    file: PathBuf,
    drive: Drive,
}

impl SavedFirst {
    /// Of the drive of a plan, if that is wanted: one file takes one drive.
    pub(crate) fn of(asked: &Write, plan: &Plan, platform: &dyn Platform) -> Result<Option<Self>, Failure> {
        let Some(file) = &asked.save_first else { return Ok(None) };
        let file = free_name(file)?;
        let mut drives = plan.attached();
        let (Some(drive), None) = (drives.next(), drives.next()) else {
            let next = "write them one after the other, each with a file of its own";
            return Err(Failure::new(Exit::Usage, "--save-first saves one drive, and several are named", next));
        };
        lies_elsewhere(&file, drive, platform)?;
        Ok(Some(Self { file, drive: drive.clone() }))
    }

    /// Saves it, if there is anything to save.
    pub(crate) fn save(first: Option<&Self>, platform: &dyn Platform, session: &Session<'_>) -> Result<(), Failure> {
        first.map_or(Ok(()), |Self { file, drive }| save_first(file, drive, platform, session))
    }
}

/// Saves what is about to be erased, and proves that the file holds it: until then nothing is changed.
fn save_first(file: &Path, of: &Drive, platform: &dyn Platform, session: &Session<'_>) -> Result<(), Failure> {
    if of.holds.surface == Surface::Empty && of.volumes().next().is_none() {
        say(session.common, &format!("drive {}: nothing is on it that could be saved\n", of.tag));
        return Ok(());
    }
    let source = ReadDrive::of(JobKind::Save, "what is on it", of, platform, session)?;
    let done = save_and_prove(file, of, source.drive(), session);
    source.give_back();
    done
}

fn save_and_prove(file: &Path, of: &Drive, drive: &dyn DriveIo, session: &Session<'_>) -> Result<(), Failure> {
    let inspection = looked_into(of, &Sectors::of(drive)).ok();
    // Where nothing tells how far it reaches, all of it may count.
    let bytes = inspection.as_ref().and_then(|inspection| reach(inspection, of).ok()).unwrap_or(of.bytes);
    let wanted = ToSave { of, bytes, inspection: inspection.as_ref(), file, filling: Filling::None };
    let OnFile { done, .. } = save_to(&wanted, drive, session)?;
    if !done.unreadable.is_empty() {
        let text = format!("drive {} can't be read whole, and nothing on it was erased", of.tag);
        let next = format!(
            "pyrotyp save {} FILE tells what is missing; without --save-first it is erased all the same",
            of.tag
        );
        return Err(Failure::new(Exit::Drive, text, next));
    }
    let image = open_image(file, session.common)?;
    let content = content(file, &image, u64::MAX, session)?;
    let progress = JobProgress::comparing(session.common, &DriveIdentity::of(of));
    let compared = job::compare(content.bytes(), &image.inspection, drive, session.cancel, &progress);
    progress.finish();
    let compared = compared.map_err(|fault| failed(&fault, of, file))?;
    if compared.result != JobResult::Verified {
        let text = format!("{} does not hold what is on drive {}, and nothing there was erased", file.shown(), of.tag);
        return Err(Failure::new(Exit::Differs, text, "save it to another disk"));
    }
    let size = human_bytes(compared.bytes);
    say(session.common, &format!("drive {}: {size} of it are in {}, compared and equal\n", of.tag, file.shown()));
    Ok(())
}
