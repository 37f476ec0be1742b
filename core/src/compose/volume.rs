//! One volume of any kind, and what a table of partitions says of it.

use crate::bytes::MIB;
use crate::compose::composition::Composition;
use crate::compose::error::ComposeError;
use crate::compose::exfat::{ExfatVolume, exfat};
use crate::compose::ext4::{ExtVolume, ext4};
use crate::compose::fat::{FatVolume, fat};
use crate::compose::tree::Tree;
use crate::compose::volume_kind::VolumeKind;
use crate::volume::gpt::{LINUX_TYPE, STORAGE_TYPE};
use crate::volume::mbr::PartitionType;

/// Below this a FAT volume is no FAT32.
const FAT32_LEAST: u64 = 512 * MIB;

/// What volume, and where.
pub(super) struct WantedVolume<'a> {
    pub kind: VolumeKind,
    /// Where it begins on its drive, in bytes.
    pub start: u64,
    /// Its length, in bytes.
    pub bytes: u64,
    /// The drive's smallest unit, in bytes.
    pub sector: u64,
    /// As [`VolumeKind::label`] gives it; empty for none.
    pub label: &'a str,
    /// Tells it from others.
    pub serial: u32,
}

impl WantedVolume<'_> {
    /// The volume, with the files of `tree`.
    pub(super) fn made<'a>(&self, tree: &Tree<'a>) -> Result<Composition<'a>, ComposeError> {
        let Self { kind, start, bytes, sector, label, serial } = *self;
        let hidden = start.checked_div(sector).unwrap_or_default();
        let sector_bytes = sector as u32;
        match kind {
            VolumeKind::Fat32 => {
                let hidden = u32::try_from(hidden).map_err(|_| ComposeError::Table { bytes: start })?;
                fat(&FatVolume { bytes, sector_bytes, hidden, label, serial }, tree)
            }
            VolumeKind::Exfat => exfat(&ExfatVolume { bytes, sector_bytes, hidden, label, serial }, tree),
            VolumeKind::Ext4 => ext4(&ExtVolume { bytes, label, serial }, tree),
        }
    }

    /// Its type in a master boot record.
    pub(super) fn mbr_type(&self) -> PartitionType {
        match self.kind {
            VolumeKind::Fat32 if self.bytes < FAT32_LEAST => PartitionType::FAT16,
            VolumeKind::Fat32 => PartitionType::FAT32,
            VolumeKind::Exfat => PartitionType::EXFAT,
            VolumeKind::Ext4 => PartitionType::LINUX,
        }
    }

    /// Its type in a GUID partition table, as it lies on disk.
    pub(super) fn gpt_type(&self) -> [u8; 16] {
        if self.kind == VolumeKind::Ext4 { LINUX_TYPE } else { STORAGE_TYPE }
    }
}
