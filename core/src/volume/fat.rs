//! FAT12, FAT16 and FAT32: which EFI programs does an EFI system partition hold, and which file lies where?
//!
//! Source: Microsoft FAT Specification (2004), §3 (boot sector), §4 (allocation table), §6 (directories).
//! Promise: any bytes give an answer, never a panic; at most [`STEPS_MOST`] clusters are followed
//! and [`FOLDER_BYTES_MOST`] bytes of folders read in one search.

use std::collections::{BTreeSet, VecDeque};
use std::io;
use std::ops::{ControlFlow, Range};

use jiff::civil::DateTime;

use crate::bytes::field::{take, text, u16_le, u32_le, utf16_le};
use crate::bytes::{ReadAt, read_block};
use crate::volume::table_window::TableWindow;
use crate::volume::{ITEMS_MOST, Item};

//   of the boot sector:               offset   type
pub(crate) const BYTES_PER_SECTOR: usize = 11; //          u16
pub(crate) const SECTORS_PER_CLUSTER: usize = 13; //       u8
pub(crate) const RESERVED_SECTORS: usize = 14; //          u16
pub(crate) const TABLES: usize = 16; //                    u8
pub(crate) const ROOT_ENTRIES: usize = 17; //              u16, zero in FAT32
pub(crate) const SECTORS_16: usize = 19; //                u16, or zero
pub(crate) const SECTORS_PER_TABLE_16: usize = 22; //      u16, zero in FAT32
pub(crate) const SECTORS_32: usize = 32; //                u32, or zero
pub(crate) const SECTORS_PER_TABLE_32: usize = 36; //      u32, FAT32 alone
pub(crate) const ROOT_CLUSTER: usize = 44; //              u32, FAT32 alone
pub(crate) const INFO_SECTOR: usize = 48; //               u16, FAT32 alone
pub(crate) const LABEL_16: usize = 43; //                  11 bytes
pub(crate) const LABEL_32: usize = 71; //                  11 bytes

//   of the sector of FAT32 that counts what is free:
pub(crate) const INFO_MAGIC: u32 = 0x4161_5252;
pub(crate) const INFO_MAGIC_2: u32 = 0x6141_7272;
pub(crate) const INFO_MAGIC_2_AT: usize = 484; //          u32
pub(crate) const INFO_FREE: usize = 488; //                u32

//   of a directory entry:
pub(crate) const ENTRY: usize = 32;
pub(crate) const ATTRIBUTES: usize = 11; //                u8
pub(crate) const MADE: usize = 13; //                      hundredths u8, time u16, date u16; then the date of the last look, u16
pub(crate) const CLUSTER_HIGH: usize = 20; //              u16, FAT32 alone
pub(crate) const CLUSTER_LOW: usize = 26; //               u16
pub(crate) const FILE_SIZE: usize = 28; //                 u32, bytes
pub(crate) const TIME: usize = 22; //                      u16
pub(crate) const DATE: usize = 24; //                      u16
pub(crate) const ATTRIBUTE_LONG: u8 = 0x0F;
pub(crate) const ATTRIBUTE_ARCHIVE: u8 = 0x20;
pub(crate) const ATTRIBUTE_VOLUME: u8 = 0x08;
pub(crate) const ATTRIBUTE_FOLDER: u8 = 0x10;
/// Where an entry of a long name has its thirteen code units (§7).
pub(crate) const LONG_PIECES: [Range<usize>; 3] = [1..11, 14..26, 28..32];

/// Most clusters followed in one search.
pub const STEPS_MOST: u32 = 1 << 22;
/// Most bytes of folders read in one search.
pub const FOLDER_BYTES_MOST: u64 = 8 << 20;

/// Most bytes of the root folder in which a volume's label is searched.
const MAX_LABEL_SEARCH_BYTES: u64 = 1 << 20;
/// Most bytes of the root folder of FAT12 and FAT16 that are read.
const ROOT_BYTES_MOST: u64 = 2 << 20;

/// One search of a volume, and what it may still do.
struct Search<'a> {
    volume: &'a dyn ReadAt,
    steps: u32,
    folder_bytes: u64,
    table: TableWindow,
}

