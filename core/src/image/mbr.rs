//! The master boot record: does a BIOS find code to run, and which partitions are declared?
//!
//! Source: UEFI 2.10, §5.2.1 (legacy MBR) and §5.2.3 (protective MBR).
//! Promise: any 512 bytes give an answer, never a panic.

use super::field::{take, u32_le};

/// Size of the record, in bytes, whatever the drive's sector size.
pub const MBR_BYTES: usize = 512;
const BOOT_CODE_BYTES: usize = 440;
const DISK_SIGNATURE: usize = 440;
const FIRST_ENTRY: usize = 446;
const ENTRY_BYTES: usize = 16;
const BOOT_SIGNATURE: usize = 510;

/// Partition type code; codes that nobody here knows are kept as they are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PartitionType(pub u8);

impl PartitionType {
    /// EFI system partition.
    pub const ESP: Self = Self(0xEF);
    /// The entry that covers a GPT.
    pub const GPT_PROTECTIVE: Self = Self(0xEE);
}

/// One of the four entries.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Place in the table, counted from 1 as partitions are.
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
    /// Whether the first 440 bytes hold anything that a BIOS could run.
    pub boot_code: bool,
    /// Number that tells this disk from others.
    pub disk_signature: u32,
    /// The entries in use.
    pub entries: Vec<Entry>,
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
            entries.push(Entry {
                number,
                active: status == 0x80,
                kind: PartitionType(kind),
                start: u64::from(first).checked_mul(u64::from(sector_bytes))?,
                bytes: u64::from(count).checked_mul(u64::from(sector_bytes))?,
            });
        }
    }
    Some(Mbr {
        boot_code: data.get(..BOOT_CODE_BYTES)?.iter().any(|byte| *byte != 0),
        disk_signature: u32_le(data, DISK_SIGNATURE)?,
        entries,
    })
}

impl Mbr {
    /// Whether an entry says that a GPT follows.
    pub fn is_protective(&self) -> bool {
        self.entries.iter().any(|entry| entry.kind == PartitionType::GPT_PROTECTIVE)
    }

    /// The furthest byte that an entry claims. The entry that covers a GPT claims nothing: it may cover a whole drive.
    pub fn declared_end(&self) -> Option<u64> {
        let real = self.entries.iter().filter(|entry| entry.kind != PartitionType::GPT_PROTECTIVE);
        real.filter_map(|entry| entry.start.checked_add(entry.bytes)).max()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

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
            prop_assert!(!mbr.boot_code);
            let end = (u64::from(first) + u64::from(count)) * u64::from(sector);
            prop_assert_eq!(mbr.declared_end(), Some(end));
            prop_assert_eq!(mbr.entries[0].kind, PartitionType::ESP);
        }
    }
}
