//! What lies at the top of an exFAT volume, and how full it is.
//!
//! Source: Microsoft, exFAT file system specification, §3.1 (boot sector), §4 (allocation table), §6 and §7 (directories).
//! Promise: any bytes give an answer, never a panic; at most [`FOLDER_BYTES_MOST`] bytes of the root folder and
//! [`BITMAP_BYTES_MOST`] of the allocation bitmap are read.

use std::io;

use jiff::civil::DateTime;

use crate::bytes::ReadAt;
use crate::bytes::field::{take, u16_le, u32_le, u64_le, utf16_le};
use crate::volume::fat::dos_time;
use crate::volume::{ITEMS_MOST, Item};

//   of the boot sector:                offset   type
pub(crate) const NAME: usize = 3; //                        8 bytes
pub(crate) const TABLE_OFFSET: usize = 80; //               u32, sectors
pub(crate) const HEAP_OFFSET: usize = 88; //                u32, sectors
pub(crate) const CLUSTER_COUNT: usize = 92; //              u32
pub(crate) const ROOT_CLUSTER: usize = 96; //               u32
pub(crate) const SECTOR_SHIFT: usize = 108; //              u8
pub(crate) const CLUSTER_SHIFT: usize = 109; //             u8

//   of a directory entry, by its type:
pub(crate) const ENTRY: usize = 32;
pub(crate) const BITMAP: u8 = 0x81; //                      §7.1: first cluster at 20, length at 24
const FILE: u8 = 0x85; //                        §7.4: attributes at 4, changed at 12
const STREAM: u8 = 0xC0; //                      §7.6: length of the name at 3, length at 24
const NAME_PART: u8 = 0xC1; //                   §7.7: 15 characters from 2 on
const ATTRIBUTES: usize = 4; //                  u16
const MODIFIED: usize = 12; //                   u32
const NAME_LENGTH: usize = 3; //                 u8
pub(crate) const FIRST_CLUSTER: usize = 20; //              u32
pub(crate) const DATA_LENGTH: usize = 24; //                u64
const NAME_TEXT: std::ops::Range<usize> = 2..32;
const ATTRIBUTE_FOLDER: u16 = 0x10;

/// Most bytes of the root folder that are read.
pub const FOLDER_BYTES_MOST: u64 = 4 << 20;
/// Most bytes of the bitmap that are read: enough for a million million bytes in usual clusters.
pub const BITMAP_BYTES_MOST: u64 = 4 << 20;

/// Where an exFAT volume keeps what; places are bytes from its start.
struct Shape {
    table: u64,
    heap: u64,
    cluster_bytes: u64,
    clusters: u32,
    root: u32,
}

impl Shape {
    fn read(volume: &dyn ReadAt) -> io::Result<Option<Self>> {
        let mut boot = [0u8; 512];
        volume.fill_at(0, &mut boot)?;
        Ok(Self::of(&boot))
    }

    fn of(boot: &[u8]) -> Option<Self> {
        let shift = |at: usize| boot.get(at).copied().map(u32::from);
        let sector = shift(SECTOR_SHIFT).filter(|shift| (9..=12).contains(shift))?;
        let cluster = shift(CLUSTER_SHIFT).filter(|shift| *shift <= 25)?.checked_add(sector)?;
        let sectors = |at: usize| u64::from(u32_le(boot, at)?).checked_shl(sector);
        (take::<8>(boot, NAME)? == *b"EXFAT   ").then_some(())?;
        Some(Self {
            table: sectors(TABLE_OFFSET)?,
            heap: sectors(HEAP_OFFSET)?,
            cluster_bytes: 1u64.checked_shl(cluster)?,
            clusters: u32_le(boot, CLUSTER_COUNT)?,
            root: u32_le(boot, ROOT_CLUSTER)?,
        })
    }

    /// Where a cluster lies; they are counted from 2.
    fn place(&self, cluster: u32) -> Option<u64> {
        let number = u64::from(cluster.checked_sub(2)?);
        (number < u64::from(self.clusters)).then_some(())?;
        self.heap.checked_add(number.checked_mul(self.cluster_bytes)?)
    }