impl<'a> Search<'a> {
    fn of(volume: &'a dyn ReadAt) -> Self {
        Self { volume, steps: STEPS_MOST, folder_bytes: FOLDER_BYTES_MOST, table: TableWindow::default() }
    }

    /// Whether one more cluster may be followed.
    fn step(&mut self) -> bool {
        self.steps = self.steps.saturating_sub(1);
        self.steps > 0
    }

    /// Whether `bytes` more of a folder may be read.
    fn read(&mut self, bytes: u64) -> bool {
        let left = self.folder_bytes.checked_sub(bytes);
        self.folder_bytes = left.unwrap_or_default();
        left.is_some()
    }
}

/// Width of a table entry, which the number of clusters alone decides (§3.5).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Width {
    /// 12 bits.
    Fat12,
    /// 16 bits.
    Fat16,
    /// 32 bits, of which 28 count.
    Fat32,
}

/// The shape of a FAT volume; all places are bytes from the volume's start.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fat {
    /// Width of a table entry.
    pub width: Width,
    /// Label of the root folder's volume entry (§6); the boot sector's copy is not kept current by common tools.
    pub label: Option<String>,
    /// Length of the volume, in bytes.
    pub bytes: u64,
    table: u64,
    root: u64,
    root_bytes: u64,
    root_cluster: u32,
    data: u64,
    cluster_bytes: u64,
    clusters: u32,
    sector: u64,
    info_sector: u16,
}

/// A file or folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Node {
    /// Name in capitals, eight and three characters.
    pub name: String,
    /// Its long name, where it has one.
    pub long_name: Option<String>,
    /// Whether it is a folder.
    pub is_folder: bool,
    /// Length in bytes; zero for folders.
    pub bytes: u32,
    cluster: u32,
}

impl Node {
    /// Whether this is the file with the given name, which may be long: its short form then begins alike
    /// and has a `~`, as in `BOOTRI~1.EFI`.
    pub fn is_named(&self, name: &str) -> bool {
        if self.name.eq_ignore_ascii_case(name) {
            return true;
        }
        let (Some((stem, end)), Some((long, long_end))) = (self.name.split_once('.'), name.split_once('.')) else {
            return false;
        };
        let cut = stem.split_once('~').filter(|(start, _)| long.len() > 8 && !start.is_empty());
        end == long_end && cut.is_some_and(|(start, _)| long.starts_with(start))
    }
}

/// A long name, whose pieces stand before the entry that it belongs to, the last one first (§7).
#[derive(Default)]
struct LongName(Vec<Vec<u8>>);

impl LongName {
    fn add(&mut self, record: &[u8]) {
        let piece = LONG_PIECES.into_iter().filter_map(|range| record.get(range)).flatten().copied();
        if self.0.len() < 20 {
            self.0.push(piece.collect());
        }
    }

    fn name(self) -> Option<String> {
        let raw: Vec<u8> = self.0.into_iter().rev().flatten().collect();
        utf16_le(&raw).filter(|name| !name.is_empty())
    }
}

/// What lies in a folder, while it is read.
#[derive(Default)]
struct FatListing {
    nodes: Vec<Node>,
    long: LongName,
}

/// When a file was changed last (§6).
fn modified(record: &[u8]) -> Option<DateTime> {
    dos_time(u16_le(record, DATE)?, u16_le(record, TIME)?)
}

/// A day and a time as FAT and exFAT write them: from 1980 on, in steps of two seconds.
pub(crate) fn dos_time(day: u16, time: u16) -> Option<DateTime> {
    let part = |of: u16, shift: u32, bits: u16| i8::try_from(of.checked_shr(shift)? & bits).ok();
    let year = i16::try_from(day.checked_shr(9)?).ok()?.checked_add(1980)?;
    let (month, day_of_month) = (part(day, 5, 15)?, part(day, 0, 31)?);
    let (hour, minute, second) = (part(time, 11, 31)?, part(time, 5, 63)?, part(time, 0, 31)?.checked_mul(2)?);
    if !(1..=12).contains(&month) || !(1..=31).contains(&day_of_month) {
        return None;
    }
    let day = jiff::civil::Date::new(year, month, day_of_month).ok()?;
    Some(day.to_datetime(jiff::civil::Time::new(hour, minute, second, 0).ok()?))
}

