//! The GUID partition table: which partitions are declared, and are both copies sound?
//!
//! Source: UEFI 2.10, §5.3.2 (header) and §5.3.3 (entries).
//! Promise: any bytes give an answer, never a panic, in memory bounded by [`ENTRIES_KEPT`] and one chunk.

use std::io;

use serde::{Deserialize, Serialize};

use crate::bytes::field::{take, u32_le, u64_le};
use crate::bytes::{ReadAt, read_block};

//                                     offset   type
pub(crate) const SIGNATURE: [u8; 8] = *b"EFI PART"; //  0
pub(crate) const REVISION: usize = 8; //                u32
pub(crate) const HEADER_SIZE: usize = 12; //            u32, bytes
pub(crate) const HEADER_CRC: usize = 16; //             u32, CRC-32 over the header with this field zero
pub(crate) const MY_LBA: usize = 24; //                 u64
pub(crate) const ALTERNATE_LBA: usize = 32; //          u64
pub(crate) const FIRST_USABLE: usize = 40; //           u64
pub(crate) const LAST_USABLE: usize = 48; //            u64
pub(crate) const DISK_GUID: usize = 56; //              16 bytes
pub(crate) const ENTRY_LBA: usize = 72; //              u64
pub(crate) const ENTRY_COUNT: usize = 80; //            u32
pub(crate) const ENTRY_SIZE: usize = 84; //             u32, bytes
pub(crate) const ENTRY_CRC: usize = 88; //              u32, CRC-32 over the whole entry array

/// Version 1.0 of the header.
pub(crate) const REVISION_1_0: u32 = 0x0001_0000;

//                                     offset in an entry; its type's GUID lies at 0
pub(crate) const ENTRY_GUID: usize = 16; //             16 bytes
pub(crate) const ENTRY_FIRST: usize = 32; //            u64, block
pub(crate) const ENTRY_LAST: usize = 40; //             u64, block
pub(crate) const ENTRY_NAME: usize = 56; //             UTF-16
/// How many units of UTF-16 a name has at most.
pub(crate) const NAME_UNITS: usize = 36;

/// Smallest header that §5.3.2 allows, in bytes.
pub(crate) const HEADER_MIN: usize = 92;
/// Largest header read here, in bytes: one sector of the smaller size.
const HEADER_MAX: usize = 512;
/// Largest entry array read here, in bytes; tables in use have 16 KiB.
const ARRAY_MAX: u64 = 1 << 20;
/// Most entries kept.
pub const ENTRIES_KEPT: usize = 128;
const CHUNK: usize = 4096;

/// Plain storage, EBD0A0A2-B9E5-4433-87C0-68B6B72699C7, as the type lies on disk: what FAT and exFAT volumes have on every system.
pub(crate) const STORAGE_TYPE: [u8; 16] =
    [0xA2, 0xA0, 0xD0, 0xEB, 0xE5, 0xB9, 0x33, 0x44, 0x87, 0xC0, 0x68, 0xB6, 0xB7, 0x26, 0x99, 0xC7];
/// A Linux file system, 0FC63DAF-8483-4772-8E79-3D69D8477DE4 (UAPI Group, Discoverable Partitions Specification), as it lies on disk.
pub(crate) const LINUX_TYPE: [u8; 16] =
    [0xAF, 0x3D, 0xC6, 0x0F, 0x83, 0x84, 0x72, 0x47, 0x8E, 0x79, 0x3D, 0x69, 0xD8, 0x47, 0x7D, 0xE4];
/// EFI system partition, as the type lies on disk (§5.3.3, table 5.7).
const ESP_TYPE: [u8; 16] =
    [0x28, 0x73, 0x2A, 0xC1, 0x1F, 0xF8, 0xD2, 0x11, 0xBA, 0x4B, 0x00, 0xA0, 0xC9, 0x3E, 0xC9, 0x3B];

/// Why a copy of the table can't be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum GptFault {
    /// No signature where the header should be.
    #[error("no header at byte {at}")]
    Missing {
        /// Where it was looked for.
        at: u64,
    },
    /// The place of the header is behind the end of the file.
    #[error("the header belongs at byte {at}, behind the end of the file")]
    BehindEnd {
        /// Where it belongs.
        at: u64,
    },
    /// A field holds what the standard forbids.
    #[error("the header at byte {at} holds {found} as {field}")]
    Field {
        /// Where the header is.
        at: u64,
        /// Which field.
        field: &'static str,
        /// What it holds.
        found: u64,
    },
    /// A checksum does not match.
    #[error("the CRC of its {what} is {found:08x} where {expected:08x} is declared, in the header at byte {at}")]
    Crc {
        /// Where the header is.
        at: u64,
        /// `fields` or `entries`.
        what: &'static str,
        /// The CRC of the bytes.
        found: u32,
        /// The CRC that the header declares.
        expected: u32,
    },
}

