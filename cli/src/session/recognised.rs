//! What a drive should hold, by what this bench keeps: its records, and the images of its shelf.

use std::path::PathBuf;

use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::drive::Drive;
use pyrotyp_core::hash::first_block;
use pyrotyp_core::ledger::{Index, JobQuery, JobRow};
use pyrotyp_core::machine::ImageFile;
use pyrotyp_core::plan::SurveyError;
use pyrotyp_core::record::{DriveIdentity, JobResult};
use pyrotyp_core::shelf::Shelf;

use super::folders::state_folder;
use crate::asked::Common;
use crate::exit::{Exit, Failure, plain};

/// How a job is known to be the one that made a stick.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum KnownBy {
    /// It is the last one that wrote to this very drive.
    Tag,
    /// The drive begins with what the job wrote, to this drive or another.
    Head,
}

/// What a drive should hold.
pub(crate) enum Recognised {
    /// What a job wrote.
    Job { row: Box<JobRow>, known: KnownBy },
    /// An image of the shelf, with which it begins.
    Shelved { path: PathBuf },
    /// Nobody knows.
    Nothing,
}

/// Recognises a drive by its tag in the records, or else by its first block among records and shelf.
pub(crate) fn recognise(drive: &Drive, bytes: &dyn ReadAt, common: &Common) -> Result<Recognised, Failure> {
    let Some(state) = state_folder(common) else { return Ok(Recognised::Nothing) };
    let fail = |source| Failure::from(SurveyError::Records { state: state.clone(), source });
    let index = Index::of(&state).map_err(fail)?;
    let found = |row: JobRow, known| Recognised::Job { row: Box::new(row), known };
    let is_whole = |result: JobResult| matches!(result, JobResult::Verified | JobResult::Written);
    let is_image =
        |result: JobResult, job: &JobRow| job.kind.brings_an_image() && is_whole(result) && job.ended.is_some();
    if !drive.tag.is_unsure() {
        let own = DriveIdentity::of(drive).anywhere();
        let jobs = index.jobs(&JobQuery { tag: Some(drive.tag.to_string()), ..JobQuery::default() }).map_err(fail)?;
        let wrote = |job: &JobRow| {
            let one = job.drives.iter().find(|one| one.drive == own)?;
            (job.changed(one) && one.result != JobResult::Refused).then_some(one.result)
        };
        // Whatever the last one left counts, and no earlier one.
        let last = jobs.into_iter().find_map(|job| Some((wrote(&job)?, job)));
        if let Some((_, job)) = last.filter(|(result, job)| is_image(*result, job)) {
            return Ok(found(job, KnownBy::Tag));
        }
    }
    let unreadable = |error: std::io::Error| {
        let text = format!("drive {} can't be read: {}", drive.tag, plain(&error));
        Failure::new(Exit::Drive, text, "plug it into another port; if it stays so, it fails")
    };
    let head = first_block(bytes).map_err(unreadable)?;
    let jobs = index.jobs(&JobQuery { first_block: Some(head), ..JobQuery::default() }).map_err(fail)?;
    let made = |job: &JobRow| job.kind.brings_an_image() && job.drives.iter().any(|one| is_whole(one.result));
    if let Some(job) = jobs.into_iter().find(made) {
        return Ok(found(job, KnownBy::Head));
    }
    let Ok(shelf) = Shelf::open(&state) else { return Ok(Recognised::Nothing) };
    let begins_it = |path: &PathBuf| {
        let image = ImageFile::open(path).ok().filter(|image| image.size() > 0);
        image.and_then(|image| first_block(&image).ok()) == Some(head)
    };
    let shelved = shelf.items().iter().map(|item| shelf.path(item)).find(begins_it);
    Ok(shelved.map_or(Recognised::Nothing, |path| Recognised::Shelved { path }))
}
