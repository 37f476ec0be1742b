//! The body on one drive: blocks in, several requests in flight, and a note of what the drive has confirmed.

use std::collections::BTreeSet;
use std::ops::Range;
use std::sync::{Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

use crate::devices::{AlignedBuf, DriveFault, DriveWrite};
use crate::hash::hole_digest;
use crate::job::block_queue::{Block, BlockQueue, Next};
use crate::job::journal::Journal;
use crate::job::layout::{Frame, block_range, length, pieces, start_of};
use crate::job::lock::lock;
use crate::job::piece::{IN_FLIGHT, Piece, Withheld};
use crate::job::request_size::RequestSize;
use crate::job::stages::seal;
use crate::job::teller::Teller;
use crate::job::workers::{Died, TELL, Work, Workers, contained};
use crate::job::{Event, ImageFault, JobFault, Watcher, Writing};
use crate::record::{Head, Stage};
use crate::stop::Cancel;

/// So many are enough for a slow drive: of more blocks at once, none would be done for long, and nothing could be noted.
const IN_FLIGHT_SLOW: usize = 2;
/// Read and compared at once where only what differs is written, in bytes.
const COMPARED: usize = 2 << 20;
/// What differs is written in whole pieces of this many bytes.
const CHANGED_PIECE: usize = 64 << 10;
/// A request that fails is tried again in pieces of these many bytes, the second inside of the first.
const SMALLER: [usize; 2] = [64 << 10, 4 << 10];
/// A drive is given up after so many of the smallest pieces that fail: each may take half a minute.
const FAILURES_MOST: usize = 4;

/// The body when all of it was taken.
pub(crate) struct BodyDone {
    pub withheld: Withheld,
    /// In order.
    pub pieces: Vec<Piece>,
    /// Digest of each block of the image that this drive saw or had before.
    pub blocks: Vec<Option<blake3::Hash>>,
    /// How much was written to the drive.
    pub written: u64,
}

/// How it is to be written.
pub(crate) struct Body<'a> {
    pub drive: &'a dyn DriveWrite,
    pub frame: &'a Frame,
    pub writing: Writing,
    pub cancel: &'a Cancel,
    pub watcher: &'a dyn Watcher,
    /// The drive's place in the job.
    pub number: usize,
    pub flush_after: Duration,
    state: Mutex<BodyState>,
    changed: Condvar,
    size: RequestSize,
    /// Whether the ends of the drive are blank; where only what differs is written, that waits for the first difference.
    blank: Mutex<Blanked>,
}

/// What the ends of the drive hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Blanked {
    /// What was there before.
    No,
    /// Nothing.
    Yes,
    /// Emptying them failed, and the start holds this.
    Partly(Head),
}

struct BodyState {
    withheld: Withheld,
    pieces: Vec<Option<Piece>>,
    blocks: Vec<Option<blake3::Hash>>,
    /// Blocks behind `prefix` that are done.
    done: BTreeSet<usize>,
    /// All blocks before this one are on the drive.
    prefix: usize,
    /// Bytes of the body that are done.
    moved: u64,
    /// Bytes of blocks that are not done yet, but were taken.
    under_way: u64,
    written: u64,
    fault: Option<JobFault>,
    left_at: Option<usize>,
    is_flushing: bool,
}

impl BodyState {
    /// Counts the blocks that are done without a gap.
    fn count_done(&mut self) {
        while let Some(first) = self.done.first().copied().filter(|first| *first == self.prefix) {
            self.done.remove(&first);
            self.prefix = self.prefix.saturating_add(1);
        }
    }
}

/// How a drive is written.
#[derive(Clone, Copy)]
pub(crate) struct Manner {
    /// All of the image, or what differs.
    pub(crate) writing: Writing,
    /// How often the drive is asked to keep what it took.
    pub(crate) flush_after: Duration,
}

