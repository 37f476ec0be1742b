//! The master boot record: does a BIOS find code to run, and which partitions are declared?
//!
//! Source: UEFI 2.10, §5.2.1 (legacy MBR) and §5.2.3 (protective MBR). Logical partitions are a chain of records, each with
//! a partition that counts from the record and a next one that counts from the start of the chain.
//! Promise: any bytes give an answer, never a panic; at most [`LOGICAL_MOST`] logical partitions are followed.

use std::collections::BTreeSet;
use std::io;

use serde::{Deserialize, Serialize};

use crate::bytes::field::{take, u32_le};
use crate::bytes::{ReadAt, read_block};
use crate::volume::bootcode::BootCode;

/// Size of the record, in bytes, whatever the drive's sector size.
pub const MBR_BYTES: usize = 512;
pub(crate) const DISK_SIGNATURE: usize = 440;
pub(crate) const FIRST_ENTRY: usize = 446;
pub(crate) const ENTRY_BYTES: usize = 16;
pub(crate) const BOOT_SIGNATURE: usize = 510;
const FIRST_LOGICAL: u32 = 5;
/// Most logical partitions that are read.
pub const LOGICAL_MOST: u32 = 64;

/// Partition type code; codes that nobody here knows are kept as they are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PartitionType(pub u8);

impl PartitionType {
    /// EFI system partition.
    pub const ESP: Self = Self(0xEF);
    /// FAT32, counted in blocks.
    pub const FAT32: Self = Self(0x0C);
    /// FAT16, counted in blocks.
    pub const FAT16: Self = Self(0x0E);
    /// A Linux file system.
    pub const LINUX: Self = Self(0x83);
    /// exFAT, or NTFS.
    pub const EXFAT: Self = Self(0x07);
    /// The entry that covers a GPT.
    pub const GPT_PROTECTIVE: Self = Self(0xEE);

    /// Whether it is an EFI system partition.
    pub fn is_esp(self) -> bool {
        self == Self::ESP
    }

    /// Whether logical partitions lie in it: extended, in cylinders, blocks, or as Linux has it.
    pub fn is_extended(self) -> bool {
        matches!(self.0, 0x05 | 0x0F | 0x85)
    }
}

/// An entry: one of the four, or a logical partition.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct MbrPartition {
    /// Counted from 1 as partitions are; logical ones from 5.
    pub number: u32,
    /// Marked as the one to start from.
    pub active: bool,
    /// Type code.
    pub kind: PartitionType,
    /// First byte in the image.
    pub start: u64,
    /// Length in bytes.
    pub bytes: u64,
}

/// A decoded master boot record.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mbr {
    /// What its code does.
    pub code: BootCode,
    /// Number that tells this disk from others.
    pub disk_signature: u32,
    /// The entries in use.
    pub entries: Vec<MbrPartition>,
}

/// Decodes a record with the signature 0x55 0xAA; `None` for anything else.
///
/// An entry counts as used when it has a length: hybrid images use type 0x00 for the whole volume.
pub fn parse(data: &[u8], sector_bytes: u32) -> Option<Mbr> {
    if take(data, BOOT_SIGNATURE)? != [0x55, 0xAA] {
        return None;
    }
    let mut entries = Vec::with_capacity(4);
    for number in 1..=4u32 {
        let at = FIRST_ENTRY.checked_add(ENTRY_BYTES.checked_mul(number.checked_sub(1)? as usize)?)?;
        let raw: [u8; ENTRY_BYTES] = take(data, at)?;
        let [status, _, _, _, kind, ..] = raw;
        if status & 0x7F != 0 {
            return None;
        }
        let (first, count) = (u32_le(&raw, 8)?, u32_le(&raw, 12)?);
        if count > 0 {
            entries.push(MbrPartition {
                number,
                active: status == 0x80,
                kind: PartitionType(kind),
                start: u64::from(first).checked_mul(u64::from(sector_bytes))?,
                bytes: u64::from(count).checked_mul(u64::from(sector_bytes))?,
            });
        }
    }
    Some(Mbr { code: BootCode::of_record(data), disk_signature: u32_le(data, DISK_SIGNATURE)?, entries })
}

/// Adds the logical partitions of the first extended one.
///
/// # Errors
/// When the image can't be read.
pub fn read_logical(image: &dyn ReadAt, mbr: &mut Mbr, sector_bytes: u32) -> io::Result<()> {
    let Some(chain) = mbr.entries.iter().find(|entry| entry.kind.is_extended()).map(|entry| entry.start) else {
        return Ok(());
    };
    let (mut at, mut seen) = (chain, BTreeSet::new());
    for number in FIRST_LOGICAL..FIRST_LOGICAL.saturating_add(LOGICAL_MOST) {
        if !seen.insert(at) {
            break;
        }
        let Some(raw) = read_block::<MBR_BYTES>(image, at)? else { break };
        let Some(record) = parse(raw.as_slice(), sector_bytes) else { break };
        let (next, own): (Vec<MbrPartition>, Vec<MbrPartition>) =
            record.entries.into_iter().partition(|entry| entry.kind.is_extended());
        let placed = own.first().and_then(|entry| Some((at.checked_add(entry.start)?, entry)));
        mbr.entries.extend(placed.map(|(start, entry)| MbrPartition { number, start, ..*entry }));
        match next.first().and_then(|entry| chain.checked_add(entry.start)) {
            Some(next) => at = next,
            None => break,
        }
    }
    Ok(())
}