/// A header that passed all its checks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Header {
    /// Where this copy lies, in bytes.
    pub at: u64,
    /// Where the other copy lies, in bytes.
    pub other_at: u64,
}

/// A partition entry in use.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct GptPartition {
    /// Place in the table, counted from 1 as partitions are.
    pub number: u32,
    /// Whether its type is that of an EFI system partition.
    pub is_esp: bool,
    /// Whether it is marked as the one that a BIOS starts.
    pub is_for_bios: bool,
    /// First byte in the image.
    pub start: u64,
    /// Length in bytes.
    pub bytes: u64,
    /// Name, if it has one.
    pub name: Option<String>,
}

/// Both copies of a table, and the entries of the first that is sound.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Gpt {
    /// Sector size for which it is laid out, in bytes.
    pub sector_bytes: u32,
    /// The copy at the start.
    pub primary: Result<Header, GptFault>,
    /// The copy at the end.
    pub backup: Result<Header, GptFault>,
    /// Entries in use, [`ENTRIES_KEPT`] at most.
    pub entries: Vec<GptPartition>,
}

impl Gpt {
    /// The furthest byte that the table claims: the end of a partition or of the backup header.
    pub fn declared_end(&self) -> Option<u64> {
        let sound = [&self.primary, &self.backup].into_iter().flatten();
        let headers =
            sound.filter_map(|header| header.at.max(header.other_at).checked_add(u64::from(self.sector_bytes)));
        let entries = self.entries.iter().filter_map(|entry| entry.start.checked_add(entry.bytes));
        entries.chain(headers).max()
    }
}

/// The copy at the start as it lies there, for whoever renews it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct RawTable {
    /// As many bytes as it says that it has.
    pub header: Vec<u8>,
    /// Where its entries lie, in bytes.
    pub entries_at: u64,
    /// Length of one of them, in bytes.
    pub entry_bytes: usize,
    /// All of them.
    pub entries: Vec<u8>,
}

/// The copy at the start of a table that is laid out for sectors of this size.
///
/// # Errors
/// When the image can't be read.
pub(crate) fn raw(image: &dyn ReadAt, sector_bytes: u32) -> io::Result<Result<RawTable, GptFault>> {
    let at = u64::from(sector_bytes);
    // On a drive, zeros lie behind an image.
    let mut raw = [0u8; HEADER_MAX];
    image.fill_at(at, &mut raw)?;
    let array = match header(&raw, at, at) {
        Ok((_, array)) => array,
        Err(fault) => return Ok(Err(fault)),
    };
    let mut entries = vec![0; usize::try_from(array.bytes).unwrap_or_default()];
    if image.fill_at(array.start, &mut entries)? < entries.len() {
        return Ok(Err(GptFault::Field {
            at,
            field: "the entries' sector, and they end behind the file",
            found: array.start,
        }));
    }
    let found = crc32fast::hash(&entries);
    if found != array.crc {
        return Ok(Err(GptFault::Crc { at, what: "entries", found, expected: array.crc }));
    }
    let size = u32_le(&raw, HEADER_SIZE).and_then(|size| usize::try_from(size).ok()).unwrap_or_default();
    let header = raw.get(..size).unwrap_or_default().to_vec();
    Ok(Ok(RawTable { header, entries_at: array.start, entry_bytes: array.entry_bytes, entries }))
}

/// Reads both copies, for either sector size; `None` if there is no sign of a table.
///
/// # Errors
/// When the image can't be read.
pub fn read(image: &dyn ReadAt) -> io::Result<Option<Gpt>> {
    for sector_bytes in [512, 4096] {
        if let Some(gpt) = read_laid_out_for(image, sector_bytes)? {
            return Ok(Some(gpt));
        }
    }
    Ok(None)
}

fn read_laid_out_for(image: &dyn ReadAt, sector_bytes: u32) -> io::Result<Option<Gpt>> {
    let sector = u64::from(sector_bytes);
    let primary = copy(image, sector, sector)?;
    let last = image.size().checked_sub(sector).map(|at| at.saturating_sub(at.checked_rem(sector).unwrap_or_default()));
    let backup_at = match (&primary, last) {
        (Ok((header, _)), _) => header.other_at,
        (Err(_), Some(last)) => last,
        (Err(_), None) => return Ok(None),
    };
    let backup = copy(image, backup_at, sector)?;
    let absent =
        |copy: &Result<_, GptFault>| matches!(copy, Err(GptFault::Missing { .. } | GptFault::BehindEnd { .. }));
    if absent(&primary) && absent(&backup) {
        return Ok(None);
    }
    let sound = primary.as_ref().or(backup.as_ref()).map(|(_, entries)| entries.clone());
    Ok(Some(Gpt {
        sector_bytes,
        entries: sound.unwrap_or_default(),
        primary: primary.map(|(header, _)| header),
        backup: backup.map(|(header, _)| header),
    }))
}