/// A drive's place in its job.
#[derive(Clone, Copy)]
pub(crate) struct Seat<'a> {
    /// Thrown when the job is to stop.
    pub(crate) cancel: &'a Cancel,
    /// Who hears of it.
    pub(crate) watcher: &'a dyn Watcher,
    /// Its number.
    pub(crate) number: usize,
}

/// How the threads of a drive came to an end.
pub(crate) enum BodyEnd {
    /// All blocks were taken.
    Whole,
    /// The others went on without this drive from this block on.
    LeftBehind(usize),
}

/// The threads of one drive that take its blocks.
struct Taking<'a> {
    body: &'a Body<'a>,
    block_queue: &'a BlockQueue,
    place: usize,
}

impl Work for Taking<'_> {
    fn part(&self, number: usize, workers: &Workers) {
        if number < IN_FLIGHT_SLOW || self.body.is_fast(workers) {
            self.body.work(self.block_queue, self.place);
        }
    }

    fn died(&self, died: Died) {
        self.body.fail(died.into());
        self.block_queue.close(self.place);
    }

    fn left(&self) {
        self.body.changed.notify_all();
    }
}

impl<'a> Body<'a> {
    /// `earlier` are the digests of the blocks that are on the drive already.
    pub(crate) fn new(
        drive: &'a dyn DriveWrite,
        frame: &'a Frame,
        manner: Manner,
        seat: Seat<'a>,
        earlier: &[blake3::Hash],
    ) -> Self {
        let (Manner { writing, flush_after }, Seat { cancel, watcher, number }) = (manner, seat);
        let place = |range: Range<u64>| AlignedBuf::new(usize::try_from(length(&range)).unwrap_or_default());
        let had = |(block, digest): (usize, &blake3::Hash)| {
            let body = frame.body_of(&block_range(block));
            // The first block's digest is that of its head as well; of a hole, nothing was written.
            let is_piece = block > 0 && *digest != hole_digest();
            is_piece.then_some(Piece { at: body.start, bytes: length(&body), digest: *digest })
        };
        let holes = earlier.iter().filter(|digest| **digest == hole_digest()).count();
        Self {
            drive,
            frame,
            writing,
            cancel,
            watcher,
            number,
            flush_after,
            state: Mutex::new(BodyState {
                withheld: Withheld { head: place(frame.head()), end: place(frame.end()) },
                pieces: earlier.iter().enumerate().map(had).collect(),
                blocks: earlier.iter().copied().map(Some).collect(),
                done: BTreeSet::new(),
                prefix: earlier.len(),
                moved: length(&frame.body(start_of(earlier.len()))).saturating_sub(start_of(holes)),
                under_way: 0,
                written: 0,
                fault: None,
                left_at: None,
                is_flushing: false,
            }),
            changed: Condvar::new(),
            size: RequestSize::new(),
            blank: Mutex::new(if writing == Writing::Everything { Blanked::Yes } else { Blanked::No }),
        }
    }

    /// Takes blocks from `block_queue` until there are no more, and notes in `journal` what the drive has confirmed.
    pub(crate) fn run(
        &self,
        block_queue: &BlockQueue,
        place: usize,
        journal: &mut Option<Journal>,
    ) -> Result<BodyEnd, JobFault> {
        lock(&self.state).left_at = None;
        let taking = Taking { body: self, block_queue, place };
        let mut teller = Teller::of(self.watcher, self.number, Stage::Body);
        let (mut flushed, mut flushed_at) = (lock(&self.state).prefix, Instant::now());
        Workers::run(IN_FLIGHT, &taking, &mut |_| {
            let state = lock(&self.state);
            let (moved, prefix) = (state.moved.saturating_add(state.under_way), state.prefix);
            drop(state);
            teller.tell(moved);
            if prefix > flushed && flushed_at.elapsed() >= self.flush_after {
                match self.flush(journal) {
                    Ok(to) => (flushed, flushed_at) = (to, Instant::now()),
                    Err(fault) => {
                        self.fail(fault);
                        block_queue.close(place);
                    }
                }
            }
        });
        let mut state = lock(&self.state);
        if let Some(fault) = state.fault.take() {
            return Err(fault);
        }
        Ok(state.left_at.map_or(BodyEnd::Whole, BodyEnd::LeftBehind))
    }

