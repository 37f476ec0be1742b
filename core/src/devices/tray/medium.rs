//! A simulated drive that is open: its backing file, and the faults between it and the job.

use std::collections::VecDeque;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use crate::devices::DriveFault;
use crate::devices::tray::sockets::Sockets;
use crate::devices::tray::{DriveSpec, SimulatedFault};

/// A corrupting fault spoils one byte in each stretch of this many.
const CORRUPT_EVERY: u64 = 512;

pub(super) struct Medium {
    pub spec: DriveSpec,
    /// `None` reads as zeros: nothing was ever written.
    file: Option<Mutex<Backing>>,
    written: AtomicU64,
    /// How often each fault has struck.
    strikes: Vec<AtomicU64>,
    /// A slow drive does one thing at a time.
    line: Mutex<()>,
    /// How often it was asked for what it has no memory for.
    answers: AtomicU64,
    /// What was written last, the oldest first.
    remembered: Mutex<VecDeque<(u64, Vec<u8>)>>,
    sockets: Sockets,
}

/// Whether what is written can still be lost with the power.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Cache {
    None,
    Volatile,
}

/// The backing file, and what its volatile cache would lose.
struct Backing {
    file: File,
    /// What lay in each place before it was written since the last flush, in order.
    unflushed: Vec<(u64, Vec<u8>)>,
}

impl Backing {
    fn read(&mut self, place: u64, mut into: &mut [u8]) -> io::Result<()> {
        self.file.seek(SeekFrom::Start(place))?;
        while !into.is_empty() {
            let count = self.file.read(into)?;
            if count == 0 {
                break;
            }
            into = into.get_mut(count..).unwrap_or_default();
        }
        Ok(())
    }

    fn write(&mut self, place: u64, from: &[u8], cache: Cache) -> io::Result<()> {
        if cache == Cache::Volatile {
            let mut before = vec![0; from.len()];
            self.read(place, &mut before)?;
            self.unflushed.push((place, before));
        }
        self.file.seek(SeekFrom::Start(place))?;
        self.file.write_all(from)
    }

    /// What was not flushed is gone.
    fn lose(&mut self) -> io::Result<()> {
        for (place, before) in std::mem::take(&mut self.unflushed).into_iter().rev() {
            self.write(place, &before, Cache::None)?;
        }
        Ok(())
    }
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
    pub(super) fn new(spec: DriveSpec, file: Option<File>, sockets: Sockets) -> Self {
        sockets.open(&spec.name);
        let strikes = spec.faults.iter().map(|_| AtomicU64::new(0)).collect();
        let file = file.map(|file| Mutex::new(Backing { file, unflushed: Vec::new() }));
        Self {
            spec,
            file,
            written: AtomicU64::new(0),
            answers: AtomicU64::new(0),
            strikes,
            line: Mutex::new(()),
            remembered: Mutex::default(),
            sockets,
        }
    }

    /// Whether the fault with this number strikes once more, if it does so only so many times.
    fn strikes(&self, number: usize, times: Option<u64>) -> bool {
        let struck = self.strikes.get(number).map_or(0, |strikes| strikes.fetch_add(1, Ordering::Relaxed));
        times.is_none_or(|times| struck < times)
    }

    pub(super) fn pull_out(&self) {
        self.sockets.pull_out(&self.spec.name);
    }

