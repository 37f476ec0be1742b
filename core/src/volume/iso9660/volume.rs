//! A volume as its descriptors tell of it.

use serde::{Deserialize, Serialize};

use crate::volume::udf;

/// Why a volume that calls itself ISO 9660 can't be one.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum VolumeFault {
    /// The same number is stored in two byte orders, and they disagree.
    #[error("{field} at offset {at} is {little} in one byte order and {big} in the other")]
    TwoAnswers {
        /// Which field.
        field: &'static str,
        /// Its offset in the descriptor.
        at: usize,
        /// Little-endian reading.
        little: u32,
        /// Big-endian reading.
        big: u32,
    },
    /// A block size that is not 512, 1024 or 2048.
    #[error("logical block size is {found} bytes, not 512, 1024 or 2048")]
    BlockSize {
        /// What the field holds.
        found: u16,
    },
}

/// Bytes that lie together.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Extent {
    /// First byte in the image.
    pub start: u64,
    /// Length in bytes.
    pub bytes: u64,
}

impl Extent {
    /// Whether byte `at` of the image is part of it.
    pub fn holds(&self, at: u64) -> bool {
        at.checked_sub(self.start).is_some_and(|inside| inside < self.bytes)
    }
}

/// The primary volume descriptor and what stands beside it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct IsoVolume {
    /// Volume identifier.
    pub label: Option<String>,
    /// Length that the volume declares, in bytes.
    pub declared_bytes: u64,
    /// The root folder.
    pub root: Extent,
    /// When the volume was made, as `2026-11-23 09:30`.
    pub created: Option<String>,
    /// First byte of the El Torito boot catalogue.
    pub boot_catalogue: Option<u64>,
    /// The UDF volume that lies beside it, which then holds the real files.
    pub udf: Option<udf::Udf>,
    /// Whether names and folders are those of the Joliet tree, because the other has short names only.
    pub is_joliet: bool,
    /// Size of its blocks, in bytes.
    pub block_bytes: u64,
}
