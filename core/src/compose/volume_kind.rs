//! Kinds of volumes that can be made.

use serde::{Deserialize, Serialize};

/// A kind of volume.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum VolumeKind {
    /// FAT32, or FAT16 and FAT12 where there is too little room for it.
    Fat32,
    /// exFAT.
    Exfat,
    /// ext4, for Linux alone.
    Ext4,
}

/// Up to this size, FAT32 is what every system and device reads; above it, exFAT.
const FAT32_MOST: u64 = 32_000_000_000;

impl VolumeKind {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Fat32, Self::Exfat, Self::Ext4];

    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Fat32 => "fat32",
            Self::Exfat => "exfat",
            Self::Ext4 => "ext4",
        }
    }

    /// The one that suits a drive of so many bytes.
    pub fn for_size(bytes: u64) -> Self {
        // A stick that is sold as 32 GB has up to a tenth more.
        if bytes <= FAT32_MOST.saturating_add(FAT32_MOST / 10) { Self::Fat32 } else { Self::Exfat }
    }
}