    /// Has the drive keep what it took, and notes that. Gives the number of the first block that may not be kept yet.
    pub(crate) fn flush(&self, journal: &mut Option<Journal>) -> Result<usize, JobFault> {
        // Only what was there before the flush began is kept by it.
        let prefix = {
            let mut state = lock(&self.state);
            state.is_flushing = true;
            state.prefix
        };
        let flushed = contained(|| self.drive.flush());
        lock(&self.state).is_flushing = false;
        self.changed.notify_all();
        flushed?.map_err(|source| JobFault::Flush { source })?;
        let body = self.frame.body(start_of(prefix));
        self.watcher.heard(self.number, &Event::Flushed { done: length(&body) });
        if let Some(notes) = journal {
            let state = lock(&self.state);
            let whole = prefix.min(self.frame.whole_blocks_before(u64::MAX));
            let new = state.blocks.get(notes.noted()..whole).unwrap_or_default();
            let new: Vec<blake3::Hash> = new.iter().copied().map_while(|digest| digest).collect();
            drop(state);
            if let Err(error) = notes.note(&new) {
                self.watcher.heard(self.number, &Event::Unnoted { why: crate::text::plain(&error) });
                *journal = None;
            }
        }
        Ok(prefix)
    }

    /// What the ends of the drive hold now.
    pub(crate) fn blanked(&self) -> Blanked {
        *lock(&self.blank)
    }

    /// Makes the ends of the drive blank, if they are not.
    pub(crate) fn blank(&self) -> Result<(), JobFault> {
        let mut blank = lock(&self.blank);
        if *blank != Blanked::Yes {
            *blank = Blanked::Partly(Head::Unknown);
            let emptied = seal::blank(self.drive, self.frame);
            *blank = Blanked::Partly(emptied.head);
            emptied.fault.map_or(Ok(()), Err)?;
            *blank = Blanked::Yes;
        }
        Ok(())
    }

    /// All that is known when the last block was taken.
    pub(crate) fn finish(self) -> BodyDone {
        let BodyState { withheld, pieces, blocks, written, .. } =
            self.state.into_inner().unwrap_or_else(PoisonError::into_inner);
        let pieces = pieces.into_iter().flatten().filter(|piece| piece.bytes > 0).collect();
        BodyDone { withheld, pieces, blocks, written }
    }

    fn fail(&self, fault: JobFault) {
        lock(&self.state).fault.get_or_insert(fault);
    }

    /// One of the threads that keep requests in flight.
    fn work(&self, block_queue: &BlockQueue, place: usize) {
        let scratch = if self.writing == Writing::OnlyChanged { COMPARED } else { 0 };
        let mut scratch = AlignedBuf::new(scratch);
        loop {
            if self.cancel.is_set() {
                self.fail(JobFault::Stopped { stage: Stage::Body });
            }
            if lock(&self.state).fault.is_some() {
                block_queue.close(place);
                break;
            }
            match block_queue.next(place) {
                Next::Block(block) => {
                    if let Err(fault) = self.take(&block, &mut scratch) {
                        self.fail(fault);
                    }
                }
                Next::LeftBehind(at) => {
                    lock(&self.state).left_at = Some(at);
                    break;
                }
                Next::End => break,
            }
        }
    }

    /// Waits until it shows whether the drive is a fast one; where nothing more comes to show it, it need not be known.
    fn is_fast(&self, workers: &Workers) -> bool {
        let is_compared = self.writing == Writing::OnlyChanged;
        let mut state = lock(&self.state);
        loop {
            match self.size.is_fast() {
                Some(is_fast) => return is_fast,
                None if is_compared => return true,
                None if state.fault.is_some() || workers.at_work() <= IN_FLIGHT.saturating_sub(IN_FLIGHT_SLOW) => {
                    return false;
                }
                None => {}
            }
            (state, _) = self.changed.wait_timeout(state, TELL).unwrap_or_else(PoisonError::into_inner);
        }
    }

