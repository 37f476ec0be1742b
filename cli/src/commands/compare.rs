//! `pyrotyp compare`: does the drive still hold the image?

use std::ops::Range;
use std::path::Path;

use jiff::Timestamp;
use pyrotyp_core::compose::patched;
use pyrotyp_core::contents::contents;
use pyrotyp_core::devices::{DriveIo, Platform, Sectors};
use pyrotyp_core::drive::{Drive, Tag};
use pyrotyp_core::hash::first_block;
use pyrotyp_core::image::Summary;
use pyrotyp_core::job::{Comparison, JobFault};
use pyrotyp_core::record::{
    AlteredBytes, Conclusion, DriveIdentity, ImageRecord, JobKind, JobResult, Record, SparePartition,
};
use pyrotyp_core::text::{Foreign, Shown, shell};
use pyrotyp_core::{job, ledger, plan};

use crate::asked::Common;
use crate::exit::{Exit, Failure, chain, of_image, plain};
use crate::live::job_progress::JobProgress;
use crate::out::{put, put_document, say};
use crate::session::Session;
use crate::session::attached::{platform, whole_drive};
use crate::session::examining::content;
use crate::session::folders::state_folder;
use crate::session::images::{OpenedAt, fit_to_write, on_shelf_or_file, open_image};
use crate::session::judged::onto;
use crate::session::pending_restore::warn_if_pending;
use crate::session::recognised::{Recognised, Records, recognise};
use crate::show::json::ComparedWith;
use crate::show::{json, text};

/// What is on a drive that does not hold the image, in words, as far as it tells itself.
fn held(drive: &dyn DriveIo, of: &Drive, common: &Common) -> Option<String> {
    let found = contents(&Sectors::of(drive)).ok()?;
    let whole = found.volumes.iter().find(|listed| listed.number.is_none());
    let label = whole.or(found.volumes.first()).and_then(|listed| listed.volume.label.clone());
    let name = found.image.or_else(|| label.clone())?;
    // The records have a part in it only where they speak of what is there.
    let records = state_folder(common).and_then(|state| ledger::Drives::of(&state).ok()).unwrap_or_default();
    let last = records.last_on(of).filter(|last| last.is_there() && last.label.is_some() && last.label == label);
    let when = last.and_then(|last| last.ended.as_deref()?.get(..10).map(str::to_owned));
    let when = when.map_or(String::new(), |day| format!(", written on {day}"));
    Some(format!("{}{when}", Foreign(&name)))
}

/// Reads the drive and compares it with the image, or with what the records keep of what should be there.
pub(crate) fn run(asked: &str, image: Option<&Path>, session: &Session<'_>) -> Result<Exit, Failure> {
    let Some(image) = image else { return with_records(asked, session) };
    // A tag where the image belongs, or a file where the drive does.
    let is_tag = |text: &str| text.parse::<Tag>().is_ok();
    let is_swapped = Path::new(asked).is_file() || image.to_str().is_some_and(is_tag) && !is_tag(asked);
    if is_swapped && !image.exists() && !asked.starts_with("/dev/") {
        let (drive, file) = (shell::path(image), shell::path(Path::new(asked)));
        let text = format!("`{}` is no drive, and the drive comes first", asked.shown());
        return Err(Failure::new(Exit::Usage, text, format!("pyrotyp compare {drive} {file}")));
    }
    let path = &on_shelf_or_file(image, session.common)?;
    let image = open_image(path, session.common)?;
    fit_to_write(path, &image.inspection)?;
    let platform = platform(session.common)?;
    let of = whole_drive(&*platform, asked, session)?;
    warn_if_pending(&of, &*platform, session.common);
    let drive = platform.open(&of)?;
    with_image(&*platform, ComparedDrive { of: &of, drive: &*drive }, OpenedAt { path, opened: &image }, session)
}

/// A drive that is compared.
#[derive(Clone, Copy)]
struct ComparedDrive<'a> {
    of: &'a Drive,
    drive: &'a dyn DriveIo,
}

