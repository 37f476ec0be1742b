//! What the two sides say to each other: of fixed kinds, small and bounded.

use std::io;

use serde::{Deserialize, Serialize};

use crate::devices::{After, PlatformError};
use crate::drive::{Drive, Openers, Tag, Use};

/// Longest question, in bytes.
pub(super) const QUESTION_BYTES_MOST: usize = 2 << 10;
/// Longest answer, in bytes.
pub(super) const ANSWER_BYTES_MOST: usize = 48 << 10;
/// Longest name of a drive, in bytes: `DISK_NAME_LEN`, linux/blkdev.h.
const NAME_BYTES_MOST: usize = 32;
/// Most programs that a question names as known to have the drive open, and the longest name of one, in bytes.
const PROGRAMS_MOST: usize = 8;
const PROGRAM_BYTES_MOST: usize = 128;

/// A drive as the kernel has it now: neither its name nor its size may be another's by the time it is opened.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Named {
    /// Its name below `/dev`.
    pub name: String,
    /// Its size, in bytes.
    pub bytes: u64,
    /// Its medium's sequence number.
    pub generation: Option<u64>,
}

impl Named {
    /// As this drive was when it was looked at.
    pub(super) fn of(drive: &Drive) -> Self {
        let name = drive.path.rsplit('/').next().unwrap_or_default();
        Self { name: name.to_owned(), bytes: drive.bytes, generation: drive.generation }
    }

    /// Whether `drive` is the one that is meant.
    pub(super) fn is(&self, drive: &Drive) -> bool {
        self.name.len() <= NAME_BYTES_MOST && *self == Self::of(drive)
    }
}

/// Through what a drive is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) enum Reading {
    /// Past the system's caches.
    Direct,
    /// Through them.
    Cached,
}

/// What the side without rights may ask for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) enum Question {
    /// What the running system needs each drive for.
    Uses,
    /// Which programs have a drive open.
    Openers(Named),
    /// A drive, to read it.
    Read(Named, Reading),
    /// A drive for this program alone, although these programs have it open.
    Claim(Named, Vec<String>),
    /// A claimed drive is given back; something is done with it before, or nothing.
    Release(u32, Option<After>),
}

impl Question {
    /// What `said` asks for; `None` where that is no question.
    pub(super) fn of(said: &[u8]) -> Option<Self> {
        let question = serde_json::from_slice(said).ok()?;
        let fits = match &question {
            Self::Claim(_, programs) => {
                programs.len() <= PROGRAMS_MOST && programs.iter().all(|name| name.len() <= PROGRAM_BYTES_MOST)
            }
            _ => true,
        };
        fits.then_some(question)
    }
}

/// What is answered. An open drive comes beside the words.
#[derive(Debug, Serialize, Deserialize)]
pub(super) enum Answer {
    /// Paths of the drives that something is needed for.
    Uses(Vec<(String, Vec<Use>)>),
    /// Which programs have a drive open.
    Openers(Openers),
    /// The drive comes with it.
    Opened,
    /// The drive comes with it, and by this number it is given back.
    Claimed(u32),
    /// It is given back.
    Released,
    /// It is not done.
    Refused(Refusal),
}

/// An error of the system: its number, or its words where it has none.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) enum Why {
    /// errno(3).
    Number(i32),
    /// In words.
    Words(String),
}

impl From<&io::Error> for Why {
    fn from(error: &io::Error) -> Self {
        error.raw_os_error().map_or_else(|| Self::Words(error.to_string()), Self::Number)
    }
}

impl From<Why> for io::Error {
    fn from(why: Why) -> Self {
        match why {
            Why::Number(number) => Self::from_raw_os_error(number),
            Why::Words(words) => Self::other(words),
        }
    }
}

/// Why something is not done.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) enum Refusal {
    /// The guard forbids it, for these reasons.
    Forbidden(String),
    /// The drive is not there any more, or is another.
    Gone,
    /// Others have it.
    Held(Vec<String>),
    /// A volume can't be unmounted: where, by whose use, why.
    Unmount(String, Vec<String>, Why),
    /// It can't be opened.
    Open(Why),
    /// Volumes were unmounted before it came to that.
    AfterUnmount(Vec<String>, Box<Refusal>),
    /// The new partition table was not read.
    Table(Why),
    /// It was not ejected.
    Eject(Why),
    /// The system does not say: what, why.
    Unreadable(String, Why),
}

impl From<&PlatformError> for Refusal {
    fn from(error: &PlatformError) -> Self {
        match error {
            PlatformError::Gone { .. } | PlatformError::Swapped { .. } => Self::Gone,
            PlatformError::Held { by, .. } => Self::Held(by.clone()),
            PlatformError::Unmount { at, by, source, .. } => Self::Unmount(at.clone(), by.clone(), source.into()),
            PlatformError::Open { source, .. } => Self::Open(source.into()),
            PlatformError::AfterUnmount { at, came_to } => {
                Self::AfterUnmount(at.clone(), Box::new((&**came_to).into()))
            }
            PlatformError::Table { source, .. } => Self::Table(source.into()),
            PlatformError::Eject { source, .. } => Self::Eject(source.into()),
            PlatformError::Unreadable { what, source } => Self::Unreadable(what.clone(), source.into()),
            other => Self::Open(Why::Words(other.to_string())),
        }
    }
}

impl Refusal {
    /// The same in the words of the seam, of the drive that was asked for.
    pub(super) fn of(self, tag: &Tag, path: &str) -> PlatformError {
        let (tag_of, path_of) = (|| tag.clone(), || path.to_owned());
        match self {
            Self::Forbidden(why) => PlatformError::Forbidden { tag: tag_of(), path: path_of(), why },
            Self::Gone => PlatformError::Gone { tag: tag_of() },
            Self::Held(by) => PlatformError::Held { tag: tag_of(), path: path_of(), by },
            Self::Unmount(at, by, why) => PlatformError::Unmount { tag: tag_of(), at, source: why.into(), by },
            Self::Open(why) => PlatformError::Open { tag: tag_of(), path: path_of(), source: why.into() },
            Self::AfterUnmount(at, came_to) => {
                PlatformError::AfterUnmount { at, came_to: Box::new(came_to.of(tag, path)) }
            }
            Self::Table(why) => PlatformError::Table { tag: tag_of(), source: why.into() },
            Self::Eject(why) => PlatformError::Eject { tag: tag_of(), source: why.into() },
            Self::Unreadable(what, why) => PlatformError::Unreadable { what, source: why.into() },
        }
    }
}