    /// Waits while a flush is under way: a drive that takes one request at a time may let it wait for as long as others come.
    fn wait_for_flush(&self) {
        let state = lock(&self.state);
        drop(self.changed.wait_while(state, |state| state.is_flushing).unwrap_or_else(PoisonError::into_inner));
    }

    /// Notes blocks that stay as they are, as if they were on the drive.
    fn skip(&self, holes: &Block) -> Result<(), JobFault> {
        let mut state = lock(&self.state);
        for index in (holes.index..).take(holes.count) {
            if state.blocks.get(index).copied().flatten().is_some_and(|known| known != holes.digest) {
                return Err(ImageFault::Other { at: start_of(index) }.into());
            }
            put(&mut state.blocks, index, holes.digest);
            if index >= state.prefix {
                state.done.insert(index);
            }
        }
        state.count_done();
        drop(state);
        self.changed.notify_all();
        Ok(())
    }

    /// Puts a block where it belongs.
    fn take(&self, block: &Block, scratch: &mut AlignedBuf) -> Result<(), JobFault> {
        if block.digest == hole_digest() {
            return self.skip(block);
        }
        let range = block.range();
        self.frame.fits(range.end)?;
        let body = self.frame.body_of(&range);
        let digest = if body == range { block.digest } else { blake3::hash(block.part(&body)) };
        let piece = Piece { at: body.start, bytes: length(&body), digest };
        let is_had = {
            let mut state = lock(&self.state);
            let known = state.blocks.get(block.index).copied().flatten();
            if known.is_some_and(|known| known != block.digest) {
                return Err(ImageFault::Other { at: range.start }.into());
            }
            withhold(&mut state.withheld, self.frame, block);
            put(&mut state.pieces, block.index, piece);
            put(&mut state.blocks, block.index, block.digest);
            block.index < state.prefix || state.done.contains(&block.index)
        };
        if is_had {
            return Ok(());
        }
        let padded = body.start..self.frame.padded(body.end).max(body.start);
        let written = if body.is_empty() {
            0
        } else if self.writing == Writing::OnlyChanged {
            self.write_changed(padded.start, block.part(&padded), scratch)?
        } else {
            self.write(padded.start, block.part(&padded), self.size.now(Instant::now()))?;
            self.size.wrote(piece.bytes, Instant::now());
            piece.bytes
        };
        let mut state = lock(&self.state);
        state.moved = state.moved.saturating_add(piece.bytes);
        if self.writing == Writing::Everything {
            state.under_way = state.under_way.saturating_sub(length(&padded));
        }
        state.written = state.written.saturating_add(written);
        state.done.insert(block.index);
        state.count_done();
        drop(state);
        self.changed.notify_all();
        Ok(())
    }

    /// Writes in requests of `size` bytes; one that fails is tried again in smaller pieces.
    fn write(&self, at: u64, bytes: &[u8], size: usize) -> Result<(), JobFault> {
        for (at, request) in pieces(at, bytes, size) {
            self.wait_for_flush();
            match self.drive.write_at(at, request) {
                Ok(()) => {}
                Err(DriveFault::Gone) => {
                    return Err(JobFault::Write { at, bytes: request.len() as u64, source: DriveFault::Gone });
                }
                Err(DriveFault::Failed(_)) => self.write_in_pieces(at, request)?,
            }
            if self.writing == Writing::Everything {
                let mut state = lock(&self.state);
                state.under_way = state.under_way.saturating_add(request.len() as u64);
            }
        }
        Ok(())
    }

