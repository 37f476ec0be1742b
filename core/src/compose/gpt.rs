//! A GUID partition table with one partition, and its backup at the drive's end.

use std::ops::Range;

use crate::bytes::field::put;
use crate::compose::guid::{on_disk, uuid};
use crate::compose::mbr::mbr;
use crate::volume::gpt::{
    ALTERNATE_LBA, DISK_GUID, ENTRY_COUNT, ENTRY_CRC, ENTRY_FIRST, ENTRY_GUID, ENTRY_LAST, ENTRY_LBA, ENTRY_NAME,
    ENTRY_SIZE, FIRST_USABLE, HEADER_CRC, HEADER_MIN, HEADER_SIZE, LAST_USABLE, MY_LBA, NAME_UNITS, REVISION,
    REVISION_1_0, SIGNATURE,
};
use crate::volume::mbr::PartitionType;

/// UEFI 2.10, section 5.3.1: at least 16,384 bytes are kept for the entries.
const ARRAY_BYTES: u64 = 16_384;
const ENTRY_BYTES: u32 = 128;
const ENTRIES: u32 = 128;

/// One partition and the drive that it lies on; places count in blocks of the drive.
pub(super) struct GptTable<'a> {
    /// Size of a block, in bytes.
    pub block_bytes: u64,
    /// How many blocks the drive has.
    pub blocks: u64,
    /// Where the partition lies.
    pub partition: Range<u64>,
    /// What kind of partition, as it lies on disk.
    pub kind: [u8; 16],
    /// What it is called.
    pub name: &'a str,
    /// Tells this table from others.
    pub serial: u32,
}

/// A table at a drive's start, and its copy, which ends with the drive.
pub(super) struct GptCopies {
    /// The record that protects it, the header and the entries.
    pub start: Vec<u8>,
    /// The entries and the header.
    pub end: Vec<u8>,
}

/// An entry; places count in blocks of the drive.
pub(super) struct GptEntry<'a> {
    /// What kind of partition, as it lies on disk.
    pub kind: [u8; 16],
    /// Its own number, as it lies on disk.
    pub guid: [u8; 16],
    /// Where it lies.
    pub partition: Range<u64>,
    /// What it is called.
    pub name: &'a str,
}

impl GptEntry<'_> {
    /// Puts it at the start of these bytes.
    pub(super) fn put_into(&self, entry: &mut [u8]) {
        put(entry, 0, &self.kind);
        put(entry, ENTRY_GUID, &self.guid);
        put(entry, ENTRY_FIRST, &self.partition.start.to_le_bytes());
        put(entry, ENTRY_LAST, &self.partition.end.saturating_sub(1).to_le_bytes());
        let name: Vec<u8> = self.name.encode_utf16().take(NAME_UNITS).flat_map(u16::to_le_bytes).collect();
        put(entry, ENTRY_NAME, &name);
    }
}

/// Puts the sum over its first `covered` bytes into a header, after all else.
pub(super) fn sign(header: &mut [u8], covered: usize) {
    put(header, HEADER_CRC, &[0; 4]);
    let sum = crc32fast::hash(header.get(..covered).unwrap_or_default());
    put(header, HEADER_CRC, &sum.to_le_bytes());
}

impl GptTable<'_> {
    /// How many blocks the entries take.
    fn array_blocks(&self) -> u64 {
        ARRAY_BYTES.checked_div(self.block_bytes).unwrap_or_default().max(1)
    }

    fn last(&self) -> u64 {
        self.blocks.saturating_sub(1)
    }

    fn entries(&self) -> Vec<u8> {
        let mut array = vec![0u8; (ENTRIES.saturating_mul(ENTRY_BYTES)) as usize];
        let guid = on_disk(uuid(self.serial, "partition"));
        let entry = GptEntry { kind: self.kind, guid, partition: self.partition.clone(), name: self.name };
        entry.put_into(&mut array);
        array
    }

    /// The header that lies in block `at`, with its other copy in block `other`.
    fn header(&self, at: u64, other: u64, array: &[u8]) -> Vec<u8> {
        let usable = self.array_blocks().saturating_add(2);
        let array_at = if at == 1 { 2 } else { at.saturating_sub(self.array_blocks()) };
        let mut header = vec![0u8; usize::try_from(self.block_bytes).unwrap_or_default()];
        put(&mut header, 0, &SIGNATURE);
        put(&mut header, REVISION, &REVISION_1_0.to_le_bytes());
        put(&mut header, HEADER_SIZE, &(HEADER_MIN as u32).to_le_bytes());
        let last_usable = self.last().saturating_sub(self.array_blocks()).saturating_sub(1);
        let places = [(MY_LBA, at), (ALTERNATE_LBA, other), (FIRST_USABLE, usable), (LAST_USABLE, last_usable)];
        for (place, block) in places.into_iter().chain([(ENTRY_LBA, array_at)]) {
            put(&mut header, place, &block.to_le_bytes());
        }
        put(&mut header, DISK_GUID, &on_disk(uuid(self.serial, "drive")));
        let numbers = [(ENTRY_COUNT, ENTRIES), (ENTRY_SIZE, ENTRY_BYTES), (ENTRY_CRC, crc32fast::hash(array))];
        for (place, number) in numbers {
            put(&mut header, place, &number.to_le_bytes());
        }
        sign(&mut header, HEADER_MIN);
        header
    }

    /// Both copies.
    pub(super) fn copies(&self) -> GptCopies {
        let array = self.entries();
        let (block, last) = (usize::try_from(self.block_bytes).unwrap_or_default(), self.last());
        // UEFI 2.10, section 5.2.3: it covers the drive, or as much of it as can be counted.
        let covered = u32::try_from(last).unwrap_or(u32::MAX);
        let mut start = mbr(PartitionType::GPT_PROTECTIVE, 1, covered, self.serial);
        start.resize(block, 0);
        start.extend(self.header(1, last, &array));
        start.extend(&array);
        let mut end = array.clone();
        end.extend(self.header(last, 1, &array));
        GptCopies { start, end }
    }
}
