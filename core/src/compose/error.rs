//! Why something can't be composed.

use crate::bytes::human_bytes;
use crate::compose::volume_kind::VolumeKind;

/// Why it can't be made.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ComposeError {
    /// The volume's kind has no such size.
    #[error("a volume of {} can't have {}", kind.word(), human_bytes(*bytes))]
    Size {
        /// Of which kind.
        kind: VolumeKind,
        /// Of how many bytes.
        bytes: u64,
    },
    /// The system has no program that makes it.
    #[error("{why}")]
    Missing {
        /// Which one.
        why: String,
    },
    /// The system's program did not make it.
    #[error("{why}")]
    Program {
        /// Why.
        why: String,
    },
    /// The table does not count so far.
    #[error("a master boot record does not reach to the end of {}", human_bytes(*bytes))]
    Table {
        /// Size of the drive.
        bytes: u64,
    },
    /// The tree does not fit.
    #[error("the files take {}, and the volume has room for {}", human_bytes(*bytes), human_bytes(*room))]
    Room {
        /// What its files and folders take, in bytes.
        bytes: u64,
        /// What there is room for, in bytes.
        room: u64,
    },
    /// A file is longer than the volume's kind counts.
    #[error("{path} has {}, and a file of {} has 4 GiB less one byte at most", human_bytes(*bytes), kind.word())]
    LargeFile {
        /// Which file.
        path: String,
        /// Its length, in bytes.
        bytes: u64,
        /// Of which kind the volume is.
        kind: VolumeKind,
    },
    /// A folder holds more than the volume's kind counts.
    #[error("the folder {path} holds more than a folder of {} can", kind.word())]
    FullFolder {
        /// Which folder; `/` is the volume's root.
        path: String,
        /// Of which kind the volume is.
        kind: VolumeKind,
    },
    /// Files are put into volumes that are made here only.
    #[error("files can't be put into a volume of {}", kind.word())]
    NoFiles {
        /// Of which kind the volume is.
        kind: VolumeKind,
    },
}