    fn write_in_pieces(&self, at: u64, bytes: &[u8]) -> Result<(), JobFault> {
        let mut failed: Option<(Range<u64>, DriveFault)> = None;
        let mut failures = 0usize;
        let [larger, smaller] = SMALLER;
        'all: for (at, part) in pieces(at, bytes, larger) {
            match self.drive.write_at(at, part) {
                Ok(()) => continue,
                Err(DriveFault::Gone) => {
                    return Err(JobFault::Write { at, bytes: part.len() as u64, source: DriveFault::Gone });
                }
                Err(DriveFault::Failed(_)) => {}
            }
            for (at, piece) in pieces(at, part, smaller) {
                if self.cancel.is_set() {
                    return Err(JobFault::Stopped { stage: Stage::Body });
                }
                if let Err(fault) = self.drive.write_at(at, piece) {
                    let first = failed.as_ref().map_or(at, |(range, _)| range.start);
                    failed = Some((first..at.saturating_add(piece.len() as u64), fault));
                    failures = failures.saturating_add(1);
                    if failures >= FAILURES_MOST {
                        break 'all;
                    }
                }
            }
        }
        match failed {
            Some((range, source)) => Err(JobFault::Write { at: range.start, bytes: length(&range), source }),
            None => {
                self.watcher.heard(self.number, &Event::Retried { at });
                Ok(())
            }
        }
    }

    /// Reads what is there and writes the pieces that differ; tells how much that was.
    fn write_changed(&self, at: u64, bytes: &[u8], scratch: &mut AlignedBuf) -> Result<u64, JobFault> {
        let mut written = 0u64;
        for (at, wanted) in pieces(at, bytes, COMPARED) {
            let found = scratch.get_mut(..wanted.len()).unwrap_or_default();
            self.wait_for_flush();
            match self.drive.read_at(at, found) {
                Ok(()) => {}
                Err(DriveFault::Gone) => {
                    return Err(JobFault::Read { at, bytes: wanted.len() as u64, source: DriveFault::Gone });
                }
                // Writing may mend what can't be read.
                Err(DriveFault::Failed(_)) => found.iter_mut().zip(wanted).for_each(|(found, wanted)| *found = !wanted),
            }
            for range in changed(wanted, found) {
                self.blank()?;
                let part = wanted.get(range.clone()).unwrap_or_default();
                self.write(at.saturating_add(range.start as u64), part, self.size.now(Instant::now()))?;
                written = written.saturating_add(part.len() as u64);
            }
        }
        Ok(written)
    }
}

/// Stretches of whole pieces in which two equally long parts differ.
fn changed(wanted: &[u8], found: &[u8]) -> Vec<Range<usize>> {
    let mut all: Vec<Range<usize>> = Vec::new();
    let pieces = wanted.chunks(CHANGED_PIECE).zip(found.chunks(CHANGED_PIECE)).enumerate();
    for (number, (wanted, _)) in pieces.filter(|(_, (wanted, found))| wanted != found) {
        let start = number.saturating_mul(CHANGED_PIECE);
        let range = start..start.saturating_add(wanted.len());
        match all.last_mut() {
            Some(last) if last.end == range.start => last.end = range.end,
            _ => all.push(range),
        }
    }
    all
}

/// Keeps what of a block belongs into the ends of the drive.
fn withhold(withheld: &mut Withheld, frame: &Frame, block: &Block) {
    for (place, into) in [(frame.head(), &mut withheld.head), (frame.end(), &mut withheld.end)] {
        let range = block.range();
        let inside = range.start.max(place.start)..range.end.min(place.end);
        if inside.start >= inside.end {
            continue;
        }
        let offset = |at: u64| usize::try_from(at.saturating_sub(place.start)).unwrap_or(usize::MAX);
        if let Some(into) = into.get_mut(offset(inside.start)..offset(inside.end)) {
            into.copy_from_slice(block.part(&inside));
        }
    }
}

/// Puts a value where it belongs, behind places that are empty still.
pub(crate) fn put<T: Clone>(into: &mut Vec<Option<T>>, place: usize, value: T) {
    if into.len() <= place {
        into.resize(place.saturating_add(1), None);
    }
    if let Some(slot) = into.get_mut(place) {
        *slot = Some(value);
    }
}
