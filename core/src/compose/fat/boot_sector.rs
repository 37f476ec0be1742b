//! The boot sector of a FAT volume, and what FAT32 keeps beside it.
//!
//! Source: Microsoft FAT Specification (2004), section 3 (boot sector), section 5 (FSInfo).

use crate::bytes::field::put;
use crate::compose::fat::folder::padded;
use crate::compose::fat::shape::{FatShape, FatVolume, FatWidth, TABLES};
use crate::compose::mbr::NO_SYSTEM;
use crate::volume::fat as on_disk;
use crate::volume::mbr::BOOT_SIGNATURE;

/// A fixed disk, section 3.1.
pub(super) const MEDIA: u8 = 0xF8;
/// Where FAT32 keeps what is free, and the copy of its boot sector.
pub(super) const INFO_AT: u32 = 1;
pub(super) const BACKUP_AT: u32 = 6;
/// Places of the boot sector that readers do not look at, section 3.
const SECTORS_PER_TRACK: usize = 24;
const HEADS: usize = 26;
const HIDDEN: usize = 28;
const MEDIA_AT: usize = 21;
const BACKUP_PLACE: usize = 50;
/// Drive number, a zero, signature 0x29, serial number, label, type: at 36, or 64 in FAT32.
const EXTENDED_16: usize = 36;
const EXTENDED_32: usize = 64;
/// FSInfo, section 5: how many clusters are free, and where the next may be.
const INFO_NEXT: usize = 492;
const INFO_END: usize = 508;
const INFO_END_MAGIC: u32 = 0xAA55_0000;

pub(super) fn boot_sector(volume: &FatVolume<'_>, shape: &FatShape) -> Vec<u8> {
    let sector = volume.sector_bytes;
    let mut boot = vec![0u8; usize::try_from(sector).unwrap_or(512)];
    let is_32 = shape.width == FatWidth::ThirtyTwo;
    let extended = if is_32 { EXTENDED_32 } else { EXTENDED_16 };
    let code = extended.saturating_add(26);
    // A jump over the fields to the code behind them.
    put(&mut boot, 0, &[0xEB, u8::try_from(code.saturating_sub(2)).unwrap_or_default(), 0x90]);
    put(&mut boot, 3, b"PYROTYP ");
    put(&mut boot, on_disk::BYTES_PER_SECTOR, &u16::try_from(sector).unwrap_or(512).to_le_bytes());
    put(&mut boot, on_disk::SECTORS_PER_CLUSTER, &[u8::try_from(shape.per_cluster).unwrap_or_default()]);
    put(&mut boot, on_disk::RESERVED_SECTORS, &u16::try_from(shape.reserved).unwrap_or_default().to_le_bytes());
    put(&mut boot, on_disk::TABLES, &[TABLES as u8]);
    let entries = shape.root.saturating_mul(sector).checked_div(on_disk::ENTRY as u32).unwrap_or_default();
    put(&mut boot, on_disk::ROOT_ENTRIES, &u16::try_from(entries).unwrap_or_default().to_le_bytes());
    let few = u16::try_from(shape.sectors).ok().filter(|_| !is_32);
    put(&mut boot, on_disk::SECTORS_16, &few.unwrap_or(0).to_le_bytes());
    put(&mut boot, on_disk::SECTORS_32, &if few.is_some() { 0 } else { shape.sectors }.to_le_bytes());
    put(&mut boot, MEDIA_AT, &[MEDIA]);
    put(&mut boot, SECTORS_PER_TRACK, &63u16.to_le_bytes());
    put(&mut boot, HEADS, &255u16.to_le_bytes());
    put(&mut boot, HIDDEN, &volume.hidden.to_le_bytes());
    if is_32 {
        put(&mut boot, on_disk::SECTORS_PER_TABLE_32, &shape.per_table.to_le_bytes());
        put(&mut boot, on_disk::ROOT_CLUSTER, &2u32.to_le_bytes());
        put(&mut boot, on_disk::INFO_SECTOR, &(INFO_AT as u16).to_le_bytes());
        put(&mut boot, BACKUP_PLACE, &(BACKUP_AT as u16).to_le_bytes());
    } else {
        put(
            &mut boot,
            on_disk::SECTORS_PER_TABLE_16,
            &u16::try_from(shape.per_table).unwrap_or_default().to_le_bytes(),
        );
    }
    put(&mut boot, extended, &[0x80, 0, 0x29]);
    put(&mut boot, extended.saturating_add(3), &volume.serial.to_le_bytes());
    let label = if volume.label.is_empty() { "NO NAME" } else { volume.label };
    put(&mut boot, if is_32 { on_disk::LABEL_32 } else { on_disk::LABEL_16 }, &padded(label));
    let kind: &[u8; 8] = match shape.width {
        FatWidth::Twelve => b"FAT12   ",
        FatWidth::Sixteen => b"FAT16   ",
        FatWidth::ThirtyTwo => b"FAT32   ",
    };
    put(&mut boot, extended.saturating_add(18), kind);
    put(&mut boot, code, &NO_SYSTEM);
    put(&mut boot, BOOT_SIGNATURE, &[0x55, 0xAA]);
    boot
}

/// What is free, and where the first free cluster is.
pub(super) fn info_sector(shape: &FatShape, sector: u32, next: u32) -> Vec<u8> {
    let mut info = vec![0u8; usize::try_from(sector).unwrap_or(512)];
    put(&mut info, 0, &on_disk::INFO_MAGIC.to_le_bytes());
    put(&mut info, on_disk::INFO_MAGIC_2_AT, &on_disk::INFO_MAGIC_2.to_le_bytes());
    put(&mut info, on_disk::INFO_FREE, &shape.clusters.saturating_add(2).saturating_sub(next).to_le_bytes());
    put(&mut info, INFO_NEXT, &next.to_le_bytes());
    put(&mut info, INFO_END, &INFO_END_MAGIC.to_le_bytes());
    info
}
