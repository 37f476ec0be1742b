//! A surface check: all of the drive is read, and nothing is changed.

use std::ops::Range;
use std::time::{Duration, Instant};

use crate::devices::{AlignedBuf, DriveFault, DriveIo};
use crate::hash::BLOCK_BYTES;
use crate::job::layout::length;
use crate::job::teller::Teller;
use crate::job::watch::Shielded;
use crate::job::watchdog::{Heartbeat, Watched, watched};
use crate::job::workers::{TELL, contained};
use crate::job::{Event, JobFault, Pacing, Watcher};
use crate::record::{Area, AreaState, Gauged, SpeedAt, Stage, Trust};
use crate::stop::Cancel;

/// Stretches of the drive of which each has its speed.
const STRETCHES: u64 = 128;
/// What can't be read is read again in pieces of this many bytes, to tell where it lies.
const SMALLER: u64 = 64 << 10;
/// A drive is given up after so many pieces that can't be read: each may take half a minute.
const UNREADABLE_MOST: usize = 64;
/// A block is slow that takes so many times as long as the usual one, and so long.
const SLOWER: u32 = 8;
const SLOW: Duration = Duration::from_millis(500);

/// Reads all of a drive.
///
/// # Errors
/// When the drive is gone, or `cancel` says stop.
pub fn surface(drive: &dyn DriveIo, cancel: &Cancel, watcher: &dyn Watcher) -> Result<Gauged, JobFault> {
    let (heartbeat, watcher) = (Heartbeat::new(), &Shielded::new(watcher));
    let drive = &Watched { drive, heartbeat: &heartbeat };
    watched(std::slice::from_ref(&heartbeat), Pacing::default().stall_after, watcher, || {
        contained(|| read_all(drive, cancel, watcher)).unwrap_or_else(|died| Err(died.into()))
    })
}

fn read_all(drive: &dyn DriveIo, cancel: &Cancel, watcher: &dyn Watcher) -> Result<Gauged, JobFault> {
    let sector = u64::from(drive.sector_bytes().max(1));
    let claimed_bytes = drive.bytes();
    let end = claimed_bytes.saturating_sub(claimed_bytes.checked_rem(sector).unwrap_or_default());
    watcher.heard(0, &Event::Began { stage: Stage::Surface, bytes: Some(end) });
    let mut teller = Teller::of(watcher, 0, Stage::Surface);
    let mut reading = Reading { drive, buffer: AlignedBuf::new(BLOCK_BYTES as usize), failing: Vec::new(), pieces: 0 };
    let mut blocks: Vec<(u64, Duration)> = Vec::new();
    let (mut at, mut told) = (0u64, Instant::now());
    while at < end && reading.pieces < UNREADABLE_MOST {
        if cancel.is_set() {
            return Err(JobFault::Stopped { stage: Stage::Surface });
        }
        let block = at..at.saturating_add(BLOCK_BYTES).min(end);
        let began = Instant::now();
        if reading.read(&block)? {
            blocks.push((at, began.elapsed()));
        }
        at = block.end;
        if told.elapsed() >= TELL {
            teller.tell(at);
            told = Instant::now();
        }
    }
    teller.tell(at);
    watcher.heard(0, &Event::Ended { stage: Stage::Surface });
    let mut areas = reading.failing;
    let verdict = match (areas.is_empty(), at < end) {
        (true, _) => Trust::Sound,
        (false, _) => Trust::Failing,
    };
    areas.extend(slow(&blocks));
    areas.sort_by_key(|area| area.offset);
    let read = speeds(&blocks, end);
    Ok(Gauged {
        claimed_bytes,
        true_bytes: Some(claimed_bytes),
        verdict,
        areas: merged(areas),
        write: Vec::new(),
        read,
    })
}

struct Reading<'a> {
    drive: &'a dyn DriveIo,
    buffer: AlignedBuf,
    failing: Vec<Area>,
    /// How many pieces could not be read.
    pieces: usize,
}

impl Reading<'_> {
    /// Reads a stretch; where that fails, in smaller pieces. Tells whether it could be read at once.
    fn read(&mut self, range: &Range<u64>) -> Result<bool, JobFault> {
        if self.take(range)? {
            return Ok(true);
        }
        let mut at = range.start;
        while at < range.end && self.pieces < UNREADABLE_MOST {
            let piece = at..at.saturating_add(SMALLER).min(range.end);
            if !self.take(&piece)? {
                self.failing.push(Area { offset: at, bytes: length(&piece), state: AreaState::Failing });
                self.pieces = self.pieces.saturating_add(1);
            }
            at = piece.end;
        }
        Ok(false)
    }

    fn take(&mut self, range: &Range<u64>) -> Result<bool, JobFault> {
        let (at, bytes) = (range.start, length(range));
        let into = self.buffer.get_mut(..usize::try_from(bytes).unwrap_or_default()).unwrap_or_default();
        match self.drive.read_at(at, into) {
            Ok(()) => Ok(true),
            Err(source @ DriveFault::Gone) => Err(JobFault::Read { at, bytes, source }),
            Err(DriveFault::Failed(_)) => Ok(false),
        }
    }
}