type Copy = Result<(Header, Vec<GptPartition>), GptFault>;

fn copy(image: &dyn ReadAt, at: u64, sector: u64) -> io::Result<Copy> {
    let Some(raw) = read_block::<HEADER_MAX>(image, at)? else {
        return Ok(Err(GptFault::BehindEnd { at }));
    };
    let (header, array) = match header(raw.as_slice(), at, sector) {
        Ok(parts) => parts,
        Err(fault) => return Ok(Err(fault)),
    };
    let mut entries = Vec::new();
    let found = array.read(image, sector, &mut entries)?;
    if found != array.crc {
        return Ok(Err(GptFault::Crc { at, what: "entries", found, expected: array.crc }));
    }
    Ok(Ok((header, entries)))
}

fn header(raw: &[u8], at: u64, sector: u64) -> Result<(Header, Array), GptFault> {
    let short = GptFault::Missing { at };
    if take(raw, 0) != Some(SIGNATURE) {
        return Err(short);
    }
    let number = |place| u32_le(raw, place).ok_or_else(|| short.clone());
    let place = |place| u64_le(raw, place).ok_or_else(|| short.clone());
    let wrong = |field, found| GptFault::Field { at, field, found };

    let size = number(HEADER_SIZE)?;
    let covered = usize::try_from(size).ok().filter(|size| *size >= HEADER_MIN);
    let Some(covered) = covered.and_then(|size| raw.get(..size)) else {
        return Err(wrong("its own size", u64::from(size)));
    };
    let mut hasher = crc32fast::Hasher::new();
    hasher.update(covered.get(..HEADER_CRC).unwrap_or_default());
    hasher.update(&[0; 4]);
    hasher.update(covered.get(HEADER_CRC.saturating_add(4)..).unwrap_or_default());
    let (found, expected) = (hasher.finalize(), number(HEADER_CRC)?);
    if found != expected {
        return Err(GptFault::Crc { at, what: "fields", found, expected });
    }
    let my_lba = place(MY_LBA)?;
    if my_lba.checked_mul(sector) != Some(at) {
        return Err(wrong("its own sector", my_lba));
    }
    let alternate = place(ALTERNATE_LBA)?;
    let other_at = alternate.checked_mul(sector).ok_or_else(|| wrong("the other copy's sector", alternate))?;
    let entry_bytes = number(ENTRY_SIZE)?;
    if entry_bytes < 128 || !entry_bytes.is_power_of_two() {
        return Err(wrong("size of an entry", u64::from(entry_bytes)));
    }
    let count = number(ENTRY_COUNT)?;
    let bytes = u64::from(count).saturating_mul(u64::from(entry_bytes));
    if bytes > ARRAY_MAX {
        return Err(wrong("number of entries", u64::from(count)));
    }
    let lba = place(ENTRY_LBA)?;
    let start = lba.checked_mul(sector).ok_or_else(|| wrong("the entries' sector", lba))?;
    let array = Array { start, bytes, entry_bytes: entry_bytes as usize, crc: number(ENTRY_CRC)? };
    Ok((Header { at, other_at }, array))
}

struct Array {
    start: u64,
    bytes: u64,
    entry_bytes: usize,
    crc: u32,
}

impl Array {
    /// Reads the entries in chunks and gives the CRC of all their bytes.
    fn read(&self, image: &dyn ReadAt, sector: u64, entries: &mut Vec<GptPartition>) -> io::Result<u32> {
        let mut hasher = crc32fast::Hasher::new();
        let mut chunk = vec![0u8; CHUNK.max(self.entry_bytes)];
        let (mut done, mut number) = (0u64, 0u32);
        while done < self.bytes {
            let want = usize::try_from(self.bytes.saturating_sub(done)).unwrap_or(usize::MAX).min(chunk.len());
            let Some(part) = chunk.get_mut(..want) else { break };
            let count = image.fill_at(self.start.saturating_add(done), part)?;
            let part = part.get(..count).unwrap_or_default();
            if part.is_empty() {
                break;
            }
            hasher.update(part);
            for raw in part.chunks_exact(self.entry_bytes) {
                number = number.saturating_add(1);
                if entries.len() < ENTRIES_KEPT {
                    entries.extend(entry(raw, number, sector));
                }
            }
            done = done.saturating_add(count as u64);
        }
        Ok(hasher.finalize())
    }
}