/// Reads the boot sector; `None` if the numbers do not make a FAT volume.
///
/// # Errors
/// When the volume can't be read.
pub fn read(volume: &dyn ReadAt) -> io::Result<Option<Fat>> {
    let Some(mut fat) = read_block::<512>(volume, 0)?.and_then(|raw| parse(raw.as_slice())) else { return Ok(None) };
    let mut label = None;
    fat.walk_root(volume, MAX_LABEL_SEARCH_BYTES, &mut |record| {
        let attributes = record.get(ATTRIBUTES).copied().unwrap_or_default();
        let is_label = attributes & (ATTRIBUTE_LONG | ATTRIBUTE_FOLDER) == ATTRIBUTE_VOLUME;
        if is_label && record.first() != Some(&0xE5) {
            label = text(record, 0, 11);
            return ControlFlow::Break(());
        }
        ControlFlow::Continue(())
    })?;
    fat.label = label.filter(|label| !label.is_empty());
    Ok(Some(fat))
}

fn parse(raw: &[u8]) -> Option<Fat> {
    if !matches!(raw, [0xEB, _, 0x90, ..] | [0xE9, ..]) || take(raw, 510)? != [0x55, 0xAA] {
        return None;
    }
    let sector = u64::from(u16_le(raw, BYTES_PER_SECTOR)?);
    let per_cluster = u64::from(*raw.get(SECTORS_PER_CLUSTER)?);
    let reserved = u64::from(u16_le(raw, RESERVED_SECTORS)?);
    let tables = u64::from(*raw.get(TABLES)?);
    if !matches!(sector, 512 | 1024 | 2048 | 4096) || !per_cluster.is_power_of_two() || reserved == 0 || tables == 0 {
        return None;
    }
    let either = |short: u16, long: u32| if short == 0 { u64::from(long) } else { u64::from(short) };
    let sectors = either(u16_le(raw, SECTORS_16)?, u32_le(raw, SECTORS_32)?);
    let short_table = u16_le(raw, SECTORS_PER_TABLE_16)?;
    let table_sectors = either(short_table, u32_le(raw, SECTORS_PER_TABLE_32)?);
    let root_bytes = u64::from(u16_le(raw, ROOT_ENTRIES)?).checked_mul(ENTRY as u64)?;
    let root_sector = reserved.checked_add(tables.checked_mul(table_sectors)?)?;
    let data_sector = root_sector.checked_add(root_bytes.div_ceil(sector))?;
    let clusters = sectors.checked_sub(data_sector)?.checked_div(per_cluster)?;
    let clusters = u32::try_from(clusters).ok().filter(|clusters| *clusters > 0)?;
    // The limits of §3.5, which are exact.
    let width = match clusters {
        ..4085 => Width::Fat12,
        4085..65525 => Width::Fat16,
        _ => Width::Fat32,
    };
    if (width == Width::Fat32) != (short_table == 0) {
        return None;
    }
    Some(Fat {
        width,
        label: None,
        bytes: sectors.checked_mul(sector)?,
        table: reserved.checked_mul(sector)?,
        root: root_sector.checked_mul(sector)?,
        root_bytes,
        root_cluster: if width == Width::Fat32 { u32_le(raw, ROOT_CLUSTER)? } else { 0 },
        data: data_sector.checked_mul(sector)?,
        cluster_bytes: sector.checked_mul(per_cluster)?,
        clusters,
        sector,
        info_sector: u16_le(raw, INFO_SECTOR)?,
    })
}

impl Fat {
    /// Where the code of the boot sector begins, in bytes (§3.2 and §3.3).
    pub fn code_at(&self) -> usize {
        if self.width == Width::Fat32 { 90 } else { 62 }
    }

    /// Where the volume keeps its own notes: all before its files, and the first cluster of the root folder.
    pub fn housekeeping(&self) -> [std::ops::Range<u64>; 2] {
        let first = u64::from(self.root_cluster.saturating_sub(2)).saturating_mul(self.cluster_bytes);
        let root = self.data.saturating_add(if self.root_cluster > 0 { first } else { 0 });
        let bytes = if self.root_cluster > 0 { self.cluster_bytes } else { 0 };
        [0..self.data, root..root.saturating_add(bytes)]
    }

