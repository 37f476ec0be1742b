//! From the drive to the file: begun, gone on with, mended, and ended.

use std::fs::File;
use std::io;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::thread;
use std::time::{Duration, Instant};

use crate::devices::{AlignedBuf, DriveFault, DriveIo};
use crate::drive::Tag;
use crate::hash::{Algorithm, BLOCK_BYTES, Hashers};
use crate::job::block_queue::{BlockQueue, Next};
use crate::job::image_reader::ImageReader;
use crate::job::save::drive_source::{DriveSource, Gaps, ReadAhead};
use crate::job::save::map::SaveMap;
use crate::job::save::target::{FileTarget, Packing, map_path, part_path, sum_path};
use crate::job::source::Checked;
use crate::job::teller::Teller;
use crate::job::watch::Shielded;
use crate::job::watchdog::{Heartbeat, Watched, watched};
use crate::job::workers::contained;
use crate::job::{Event, ImageFault, JobFault, Pacing, Watcher};
use crate::machine;
use crate::record::Stage;
use crate::stop::Cancel;

/// What is written is on the disk after so long at the latest.
const NOTED_EVERY: Duration = Duration::from_secs(2);
/// Read at once where the file is hashed or mended, in bytes.
const PIECE: usize = 1 << 20;

/// What becomes of what can't be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Filling {
    /// The file is not whole, and a later run tries those places again.
    None,
    /// Zeros take its place.
    Zeros,
}

/// What is to be saved, and where.
pub struct SaveOrder<'a> {
    /// The drive's tag.
    pub drive: &'a Tag,
    /// How much of it, in bytes from its start.
    pub bytes: u64,
    /// The file; nothing has its name yet.
    pub file: &'a Path,
    /// Whether it is packed.
    pub packing: Packing,
    /// What becomes of what can't be read.
    pub filling: Filling,
}

/// How it went.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Saved {
    /// Where it is: under its name, or as a part.
    pub file: PathBuf,
    /// How much of the drive is in it, in bytes.
    pub bytes: u64,
    /// Length of the file.
    pub file_bytes: u64,
    /// SHA-256 of the file; `None` of a part.
    pub sha256: Option<String>,
    /// What could not be read, in order.
    pub unreadable: Vec<Range<u64>>,
    /// So much was there from an earlier run.
    pub kept_bytes: u64,
}

/// Saves a drive.
///
/// # Errors
/// When the drive is gone or the file can't be written, or `cancel` says stop: what is there is gone on with by the next run.
pub fn save(
    order: &SaveOrder<'_>,
    drive: &dyn DriveIo,
    cancel: &Cancel,
    watcher: &dyn Watcher,
) -> Result<Saved, JobFault> {
    let (heartbeat, watcher) = (Heartbeat::new(), &Shielded::new(watcher));
    let drive = &Watched { drive, heartbeat: &heartbeat };
    watched(std::slice::from_ref(&heartbeat), Pacing::default().stall_after, watcher, || {
        let saved = contained(|| Saving { order, drive, cancel, watcher }.run());
        saved.unwrap_or_else(|died| Err(died.into())).map_err(of_drive)
    })
}

/// What is wrong with the source is wrong with the drive.
fn of_drive(fault: JobFault) -> JobFault {
    let JobFault::Image(image) = &fault else { return fault };
    let ImageFault::Read { at, source } = &**image else { return fault };
    let source = read_fault(io::Error::new(source.kind(), source.to_string()));
    JobFault::Read { at: *at, bytes: BLOCK_BYTES, source }
}

/// What a [`DriveSource`] could not do.
fn read_fault(error: io::Error) -> DriveFault {
    if error.kind() == io::ErrorKind::NotConnected { DriveFault::Gone } else { DriveFault::Failed(error) }
}

fn file_fault(source: io::Error) -> JobFault {
    JobFault::File { source }
}

struct Saving<'a> {
    order: &'a SaveOrder<'a>,
    drive: &'a dyn DriveIo,
    cancel: &'a Cancel,
    watcher: &'a dyn Watcher,
}

