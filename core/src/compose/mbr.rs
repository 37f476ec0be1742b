//! A master boot record with one partition.

use crate::bytes::field::put;
use crate::volume::mbr::{BOOT_SIGNATURE, DISK_SIGNATURE, FIRST_ENTRY, MBR_BYTES, PartitionType};

/// Asks the BIOS for the next way to start, and stops: INT 18h, HLT, and round again.
pub(super) const NO_SYSTEM: [u8; 5] = [0xCD, 0x18, 0xF4, 0xEB, 0xFD];
/// A place that cylinders, heads and sectors can't tell (UEFI 2.10, section 5.2.1, table 5.1).
const BEYOND_CYLINDERS: [u8; 3] = [0xFE, 0xFF, 0xFF];

/// Where the entry begins that covers a GPT (UEFI 2.10, section 5.2.3, table 5.4).
const BEHIND_RECORD: [u8; 3] = [0x00, 0x02, 0x00];

/// One entry; places count in blocks of the drive.
pub(super) fn mbr_entry(kind: PartitionType, first: u32, blocks: u32) -> Vec<u8> {
    // Status, first place, type, last place, first block, count.
    let begins = if kind == PartitionType::GPT_PROTECTIVE { BEHIND_RECORD } else { BEYOND_CYLINDERS };
    [&[0u8], &begins[..], &[kind.0], &BEYOND_CYLINDERS, &first.to_le_bytes(), &blocks.to_le_bytes()].concat()
}

/// The record; places count in blocks of the drive.
pub(super) fn mbr(kind: PartitionType, first: u32, blocks: u32, signature: u32) -> Vec<u8> {
    let mut record = vec![0u8; MBR_BYTES];
    put(&mut record, 0, &NO_SYSTEM);
    put(&mut record, DISK_SIGNATURE, &signature.to_le_bytes());
    put(&mut record, FIRST_ENTRY, &mbr_entry(kind, first, blocks));
    put(&mut record, BOOT_SIGNATURE, &[0x55, 0xAA]);
    record
}