    /// The bytes of a chain of clusters, as far as they may be read.
    fn chain(&self, volume: &dyn ReadAt, first: u32, most: u64) -> io::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        let mut cluster = first;
        while let Some(place) = self.place(cluster).filter(|_| (bytes.len() as u64) < most) {
            let left = most.saturating_sub(bytes.len() as u64).min(self.cluster_bytes);
            let start = bytes.len();
            bytes.resize(start.saturating_add(usize::try_from(left).unwrap_or_default()), 0);
            let count = volume.fill_at(place, bytes.get_mut(start..).unwrap_or_default())?;
            bytes.truncate(start.saturating_add(count));
            let mut next = [0u8; 4];
            let at = self.table.saturating_add(u64::from(cluster).saturating_mul(4));
            if count == 0 || volume.fill_at(at, &mut next)? < next.len() {
                break;
            }
            cluster = u32::from_le_bytes(next);
        }
        Ok(bytes)
    }
}

/// What lies in the root folder, and how much of the volume is taken, in bytes.
///
/// # Errors
/// When the volume can't be read.
pub fn top(volume: &dyn ReadAt) -> io::Result<(Option<Vec<Item>>, Option<u64>)> {
    let Some(shape) = Shape::read(volume)? else { return Ok((None, None)) };
    let folder = shape.chain(volume, shape.root, FOLDER_BYTES_MOST)?;
    let mut items = Vec::new();
    let mut used = None;
    let mut file: Option<File> = None;
    for entry in folder.chunks_exact(ENTRY).take_while(|entry| entry.first() != Some(&0)) {
        match entry.first().copied().unwrap_or_default() {
            BITMAP => used = used_bytes(volume, &shape, entry)?,
            FILE => {
                items.extend(file.take().map(File::item));
                file = Some(File::of(entry));
            }
            STREAM => file.iter_mut().for_each(|file| file.stream(entry)),
            NAME_PART => file.iter_mut().for_each(|file| file.name.extend(entry.get(NAME_TEXT).unwrap_or_default())),
            _ => items.extend(file.take().map(File::item)),
        }
        if items.len() >= ITEMS_MOST {
            return Ok((Some(items), used));
        }
    }
    items.extend(file.map(File::item));
    Ok((Some(items), used))
}

/// A file while its entries are read.
struct File {
    is_folder: bool,
    modified: Option<DateTime>,
    bytes: u64,
    name_length: usize,
    name: Vec<u8>,
}

impl File {
    fn of(entry: &[u8]) -> Self {
        let attributes = u16_le(entry, ATTRIBUTES).unwrap_or_default();
        let modified = u16_le(entry, MODIFIED).zip(u16_le(entry, MODIFIED.saturating_add(2)));
        Self {
            is_folder: attributes & ATTRIBUTE_FOLDER != 0,
            modified: modified.and_then(|(time, date)| dos_time(date, time)),
            bytes: 0,
            name_length: 0,
            name: Vec::new(),
        }
    }

    fn stream(&mut self, entry: &[u8]) {
        self.name_length = usize::from(entry.get(NAME_LENGTH).copied().unwrap_or_default());
        self.bytes = u64_le(entry, DATA_LENGTH).unwrap_or_default();
    }

    fn item(self) -> Item {
        let name = self.name.get(..self.name_length.saturating_mul(2)).unwrap_or(&self.name);
        Item {
            name: utf16_le(name).unwrap_or_default(),
            is_folder: self.is_folder,
            bytes: if self.is_folder { 0 } else { self.bytes },
            modified: self.modified,
        }
    }
}

