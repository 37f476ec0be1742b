//! What a drive should hold, by what this bench keeps: its records, and the images of its shelf.

use std::io;
use std::path::PathBuf;

use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::drive::Drive;
use pyrotyp_core::hash::{BlockDigest, first_block};
use pyrotyp_core::ledger::{self, Index, JobQuery, JobRow};
use pyrotyp_core::machine::ImageFile;
use pyrotyp_core::plan::SurveyError;
use pyrotyp_core::record::{DriveIdentity, JobResult, Record};
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

/// The records of this bench.
pub(crate) struct Records {
    state: PathBuf,
    index: Index,
}

/// The last job that changed anything on a drive.
pub(crate) struct LastChange {
    pub(crate) job: JobRow,
    /// What came of it there.
    pub(crate) result: JobResult,
}

impl Records {
    /// None where there is no place for any.
    pub(crate) fn of(common: &Common) -> Result<Option<Self>, Failure> {
        let Some(state) = state_folder(common) else { return Ok(None) };
        match Index::of(&state) {
            Ok(index) => Ok(Some(Self { state, index })),
            Err(source) => Err(SurveyError::Records { state, source }.into()),
        }
    }

    fn unread(&self, source: io::Error) -> Failure {
        SurveyError::Records { state: self.state.clone(), source }.into()
    }

    /// The last job that changed anything on this very drive, and what came of it; none of a drive that can't be told from others.
    pub(crate) fn last_change(&self, drive: &Drive) -> Result<Option<LastChange>, Failure> {
        if drive.tag.is_unsure() {
            return Ok(None);
        }
        let own = DriveIdentity::of(drive).anywhere();
        let wanted = JobQuery { tag: Some(drive.tag.to_string()), ..JobQuery::default() };
        let jobs = self.index.jobs(&wanted).map_err(|source| self.unread(source))?;
        Ok(jobs.into_iter().find_map(|job| {
            let one = job.drives.iter().find(|one| one.drive == own)?;
            let result = (job.changed(one) && one.result != JobResult::Refused).then_some(one.result)?;
            Some(LastChange { job, result })
        }))
    }

    /// The job whose image this very drive holds: whatever the last one left counts, and no earlier one.
    fn brought_last(&self, drive: &Drive) -> Result<Option<JobRow>, Failure> {
        let last = self.last_change(drive)?;
        let brought =
            |last: &LastChange| last.job.kind.brings_an_image() && is_whole(last.result) && last.job.ended.is_some();
        Ok(last.filter(brought).map(|last| last.job))
    }

    /// A job that wrote what begins with this block, to whatever drive.
    fn beginning_with(&self, head: BlockDigest) -> Result<Option<JobRow>, Failure> {
        let wanted = JobQuery { first_block: Some(head), ..JobQuery::default() };
        let jobs = self.index.jobs(&wanted).map_err(|source| self.unread(source))?;
        let made = |job: &JobRow| job.kind.brings_an_image() && job.drives.iter().any(|one| is_whole(one.result));
        Ok(jobs.into_iter().find(made))
    }

    /// The job that made a drive what it is.
    pub(crate) fn made(&self, drive: &Drive, bytes: &dyn ReadAt) -> Result<Option<JobRow>, Failure> {
        match self.brought_last(drive)? {
            Some(job) => Ok(Some(job)),
            None => self.beginning_with(head_of(drive, bytes)?),
        }
    }

    /// All that is on record of a job.
    pub(crate) fn record(&self, job: &str) -> Result<Option<Record>, Failure> {
        ledger::read(&self.state, job).map_err(|source| self.unread(source))
    }
}

fn is_whole(result: JobResult) -> bool {
    matches!(result, JobResult::Verified | JobResult::Written)
}

fn head_of(drive: &Drive, bytes: &dyn ReadAt) -> Result<BlockDigest, Failure> {
    first_block(bytes).map_err(|error| {
        let text = format!("drive {} can't be read: {}", drive.tag, plain(&error));
        Failure::new(Exit::Drive, text, "plug it into another port; if it stays so, it fails")
    })
}

/// Recognises a drive by its tag in the records, or else by its first block among records and shelf.
pub(crate) fn recognise(drive: &Drive, bytes: &dyn ReadAt, common: &Common) -> Result<Recognised, Failure> {
    let Some(records) = Records::of(common)? else { return Ok(Recognised::Nothing) };
    let found = |row: JobRow, known| Recognised::Job { row: Box::new(row), known };
    if let Some(job) = records.brought_last(drive)? {
        return Ok(found(job, KnownBy::Tag));
    }
    let head = head_of(drive, bytes)?;
    if let Some(job) = records.beginning_with(head)? {
        return Ok(found(job, KnownBy::Head));
    }
    let Ok(shelf) = Shelf::open(&records.state) else { return Ok(Recognised::Nothing) };
    let begins_it = |path: &PathBuf| {
        let image = ImageFile::open(path).ok().filter(|image| image.size() > 0);
        image.and_then(|image| first_block(&image).ok()) == Some(head)
    };
    let shelved = shelf.items().iter().map(|item| shelf.path(item)).find(begins_it);
    Ok(shelved.map_or(Recognised::Nothing, |path| Recognised::Shelved { path }))
}