/// Blocks that took far longer than is usual on this drive.
fn slow(blocks: &[(u64, Duration)]) -> Vec<Area> {
    let mut times: Vec<Duration> = blocks.iter().map(|(_, took)| *took).collect();
    times.sort_unstable();
    let usual = times.get(times.len() / 2).copied().unwrap_or_default();
    let is_slow = |took: Duration| took > SLOW && took > usual.saturating_mul(SLOWER);
    let slow = blocks.iter().filter(|(_, took)| is_slow(*took));
    slow.map(|(at, _)| Area { offset: *at, bytes: BLOCK_BYTES, state: AreaState::Slow }).collect()
}

/// Areas of one kind that touch become one.
fn merged(areas: Vec<Area>) -> Vec<Area> {
    let mut all: Vec<Area> = Vec::new();
    for area in areas {
        match all.last_mut() {
            Some(last) if last.state == area.state && last.offset.saturating_add(last.bytes) == area.offset => {
                last.bytes = last.bytes.saturating_add(area.bytes);
            }
            _ => all.push(area),
        }
    }
    all
}

/// The speed of each stretch of a drive of this size.
fn speeds(blocks: &[(u64, Duration)], end: u64) -> Vec<SpeedAt> {
    let stretch = end.div_ceil(STRETCHES).max(BLOCK_BYTES);
    let number = |at: u64| at.checked_div(stretch).unwrap_or_default();
    let of_stretch = |blocks: &[(u64, Duration)]| {
        let seconds: f64 = blocks.iter().map(|(_, took)| took.as_secs_f64()).sum();
        let bytes = (blocks.len() as u64).saturating_mul(BLOCK_BYTES);
        let bytes_per_second = (bytes as f64 / seconds.max(1e-9)) as u64;
        SpeedAt { offset: blocks.first().map_or(0, |(at, _)| *at), bytes_per_second }
    };
    blocks.chunk_by(|(a, _), (b, _)| number(*a) == number(*b)).map(of_stretch).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn areas_that_touch_are_one_and_what_is_far_slower_than_usual_is_slow() {
        let area = |offset, bytes, state| Area { offset, bytes, state };
        use AreaState::{Failing, Slow};
        let apart = vec![area(0, 4, Failing), area(4, 4, Failing), area(8, 4, Slow), area(16, 4, Slow)];
        assert_eq!(merged(apart), [area(0, 8, Failing), area(8, 4, Slow), area(16, 4, Slow)]);
        let blocks = |times: &[u64]| -> Vec<(u64, Duration)> {
            (0..).step_by(BLOCK_BYTES as usize).zip(times.iter().map(|ms| Duration::from_millis(*ms))).collect()
        };
        let places =
            |times: &[u64]| slow(&blocks(times)).iter().map(|area| area.offset / BLOCK_BYTES).collect::<Vec<_>>();
        assert_eq!(places(&[40, 40, 900, 40, 41, 321, 700]), [2, 6]);
        // On a drive that is slow everywhere, nothing is.
        assert_eq!(places(&[900, 1000, 900, 2000]), [0u64; 0]);
    }

    #[test]
    fn a_large_drive_has_as_many_speeds_as_a_plot_can_show() {
        let blocks: Vec<_> =
            (0..1280).map(|block| (block * BLOCK_BYTES, Duration::from_millis(block / 10 + 1))).collect();
        let told = speeds(&blocks, 1280 * BLOCK_BYTES);
        assert_eq!(told.len(), 128);
        let is =
            |one: SpeedAt, offset: u64, speed: u64| one.offset == offset && one.bytes_per_second.abs_diff(speed) <= 1;
        assert!(is(told[0], 0, BLOCK_BYTES * 1000), "{:?}", told[0]);
        assert!(is(told[127], 1270 * BLOCK_BYTES, BLOCK_BYTES * 1000 / 128), "{:?}", told[127]);
        assert_eq!(speeds(&blocks[..3], 3 * BLOCK_BYTES).len(), 3, "and a small one a speed for each block");
    }
}
