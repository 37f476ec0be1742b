//! Why there is no room behind an image.

use std::io;

use crate::bytes::human_bytes;
use crate::compose::error::ComposeError;

/// Why there is no spare partition.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SpareFault {
    /// The image has no table.
    #[error("the image has no partition table, and so no place to enter a further partition")]
    NoTable,
    /// Its table can't be renewed.
    #[error("the image's GUID partition table is damaged: {why}")]
    Damaged {
        /// What is wrong with it.
        why: String,
    },
    /// Its table has no free entry.
    #[error("the image's {table} has no free entry for a further partition")]
    Full {
        /// Which table.
        table: &'static str,
    },
    /// It is laid out for other drives.
    #[error("the image's partition table counts in sectors of {table} bytes, and the drive has sectors of {drive}")]
    Sectors {
        /// In which sectors it counts, in bytes.
        table: u32,
        /// Those of the drive, in bytes.
        drive: u32,
    },
    /// There is too little room.
    #[error("{} are wanted behind the image, and there are {}", human_bytes(*wanted), human_bytes(*there))]
    Room {
        /// So many bytes are wanted.
        wanted: u64,
        /// So many there are.
        there: u64,
    },
    /// Two are to take what is left.
    #[error("only one partition can take what is left")]
    Open,
    /// What is to be kept lies where the image goes.
    #[error("the image reaches to {}, and the partition \"{label}\" begins at {}", human_bytes(*image), human_bytes(*start))]
    Reached {
        /// What the partition is called.
        label: String,
        /// How far the image reaches, in bytes.
        image: u64,
        /// Where the partition begins, in bytes.
        start: u64,
    },
    /// What is to be kept lies where no spare partition is put.
    #[error("the partition \"{label}\" does not lie where it was made")]
    Elsewhere {
        /// What the partition is called.
        label: String,
    },
    /// A volume can't be made.
    #[error(transparent)]
    Compose(#[from] ComposeError),
    /// The image can't be read.
    #[error("the image can't be read")]
    Unread(#[from] io::Error),
}
