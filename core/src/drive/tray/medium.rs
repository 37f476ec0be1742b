//! A simulated drive that is open: its backing file, and the faults between it and the job.

use std::collections::BTreeSet;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use super::{DriveSpec, Fault};
use crate::drive::DriveFault;

/// A corrupting fault spoils one byte in each stretch of this many.
const CORRUPT_EVERY: u64 = 512;

pub struct Medium {
    pub spec: DriveSpec,
    /// `None` reads as zeros: nothing was ever written.
    file: Option<Mutex<File>>,
    written: AtomicU64,
    away: Arc<Mutex<BTreeSet<String>>>,
}

/// The part of `at..at+len` that lies in `from..from+bytes`, as offsets from `at`.
fn overlap(at: u64, len: usize, from: u64, bytes: u64) -> Option<(usize, usize)> {
    let end = at.saturating_add(len as u64).min(from.saturating_add(bytes));
    let start = at.max(from);
    let inside = |place: u64| usize::try_from(place.saturating_sub(at)).ok();
    (start < end).then(|| inside(start).zip(inside(end))).flatten()
}

fn failed() -> DriveFault {
    io::Error::other("Input/output error").into()
}

impl Medium {
    pub fn new(spec: DriveSpec, file: Option<File>, away: Arc<Mutex<BTreeSet<String>>>) -> Self {
        Self { spec, file: file.map(Mutex::new), written: AtomicU64::new(0), away }
    }

    pub fn pull_out(&self) {
        self.away.lock().unwrap_or_else(PoisonError::into_inner).insert(self.spec.name.clone());
    }

    fn check_there(&self) -> Result<(), DriveFault> {
        let away = self.away.lock().unwrap_or_else(PoisonError::into_inner);
        if away.contains(&self.spec.name) { Err(DriveFault::Gone) } else { Ok(()) }
    }

    /// Sectors are all that a drive knows; the engine's mistakes are to show in tests, not on a bench.
    fn check_whole_sectors(&self, at: u64, len: usize) -> Result<(), DriveFault> {
        let sector = u64::from(self.spec.sector_bytes);
        let inside = at.checked_add(len as u64).is_some_and(|end| end <= self.spec.bytes);
        if at.is_multiple_of(sector) && (len as u64).is_multiple_of(sector) && inside {
            Ok(())
        } else {
            Err(io::Error::new(io::ErrorKind::InvalidInput, "not whole sectors of the drive").into())
        }
    }

    fn wait(&self, bytes: usize) {
        for fault in &self.spec.faults {
            if let Fault::Slow { bytes_per_second } = fault {
                std::thread::sleep(Duration::from_secs_f64(bytes as f64 / *bytes_per_second as f64));
            }
        }
    }

    /// Splits a range where a false capacity wraps round: offset in the range, true place, length.
    fn places(&self, at: u64, len: usize) -> Vec<(usize, u64, usize)> {
        let wrap = self.spec.faults.iter().find_map(|fault| match fault {
            Fault::Wrap { true_bytes } => Some(*true_bytes),
            _ => None,
        });
        let Some(size) = wrap else { return vec![(0, at, len)] };
        let mut parts = Vec::new();
        let mut done = 0;
        while done < len {
            let place = (at + done as u64) % size;
            let count = usize::try_from(size - place).unwrap_or(usize::MAX).min(len - done);
            parts.push((done, place, count));
            done += count;
        }
        parts
    }

    pub fn read(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
        self.check_there()?;
        self.check_whole_sectors(at, into.len())?;
        self.wait(into.len());
        for fault in &self.spec.faults {
            if let Fault::ReadError { at: from, bytes } = fault
                && overlap(at, into.len(), *from, *bytes).is_some()
            {
                return Err(failed());
            }
        }
        into.fill(0);
        let Some(file) = &self.file else { return Ok(()) };
        let mut file = file.lock().unwrap_or_else(PoisonError::into_inner);
        for (offset, place, len) in self.places(at, into.len()) {
            file.seek(SeekFrom::Start(place))?;
            let mut rest = into.get_mut(offset..offset + len).unwrap_or_default();
            while !rest.is_empty() {
                let count = file.read(rest)?;
                if count == 0 {
                    break;
                }
                rest = rest.get_mut(count..).unwrap_or_default();
            }
        }
        Ok(())
    }

    pub fn write(&self, at: u64, from: &[u8]) -> Result<(), DriveFault> {
        self.check_there()?;
        self.check_whole_sectors(at, from.len())?;
        self.wait(from.len());
        let before = self.written.fetch_add(from.len() as u64, Ordering::Relaxed);
        // How much of this request is taken before a fault ends it.
        let mut taken = from.len();
        let mut end = Ok(());
        for fault in &self.spec.faults {
            match fault {
                Fault::Unplug { after_bytes } => {
                    let left = usize::try_from(after_bytes.saturating_sub(before)).unwrap_or(usize::MAX);
                    if left < from.len() {
                        taken = taken.min(left);
                        end = Err(DriveFault::Gone);
                        self.pull_out();
                    }
                }
                Fault::WriteError { at: bad, bytes } => {
                    if let Some((start, _)) = overlap(at, from.len(), *bad, *bytes)
                        && start < taken
                    {
                        taken = start;
                        end = Err(failed());
                    }
                }
                _ => {}
            }
        }
        self.store(at, from.get(..taken).unwrap_or_default(), before)?;
        end
    }

    /// Puts bytes where the drive's faults let them go; it has taken `before` bytes so far.
    fn store(&self, at: u64, from: &[u8], before: u64) -> io::Result<()> {
        let Some(file) = &self.file else { return Err(io::ErrorKind::PermissionDenied.into()) };
        let mut file = file.lock().unwrap_or_else(PoisonError::into_inner);
        let mut bytes = from.to_vec();
        let mut kept = vec![(0, from.len())];
        for fault in &self.spec.faults {
            match fault {
                Fault::Corrupt { at: bad, bytes: length, after_bytes } if before >= *after_bytes => {
                    let Some((start, end)) = overlap(at, from.len(), *bad, *length) else { continue };
                    let spoilt = bytes.get_mut(start..end).unwrap_or_default();
                    spoilt.iter_mut().step_by(CORRUPT_EVERY as usize).for_each(|byte| *byte ^= 0x10);
                }
                Fault::Drop { at: bad, bytes: length } => {
                    let Some((start, end)) = overlap(at, from.len(), *bad, *length) else { continue };
                    kept = kept.into_iter().flat_map(|(a, b)| [(a, b.min(start)), (a.max(end), b)]).collect();
                }
                _ => {}
            }
        }
        for (start, end) in kept.into_iter().filter(|(start, end)| start < end) {
            for (offset, place, len) in self.places(at + start as u64, end - start) {
                file.seek(SeekFrom::Start(place))?;
                let part = start + offset;
                file.write_all(bytes.get(part..part + len).unwrap_or_default())?;
            }
        }
        Ok(())
    }

    pub fn sync(&self) -> Result<(), DriveFault> {
        self.check_there()?;
        let Some(file) = &self.file else { return Ok(()) };
        Ok(file.lock().unwrap_or_else(PoisonError::into_inner).sync_data()?)
    }
}
