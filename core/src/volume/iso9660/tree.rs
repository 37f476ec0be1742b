//! The tree of files: a walk that no damage leads astray, and the ways to one file.
//!
//! Source: ECMA-119, §9.1 (directory records), §7.5 (names); Joliet: names in UCS-2, big-endian.

use std::collections::{BTreeSet, VecDeque};
use std::io;
use std::ops::ControlFlow;

use jiff::civil::{Date, DateTime, Time};

use crate::bytes::ReadAt;
use crate::bytes::field::{both32, take, utf16_be};
use crate::volume::iso9660::layout::{
    DATA_LENGTH, EXTENT, FLAG_FOLDER, FLAG_GOES_ON, FLAGS, NAME, NAME_LENGTH, RECORDED, SECTOR,
};
use crate::volume::iso9660::rock_ridge::{FOLDER_CONTINUED_MOST, RockRidge, printable};
use crate::volume::iso9660::volume::{Extent, IsoVolume};
use crate::volume::{ITEMS_MOST, Item};

/// Most folders that a walk enters.
pub const FOLDERS_MOST: usize = 4096;
/// Most bytes of one folder that is read.
pub const FOLDER_BYTES_MOST: u64 = 8 << 20;

/// One entry of a folder.
pub(super) struct DirectoryRecord {
    pub name: String,
    pub is_folder: bool,
    pub extent: Extent,
    pub recorded: Option<DateTime>,
    /// Whether the file goes on with the next record.
    pub goes_on: bool,
    pub rock_ridge: RockRidge,
}

/// Whether the names in this folder are longer than plain ISO 9660 has them.
pub(super) fn has_rock_ridge(image: &dyn ReadAt, folder: &Extent) -> io::Result<bool> {
    let raw = read_folder(image, folder)?;
    let mut rest = raw.get(..SECTOR.min(raw.len())).unwrap_or_default();
    let mut left = FOLDER_CONTINUED_MOST;
    while let Some(record) = record_of(rest) {
        rest = rest.get(record.len()..).unwrap_or_default();
        let field = system_use(record).unwrap_or_default();
        if RockRidge::read(image, field, SECTOR as u64, &mut left)?.name().is_some() {
            return Ok(true);
        }
    }
    Ok(false)
}

/// What of a folder lies in the image.
pub(super) fn read_folder(image: &dyn ReadAt, folder: &Extent) -> io::Result<Vec<u8>> {
    let length = folder.bytes.min(FOLDER_BYTES_MOST).min(image.size().saturating_sub(folder.start));
    let mut raw = vec![0u8; usize::try_from(length).unwrap_or_default()];
    let count = image.fill_at(folder.start, &mut raw)?;
    raw.truncate(count);
    Ok(raw)
}

impl IsoVolume {
    /// The entries of a folder.
    pub(super) fn entries(&self, image: &dyn ReadAt, folder: &Extent) -> io::Result<Vec<DirectoryRecord>> {
        let mut entries = Vec::new();
        let mut left = FOLDER_CONTINUED_MOST;
        for sector in read_folder(image, folder)?.chunks(SECTOR) {
            let mut rest = sector;
            while let Some(record) = record_of(rest) {
                rest = rest.get(record.len()..).unwrap_or_default();
                entries.extend(self.entry(image, record, &mut left)?);
            }
        }
        Ok(entries)
    }

    /// Visits every file of the volume, folder by folder, until `visit` breaks off.
    ///
    /// Folders that were seen already, that lie outside the image or that are beyond the limits are passed over:
    /// a damaged tree gives fewer files, not an error.
    ///
    /// # Errors
    /// When the image can't be read.
    pub fn files(&self, image: &dyn ReadAt, visit: &mut dyn FnMut(&str, Extent) -> ControlFlow<()>) -> io::Result<()> {
        let mut seen = BTreeSet::from([self.root.start]);
        let mut waiting = VecDeque::from([(String::new(), self.root)]);
        while let Some((path, folder)) = waiting.pop_front() {
            for DirectoryRecord { name, is_folder, extent, .. } in self.entries(image, &folder)? {
                let full = if path.is_empty() { name } else { format!("{path}/{name}") };
                if !is_folder {
                    if visit(&full, extent).is_break() {
                        return Ok(());
                    }
                } else if seen.len() < FOLDERS_MOST && full.len() < 4096 && seen.insert(extent.start) {
                    waiting.push_back((full, extent));
                }
            }
        }
        Ok(())
    }

    /// What lies in the root folder.
    ///
    /// # Errors
    /// When the image can't be read.
    pub fn top(&self, image: &dyn ReadAt) -> io::Result<Vec<Item>> {
        let item = |entry: DirectoryRecord| Item {
            bytes: if entry.is_folder { 0 } else { entry.extent.bytes },
            name: entry.name,
            is_folder: entry.is_folder,
            modified: entry.recorded,
        };
        Ok(self.entries(image, &self.root)?.into_iter().take(ITEMS_MOST).map(item).collect())
    }