impl Mbr {
    /// The first two entries that share bytes although neither lies in the other, as those of hybrid images do.
    pub fn overlapping(&self) -> Option<(u32, u32)> {
        let end = |entry: &MbrPartition| entry.start.saturating_add(entry.bytes);
        let holds = |outer: &MbrPartition, inner: &MbrPartition| outer.start <= inner.start && end(inner) <= end(outer);
        self.claims().find_map(|one| {
            let other = self.claims().find(|other| {
                let apart = end(one) <= other.start || end(other) <= one.start;
                one.number < other.number && !apart && !holds(one, other) && !holds(other, one)
            })?;
            Some((one.number, other.number))
        })
    }

    /// Whether an entry says that a GPT follows.
    pub fn is_protective(&self) -> bool {
        self.entries.iter().any(|entry| entry.kind == PartitionType::GPT_PROTECTIVE)
    }

    /// The entries that claim bytes. The one that covers a GPT claims none: it may cover a whole drive.
    pub fn claims(&self) -> impl Iterator<Item = &MbrPartition> {
        self.entries.iter().filter(|entry| entry.kind != PartitionType::GPT_PROTECTIVE)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A record with these entries: type, first sector, sectors.
    fn record(entries: &[(u8, u32, u32)]) -> Vec<u8> {
        let mut bytes = vec![0u8; MBR_BYTES];
        bytes[510..].copy_from_slice(&[0x55, 0xAA]);
        for (place, (kind, first, count)) in entries.iter().enumerate() {
            let at = FIRST_ENTRY + place * ENTRY_BYTES;
            bytes[at + 4] = *kind;
            bytes[at + 8..at + 12].copy_from_slice(&first.to_le_bytes());
            bytes[at + 12..at + 16].copy_from_slice(&count.to_le_bytes());
        }
        bytes
    }

    #[test]
    fn logical_partitions_are_followed_and_a_chain_that_bites_its_tail_ends() {
        let mut image = vec![0u8; 100 * 512];
        image[..512].copy_from_slice(&record(&[(0x0C, 1, 9), (0x05, 10, 80)]));
        image[10 * 512..11 * 512].copy_from_slice(&record(&[(0x83, 1, 9), (0x05, 20, 10)]));
        image[30 * 512..31 * 512].copy_from_slice(&record(&[(0x82, 2, 5), (0x05, 0, 20)])); // back to the first
        let mut mbr = parse(&image, 512).unwrap();
        read_logical(&image, &mut mbr, 512).unwrap();
        let told: Vec<_> = mbr.entries.iter().map(|e| (e.number, e.kind.0, e.start / 512, e.bytes / 512)).collect();
        assert_eq!(told, [(1, 0x0C, 1, 9), (2, 0x05, 10, 80), (5, 0x83, 11, 9), (6, 0x82, 32, 5)]);
        assert_eq!(mbr.overlapping(), None, "a logical partition lies in the extended one");
        assert_eq!(parse(&record(&[(0, 0, 100), (0xEF, 50, 10)]), 512).unwrap().overlapping(), None, "hybrid");
        assert_eq!(parse(&record(&[(0x83, 1, 50), (0x83, 40, 50)]), 512).unwrap().overlapping(), Some((1, 2)));
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_panic(mut bytes in proptest::collection::vec(any::<u8>(), 0..600)) {
            let _ = parse(&bytes, 512);
            if let Some(place) = bytes.get_mut(510..512) {
                place.copy_from_slice(&[0x55, 0xAA]);
                let _ = parse(&bytes, u32::MAX);
            }
        }

        #[test]
        fn an_entry_is_read_back_in_bytes(first: u32, count in 1u32.., sector in prop_oneof![Just(512u32), Just(4096)]) {
            let mut bytes = [0u8; MBR_BYTES];
            bytes[510..].copy_from_slice(&[0x55, 0xAA]);
            bytes[446] = 0x80; // active
            bytes[450] = 0xEF; // EFI system partition
            bytes[454..458].copy_from_slice(&first.to_le_bytes());
            bytes[458..462].copy_from_slice(&count.to_le_bytes());
            let mbr = parse(&bytes, sector).unwrap();
            prop_assert!(mbr.code == BootCode::Absent);
            let end = (u64::from(first) + u64::from(count)) * u64::from(sector);
            prop_assert_eq!(mbr.entries[0].start + mbr.entries[0].bytes, end);
            prop_assert_eq!(mbr.entries[0].kind, PartitionType::ESP);
        }
    }
}
