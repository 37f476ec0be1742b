//! A drive as a source: its bytes in their order, and what of them can't be read.

use std::io::{self, Read};
use std::ops::Range;
use std::sync::Mutex;
use std::sync::mpsc::sync_channel;
use std::thread::Scope;

use crate::bytes::ReadAt;
use crate::devices::{AlignedBuf, DriveFault, DriveIo, Sectors};
use crate::job::layout::length;
use crate::job::lock::lock;
use crate::job::source::{Access, Source};

/// Read at once, in bytes.
const REQUEST: usize = 2 << 20;
/// Buffers beside the one that is being taken: one is read into, one waits.
const REQUESTS_AHEAD: usize = 2;
/// Of a stretch that can't be read, so many pieces are tried that fail: each may take half a minute.
const FAILURES_MOST: usize = 48;
/// Most stretches that can't be read of one drive; behind them it is given up.
const UNREADABLE_MOST: usize = 4096;

/// What becomes of what can't be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Gaps {
    /// Nothing comes any more.
    Refused,
    /// Zeros come in its place, and it is noted.
    Zeros,
}

/// The first so many bytes of a drive.
pub struct DriveSource<'a> {
    drive: &'a dyn DriveIo,
    sectors: Sectors<'a>,
    bytes: u64,
    gaps: Gaps,
    unreadable: Mutex<Vec<Range<u64>>>,
}

impl<'a> DriveSource<'a> {
    /// Of an open drive.
    pub fn new(drive: &'a dyn DriveIo, bytes: u64, gaps: Gaps) -> Self {
        let bytes = bytes.min(drive.bytes());
        Self { drive, sectors: Sectors::of(drive), bytes, gaps, unreadable: Mutex::default() }
    }

    /// What could not be read so far, in order; zeros were given in its place.
    pub fn unreadable(&self) -> Vec<Range<u64>> {
        let inside = |range: &Range<u64>| range.start..range.end.min(self.bytes);
        let mut all: Vec<Range<u64>> = lock(&self.unreadable).iter().map(inside).collect();
        all.retain(|range| !range.is_empty());
        all.sort_by_key(|range| range.start);
        merged(all)
    }

    /// Fills `into` from byte `at` on; what can't be read becomes zeros, and is noted.
    pub(super) fn fill(&self, at: u64, into: &mut AlignedBuf, bytes: usize) -> io::Result<()> {
        let whole = into.get_mut(..bytes).unwrap_or_default();
        match self.drive.read_at(at, whole) {
            Ok(()) => return Ok(()),
            Err(DriveFault::Gone) => return Err(gone()),
            Err(DriveFault::Failed(error)) => {
                if self.gaps == Gaps::Refused || lock(&self.unreadable).len() >= UNREADABLE_MOST {
                    return Err(error);
                }
            }
        }
        whole.fill(0);
        let bad = self.rescue(at, whole)?;
        lock(&self.unreadable).extend(bad);
        Ok(())
    }

    /// Reads what can be read of a stretch, in smaller and smaller pieces, the larger ones first: so both sides of what can't be read
    /// come before it is closed in on. Gives what is left.
    fn rescue(&self, at: u64, into: &mut [u8]) -> io::Result<Vec<Range<u64>>> {
        let sector = u64::from(self.drive.sector_bytes().max(1));
        let end = at.saturating_add(into.len() as u64);
        let (mut open, mut bad, mut failures) = (halves(&(at..end), sector), Vec::new(), 0usize);
        let mut piece_buffer = AlignedBuf::new(into.len());
        while let Some(piece) = (!open.is_empty()).then(|| open.remove(0)) {
            if failures >= FAILURES_MOST {
                bad.push(piece);
                continue;
            }
            let bytes = usize::try_from(length(&piece)).unwrap_or_default();
            let offset = usize::try_from(piece.start.saturating_sub(at)).unwrap_or_default();
            let read = piece_buffer.get_mut(..bytes).unwrap_or_default();
            match self.drive.read_at(piece.start, read) {
                Ok(()) => {
                    let place = into.get_mut(offset..offset.saturating_add(bytes)).unwrap_or_default();
                    place.copy_from_slice(read);
                }
                Err(DriveFault::Gone) => return Err(gone()),
                Err(DriveFault::Failed(_)) => {
                    failures = failures.saturating_add(1);
                    // The queue stays sorted by size, since each piece is cut in two.
                    match halves(&piece, sector).as_slice() {
                        [] | [_] => bad.push(piece),
                        smaller => open.extend(smaller.iter().cloned()),
                    }
                }
            }
        }
        bad.sort_by_key(|range| range.start);
        Ok(merged(bad))
    }
}