impl Saving<'_> {
    fn run(&self) -> Result<Saved, JobFault> {
        let SaveOrder { bytes, file, packing, .. } = *self.order;
        let mut target = FileTarget::open(file, packing, self.earlier()?).map_err(file_fault)?;
        let kept_bytes = target.map.done;
        self.watcher.heard(0, &Event::Began { stage: Stage::Save, bytes: Some(bytes) });
        if kept_bytes > 0 {
            self.watcher.heard(0, &Event::GoingOn { from: kept_bytes });
        }
        let again = target.map.unreadable.clone();
        let source = DriveSource::new(self.drive, bytes, Gaps::Zeros);
        let sha256 = self.copy(&source, &again, &mut target)?;
        let mut unreadable = self.mend(&again, &mut target)?;
        unreadable.extend(source.unreadable());
        target.note_unreadable(&unreadable, &[]).map_err(file_fault)?;
        self.watcher.heard(0, &Event::Ended { stage: Stage::Save });
        let unreadable = target.map.unreadable.clone();
        let is_kept_apart = !unreadable.is_empty() && self.order.filling == Filling::None;
        if is_kept_apart {
            let part = part_path(file);
            let file_bytes = part.metadata().map_or(0, |found| found.len());
            return Ok(Saved { file: part, bytes, file_bytes, sha256: None, unreadable, kept_bytes });
        }
        let packed_sha256 = target.end().map_err(file_fault)?;
        // What was read in one go was hashed on the way.
        let sha256 = match packed_sha256.or(sha256.filter(|_| kept_bytes == 0 && again.is_empty())) {
            Some(sha256) => sha256,
            None => self.hash(&part_path(file))?,
        };
        let file_bytes = self.name_it(&sha256).map_err(file_fault)?;
        Ok(Saved { file: file.to_owned(), bytes, file_bytes, sha256: Some(sha256), unreadable, kept_bytes })
    }

    /// What an earlier run left, as far as it is about the same.
    fn earlier(&self) -> Result<SaveMap, JobFault> {
        let SaveOrder { drive, bytes, file, packing, .. } = *self.order;
        let fresh = SaveMap::begin(drive, self.drive.bytes(), bytes);
        // The part file is created empty before the drive is read.
        let is_begun = part_path(file).metadata().is_ok_and(|part| part.len() > 0) || map_path(file).exists();
        if !is_begun {
            return Ok(fresh);
        }
        let found = SaveMap::find(&map_path(file)).map_err(file_fault)?;
        let frames =
            if packing == Packing::Zst { found.as_ref().map_or(0, |map| map.done.div_ceil(BLOCK_BYTES)) } else { 0 };
        let fits = |found: &SaveMap| found.is_like(&fresh) && found.frames.len() as u64 == frames;
        let Some(mut map) = found.filter(fits) else {
            return Err(JobFault::OtherPart { file: part_path(file) });
        };
        // Whole blocks alone are gone on with: in them it is read.
        map.done = map.done.saturating_sub(map.done.checked_rem(BLOCK_BYTES).filter(|_| map.done < bytes).unwrap_or(0));
        if packing == Packing::Zst {
            // A frame can't be mended: from the first that is to be, all are made anew.
            let first = map.unreadable.first().map_or(map.done, |range| range.start.min(map.done));
            let blocks = usize::try_from(first / BLOCK_BYTES).unwrap_or(usize::MAX);
            let whole = first >= bytes && map.unreadable.is_empty();
            map.frames.truncate(if whole { usize::MAX } else { blocks });
            map.done = if whole { map.done } else { (map.frames.len() as u64).saturating_mul(BLOCK_BYTES).min(first) };
            map.unreadable.clear();
        }
        Ok(map)
    }

    /// Reads what is missing at the end; gives the SHA-256 of what it read.
    fn copy(
        &self,
        source: &DriveSource<'_>,
        again: &[Range<u64>],
        target: &mut FileTarget,
    ) -> Result<Option<String>, JobFault> {
        let from = target.map.done;
        if from >= self.order.bytes {
            return Ok(None);
        }
        let queue = &BlockQueue::of_one();
        let checked = Checked::default();
        let first = usize::try_from(from / BLOCK_BYTES).unwrap_or(usize::MAX);
        // What is packed is hashed as it is written.
        let is_hashed = from == 0 && self.order.packing == Packing::Plain;
        let mut teller = Teller::of(self.watcher, 0, Stage::Save);
        let mut noted = Instant::now();
        let mut take = || {
            while let Next::Block(block) = queue.next(0) {
                if self.cancel.is_set() {
                    break;
                }
                // The first block is read in any case, whether it is there or not.
                if block.range().start < from {
                    continue;
                }
                target.take(block.part(&block.range())).map_err(file_fault)?;
                teller.tell(target.map.done);
                if noted.elapsed() >= NOTED_EVERY {
                    target.note_unreadable(again, &source.unreadable()).map_err(file_fault)?;
                    noted = Instant::now();
                }
            }
            target.note_unreadable(again, &source.unreadable()).map_err(file_fault)?;
            if self.cancel.is_set() { Err(JobFault::Stopped { stage: Stage::Save }) } else { Ok(()) }
        };
        let ((), end) = thread::scope(|scope| {
            let reading = ImageReader {
                source: &ReadAhead { source, scope },
                checked: &checked,
                trusts_check: false,
                is_whole: is_hashed,
                from: first,
                withheld_from: usize::MAX,
            };
            reading.beside(queue, self.cancel, &mut take)
        })?;
        Ok(end.sha256)
    }

    /// Reads again what could not be read before; gives what still can't.
    fn mend(&self, again: &[Range<u64>], target: &mut FileTarget) -> Result<Vec<Range<u64>>, JobFault> {
        let source = DriveSource::new(self.drive, self.order.bytes, Gaps::Zeros);
        let sector = u64::from(self.drive.sector_bytes().max(1));
        let mut buffer = AlignedBuf::new(PIECE);
        for range in again {
            let mut at = range.start;
            while at < range.end {
                if self.cancel.is_set() {
                    return Err(JobFault::Stopped { stage: Stage::Save });
                }
                let bytes = range.end.saturating_sub(at).min(PIECE as u64);
                let whole = bytes.checked_next_multiple_of(sector).unwrap_or(bytes);
                source
                    .fill(at, &mut buffer, usize::try_from(whole).unwrap_or(PIECE))
                    .map_err(|error| JobFault::Read { at, bytes, source: read_fault(error) })?;
                let read = buffer.get(..usize::try_from(bytes).unwrap_or(PIECE)).unwrap_or_default();
                target.mend(at, read).map_err(file_fault)?;
                at = at.saturating_add(bytes);
            }
        }
        Ok(source.unreadable())
    }

    fn hash(&self, path: &Path) -> Result<String, JobFault> {
        let mut hashers = Hashers::new([Algorithm::Sha256]);
        let mut file = File::open(path).map_err(file_fault)?;
        let mut buffer = vec![0; PIECE];
        loop {
            if self.cancel.is_set() {
                return Err(JobFault::Stopped { stage: Stage::Save });
            }
            let count = io::Read::read(&mut file, &mut buffer).map_err(file_fault)?;
            if count == 0 {
                break;
            }
            hashers.update(buffer.get(..count).unwrap_or_default());
        }
        Ok(hashers.finish().into_iter().next().map_or(String::new(), |sum| sum.hex))
    }

    /// Gives the file its name, and its checksum a file; tells its length.
    fn name_it(&self, sha256: &str) -> io::Result<u64> {
        let file = self.order.file;
        let name = file.file_name().unwrap_or_default().to_string_lossy();
        machine::put_file(&sum_path(file), format!("{sha256}  {name}\n").as_bytes(), machine::Existing::Replaced)?;
        machine::rename_without_replacing(&part_path(file), file)?;
        machine::remove_own(&map_path(file))?;
        Ok(file.metadata()?.len())
    }
}
