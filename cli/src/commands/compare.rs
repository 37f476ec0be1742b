//! `pyrotyp compare`: does the drive still hold the image?

use std::path::Path;

use pyrotyp_core::Cancel;
use pyrotyp_core::job::{self, JobFault, JobResult};

use super::{choose_drive, fit_to_write, needs_medium, on_shelf_or_file, open_image, platform};
use crate::asked::Common;
use crate::exit::{Exit, Failure, chain, of_image};
use crate::show::job_progress::JobProgress;
use crate::show::{json, text};
use crate::{put, say};

/// Reads the drive and compares it with the image.
pub fn run(asked: &str, image: &Path, common: &Common, cancel: &Cancel) -> Result<Exit, Failure> {
    let path = &on_shelf_or_file(image, common)?;
    let image = open_image(path, common)?;
    fit_to_write(path, &image.inspection)?;
    let platform = platform(common)?;
    let choice = choose_drive(&*platform, asked, cancel, &|text| say(common, text))?;
    if choice.partition.is_some() {
        let text = format!("`{asked}` is a partition, and an image takes a whole drive");
        return Err(Failure::new(Exit::Refused, text, format!("name the drive: {}", choice.drive.tag)));
    }
    needs_medium(&choice.drive)?;
    let drive = platform.open(&choice.drive)?;
    let content = image.content(path, choice.drive.bytes, common, cancel)?;
    let progress = JobProgress::new(common, &[choice.drive.tag.as_str()], false);
    let compared = job::compare(content.bytes(), &image.inspection, &*drive, cancel, &progress);
    progress.finish();
    let compared = compared.map_err(|fault| {
        let exit = match &fault {
            JobFault::Stopped { .. } => Exit::Stopped,
            JobFault::Image(fault) => of_image(fault),
            _ => Exit::Differs,
        };
        // Nothing was written that could be gone on with.
        let next = if exit == Exit::Stopped { "run the same command again" } else { fault.next_step() };
        Failure::new(exit, format!("drive {}: {}", choice.drive.tag, chain(&fault)), next)
    })?;
    put(&if common.json { json::compare(&compared) } else { text::compared(&choice.drive, path, &compared, common) })?;
    Ok(if compared.result == JobResult::Verified { Exit::Done } else { Exit::Differs })
}
