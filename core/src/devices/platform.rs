//! The seam: what Pyrotyp may ask of an operating system about drives. Everything above sees only this.

use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::not_served::NotServed;
use crate::drive::{Drive, Openers, Tag};
use crate::guard::Cleared;
use crate::text::Shown;
use crate::text::foreign::all_shown;

/// What a name that a person typed stands for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Located {
    /// A whole drive.
    Drive {
        /// Its [`Drive::path`].
        path: String,
        /// Whether the name stays with this drive; kernel names do not.
        stable: bool,
    },
    /// A partition of a drive.
    Partition {
        /// [`Drive::path`] of the drive it belongs to.
        path: String,
        /// Its number.
        number: u32,
    },
}

/// How this process comes to have a drive opened.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Opening {
    /// By its own rights, or by those that are kept for it.
    Own,
    /// The system's disk service opens it, and asks these first.
    Service(Whom),
}

impl Opening {
    /// Whom the system asks, where it opens the drive.
    pub fn whom(self) -> Option<Whom> {
        match self {
            Self::Own => None,
            Self::Service(whom) => Some(whom),
        }
    }
}

/// Who says a password before a drive is opened.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub enum Whom {
    /// No password is asked for.
    Nobody,
    /// Whoever runs this program.
    Person,
    /// An administrator of this system.
    Administrator,
}

/// An operating system, or a tray that behaves like one.
pub trait Platform: Sync {
    /// Whole drives attached now, never partitions, in a stable order.
    ///
    /// # Errors
    /// When the system does not answer.
    fn drives(&self) -> Result<Vec<Drive>, PlatformError>;

    /// Like [`Platform::drives`], but does not read the drives at these paths: a drive that is being written answers late.
    ///
    /// # Errors
    /// As [`Platform::drives`].
    fn drives_without_reading(&self, _paths: &[&str]) -> Result<Vec<Drive>, PlatformError> {
        self.drives()
    }

    /// What `name`, a path or kernel name, stands for; `None` if nothing here has that name.
    ///
    /// # Errors
    /// When the system does not answer.
    fn locate(&self, name: &str) -> Result<Option<Located>, PlatformError>;

    /// [`Drive::path`] of every drive that holds a part of `file`.
    ///
    /// # Errors
    /// When the file is not there or the system does not answer.
    fn drives_holding(&self, file: &Path) -> Result<Vec<String>, PlatformError>;

    /// The programs that have the drive or a part of it open, beside the file systems mounted from it.
    ///
    /// # Errors
    /// When the system does not answer.
    fn openers(&self, drive: &Drive) -> Result<Openers, PlatformError>;

    /// How this process may claim the drive, before anything is asked or computed; nobody is asked for a password by this.
    ///
    /// # Errors
    /// [`PlatformError::NoPermission`] or [`PlatformError::NotServed`] when it may not.
    fn may_claim(&self, drive: &Drive) -> Result<Opening, PlatformError>;

    /// Opens a drive for reading past every cache.
    ///
    /// # Errors
    /// When it is gone or may not be read.
    fn open(&self, drive: &Drive) -> Result<Box<dyn DriveIo>, PlatformError>;

    /// Opens a drive as a file for reading, through the system's caches, to be handed to another program.
    ///
    /// # Errors
    /// When it is gone or may not be read.
    fn open_shared(&self, drive: &Drive) -> Result<File, PlatformError>;

    /// Opens the cleared drive for this process alone: unmounts what the desktop mounted, locks it, and makes sure
    /// through the open handle that it is still the drive that was cleared.
    ///
    /// # Errors
    /// When somebody else holds it, it is another drive by now, or it may not be written.
    fn claim(&self, cleared: Cleared) -> Result<Box<dyn Claimed>, PlatformError>;
}

/// A drive that is open. Places and lengths are whole sectors, memory is an [`crate::devices::AlignedBuf`].
pub trait DriveIo: Send + Sync {
    /// Size in bytes.
    fn bytes(&self) -> u64;

    /// Smallest unit, in bytes.
    fn sector_bytes(&self) -> u32;

    /// Fills `into` from byte `at` on, past every cache of the system.
    ///
    /// # Errors
    /// When the drive is gone or could not read all of it.
    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault>;
}

/// A drive that can be written.
pub trait DriveWrite: DriveIo {
    /// Writes all of `from` at byte `at`.
    ///
    /// # Errors
    /// When the drive is gone or did not take all of it.
    fn write_at(&self, at: u64, from: &[u8]) -> Result<(), DriveFault>;

    /// Whether the medium is still the one that was claimed, as far as the system tells; where media can't be exchanged, it is.
    ///
    /// # Errors
    /// [`DriveFault::Gone`] when it is another one.
    fn check_medium(&self) -> Result<(), DriveFault> {
        Ok(())
    }

    /// Returns when all that was written is on the medium, as far as the drive tells.
    ///
    /// # Errors
    /// When the drive is gone or says that it failed.
    fn flush(&self) -> Result<(), DriveFault>;
}

/// A drive that this process alone may write, until it is released or dropped.
pub trait Claimed: DriveWrite {
    /// Has the system read the new partition table, ejects if asked, and gives the drive back.
    ///
    /// # Errors
    /// When the drive can't be ejected; it is given back all the same.
    fn release(self: Box<Self>, after: After) -> Result<(), PlatformError>;
}