/// Clusters that are taken have a bit in the bitmap; of a very large volume nothing is told.
fn used_bytes(volume: &dyn ReadAt, shape: &Shape, entry: &[u8]) -> io::Result<Option<u64>> {
    let length = u64_le(entry, DATA_LENGTH).unwrap_or(u64::MAX);
    let Some(first) = u32_le(entry, FIRST_CLUSTER).filter(|_| length <= BITMAP_BYTES_MOST) else { return Ok(None) };
    let bitmap = shape.chain(volume, first, length)?;
    let taken = bitmap.iter().map(|byte| u64::from(byte.count_ones())).fold(0, u64::saturating_add);
    Ok(taken.checked_mul(shape.cluster_bytes))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A volume of 64 clusters of 512 bytes, with two entries in a root folder of two clusters.
    fn volume() -> Vec<u8> {
        let mut volume = vec![0u8; 40 << 10];
        let mut put = |at: usize, bytes: &[u8]| volume[at..at + bytes.len()].copy_from_slice(bytes);
        put(NAME, b"EXFAT   ");
        for (at, value) in [(TABLE_OFFSET, 2u32), (HEAP_OFFSET, 4), (CLUSTER_COUNT, 64), (ROOT_CLUSTER, 5)] {
            put(at, &value.to_le_bytes());
        }
        put(SECTOR_SHIFT, &[9, 0]);
        // The table: the bitmap's cluster is 2 and ends, the root folder goes from 5 to 9.
        for (cluster, next) in [(2usize, u32::MAX), (5, 9), (9, u32::MAX)] {
            put(1024 + cluster * 4, &next.to_le_bytes());
        }
        let cluster = |number: usize| 2048 + (number - 2) * 512;
        put(cluster(2), &[0b1011, 0, 1, 0, 0, 0, 0, 0]);
        let mut entries = vec![[0u8; ENTRY]; 18];
        entries[0][0] = BITMAP;
        entries[0][FIRST_CLUSTER] = 2;
        entries[0][DATA_LENGTH] = 8;
        // Set entries that are no files any more fill the first cluster.
        entries[1..12].iter_mut().for_each(|entry| entry[0] = 0x05);
        let mut file = |from: usize, name: &str, folder: bool, bytes: u64| {
            let text: Vec<u8> = name.encode_utf16().flat_map(u16::to_le_bytes).collect();
            entries[from][0] = FILE;
            entries[from][ATTRIBUTES] = if folder { 0x10 } else { 0x20 };
            let (date, time) = ((46u16 << 9) | (11 << 5) | 23, (9u16 << 11) | (30 << 5));
            entries[from][MODIFIED..MODIFIED + 2].copy_from_slice(&time.to_le_bytes());
            entries[from][MODIFIED + 2..MODIFIED + 4].copy_from_slice(&date.to_le_bytes());
            entries[from + 1][0] = STREAM;
            entries[from + 1][NAME_LENGTH] = name.len() as u8;
            entries[from + 1][DATA_LENGTH..].copy_from_slice(&bytes.to_le_bytes());
            entries[from + 2][0] = NAME_PART;
            entries[from + 2][2..2 + text.len()].copy_from_slice(&text);
        };
        file(12, "pictures", true, 512);
        file(15, "letter.odt", false, 7001);
        let raw: Vec<u8> = entries.concat();
        put(cluster(5), &raw[..512]);
        put(cluster(9), &raw[512..]);
        volume
    }

    #[test]
    fn what_lies_at_the_top_is_told_with_names_sizes_and_dates() {
        let (items, used) = top(&volume()).unwrap();
        let told = items.unwrap().into_iter().map(|item| {
            format!("{} {} {} {:?}", item.name, item.is_folder, item.bytes, item.modified.map(|time| time.to_string()))
        });
        insta::assert_snapshot!(told.collect::<Vec<_>>().join("\n"), @r#"
        pictures true 0 Some("2026-11-23T09:30:00")
        letter.odt false 7001 Some("2026-11-23T09:30:00")
        "#);
        assert_eq!(used, Some(4 * 512));
        assert_eq!(top(&vec![0u8; 9000]).unwrap(), (None, None));
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]
        #[test]
        fn no_bytes_make_it_panic(hits in prop::collection::vec((0usize..8000, any::<u8>()), 0..60)) {
            let mut volume = volume();
            hits.into_iter().for_each(|(at, byte)| volume[at] = byte);
            let (items, _) = top(&volume).unwrap();
            prop_assert!(items.is_none_or(|items| items.len() <= ITEMS_MOST));
        }
    }
}