    /// The entries of the folder at `path` (such as `EFI/BOOT`), or `None` if there is no such folder.
    ///
    /// # Errors
    /// When the volume can't be read.
    pub fn list(&self, volume: &dyn ReadAt, path: &str) -> io::Result<Option<Vec<Node>>> {
        let mut search = Search::of(volume);
        let mut nodes = self.folder(None, &mut search)?;
        for step in path.split('/').filter(|step| !step.is_empty()) {
            let found = nodes.iter().find(|node| node.is_folder && node.name.eq_ignore_ascii_case(step));
            let Some(folder) = found.map(|folder| folder.cluster) else { return Ok(None) };
            nodes = self.folder(Some(folder), &mut search)?;
        }
        Ok(Some(nodes))
    }

    /// What lies in the root folder, by its long names and with its dates.
    ///
    /// # Errors
    /// When the volume can't be read.
    pub fn top(&self, volume: &dyn ReadAt) -> io::Result<Vec<Item>> {
        let mut items = Vec::new();
        let mut long = LongName::default();
        self.walk_root(volume, FOLDER_BYTES_MOST, &mut |record| {
            let attributes = record.get(ATTRIBUTES).copied().unwrap_or_default();
            if attributes & ATTRIBUTE_LONG == ATTRIBUTE_LONG {
                long.add(record);
                return ControlFlow::Continue(());
            }
            let name = std::mem::take(&mut long).name();
            let is_gone = matches!(record.first(), Some(0xE5 | b'.'));
            if let Some(node) = self.node(record).filter(|_| !is_gone && items.len() < ITEMS_MOST) {
                items.push(Item {
                    name: name.unwrap_or(node.name),
                    is_folder: node.is_folder,
                    bytes: u64::from(node.bytes),
                    modified: modified(record),
                });
            }
            ControlFlow::Continue(())
        })?;
        Ok(items)
    }

    /// Calls `visit` with each directory entry of the root folder, deleted ones included, until it breaks, the folder ends or
    /// `max_bytes` of it were read.
    fn walk_root(
        &self,
        volume: &dyn ReadAt,
        max_bytes: u64,
        visit: &mut dyn FnMut(&[u8]) -> ControlFlow<()>,
    ) -> io::Result<()> {
        let mut search = Search { folder_bytes: max_bytes, ..Search::of(volume) };
        let mut raw = Vec::new();
        let mut walk = |at: u64, bytes: u64| -> io::Result<ControlFlow<()>> {
            raw.clear();
            raw.resize(usize::try_from(bytes).unwrap_or_default(), 0);
            let count = volume.fill_at(at, &mut raw)?;
            for record in raw.get(..count).unwrap_or_default().chunks_exact(ENTRY) {
                if record.first() == Some(&0) || visit(record).is_break() {
                    return Ok(ControlFlow::Break(()));
                }
            }
            Ok(ControlFlow::Continue(()))
        };
        if self.width != Width::Fat32 {
            return walk(self.root, self.root_bytes.min(max_bytes).min(ROOT_BYTES_MOST)).map(drop);
        }
        let mut cluster = Some(self.root_cluster);
        while let Some(at) = cluster.filter(|_| search.step()).and_then(|here| self.cluster_at(here)) {
            if !search.read(self.cluster_bytes) || walk(at, self.cluster_bytes)?.is_break() {
                break;
            }
            cluster = self.next(cluster.unwrap_or_default(), &mut search)?;
        }
        Ok(())
    }

    /// How much of the volume is taken; `None` where nothing tells it cheaply.
    ///
    /// # Errors
    /// When the volume can't be read.
    pub fn used_bytes(&self, volume: &dyn ReadAt) -> io::Result<Option<u64>> {
        let free = if self.width == Width::Fat32 {
            let mut raw = [0u8; 512];
            volume.fill_at(self.sector.saturating_mul(u64::from(self.info_sector)), &mut raw)?;
            let is_one = u32_le(&raw, 0) == Some(INFO_MAGIC) && u32_le(&raw, INFO_MAGIC_2_AT) == Some(INFO_MAGIC_2);
            u32_le(&raw, INFO_FREE).filter(|free| is_one && *free <= self.clusters)
        } else {
            let (mut free, mut search) = (0u32, Search::of(volume));
            for cluster in 2..self.clusters.saturating_add(2) {
                if self.entry_of(cluster, &mut search)? == 0 {
                    free = free.saturating_add(1);
                }
            }
            Some(free)
        };
        let taken = free.and_then(|free| self.clusters.checked_sub(free)).map(u64::from);
        Ok(taken.map(|clusters| clusters.saturating_mul(self.cluster_bytes)))
    }