fn with_image(
    platform: &dyn Platform,
    opened: ComparedDrive<'_>,
    against: OpenedAt<'_>,
    session: &Session<'_>,
) -> Result<Exit, Failure> {
    let (ComparedDrive { of, drive }, OpenedAt { path, opened: image }) = (opened, against);
    let content = content(path, image, of.bytes, session)?;
    let inspection = &image.inspection;
    let file = std::path::absolute(path).unwrap_or_else(|_| path.to_owned()).to_string_lossy().into_owned();
    // Without the records it is compared all the same: then what enters a partition behind it shows as different.
    let made = as_recorded(of, drive, session.common).unwrap_or_else(|failure| {
        say(session.common, &format!("whether partitions lie behind the image is not known: {}\n", failure.text));
        None
    });
    let unpacked = made.as_ref().filter(|record| record.kind == JobKind::Unpack && record.image.file == file);
    if let Some(record) = unpacked {
        // Another program may have written the image since then.
        let heads = (first_block(&Sectors::of(drive)), first_block(content.bytes()));
        if matches!(heads, (Ok(found), Ok(wanted)) if found != wanted) {
            return Err(not_byte_for_byte(of, path, record));
        }
    }
    let made_with = made.map(|record| record.image).filter(|image| image.bytes == Some(content.bytes().size()));
    let made_with = made_with.unwrap_or_default();
    let as_written = patched(content.bytes(), &AlteredBytes::at_places(&made_with.altered));
    let kept = ForTheRecord {
        image: ImageRecord {
            file,
            bytes: Some(content.bytes().size()),
            says: inspection.summary(),
            ..ImageRecord::default()
        },
        drive: of,
        started: Timestamp::now(),
    };
    let progress = JobProgress::comparing(session.common, &DriveIdentity::of(of));
    let compared = job::compare(&as_written, inspection, drive, session.cancel, &progress);
    progress.finish();
    kept.put(&compared, session.common);
    let compared = compared.map_err(|fault| fault_words(of, &fault))?;
    let holds =
        if compared.conclusion == Some(Conclusion::OtherContent) { held(drive, of, session.common) } else { None };
    if session.common.json {
        put_document(&json::compare(
            &compared,
            ComparedWith::File(&path.to_string_lossy()),
            holds.as_deref(),
            &made_with.spare,
        ))?;
    } else {
        let onto = onto(platform, of, session.common);
        let known = text::AboutDrive { holds: holds.as_deref(), onto: onto.as_deref(), spare: &made_with.spare };
        put(&text::compared(of, path, &compared, known, session.common))?;
    }
    Ok(if compared.result == JobResult::Verified { Exit::Done } else { Exit::Differs })
}

/// The record of the job that made this drive what it is, if there is one.
fn as_recorded(of: &Drive, drive: &dyn DriveIo, common: &Common) -> Result<Option<Record>, Failure> {
    let Some(records) = Records::of(common)? else { return Ok(None) };
    let Some(job) = records.made(of, &Sectors::of(drive))? else { return Ok(None) };
    records.record(&job.job)
}

/// The drive holds the files of this image, and not its bytes in their order.
fn not_byte_for_byte(of: &Drive, path: &Path, unpacked: &Record) -> Failure {
    let (tag, day) = (&of.tag, unpacked.started.get(..10).unwrap_or(&unpacked.started));
    let text = format!(
        "{} was unpacked onto drive {tag} on {day}: the drive holds its files, not the image byte for byte",
        path.shown()
    );
    Failure::new(Exit::Usage, text, format!("pyrotyp compare {}", shell::word(tag.as_str())))
}