    fn check_there(&self) -> Result<(), DriveFault> {
        if self.sockets.is_away(&self.spec.name) { Err(DriveFault::Gone) } else { Ok(()) }
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
            if let SimulatedFault::Slow { bytes_per_second } = fault {
                let _line = self.line.lock().unwrap_or_else(PoisonError::into_inner);
                std::thread::sleep(Duration::from_secs_f64(bytes as f64 / *bytes_per_second as f64));
            }
        }
    }

    /// Splits a range where a false capacity wraps round or repeats: offset in the range, true place, length.
    fn places(&self, at: u64, len: usize) -> Vec<(usize, u64, usize)> {
        // Behind its size, a drive shows again what lies from the first number on.
        let round = self.spec.faults.iter().find_map(|fault| match fault {
            SimulatedFault::Wrap { true_bytes } => Some((0, *true_bytes)),
            SimulatedFault::Repeat { true_bytes, part_bytes } => {
                Some((true_bytes.saturating_sub(*part_bytes), *true_bytes))
            }
            _ => None,
        });
        let Some((again, size)) = round else { return vec![(0, at, len)] };
        let mut parts = Vec::new();
        let mut done = 0;
        while done < len {
            let wanted = at + done as u64;
            let place = if wanted < size { wanted } else { again + (wanted - size) % (size - again) };
            let count = usize::try_from(size - place).unwrap_or(usize::MAX).min(len - done);
            parts.push((done, place, count));
            done += count;
        }
        parts
    }

    pub(super) fn read(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
        self.check_there()?;
        self.check_whole_sectors(at, into.len())?;
        self.wait(into.len());
        for (number, fault) in self.spec.faults.iter().enumerate() {
            if let SimulatedFault::ReadError { at: from, bytes, times } = fault
                && overlap(at, into.len(), *from, *bytes).is_some()
                && self.strikes(number, *times)
            {
                return Err(failed());
            }
        }
        into.fill(0);
        let Some(file) = &self.file else { return Ok(()) };
        let mut file = file.lock().unwrap_or_else(PoisonError::into_inner);
        for (offset, place, len) in self.places(at, into.len()) {
            file.read(place, into.get_mut(offset..offset + len).unwrap_or_default())?;
        }
        drop(file);
        self.make_up(at, into);
        self.remind(at, into);
        Ok(())
    }

    /// What a drive answers that has no memory for it.
    fn make_up(&self, at: u64, into: &mut [u8]) {
        let end = self.spec.faults.iter().find_map(|fault| match fault {
            SimulatedFault::Random { true_bytes } => Some(*true_bytes),
            _ => None,
        });
        let Some((start, end)) = end.and_then(|end| overlap(at, into.len(), end, u64::MAX - end)) else { return };
        let answered = self.answers.fetch_add(1, Ordering::Relaxed);
        let mut answer = blake3::Hasher::new();
        answer.update(&at.to_le_bytes()).update(&answered.to_le_bytes());
        answer.finalize_xof().fill(into.get_mut(start..end).unwrap_or_default());
    }

    /// How much a cache of the drive remembers.
    fn memory(&self) -> Option<u64> {
        self.spec.faults.iter().find_map(|fault| match fault {
            SimulatedFault::Remember { bytes } => Some(*bytes),
            _ => None,
        })
    }

    fn remember(&self, at: u64, from: &[u8]) {
        let Some(most) = self.memory() else { return };
        let mut remembered = self.remembered.lock().unwrap_or_else(PoisonError::into_inner);
        remembered.push_back((at, from.to_vec()));
        let mut held: u64 = remembered.iter().map(|(_, bytes)| bytes.len() as u64).sum();
        while held > most
            && let Some((_, oldest)) = remembered.pop_front()
        {
            held -= oldest.len() as u64;
        }
    }

    fn remind(&self, at: u64, into: &mut [u8]) {
        for (from, bytes) in self.remembered.lock().unwrap_or_else(PoisonError::into_inner).iter() {
            let Some((start, end)) = overlap(at, into.len(), *from, bytes.len() as u64) else { continue };
            let skipped = usize::try_from((at + start as u64) - from).unwrap_or(usize::MAX);
            let part = bytes.get(skipped..skipped + (end - start)).unwrap_or_default();
            into.get_mut(start..end).unwrap_or_default().copy_from_slice(part);
        }
    }

    pub(super) fn write(&self, at: u64, from: &[u8]) -> Result<(), DriveFault> {
        self.check_there()?;
        self.check_whole_sectors(at, from.len())?;
        self.wait(from.len());
        let before = self.written.fetch_add(from.len() as u64, Ordering::Relaxed);
        // How much of this request is taken before a fault ends it.
        let mut taken = from.len();
        let mut end = Ok(());
        let mut is_pulled_out = false;
        for (number, fault) in self.spec.faults.iter().enumerate() {
            match fault {
                SimulatedFault::Stall { after_bytes, milliseconds }
                    if before >= *after_bytes && self.strikes(number, Some(1)) =>
                {
                    std::thread::sleep(Duration::from_millis(*milliseconds));
                }
                SimulatedFault::Unplug { after_bytes } => {
                    let left = usize::try_from(after_bytes.saturating_sub(before)).unwrap_or(usize::MAX);
                    if left < from.len() {
                        taken = taken.min(left);
                        end = Err(DriveFault::Gone);
                        is_pulled_out = true;
                    }
                }
                SimulatedFault::WriteError { at: bad, bytes, times } => {
                    if let Some((start, _)) = overlap(at, from.len(), *bad, *bytes)
                        && start < taken
                        && self.strikes(number, *times)
                    {
                        taken = start;
                        end = Err(failed());
                    }
                }
                _ => {}
            }
        }
        self.store(at, from.get(..taken).unwrap_or_default(), before)?;
        self.remember(at, from.get(..taken).unwrap_or_default());
        if is_pulled_out {
            self.pull_out();
            if let Some(file) = &self.file {
                file.lock().unwrap_or_else(PoisonError::into_inner).lose()?;
            }
        }
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
                SimulatedFault::Corrupt { at: bad, bytes: length, after_bytes } if before >= *after_bytes => {
                    let Some((start, end)) = overlap(at, from.len(), *bad, *length) else { continue };
                    let spoilt = bytes.get_mut(start..end).unwrap_or_default();
                    spoilt.iter_mut().step_by(CORRUPT_EVERY as usize).for_each(|byte| *byte ^= 0x10);
                }
                SimulatedFault::Repeat { true_bytes: end, .. } | SimulatedFault::Random { true_bytes: end } => {
                    let Some((start, _)) = overlap(at, from.len(), *end, u64::MAX - end) else { continue };
                    kept = kept.into_iter().map(|(a, b)| (a, b.min(start))).collect();
                }
                SimulatedFault::Drop { at: bad, bytes: length } => {
                    let Some((start, end)) = overlap(at, from.len(), *bad, *length) else { continue };
                    kept = kept.into_iter().flat_map(|(a, b)| [(a, b.min(start)), (a.max(end), b)]).collect();
                }
                _ => {}
            }
        }
        let cache = if self.spec.volatile_cache { Cache::Volatile } else { Cache::None };
        for (start, end) in kept.into_iter().filter(|(start, end)| start < end) {
            for (offset, place, len) in self.places(at + start as u64, end - start) {
                let part = start + offset;
                file.write(place, bytes.get(part..part + len).unwrap_or_default(), cache)?;
            }
        }
        Ok(())
    }

    pub(super) fn sync(&self) -> Result<(), DriveFault> {
        self.check_there()?;
        let Some(file) = &self.file else { return Ok(()) };
        let mut file = file.lock().unwrap_or_else(PoisonError::into_inner);
        file.unflushed.clear();
        Ok(file.file.sync_data()?)
    }
}