    /// The first bytes of a file: as many as fit into `into` and lie in its first cluster.
    ///
    /// # Errors
    /// When the volume can't be read.
    pub fn head_of(&self, volume: &dyn ReadAt, file: &Node, into: &mut [u8]) -> io::Result<usize> {
        let most = self.cluster_bytes.min(u64::from(file.bytes)).min(into.len() as u64);
        let into = into.get_mut(..usize::try_from(most).unwrap_or_default()).unwrap_or_default();
        match self.cluster_at(file.cluster) {
            Some(at) => volume.fill_at(at, into),
            None => Ok(0),
        }
    }

    /// Visits the stretches in which every file and folder lies, found by following every chain, until `visit` breaks off.
    ///
    /// # Errors
    /// When the volume can't be read.
    pub fn stretches(
        &self,
        volume: &dyn ReadAt,
        visit: &mut dyn FnMut(&str, Range<u64>) -> ControlFlow<()>,
    ) -> io::Result<()> {
        let mut search = Search::of(volume);
        let mut seen = BTreeSet::new();
        let mut waiting = VecDeque::from([(String::new(), None)]);
        while let Some((path, folder)) = waiting.pop_front() {
            for node in self.folder(folder, &mut search)? {
                let name = node.long_name.as_ref().unwrap_or(&node.name);
                let full = if path.is_empty() { name.clone() } else { format!("{path}/{name}") };
                let mut run: Option<Range<u64>> = None;
                let mut cluster = Some(node.cluster);
                while let Some(here) = cluster.filter(|_| search.step()) {
                    let Some(at) = self.cluster_at(here) else { break };
                    let end = at.saturating_add(self.cluster_bytes);
                    run = match run {
                        Some(run) if run.end == at => Some(run.start..end),
                        Some(run) if visit(&full, run.clone()).is_break() => return Ok(()),
                        _ => Some(at..end),
                    };
                    cluster = self.next(here, &mut search)?;
                }
                if run.is_some_and(|run| visit(&full, run).is_break()) {
                    return Ok(());
                }
                if node.is_folder && seen.insert(node.cluster) {
                    waiting.push_back((full, Some(node.cluster)));
                }
            }
        }
        Ok(())
    }

    /// The entries of the folder that begins at `cluster`, or of the root folder.
    fn folder(&self, cluster: Option<u32>, search: &mut Search<'_>) -> io::Result<Vec<Node>> {
        let mut listing = FatListing::default();
        let mut cluster = match cluster {
            None if self.width != Width::Fat32 => {
                let length = self.root_bytes.min(ROOT_BYTES_MOST);
                self.nodes(search.volume, self.root..self.root.saturating_add(length), &mut listing)?;
                return Ok(listing.nodes);
            }
            None => Some(self.root_cluster),
            some => some,
        };
        while let Some(here) = cluster.filter(|_| search.step()) {
            let Some(at) = self.cluster_at(here) else { break };
            let stretch = at..at.saturating_add(self.cluster_bytes);
            if !search.read(self.cluster_bytes) || !self.nodes(search.volume, stretch, &mut listing)? {
                break;
            }
            cluster = self.next(here, search)?;
        }
        Ok(listing.nodes)
    }

    /// Adds the entries of one stretch of a folder; tells whether the folder goes on behind it.
    fn nodes(&self, volume: &dyn ReadAt, stretch: Range<u64>, listing: &mut FatListing) -> io::Result<bool> {
        let mut raw = vec![0u8; usize::try_from(stretch.end.saturating_sub(stretch.start)).unwrap_or_default()];
        let count = volume.fill_at(stretch.start, &mut raw)?;
        raw.truncate(count);
        for record in raw.chunks_exact(ENTRY) {
            let attributes = record.get(ATTRIBUTES).copied().unwrap_or_default();
            match record.first() {
                Some(0) => return Ok(false),
                Some(0xE5 | b'.') => listing.long = LongName::default(),
                _ if attributes & ATTRIBUTE_LONG == ATTRIBUTE_LONG => listing.long.add(record),
                _ => {
                    let long_name = std::mem::take(&mut listing.long).name();
                    listing.nodes.extend(self.node(record).map(|node| Node { long_name, ..node }));
                }
            }
        }
        Ok(true)
    }

