//! A file as a target: it has its name only when all of it is there.

use std::fs::File;
use std::io::{self, Seek, SeekFrom, Write};
use std::ops::Range;
use std::path::{Path, PathBuf};

use crate::hash::{Algorithm, BLOCK_BYTES, Hashers};
use crate::job::save::drive_source::merged;
use crate::job::save::map::SaveMap;
use crate::job::save::seek_table::{SeekEntry, seek_table};
use crate::machine;

/// Level of packing: as fast as a usual drive is read.
const LEVEL: i32 = 3;

/// Whether the file is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Packing {
    /// As it comes from the drive.
    Plain,
    /// In frames of Zstandard (RFC 8878), one for each block.
    Zst,
}

impl Packing {
    /// As the name of a file has it.
    pub fn of(file: &Path) -> Self {
        if file.extension().is_some_and(|ending| ending == "zst") { Self::Zst } else { Self::Plain }
    }
}

fn beside(file: &Path, ending: &str) -> PathBuf {
    let mut name = file.as_os_str().to_owned();
    name.push(ending);
    PathBuf::from(name)
}

/// What a file is called until it is whole.
pub fn part_path(file: &Path) -> PathBuf {
    beside(file, ".part")
}

/// Where it is kept how far it is.
pub fn map_path(file: &Path) -> PathBuf {
    beside(file, ".part.map")
}

/// Where its checksum goes.
pub fn sum_path(file: &Path) -> PathBuf {
    beside(file, ".sha256")
}

/// A file under way.
pub(super) struct FileTarget {
    file: File,
    packing: Option<zstd::bulk::Compressor<'static>>,
    /// Hashes what is packed, as long as all of it was seen.
    hashers: Option<Hashers>,
    pub map: SaveMap,
    map_path: PathBuf,
}

impl FileTarget {
    /// Begins at the end of what `map` says is there.
    pub(super) fn open(file: &Path, packing: Packing, map: SaveMap) -> io::Result<Self> {
        let path = part_path(file);
        let mut options = File::options();
        options.read(true).write(true).create(true).truncate(false);
        let opened = machine::open_own(&path, &mut options)?;
        let packing = match packing {
            Packing::Plain => None,
            Packing::Zst => Some(zstd::bulk::Compressor::new(LEVEL)?),
        };
        let there = match &packing {
            None => map.done,
            Some(_) => map.frames.iter().map(|frame| u64::from(*frame)).fold(0, u64::saturating_add),
        };
        if opened.metadata()?.len() < there {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "the file is shorter than its map says"));
        }
        opened.set_len(there)?;
        let hashers = (packing.is_some() && there == 0).then(|| Hashers::new([Algorithm::Sha256]));
        let mut target = Self { file: opened, packing, hashers, map, map_path: map_path(file) };
        target.file.seek(SeekFrom::End(0))?;
        target.note()?;
        Ok(target)
    }

    /// Takes the next bytes.
    pub(super) fn take(&mut self, bytes: &[u8]) -> io::Result<()> {
        match &mut self.packing {
            None => self.file.write_all(bytes)?,
            Some(packing) => {
                let frame = packing.compress(bytes)?;
                self.file.write_all(&frame)?;
                self.hashers.iter_mut().for_each(|hashers| hashers.update(&frame));
                self.map.frames.push(u32::try_from(frame.len()).map_err(|_| io::ErrorKind::InvalidData)?);
            }
        }
        self.map.done = self.map.done.saturating_add(bytes.len() as u64);
        Ok(())
    }

    /// Puts bytes in the place of zeros.
    pub(super) fn mend(&mut self, at: u64, bytes: &[u8]) -> io::Result<()> {
        self.file.seek(SeekFrom::Start(at))?;
        self.file.write_all(bytes)
    }

    /// Has all of it on the disk, and keeps how far that is.
    pub(super) fn note(&mut self) -> io::Result<()> {
        self.file.sync_data()?;
        self.map.keep(&self.map_path)
    }

    /// The same, with what could not be read: before, and by now.
    pub(super) fn note_unreadable(&mut self, before: &[Range<u64>], now: &[Range<u64>]) -> io::Result<()> {
        let mut all = [before, now].concat();
        all.sort_by_key(|range| range.start);
        self.map.unreadable = merged(all);
        self.note()
    }

    /// Ends a packed file with the table of its frames; tells its SHA-256 if all of it was seen.
    pub(super) fn end(mut self) -> io::Result<Option<String>> {
        if self.packing.is_some() {
            let sizes = (0u64..).map(|number| {
                let left = self.map.bytes.saturating_sub(number.saturating_mul(BLOCK_BYTES));
                u32::try_from(left.min(BLOCK_BYTES)).unwrap_or(u32::MAX)
            });
            let frames = self.map.frames.iter().zip(sizes);
            let frames: Vec<SeekEntry> =
                frames.map(|(packed, unpacked)| SeekEntry { packed: *packed, unpacked }).collect();
            self.file.seek(SeekFrom::End(0))?;
            let table = seek_table(&frames);
            self.file.write_all(&table)?;
            self.hashers.iter_mut().for_each(|hashers| hashers.update(&table));
        }
        self.file.sync_all()?;
        let sums = self.hashers.take().map(Hashers::finish);
        Ok(sums.and_then(|sums| sums.into_iter().next()).map(|sum| sum.hex))
    }
}