impl Drop for Medium {
    fn drop(&mut self) {
        self.sockets.close(&self.spec.name);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What a drive of 8 KiB with these faults reads after `writes`, and what its memory holds.
    fn after(faults: Vec<SimulatedFault>, writes: &[(u64, u8)], at: u64) -> (Vec<u8>, Vec<u8>) {
        let text = "[[drive]]\nname = \"a\"\nbytes = 8192\nbus = \"usb\"\n";
        let mut spec = crate::devices::tray::Descriptor::parse(text).unwrap().drives.remove(0);
        spec.faults = faults;
        let file = tempfile::tempfile().unwrap();
        let medium = Medium::new(spec, Some(file.try_clone().unwrap()), Sockets::default());
        for (at, byte) in writes {
            medium.write(*at, &[*byte; 512]).unwrap();
        }
        let mut read = vec![0; 512];
        medium.read(at, &mut read).unwrap();
        let mut memory = Vec::new();
        (&file).seek(SeekFrom::Start(0)).unwrap();
        (&file).read_to_end(&mut memory).unwrap();
        (read, memory)
    }

    #[test]
    fn a_drive_repeats_its_last_part_makes_things_up_or_remembers() {
        let repeat = || vec![SimulatedFault::Repeat { true_bytes: 4096, part_bytes: 1024 }];
        let writes = [(3072, 1), (3584, 2), (4096, 9), (7680, 9)];
        assert_eq!([4096, 4608, 5120].map(|at| after(repeat(), &writes, at).0[0]), [1, 2, 1]);
        assert_eq!(after(repeat(), &writes, 0).1.len(), 4096, "nothing was written behind its end");
        let random = || vec![SimulatedFault::Random { true_bytes: 4096 }];
        let (first, memory) = after(random(), &[(0, 3), (4096, 9)], 4096);
        assert!(first != [9; 512] && first.iter().any(|byte| *byte != first[0]) && memory.len() == 512);
        assert_eq!(after(random(), &[(0, 3)], 0).0, [3; 512]);
        let dropped = SimulatedFault::Drop { at: 4096, bytes: 4096 };
        let remembered = |bytes| vec![dropped, SimulatedFault::Remember { bytes }];
        let writes = [(4096, 5), (0, 6), (512, 7)];
        assert_eq!(after(remembered(1536), &writes, 4096).0, [5; 512], "as long as its cache lasts");
        assert_eq!(after(remembered(1024), &writes, 4096).0, [0; 512]);
        assert_eq!(after(remembered(1024), &writes, 512).0, [7; 512]);
    }
}