    fn node(&self, record: &[u8]) -> Option<Node> {
        let attributes = *record.get(ATTRIBUTES)?;
        if attributes & ATTRIBUTE_VOLUME != 0 {
            return None; // the volume's label, or a piece of a long name
        }
        let (stem, end) = (text(record, 0, 8)?, text(record, 8, 3));
        let high = if self.width == Width::Fat32 { u16_le(record, CLUSTER_HIGH)? } else { 0 };
        Some(Node {
            name: end.map_or_else(|| stem.clone(), |end| format!("{stem}.{end}")),
            long_name: None,
            is_folder: attributes & ATTRIBUTE_FOLDER != 0,
            bytes: u32_le(record, FILE_SIZE)?,
            cluster: (u32::from(high) << 16) | u32::from(u16_le(record, CLUSTER_LOW)?),
        })
    }

    /// Where a cluster lies; the first one has number 2 (§4).
    fn cluster_at(&self, cluster: u32) -> Option<u64> {
        let index = cluster.checked_sub(2).filter(|index| *index < self.clusters)?;
        self.data.checked_add(u64::from(index).checked_mul(self.cluster_bytes)?)
    }

    /// The cluster that follows, or `None` at the end of the chain.
    fn next(&self, cluster: u32, search: &mut Search<'_>) -> io::Result<Option<u32>> {
        let end = match self.width {
            Width::Fat12 => 0xFF8,
            Width::Fat16 => 0xFFF8,
            Width::Fat32 => 0x0FFF_FFF8,
        };
        Ok(Some(self.entry_of(cluster, search)?).filter(|value| (2..end).contains(value)))
    }

    /// What the table says of a cluster; 0 means that it is free.
    fn entry_of(&self, cluster: u32, search: &mut Search<'_>) -> io::Result<u32> {
        let skip = match self.width {
            Width::Fat12 => u64::from(cluster).saturating_mul(3) / 2,
            Width::Fat16 => u64::from(cluster).saturating_mul(2),
            Width::Fat32 => u64::from(cluster).saturating_mul(4),
        };
        let word = search.table.entry(search.volume, self.table.saturating_add(skip))?;
        Ok(match self.width {
            Width::Fat12 if cluster % 2 == 1 => (word >> 4) & 0xFFF,
            Width::Fat12 => word & 0xFFF,
            Width::Fat16 => word & 0xFFFF,
            Width::Fat32 => word & 0x0FFF_FFFF,
        })
    }
}

#[cfg(test)]
mod tests {
    use std::sync::LazyLock;

    use super::*;
    use crate::bytes::Part;
    use proptest::prelude::*;

    const ESP_START: u64 = 2048 * 512;

    static SAMPLE: LazyLock<Vec<u8>> = LazyLock::new(|| pyrotyp_sample::disk_image("A disk"));