/// What becomes of a drive after the job.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum After {
    /// It stays attached.
    Keep,
    /// It is ejected, so that it can be pulled out.
    Eject,
}

/// Why a drive that was open did not do what it was asked.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum DriveFault {
    /// It is not attached any more.
    #[error("the drive is gone")]
    Gone,
    /// It failed.
    #[error(transparent)]
    Failed(#[from] io::Error),
}

/// Why the system did not do what it was asked about drives.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PlatformError {
    /// This system has no way to answer.
    #[error("can't read {what}")]
    Unreadable {
        /// What was to be read.
        what: String,
        /// Why it could not.
        source: io::Error,
    },
    /// The tray's descriptor is wrong.
    #[error("the tray descriptor {} is wrong: {}", path.shown(), reason.shown())]
    Tray {
        /// Which file.
        path: PathBuf,
        /// What is wrong with it.
        reason: String,
    },
    /// The drive is not attached any more.
    #[error("drive {tag} is not attached any more")]
    Gone {
        /// Which one.
        tag: Tag,
    },
    /// Another drive, or another medium, is where this one was.
    #[error("{path} is not drive {tag} any more: now it is {found}")]
    Swapped {
        /// Which one was cleared.
        tag: Tag,
        /// Where it was.
        path: String,
        /// What is there now.
        found: String,
    },
    /// Not allowed to this user.
    #[error("no permission to {what} drive {tag} ({path})")]
    NoPermission {
        /// `write to` or `read`.
        what: &'static str,
        /// Which one.
        tag: Tag,
        /// Where it is.
        path: String,
    },
    /// Not allowed to this user, and the system's disk service does not do it either.
    #[error("no permission to {what} drive {tag} ({path}): {source}")]
    NotServed {
        /// `write to`, `read` or `unmount`.
        what: &'static str,
        /// Which one.
        tag: Tag,
        /// Where it is.
        path: String,
        /// Why.
        source: NotServed,
    },
    /// Whoever keeps the rights does not open it, whatever is said here.
    #[error("drive {tag} ({path}) is not opened: {}", why.shown())]
    Forbidden {
        /// Which one.
        tag: Tag,
        /// Where it is.
        path: String,
        /// Why.
        why: String,
    },
    /// Somebody else has it open exclusively or locked.
    #[error("drive {tag} ({path}) is held by {}", users(by))]
    Held {
        /// Which one.
        tag: Tag,
        /// Where it is.
        path: String,
        /// Names of the processes that have it open, as far as they may be seen.
        by: Vec<String>,
    },
    /// A volume on it can't be unmounted.
    #[error("the volume at {} on drive {tag} is used by {}, and can't be unmounted", at.shown(), users(by))]
    Unmount {
        /// Which drive.
        tag: Tag,
        /// Where the volume is mounted.
        at: String,
        /// Why.
        source: io::Error,
        /// Names of the processes that use it, as far as they may be seen.
        by: Vec<String>,
    },
    /// The drive refuses to be opened for another reason.
    #[error("drive {tag} ({path}) can't be opened")]
    Open {
        /// Which one.
        tag: Tag,
        /// Where it is.
        path: String,
        /// Why.
        source: io::Error,
    },
    /// The volumes on it were unmounted before it came to that.
    #[error("{}; until then, {} was unmounted", crate::text::chain(&**came_to), all_shown(at))]
    AfterUnmount {
        /// Where they had been mounted.
        at: Vec<String>,
        /// What it came to.
        came_to: Box<PlatformError>,
    },
    /// The system has not read the new partition table.
    #[error("the system goes on with the old partition table of drive {tag}")]
    Table {
        /// Which one.
        tag: Tag,
        /// Why.
        source: io::Error,
    },
    /// The drive could not be ejected.
    #[error("drive {tag} can't be ejected")]
    Eject {
        /// Which one.
        tag: Tag,
        /// Why.
        source: io::Error,
    },
}

fn users(by: &[String]) -> String {
    if by.is_empty() { "another program".to_owned() } else { all_shown(by) }
}

impl PlatformError {
    /// What to do about it.
    pub fn next_step(&self) -> &'static str {
        match self {
            Self::Unreadable { .. } => "check that it is there and may be read, then run the same command again",
            Self::Tray { .. } => "correct the descriptor, then run the same command again",
            Self::Gone { .. } => "plug it in again; `pyrotyp drives` shows what is attached",
            Self::Swapped { .. } => "look at `pyrotyp drives` again before you choose",
            Self::Forbidden { .. } => "choose another; no option opens the way to this one",
            Self::NotServed { source, .. } => source.next_step(),
            Self::NoPermission { .. } => "run the same command with sudo",
            Self::Held { .. } => "close the program that uses the drive, then run the same command again",
            Self::Unmount { .. } => "close what uses the volume, then run the same command again",
            Self::Open { .. } => "plug the drive into another port, then run the same command again",
            Self::AfterUnmount { came_to, .. } => came_to.next_step(),
            Self::Table { .. } => "it is written all the same; pull it out and plug it in again to see what is on it",
            Self::Eject { .. } => "it is written all the same; pull it out when its light is still",
        }
    }
}