    /// The files of the folder at `path`, however its letters are written; none if there is no such folder.
    ///
    /// Only the folders on the way are read.
    ///
    /// # Errors
    /// When the image can't be read.
    pub fn files_in(&self, image: &dyn ReadAt, path: &str) -> io::Result<Vec<(String, Extent)>> {
        let mut folder = self.root;
        for step in path.split('/').filter(|step| !step.is_empty()) {
            let entries = self.entries(image, &folder)?;
            match entries.into_iter().find(|entry| entry.is_folder && entry.name.eq_ignore_ascii_case(step)) {
                Some(entry) => folder = entry.extent,
                None => return Ok(Vec::new()),
            }
        }
        let files = self.entries(image, &folder)?.into_iter().filter(|entry| !entry.is_folder);
        Ok(files.map(|entry| (entry.name, entry.extent)).collect())
    }

    /// The first `most` bytes of the file at `path`, however its letters are written; `None` if there is no such file.
    ///
    /// # Errors
    /// When the image can't be read.
    pub fn read_file(&self, image: &dyn ReadAt, path: &str, most: usize) -> io::Result<Option<Vec<u8>>> {
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
        let files = self.files_in(image, folder)?;
        let Some((_, extent)) = files.into_iter().find(|(file, _)| file.eq_ignore_ascii_case(name)) else {
            return Ok(None);
        };
        let length = usize::try_from(extent.bytes).unwrap_or(usize::MAX).min(most);
        let mut bytes = vec![0u8; length];
        let count = image.fill_at(extent.start, &mut bytes)?;
        bytes.truncate(count);
        Ok(Some(bytes))
    }

    /// The file that holds byte `at` of the image.
    ///
    /// # Errors
    /// When the image can't be read.
    pub fn file_at(&self, image: &dyn ReadAt, at: u64) -> io::Result<Option<(String, Extent)>> {
        let mut found = None;
        self.files(image, &mut |path, extent| {
            if extent.holds(at) {
                found = Some((path.to_owned(), extent));
                return ControlFlow::Break(());
            }
            ControlFlow::Continue(())
        })?;
        Ok(found)
    }

    /// `None` for the two entries that name the folder itself and its parent, and for what can't be read.
    fn entry(&self, image: &dyn ReadAt, record: &[u8], left: &mut u64) -> io::Result<Option<DirectoryRecord>> {
        let Some((raw, extent)) = named(record).zip(self.extent(record)) else { return Ok(None) };
        let flags = record.get(FLAGS).copied().unwrap_or_default();
        let rock_ridge = match system_use(record) {
            Some(field) if !self.is_joliet => RockRidge::read(image, field, self.block_bytes, left)?,
            _ => RockRidge::default(),
        };
        let name = if self.is_joliet {
            utf16_be(raw).map(|name| plain_name(&name))
        } else {
            Some(rock_ridge.name().unwrap_or_else(|| plain_name(&String::from_utf8_lossy(raw))))
        };
        Ok(name.map(|name| DirectoryRecord {
            name,
            is_folder: flags & FLAG_FOLDER != 0,
            extent,
            recorded: recorded(record),
            goes_on: flags & FLAG_GOES_ON != 0,
            rock_ridge,
        }))
    }

    /// Where what a record stands for lies.
    pub(super) fn extent(&self, record: &[u8]) -> Option<Extent> {
        let start = u64::from(both32(record, EXTENT)?).checked_mul(self.block_bytes)?;
        Some(Extent { start, bytes: u64::from(both32(record, DATA_LENGTH)?) })
    }
}

/// The name in a record; `None` for the folder itself and its parent.
fn named(record: &[u8]) -> Option<&[u8]> {
    let name_bytes = usize::from(*record.get(NAME_LENGTH)?);
    record.get(NAME..NAME.checked_add(name_bytes)?).filter(|raw| !matches!(raw, [0] | [1] | []))
}

/// When a file was recorded, by its own clock.
fn recorded(record: &[u8]) -> Option<DateTime> {
    let [year, parts @ ..] = take::<6>(record, RECORDED)?;
    let [month, day, hour, minute, second] = parts.map(|part| i8::try_from(part).unwrap_or(-1));
    let day = Date::new(i16::from(year).checked_add(1900)?, month, day).ok()?;
    Some(day.to_datetime(Time::new(hour, minute, second, 0).ok()?))
}

/// The system use field, which begins at an even offset (§9.1.12).
fn system_use(record: &[u8]) -> Option<&[u8]> {
    let name_end = NAME.checked_add(usize::from(*record.get(NAME_LENGTH)?))?;
    record.get(name_end.checked_next_multiple_of(2)?..)
}

/// The directory record at the start of `rest`; `None` at the end of the sector's records (§6.8.1.1).
pub(super) fn record_of(rest: &[u8]) -> Option<&[u8]> {
    let length = usize::from(*rest.first()?);
    rest.get(..length).filter(|_| length > NAME)
}

/// The name without its version number and trailing full stop (§7.5.1).
fn plain_name(name: &str) -> String {
    let name = name.split(';').next().unwrap_or_default();
    printable(name.strip_suffix('.').unwrap_or(name))
}
