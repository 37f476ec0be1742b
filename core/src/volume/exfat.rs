//! What lies in an exFAT volume, and how full it is.
//!
//! Source: Microsoft, exFAT file system specification, §3.1 (boot sector), §4 (allocation table), §6 and §7 (directories).
//! Promise: any bytes give an answer, never a panic; at most [`FOLDER_BYTES_MOST`] bytes of folders and
//! [`BITMAP_BYTES_MOST`] of the allocation bitmap are read, and [`STEPS_MOST`] clusters followed.

use std::collections::{BTreeSet, VecDeque};
use std::io;
use std::ops::{ControlFlow, Range};

use jiff::civil::DateTime;

use crate::bytes::ReadAt;
use crate::bytes::field::{take, u16_le, u32_le, u64_le, utf16_le};
use crate::volume::fat::dos_time;
use crate::volume::table_window::TableWindow;
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
pub(crate) const FILE: u8 = 0x85; //                        §7.4: attributes at 4, changed at 12
pub(crate) const STREAM: u8 = 0xC0; //                      §7.6: length of the name at 3, length at 24
pub(crate) const NAME_PART: u8 = 0xC1; //                   §7.7: 15 characters from 2 on
pub(crate) const ATTRIBUTES: usize = 4; //                  u16
pub(crate) const MODIFIED: usize = 12; //                   u32
pub(crate) const STREAM_FLAGS: usize = 1; //                u8
pub(crate) const NAME_LENGTH: usize = 3; //                 u8
pub(crate) const FIRST_CLUSTER: usize = 20; //              u32
pub(crate) const DATA_LENGTH: usize = 24; //                u64
pub(crate) const NAME_TEXT: std::ops::Range<usize> = 2..32;
pub(crate) const ATTRIBUTE_FOLDER: u16 = 0x10;
pub(crate) const ATTRIBUTE_ARCHIVE: u16 = 0x20;
/// Of a stream's flags: its clusters lie in one piece (§6.3.4.2).
pub(crate) const IN_ONE_PIECE: u8 = 0x02;

/// Most bytes of folders that are read in one search.
pub const FOLDER_BYTES_MOST: u64 = 8 << 20;
/// Most clusters followed in one search.
pub const STEPS_MOST: u32 = 1 << 20;
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

    /// Where the last cluster ends.
    fn end(&self) -> u64 {
        self.heap.saturating_add(u64::from(self.clusters).saturating_mul(self.cluster_bytes))
    }

    /// The bytes of a chain of clusters, as far as they may be read.
    fn chain(&self, volume: &dyn ReadAt, first: u32, most: u64) -> io::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        let mut table = TableWindow::default();
        let mut cluster = first;
        while let Some(place) = self.place(cluster).filter(|_| (bytes.len() as u64) < most) {
            let left = most.saturating_sub(bytes.len() as u64);
            if add(volume, place, self.cluster_bytes.min(left), &mut bytes)? == 0 {
                break;
            }
            cluster = self.next(volume, cluster, &mut table)?;
        }
        Ok(bytes)
    }

    /// What the table says behind a cluster.
    fn next(&self, volume: &dyn ReadAt, cluster: u32, table: &mut TableWindow) -> io::Result<u32> {
        table.entry(volume, self.table.saturating_add(u64::from(cluster).saturating_mul(4)))
    }
}

/// Adds what lies at a place; tells how much it was.
fn add(volume: &dyn ReadAt, place: u64, count: u64, bytes: &mut Vec<u8>) -> io::Result<usize> {
    let start = bytes.len();
    bytes.resize(start.saturating_add(usize::try_from(count).unwrap_or_default()), 0);
    let count = volume.fill_at(place, bytes.get_mut(start..).unwrap_or_default())?;
    bytes.truncate(start.saturating_add(count));
    Ok(count)
}

/// Visits the stretches in which every file and folder lies, until `visit` breaks off.
///
/// # Errors
/// When the volume can't be read.
pub fn stretches(volume: &dyn ReadAt, visit: &mut dyn FnMut(&str, Range<u64>) -> ControlFlow<()>) -> io::Result<()> {
    let Some(shape) = Shape::read(volume)? else { return Ok(()) };
    let mut walk = ChainWalk { shape: &shape, volume, steps: STEPS_MOST, table: TableWindow::default() };
    let mut left = FOLDER_BYTES_MOST;
    let mut seen = BTreeSet::from([shape.root]);
    let mut folder = shape.chain(volume, shape.root, left)?;
    let mut waiting: VecDeque<(String, Vec<Range<u64>>)> = VecDeque::new();
    let mut path = String::new();
    loop {
        left = left.saturating_sub(folder.len() as u64);
        for file in files(&folder) {
            let (Allocation { first, .. }, is_folder) = (file.allocation, file.is_folder);
            let runs = walk.runs(&file)?;
            let name = file.item().name;
            let full = if path.is_empty() { name } else { format!("{path}/{name}") };
            if runs.iter().any(|run| visit(&full, run.clone()).is_break()) {
                return Ok(());
            }
            if is_folder && seen.insert(first) {
                waiting.push_back((full, runs));
            }
        }
        let Some((next, runs)) = waiting.pop_front().filter(|_| left > 0) else { return Ok(()) };
        (path, folder) = (next, Vec::new());
        for run in runs {
            let room = left.saturating_sub(folder.len() as u64);
            add(volume, run.start, run.end.saturating_sub(run.start).min(room), &mut folder)?;
        }
    }
}