/// A stretch in two, in whole sectors; as it is where that can't be done.
fn halves(range: &Range<u64>, sector: u64) -> Vec<Range<u64>> {
    let half = length(range) / 2;
    let middle = range.start.saturating_add(half.saturating_sub(half.checked_rem(sector).unwrap_or_default()));
    if middle <= range.start || middle >= range.end {
        return vec![range.clone()];
    }
    vec![range.start..middle, middle..range.end]
}

/// Stretches that touch become one.
pub(super) fn merged(sorted: Vec<Range<u64>>) -> Vec<Range<u64>> {
    let mut all: Vec<Range<u64>> = Vec::new();
    for range in sorted {
        match all.last_mut() {
            Some(last) if last.end >= range.start => last.end = last.end.max(range.end),
            _ => all.push(range),
        }
    }
    all
}

fn gone() -> io::Error {
    io::Error::new(io::ErrorKind::NotConnected, "the drive is gone")
}

impl Source for DriveSource<'_> {
    fn bytes(&self) -> Option<u64> {
        Some(self.bytes)
    }

    fn access(&self) -> Access {
        Access::Anywhere
    }

    fn open(&self, at: u64) -> io::Result<Box<dyn Read + Send + '_>> {
        let mut next = ReadPlace::new(at);
        let read = move |buffer: &mut AlignedBuf| next.read(self, buffer);
        Ok(Box::new(Buffered { refill: Box::new(read), buffer: AlignedBuf::new(REQUEST), from: 0, to: 0 }))
    }

    fn kept(&self) -> Option<&dyn ReadAt> {
        Some(&self.sectors)
    }

    fn prove(&self) -> Result<(), String> {
        Ok(())
    }
}

/// Where a drive is read next.
struct ReadPlace {
    at: u64,
}

impl ReadPlace {
    /// From a place on, which begins a sector.
    fn new(at: u64) -> Self {
        Self { at }
    }

    /// Reads the next request, and tells how much of it counts.
    fn read(&mut self, of: &DriveSource<'_>, buffer: &mut AlignedBuf) -> io::Result<usize> {
        let sector = u64::from(of.drive.sector_bytes().max(1));
        let left = of.bytes.saturating_sub(self.at);
        let inside = usize::try_from(left).unwrap_or(REQUEST).min(REQUEST);
        // In whole sectors, as the drive is read.
        let whole = (inside as u64).checked_next_multiple_of(sector).unwrap_or(inside as u64);
        let whole = whole.min(of.drive.bytes().saturating_sub(self.at));
        if inside > 0 {
            of.fill(self.at, buffer, usize::try_from(whole).unwrap_or(REQUEST))?;
        }
        self.at = self.at.saturating_add(inside as u64);
        Ok(inside)
    }
}

/// Fills a buffer with what comes next, and tells how much that is.
type Refill<'a> = Box<dyn FnMut(&mut AlignedBuf) -> io::Result<usize> + Send + 'a>;

/// Bytes in their order, out of whole requests.
struct Buffered<'a> {
    refill: Refill<'a>,
    buffer: AlignedBuf,
    from: usize,
    to: usize,
}

impl Read for Buffered<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        if self.from == self.to {
            (self.from, self.to) = (0, 0);
            self.to = (self.refill)(&mut self.buffer)?;
        }
        let there = self.buffer.get(self.from..self.to).unwrap_or_default();
        let count = there.len().min(into.len());
        if let (Some(to), Some(from)) = (into.get_mut(..count), there.get(..count)) {
            to.copy_from_slice(from);
        }
        self.from = self.from.saturating_add(count);
        Ok(count)
    }
}

/// A drive that is read ahead: it has its next request while what came before is taken.
pub(super) struct ReadAhead<'scope, 'env> {
    pub source: &'env DriveSource<'env>,
    pub scope: &'scope Scope<'scope, 'env>,
}

