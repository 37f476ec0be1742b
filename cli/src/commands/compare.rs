//! `pyrotyp compare`: does the drive still hold the image?

use std::path::Path;

use pyrotyp_core::contents::contents;
use pyrotyp_core::devices::{DriveIo, Sectors};
use pyrotyp_core::drive::{Drive, Tag};
use pyrotyp_core::job::{JobFault, ReadBack};
use pyrotyp_core::record::{Conclusion, JobResult};
use pyrotyp_core::text::{Foreign, Shown, shell};
use pyrotyp_core::{job, ledger};

use crate::asked::Common;
use crate::exit::{Exit, Failure, chain, of_image};
use crate::live::job_progress::JobProgress;
use crate::out::{put, put_document, say};
use crate::session::Session;
use crate::session::attached::{choose_drive, needs_medium, platform};
use crate::session::examining::content;
use crate::session::folders::state_folder;
use crate::session::images::{fit_to_write, on_shelf_or_file, open_image};
use crate::session::judged::onto;
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

/// Reads the drive and compares it with the image.
pub(crate) fn run(asked: &str, image: &Path, session: &Session<'_>) -> Result<Exit, Failure> {
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
    let choice = choose_drive(&*platform, asked, session.cancel, &|text| say(session.common, text))?;
    if choice.partition.is_some() {
        let text = format!("`{asked}` is a partition, and an image takes a whole drive");
        return Err(Failure::new(Exit::Refused, text, format!("name the drive: {}", choice.drive.tag)));
    }
    needs_medium(&choice.drive)?;
    let drive = platform.open(&choice.drive)?;
    let content = content(path, &image, choice.drive.bytes, session)?;
    let progress = JobProgress::new(session.common, &[choice.drive.tag.as_str()], ReadBack::Skip);
    let compared = job::compare(content.bytes(), &image.inspection, &*drive, session.cancel, &progress);
    progress.finish();
    let compared = compared.map_err(|fault| {
        let exit = match &fault {
            JobFault::Stopped { .. } => Exit::Stopped,
            JobFault::Image(fault) => of_image(fault),
            JobFault::Died(_) => Exit::Unexpected,
            // What can't be read any more is no difference.
            _ => Exit::Drive,
        };
        // Nothing was written that could be gone on with.
        let next = if exit == Exit::Stopped { "run the same command again" } else { fault.next_step() };
        Failure::new(exit, format!("drive {}: {}", choice.drive.tag, chain(&fault)), next)
    })?;
    let holds = if compared.conclusion == Some(Conclusion::OtherContent) {
        held(&*drive, &choice.drive, session.common)
    } else {
        None
    };
    if session.common.json {
        put_document(&json::compare(&compared, holds.as_deref()))?;
    } else {
        let onto = onto(&*platform, &choice.drive, session.common);
        let known = text::AboutDrive { holds: holds.as_deref(), onto: onto.as_deref() };
        put(&text::compared(&choice.drive, path, &compared, known, session.common))?;
    }
    Ok(if compared.result == JobResult::Verified { Exit::Done } else { Exit::Differs })
}