/// Follows the clusters of files.
struct ChainWalk<'a> {
    shape: &'a Shape,
    volume: &'a dyn ReadAt,
    steps: u32,
    table: TableWindow,
}

impl ChainWalk<'_> {
    /// Where a file or folder lies, in bytes of the volume.
    fn runs(&mut self, file: &File) -> io::Result<Vec<Range<u64>>> {
        let Allocation { first, is_in_one_piece } = file.allocation;
        let mut runs: Vec<Range<u64>> = Vec::new();
        let Some(start) = self.shape.place(first).filter(|_| file.bytes > 0) else { return Ok(runs) };
        if is_in_one_piece {
            runs.push(start..start.saturating_add(file.bytes).min(self.shape.end()));
            return Ok(runs);
        }
        let (mut cluster, mut left) = (first, file.bytes);
        while let Some(place) = self.shape.place(cluster).filter(|_| left > 0 && self.steps > 0) {
            let end = place.saturating_add(self.shape.cluster_bytes.min(left));
            match runs.last_mut() {
                Some(run) if run.end == place => run.end = end,
                _ => runs.push(place..end),
            }
            left = left.saturating_sub(self.shape.cluster_bytes);
            self.steps = self.steps.saturating_sub(1);
            cluster = self.shape.next(self.volume, cluster, &mut self.table)?;
        }
        Ok(runs)
    }
}

/// What lies in the root folder, and how much of the volume is taken, in bytes.
///
/// # Errors
/// When the volume can't be read.
pub fn top(volume: &dyn ReadAt) -> io::Result<(Option<Vec<Item>>, Option<u64>)> {
    let Some(shape) = Shape::read(volume)? else { return Ok((None, None)) };
    let folder = shape.chain(volume, shape.root, FOLDER_BYTES_MOST)?;
    let bitmap = entries(&folder).find(|entry| entry.first() == Some(&BITMAP));
    let used = bitmap.map(|entry| used_bytes(volume, &shape, entry)).transpose()?.flatten();
    Ok((Some(files(&folder).take(ITEMS_MOST).map(File::item).collect()), used))
}

/// The entries of a folder, up to its end.
fn entries(folder: &[u8]) -> impl Iterator<Item = &[u8]> {
    folder.chunks_exact(ENTRY).take_while(|entry| entry.first() != Some(&0))
}

/// The files and folders of a folder: each an entry, and those that belong to it behind it.
fn files(folder: &[u8]) -> impl Iterator<Item = File> {
    let mut entries = entries(folder).peekable();
    std::iter::from_fn(move || {
        let mut file = entries.by_ref().find(|entry| entry.first() == Some(&FILE)).map(File::of)?;
        while let Some(entry) = entries.next_if(|entry| matches!(entry.first(), Some(&(STREAM | NAME_PART)))) {
            match entry.first() {
                Some(&STREAM) => file.stream(entry),
                _ => file.name.extend(entry.get(NAME_TEXT).unwrap_or_default()),
            }
        }
        Some(file)
    })
}

/// A file while its entries are read.
struct File {
    is_folder: bool,
    modified: Option<DateTime>,
    bytes: u64,
    allocation: Allocation,
    name_length: usize,
    name: Vec<u8>,
}

/// Where a file begins, and how it goes on.
#[derive(Clone, Copy, Default)]
struct Allocation {
    first: u32,
    /// Whether its clusters follow each other, whatever the table says (§6.3.4.2).
    is_in_one_piece: bool,
}

impl File {
    fn of(entry: &[u8]) -> Self {
        let attributes = u16_le(entry, ATTRIBUTES).unwrap_or_default();
        let modified = u16_le(entry, MODIFIED).zip(u16_le(entry, MODIFIED.saturating_add(2)));
        Self {
            is_folder: attributes & ATTRIBUTE_FOLDER != 0,
            modified: modified.and_then(|(time, date)| dos_time(date, time)),
            bytes: 0,
            allocation: Allocation::default(),
            name_length: 0,
            name: Vec::new(),
        }
    }

    fn stream(&mut self, entry: &[u8]) {
        self.name_length = usize::from(entry.get(NAME_LENGTH).copied().unwrap_or_default());
        self.bytes = u64_le(entry, DATA_LENGTH).unwrap_or_default();
        let flags = entry.get(STREAM_FLAGS).copied().unwrap_or_default();
        let first = u32_le(entry, FIRST_CLUSTER).unwrap_or_default();
        self.allocation = Allocation { first, is_in_one_piece: flags & IN_ONE_PIECE != 0 };
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
