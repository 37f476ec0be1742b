//! All that the guard must know beside the drive, asked for in one place: complete, or an error.

use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;

use crate::devices::{Platform, PlatformError};
use crate::drive::{Choice, Drive, Role, Tag};
use crate::guard::{BenchPlace, Circumstances, Confirmed, findings};
use crate::job::gauge::is_restore_pending;
use crate::text::Shown;
use crate::{Level, ledger};

/// A drive that was verified within so many minutes may be one of the finished ones.
const LATELY_MINUTES: u64 = 30;

/// What a bench has of its own.
#[derive(Clone, Debug)]
pub struct Bench {
    /// Where its records and its shelf are; `None` where there is no such place.
    pub state: Option<PathBuf>,
    /// Tags of drives that must never be written.
    pub protected: Vec<Tag>,
    /// Files and folders of its own, whether they are there yet or not, and what they are.
    pub places: Vec<(PathBuf, BenchPlace)>,
}

/// What the guard must know could not be found out.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SurveyError {
    /// The system does not answer.
    #[error(transparent)]
    Platform(#[from] PlatformError),
    /// The records can't be looked at.
    #[error("can't look at the records below {}", state.shown())]
    Records {
        /// The bench's folder.
        state: PathBuf,
        /// Why.
        source: io::Error,
    },
}

impl SurveyError {
    /// What to do about it.
    pub fn next_step(&self) -> &'static str {
        match self {
            Self::Platform(error) => error.next_step(),
            Self::Records { .. } => "make it readable for yourself, or name another folder with --state",
        }
    }
}

/// What is to be done, as far as the guard asks.
#[derive(Clone, Copy, Debug)]
pub struct Intent<'a> {
    /// Where the image lies, if there is one and it is a file.
    pub image: Option<&'a Path>,
    /// The drives that were chosen; none asks about all of them.
    pub choices: &'a [Choice],
    /// Who says yes.
    pub confirmed: Confirmed,
}

impl Intent<'_> {
    /// Nothing yet, beside knowing what speaks against each drive.
    pub const NONE: Self = Self { image: None, choices: &[], confirmed: Confirmed::ByPerson };
}

/// Asks for everything that the guard must know.
///
/// # Errors
/// When anything of it can't be found out: what is not known is not nothing.
pub fn survey(
    platform: &dyn Platform,
    bench: &Bench,
    intent: &Intent<'_>,
    now: Timestamp,
) -> Result<Circumstances, SurveyError> {
    let Intent { image, choices, confirmed } = *intent;
    let attached = platform.drives()?;
    let records = |state: &PathBuf| {
        ledger::Drives::of(state).map_err(|source| SurveyError::Records { state: state.clone(), source })
    };
    let records = bench.state.as_ref().map(records).transpose()?.unwrap_or_default();
    let mut bench_on = Vec::new();
    for (place, what) in &bench.places {
        let on = platform.drives_holding(nearest(place))?;
        bench_on.extend(on.into_iter().map(|path| (path, *what)));
    }
    let mut opened = Vec::new();
    for Choice { drive, .. } in choices {
        let openers = platform.openers(drive)?;
        if !openers.programs.is_empty() || !openers.is_complete {
            opened.push((drive.path.clone(), openers));
        }
    }
    let ago = |drive: &Drive| records.verified_minutes_ago(drive, now).filter(|ago| *ago < LATELY_MINUTES);
    let begun =
        |drive: &Drive| records.last_on(drive).filter(|last| last.ended.is_none()).map(|last| last.image.clone());
    let is_pending = |drive: &&Drive| {
        drive.bytes > 0 && bench.state.as_ref().is_some_and(|state| is_restore_pending(state, drive, platform))
    };
    let mut circumstances = Circumstances {
        image_on: image.map_or(Ok(Vec::new()), |image| platform.drives_holding(image))?,
        bench_on,
        protected: bench.protected.clone(),
        verified: attached.iter().filter_map(|drive| Some((drive.tag.clone(), ago(drive)?))).collect(),
        unfinished: attached.iter().filter_map(|drive| Some((drive.tag.clone(), begun(drive)?))).collect(),
        restore_pending: attached.iter().filter(is_pending).map(|drive| drive.path.clone()).collect(),
        attached: attached.iter().map(|drive| (drive.tag.clone(), drive.path.clone())).collect(),
        others: Vec::new(),
        opened,
        confirmed,
    };
    if !choices.is_empty() {
        let is_chosen = |drive: &Drive| choices.iter().any(|choice| drive.is_still(&choice.drive));
        let is_other = |drive: &&Drive| !is_chosen(drive) && could_be_meant(drive, &circumstances);
        circumstances.others = attached.iter().filter(is_other).map(|drive| drive.tag.clone()).collect();
    }
    Ok(circumstances)
}

/// Whether a technician could mean this drive: a stick, or a card, that nothing speaks against.
fn could_be_meant(drive: &Drive, circumstances: &Circumstances) -> bool {
    let found = findings(drive, None, circumstances);
    matches!(drive.role(), Role::Stick | Role::Card) && found.iter().all(|finding| finding.level == Level::Note)
}

/// The place itself, or the nearest folder above it that is there: there it will be made.
fn nearest(place: &Path) -> &Path {
    let is_there = |place: &&Path| !place.as_os_str().is_empty() && place.symlink_metadata().is_ok();
    place.ancestors().find(is_there).unwrap_or(Path::new("."))
}