/// A request that was read, or why it was not.
type Ahead = io::Result<(AlignedBuf, usize)>;

impl Source for ReadAhead<'_, '_> {
    fn bytes(&self) -> Option<u64> {
        self.source.bytes()
    }

    fn access(&self) -> Access {
        self.source.access()
    }

    fn open(&self, at: u64) -> io::Result<Box<dyn Read + Send + '_>> {
        let source = self.source;
        let (filled, ready) = sync_channel::<Ahead>(1);
        let (emptied, spare) = sync_channel(REQUESTS_AHEAD.saturating_add(1));
        for _ in 0..REQUESTS_AHEAD {
            // There is room for all of them.
            let _ = emptied.send(AlignedBuf::new(REQUEST));
        }
        self.scope.spawn(move || {
            let mut next = ReadPlace::new(at);
            // It ends when nobody takes what it reads any more.
            for mut buffer in spare {
                let read = next.read(source, &mut buffer);
                let is_last = !matches!(read, Ok(1..));
                if filled.send(read.map(|bytes| (buffer, bytes))).is_err() || is_last {
                    break;
                }
            }
        });
        let refill = move |buffer: &mut AlignedBuf| {
            let Ok(next) = ready.recv() else { return Ok(0) };
            let (filled, bytes) = next?;
            // Nobody needs it any more once the drive is read to its end.
            let _ = emptied.send(std::mem::replace(buffer, filled));
            Ok(bytes)
        };
        Ok(Box::new(Buffered { refill: Box::new(refill), buffer: AlignedBuf::new(REQUEST), from: 0, to: 0 }))
    }

    fn kept(&self) -> Option<&dyn ReadAt> {
        self.source.kept()
    }

    fn prove(&self) -> Result<(), String> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// A drive in memory, of which some sectors can't be read.
    struct Worn(Vec<u8>, Vec<usize>);

    impl DriveIo for Worn {
        fn bytes(&self) -> u64 {
            self.0.len() as u64
        }

        fn sector_bytes(&self) -> u32 {
            512
        }

        fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
            let at = at as usize;
            assert!(at.is_multiple_of(512) && into.len().is_multiple_of(512));
            if self.1.iter().any(|bad| (at..at + into.len()).contains(&(bad * 512))) {
                return Err(DriveFault::Failed(io::Error::other("a bad sector")));
            }
            into.copy_from_slice(&self.0[at..at + into.len()]);
            Ok(())
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 48, failure_persistence: None, ..ProptestConfig::default() })]
        #[test]
        fn all_is_read_but_the_sectors_that_fail(
            bad in prop::collection::btree_set(0usize..12_000, 0..3), bytes in 1u64..6_144_000,
        ) {
            let drive = Worn(pyrotyp_sample::noise(12_000 * 512, 9), bad.iter().copied().collect());
            let source = DriveSource::new(&drive, bytes, Gaps::Zeros);
            let mut read = Vec::new();
            source.open(0).unwrap().read_to_end(&mut read).unwrap();
            prop_assert_eq!(read.len() as u64, bytes);
            let is_bad = |at: usize| bad.contains(&(at / 512));
            let is_right = read.iter().enumerate().all(|(at, byte)| *byte == if is_bad(at) { 0 } else { drive.0[at] });
            prop_assert!(is_right);
            let told: u64 = source.unreadable().iter().map(length).sum();
            let met = bad.iter().filter(|sector| (**sector as u64) * 512 < bytes).count() as u64;
            prop_assert_eq!(told, met * 512);
        }
    }

    #[test]
    fn a_stretch_of_which_nothing_can_be_read_is_given_up_in_time_and_what_lies_behind_is_not() {
        let bad: Vec<usize> = (100..9000).collect();
        let drive = Worn(pyrotyp_sample::noise(12_000 * 512, 9), bad);
        let source = DriveSource::new(&drive, 12_000 * 512, Gaps::Zeros);
        let mut read = Vec::new();
        source.open(0).unwrap().read_to_end(&mut read).unwrap();
        let [one] = source.unreadable().try_into().unwrap_or_else(|all| panic!("{all:?}"));
        assert!(one.start <= 51_200 && one.end >= 4_608_000 && length(&one) < 4_700_000, "{one:?}");
        assert!(read[4_700_000..] == drive.0[4_700_000..]);
    }
}