/// Attributes of an entry, and the bit of them that code for a BIOS looks for (§5.3.3, table 5.8).
const ATTRIBUTES: usize = 48;
const LEGACY_BIOS_BOOTABLE: u64 = 1 << 2;

/// One entry: type at 0, first sector at 32, last sector at 40, name at 56 (§5.3.3, table 5.6).
fn entry(raw: &[u8], number: u32, sector: u64) -> Option<GptPartition> {
    let kind: [u8; 16] = take(raw, 0)?;
    if kind == [0; 16] {
        return None;
    }
    let (first, last) = (u64_le(raw, 32)?, u64_le(raw, 40)?);
    let name: [u8; 72] = take(raw, 56)?;
    let units = name.chunks_exact(2).map(u16_from).take_while(|unit| *unit != 0);
    let name: String = char::decode_utf16(units)
        .map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER))
        .map(|c| if c.is_control() { ' ' } else { c })
        .collect();
    Some(GptPartition {
        number,
        is_esp: kind == ESP_TYPE,
        is_for_bios: u64_le(raw, ATTRIBUTES)? & LEGACY_BIOS_BOOTABLE != 0,
        start: first.checked_mul(sector)?,
        bytes: last.checked_sub(first)?.checked_add(1)?.checked_mul(sector)?,
        name: (!name.trim().is_empty()).then(|| name.trim().to_owned()),
    })
}

fn u16_from(pair: &[u8]) -> u16 {
    take(pair, 0).map(u16::from_le_bytes).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use std::sync::LazyLock;

    use super::*;
    use proptest::prelude::*;

    static SAMPLE: LazyLock<Vec<u8>> = LazyLock::new(|| pyrotyp_sample::cafe::desktop().build());

    #[test]
    fn both_copies_of_a_sound_table_are_read() {
        let image = SAMPLE.clone();
        let gpt = read(&image).unwrap().unwrap();
        assert_eq!(gpt.declared_end(), Some(image.size()));
        assert_eq!(gpt.primary.unwrap().other_at, gpt.backup.unwrap().at);
        let named: Vec<_> = gpt.entries.iter().map(|e| (e.number, e.is_esp, e.name.as_deref())).collect();
        assert_eq!(named, [(1, false, Some("Live volume")), (2, true, Some("Start"))]);
    }

    #[test]
    fn each_way_of_being_unsound_has_its_sentence() {
        let mut spoiled = String::new();
        let mut try_with = |spoil: fn(&mut Vec<u8>)| {
            let mut image = SAMPLE.clone();
            spoil(&mut image);
            let gpt = read(&image).unwrap().unwrap();
            let tell = |copy: Result<Header, GptFault>| copy.map_or_else(|f| f.to_string(), |_| "sound".into());
            spoiled.push_str(&format!("{} | {}\n", tell(gpt.primary), tell(gpt.backup)));
        };
        try_with(|image| image[512 + 40] ^= 1); // a field under the header's CRC
        try_with(|image| image[1024 + 56] ^= 1); // a partition's name
        try_with(|image| image[512] = b'e'); // the signature
        try_with(|image| image[512 + HEADER_SIZE] = 91);
        try_with(|image| image.truncate(image.len() - 512));
        insta::assert_snapshot!(spoiled, @"
        the CRC of its fields is 735f02db where 1a93fed6 is declared, in the header at byte 512 | sound
        the CRC of its entries is 88b221ef where 19a85f42 is declared, in the header at byte 512 | sound
        no header at byte 512 | sound
        the header at byte 512 holds 91 as its own size | sound
        sound | the header belongs at byte 19572736, behind the end of the file
        ");
    }

    proptest! {
        #[test]
        fn no_header_makes_it_panic(at in 0usize..92, with: [u8; 8], seal: bool) {
            let mut image = SAMPLE[..64 << 10].to_vec();
            image[512 + at..512 + at + 8].copy_from_slice(&with);
            if seal {
                // A valid CRC lets the strange value through to the checks behind it.
                image[512 + HEADER_CRC..512 + HEADER_CRC + 4].fill(0);
                let crc = crc32fast::hash(&image[512..512 + 92]);
                image[512 + HEADER_CRC..512 + HEADER_CRC + 4].copy_from_slice(&crc.to_le_bytes());
            }
            let _ = read(&image);
        }
    }
}