    fn esp(image: &Vec<u8>) -> Part<'_> {
        Part { whole: image, start: ESP_START, bytes: image.size() - ESP_START }
    }

    #[test]
    fn the_root_folder_is_listed_by_long_names_and_dates() {
        let mut image = SAMPLE.clone();
        let fat = read(&esp(&image)).unwrap().unwrap();
        let before = fat.top(&esp(&image)).unwrap();
        assert!(before.iter().any(|item| item.name == "EFI" && item.is_folder), "{before:?}");
        // Behind what is there: a long name in two pieces, the entry that it belongs to, and one that was removed.
        let root = ESP_START as usize + fat.root as usize;
        let free = (0..).find(|slot| image[root + slot * ENTRY] == 0).unwrap();
        let mut records = [[0u8; ENTRY]; 4];
        let name: Vec<u8> = "Letter to Ann.txt".encode_utf16().chain([0]).flat_map(u16::to_le_bytes).collect();
        for (place, at) in [1..11, 14..26, 28..32].into_iter().flatten().enumerate() {
            records[1][at] = name[place];
            records[0][at] = name.get(26 + place).copied().unwrap_or(0xFF);
        }
        (records[0][0], records[1][0], records[3][0]) = (0x42, 1, 0xE5);
        (records[0][ATTRIBUTES], records[1][ATTRIBUTES]) = (ATTRIBUTE_LONG, ATTRIBUTE_LONG);
        records[2][..11].copy_from_slice(b"LETTER~1TXT");
        records[2][FILE_SIZE] = 9;
        // 2026-11-23, 14:30:06.
        records[2][TIME..TIME + 2].copy_from_slice(&(14u16 << 11 | 30 << 5 | 3).to_le_bytes());
        records[2][DATE..DATE + 2].copy_from_slice(&(46u16 << 9 | 11 << 5 | 23).to_le_bytes());
        for (slot, record) in records.iter().enumerate() {
            image[root + (free + slot) * ENTRY..][..ENTRY].copy_from_slice(record);
        }
        let items = fat.top(&esp(&image)).unwrap();
        assert_eq!(items.len(), before.len() + 1);
        let letter = items.last().unwrap();
        let modified = letter.modified.map(|time| time.to_string());
        assert_eq!(
            (letter.name.as_str(), letter.bytes, modified.as_deref()),
            ("Letter to Ann.txt", 9, Some("2026-11-23T14:30:06"))
        );
        let used = fat.used_bytes(&esp(&image)).unwrap().unwrap();
        assert!(used > 0 && used < fat.bytes, "{used}");
    }

    #[test]
    fn label_is_that_of_the_root_folder() {
        let mut image = SAMPLE.clone();
        let label = |image: &Vec<u8>| read(&esp(image)).unwrap().unwrap().label;
        let root = ESP_START as usize + read(&esp(&image)).unwrap().unwrap().root as usize;
        let entry = (0..).find(|slot| image[root + slot * ENTRY + ATTRIBUTES] == ATTRIBUTE_VOLUME).unwrap();
        let entry = root + entry * ENTRY;
        // The boot sector keeps the name that the volume was made with.
        image[entry..entry + 11].copy_from_slice(b"HOLIDAY    ");
        assert_eq!(label(&image).as_deref(), Some("HOLIDAY"));
        image[entry] = 0xE5;
        assert_eq!(label(&image), None);
    }

    #[test]
    fn the_program_is_found_by_name_and_by_place() {
        let image = SAMPLE.clone();
        let volume = esp(&image);
        let fat = read(&volume).unwrap().unwrap();
        assert_eq!((fat.width, fat.label.as_deref()), (Width::Fat12, Some("START")));
        assert_eq!(fat.bytes, volume.size());
        let nodes = fat.list(&volume, "efi/boot").unwrap().unwrap();
        let mut magic = [0u8; 2];
        fat.head_of(&volume, &nodes[0], &mut magic).unwrap();
        assert_eq!((nodes[0].name.as_str(), &magic), ("BOOTX64.EFI", b"MZ"));
        let at = fat.cluster_at(nodes[0].cluster).unwrap();
        let mut held = None;
        fat.stretches(&volume, &mut |path, range| {
            held = Some(path.to_owned()).filter(|_| range.contains(&(at + 1)));
            if held.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        })
        .unwrap();
        assert_eq!(held.as_deref(), Some("EFI/BOOT/BOOTX64.EFI"));
        assert_eq!(fat.list(&volume, "EFI/NONE").unwrap(), None);
    }

    proptest! {
        #[test]
        fn no_boot_sector_makes_it_panic(hits in proptest::collection::vec((11usize..64, any::<u8>()), 1..8)) {
            let mut image = SAMPLE.clone();
            for (place, byte) in hits {
                image[ESP_START as usize + place] = byte;
            }
            let volume = esp(&image);
            if let Some(fat) = read(&volume).unwrap() {
                let _ = fat.list(&volume, "EFI/BOOT").unwrap();
                fat.stretches(&volume, &mut |_, _| ControlFlow::Continue(())).unwrap();
                let _ = (fat.top(&volume).unwrap(), fat.used_bytes(&volume).unwrap());
            }
        }
    }
}