/// Compares with the digests that a job kept; an image of the shelf with which the drive begins does as well.
fn with_records(asked: &str, session: &Session<'_>) -> Result<Exit, Failure> {
    let platform = platform(session.common)?;
    let of = whole_drive(&*platform, asked, session)?;
    warn_if_pending(&of, &*platform, session.common);
    let drive = platform.open(&of)?;
    let none = |text: String| {
        let next = format!("give the image: pyrotyp compare {} IMAGE", shell::word(of.tag.as_str()));
        Failure::new(Exit::Usage, text, next)
    };
    let row = match recognise(&of, &Sectors::of(&*drive), session.common)? {
        Recognised::Job { row, .. } => row,
        Recognised::Shelved { path } => {
            let image = open_image(&path, session.common)?;
            say(session.common, &format!("it begins like {} of the shelf\n", path.shown()));
            let opened = ComparedDrive { of: &of, drive: &*drive };
            return with_image(&*platform, opened, OpenedAt { path: &path, opened: &image }, session);
        }
        Recognised::Nothing => {
            return Err(none(format!("nothing on this bench tells what drive {} should hold", of.tag)));
        }
    };
    let job = row.job.shown();
    let blocks = state_folder(session.common).map(|state| ledger::blocks_of(&state, &row.job)).transpose();
    let blocks = blocks.map_err(|error| none(format!("the digests of job {job} can't be used: {}", plain(&error))))?;
    let no_digests = || none(format!("job {job} kept no digests of what it wrote to drive {}", of.tag));
    let record = Records::of(session.common)?.map(|records| records.record(&row.job)).transpose()?.flatten();
    let spare = record.map_or_else(Vec::new, |record| record.image.spare);
    let ranges: Vec<Range<u64>> = spare.iter().map(SparePartition::range).collect();
    let blocks = blocks.flatten().ok_or_else(no_digests)?.without(&ranges);
    let kept = ForTheRecord {
        image: ImageRecord {
            file: row.image.clone(),
            bytes: Some(blocks.bytes),
            says: Summary { label: row.label.clone(), title: row.title.clone(), ..Summary::default() },
            sha256: row.sha256.clone(),
            ..ImageRecord::default()
        },
        drive: &of,
        started: Timestamp::now(),
    };
    let progress = JobProgress::comparing(session.common, &DriveIdentity::of(&of));
    let compared = job::compare_with_digests(blocks.bytes, &blocks.digests, &*drive, session.cancel, &progress);
    progress.finish();
    kept.put(&compared, session.common);
    let compared = compared.map_err(|fault| fault_words(&of, &fault))?;
    if session.common.json {
        put_document(&json::compare(&compared, ComparedWith::Job(&row.job), None, &spare))?;
    } else {
        put(&text::compared_with_job(&of, &row, &compared, &spare, session.common))?;
    }
    Ok(if compared.result == JobResult::Verified { Exit::Done } else { Exit::Differs })
}

fn fault_words(of: &Drive, fault: &JobFault) -> Failure {
    let exit = match fault {
        JobFault::Stopped { .. } => Exit::Stopped,
        JobFault::Image(fault) => of_image(fault),
        JobFault::Died(_) => Exit::Unexpected,
        // What can't be read any more is no difference.
        _ => Exit::Drive,
    };
    // Nothing was written that could be gone on with.
    let next = if exit == Exit::Stopped { "run the same command again" } else { fault.next_step() };
    Failure::new(exit, format!("drive {}: {}", of.tag, chain(fault)), next)
}

/// A comparison, for its record.
struct ForTheRecord<'a> {
    image: ImageRecord,
    drive: &'a Drive,
    started: Timestamp,
}

impl ForTheRecord<'_> {
    /// Puts it on record; that it can't be is said, and changes nothing.
    fn put(self, compared: &Result<Comparison, JobFault>, common: &Common) {
        let Some(state) = state_folder(common) else { return };
        let record = plan::comparison(self.image, self.drive, compared, &self.started.to_string());
        if let Err(error) = ledger::put(&state, &record) {
            say(common, &format!("the comparison is not on record below {}: {}\n", state.shown(), plain(&error)));
        }
    }
}
