//! A drive against an image at any later time: both are read once, side by side, and nothing is written.

use std::ops::Range;
use std::sync::Mutex;

use crate::bytes::ReadAt;
use crate::devices::{AlignedBuf, DriveIo};
use crate::hash::{BlockDigests, hole_digest};
use crate::image::Inspection;
use crate::job::block_queue::{Block, BlockQueue, Laggard, Next};
use crate::job::diagnosis::{Case, Differences};
use crate::job::image_reader::ImageReader;
use crate::job::layout::{block_range, length};
use crate::job::lock::lock;
use crate::job::piece::{IN_FLIGHT, Piece};
use crate::job::source::{Checked, KeptImage};
use crate::job::stages::body::put;
use crate::job::stages::readback;
use crate::job::stages::readback::Suspect;
use crate::job::teller::Teller;
use crate::job::watch::{Counting, Shielded};
use crate::job::watchdog::{Heartbeat, Watched, watched};
use crate::job::workers::{Died, Work, Workers, contained};
use crate::job::{Event, JobFault, Pacing, Watcher};
use crate::record::{Cause, Conclusion, Difference, JobResult, Stage};
use crate::stop::Cancel;

/// How a comparison went.
#[derive(Debug)]
pub struct Comparison {
    /// [`JobResult::Verified`] or [`JobResult::Differs`].
    pub result: JobResult,
    /// Bytes compared.
    pub bytes: u64,
    /// Where the drive differs.
    pub differences: Vec<Difference>,
    /// How many more differences there are than are told.
    pub more_differences: u64,
    /// What that means for the drive.
    pub conclusion: Option<Conclusion>,
    /// Blocks that read right only the second time.
    pub read_again: u64,
}

#[derive(Default)]
struct CompareState {
    suspects: Vec<Suspect>,
    blocks: Vec<Option<blake3::Hash>>,
    done: u64,
    fault: Option<JobFault>,
}

/// Reads the drive past every cache and compares it with the whole image. Writes nothing.
///
/// # Errors
/// When the drive is gone or gives up, the image can't be read, or `cancel` says stop.
pub fn compare(
    image: &dyn ReadAt,
    inspection: &Inspection,
    drive: &dyn DriveIo,
    cancel: &Cancel,
    watcher: &dyn Watcher,
) -> Result<Comparison, JobFault> {
    guarded(drive, watcher, |drive, watcher| {
        let bytes = image.size();
        let looking = Looking { drive, image: Some((image, inspection)), bytes, left_out: 0, cancel, watcher };
        // In whole sectors, as the drive is read.
        let sector = u64::from(drive.sector_bytes().max(1));
        let whole = drive.bytes().saturating_sub(drive.bytes().checked_rem(sector).unwrap_or_default());
        looking.look(whole, |there, counting| {
            let CompareState { suspects, blocks, .. } = read_both(image, drive, 0..there, cancel, counting)?;
            Ok((suspects, blocks))
        })
    })
}

/// Reads the drive past every cache and compares it with the digests of an image's blocks, which need not be there. Writes nothing.
///
/// # Errors
/// When the drive is gone or gives up, or `cancel` says stop.
pub fn compare_with_digests(
    bytes: u64,
    digests: &BlockDigests,
    drive: &dyn DriveIo,
    cancel: &Cancel,
    watcher: &dyn Watcher,
) -> Result<Comparison, JobFault> {
    guarded(drive, watcher, |drive, watcher| {
        let holes = digests.iter().enumerate().filter(|(_, digest)| **digest == hole_digest());
        let left_out =
            holes.map(|(index, _)| length(&(block_range(index).start..block_range(index).end.min(bytes)))).sum();
        let looking = Looking { drive, image: None, bytes, left_out, cancel, watcher };
        looking.look(drive.bytes(), |there, counting| {
            let piece = |(index, digest): (usize, &blake3::Hash)| {
                let range = block_range(index);
                let piece =
                    Piece { at: range.start, bytes: range.end.min(bytes).saturating_sub(range.start), digest: *digest };
                // Of a block that does not fit, nothing can be said but that.
                let is_there = piece.bytes > 0 && piece.end() <= there;
                Some(piece).filter(|piece| is_there && piece.digest != hole_digest())
            };
            let pieces: Vec<Piece> = digests.iter().enumerate().filter_map(piece).collect();
            let suspects = readback::read_back(drive, &pieces, 0, cancel, counting)?;
            Ok((suspects, digests.iter().copied().map(Some).collect()))
        })
    })
}

/// Looks at a drive under a watchdog; a part of this program that dies is a fault.
fn guarded(
    drive: &dyn DriveIo,
    watcher: &dyn Watcher,
    look: impl FnOnce(&dyn DriveIo, &dyn Watcher) -> Result<Comparison, JobFault>,
) -> Result<Comparison, JobFault> {
    let (heartbeat, watcher) = (Heartbeat::new(), &Shielded::new(watcher));
    let drive = &Watched { drive, heartbeat: &heartbeat };
    watched(std::slice::from_ref(&heartbeat), Pacing::default().stall_after, watcher, || {
        contained(|| look(drive, watcher)).unwrap_or_else(|died| Err(died.into()))
    })
}

/// Pieces that do not match, and the digests of the image's blocks.
type Mismatches = (Vec<Suspect>, Vec<Option<blake3::Hash>>);

/// A comparison of a drive with an image that is there, or was.
struct Looking<'a> {
    drive: &'a dyn DriveIo,
    image: Option<(&'a dyn ReadAt, &'a Inspection)>,
    /// Length of the image.
    bytes: u64,
    /// How much of that was left as it was, in bytes.
    left_out: u64,
    cancel: &'a Cancel,
    watcher: &'a dyn Watcher,
}

impl Looking<'_> {
    /// Has what is there read, up to `room`, and says what that means.
    fn look(
        &self,
        room: u64,
        read: impl FnOnce(u64, &Counting<'_>) -> Result<Mismatches, JobFault>,
    ) -> Result<Comparison, JobFault> {
        let Self { drive, image, bytes, left_out, cancel, watcher } = *self;
        let there = bytes.min(room);
        let counted = there.saturating_sub(left_out);
        let counting = Counting::new(watcher);
        watcher.heard(0, &Event::Began { stage: Stage::ReadBack, bytes: Some(counted) });
        let (suspects, blocks) = read(there, &counting)?;
        watcher.heard(0, &Event::Ended { stage: Stage::ReadBack });
        if !suspects.is_empty() {
            watcher.heard(0, &Event::Diagnosing);
        }
        let case = Case { drive, image, written: None, blocks: &blocks, range: 0..there, cancel };
        let mut differences = case.differences(&suspects)?;
        if there < bytes {
            differences.add(there..bytes, Cause::BeyondEnd);
        }
        case.name_files(&mut differences);
        let conclusion = (!differences.is_empty()).then(|| case.conclusion(&differences));
        let result = if differences.is_empty() { JobResult::Verified } else { JobResult::Differs };
        let (Differences { told, more, .. }, read_again) = (differences, counting.read_again());
        Ok(Comparison { result, bytes: counted, differences: told, more_differences: more, conclusion, read_again })
    }
}

/// The threads that compare blocks.
struct BlockComparison<'a> {
    drive: &'a dyn DriveIo,
    range: Range<u64>,
    cancel: &'a Cancel,
    counting: &'a Counting<'a>,
    block_queue: &'a BlockQueue,
    state: Mutex<CompareState>,
}

impl BlockComparison<'_> {
    /// Reads what of a block lies on the drive, and gives it if it does not match.
    fn judge(&self, block: &Block, inside: &Range<u64>, buffer: &mut AlignedBuf) -> Result<Option<Suspect>, JobFault> {
        if self.cancel.is_set() {
            return Err(JobFault::Stopped { stage: Stage::ReadBack });
        }
        if inside.is_empty() {
            return Ok(None);
        }
        let digest = if *inside == block.range() { block.digest } else { blake3::hash(block.part(inside)) };
        let piece = Piece { at: inside.start, bytes: length(inside), digest };
        readback::judge(self.drive, &piece, buffer, &|at| self.counting.heard(0, &Event::ReadAgain { at }))
    }

    fn fail(&self, fault: JobFault) {
        lock(&self.state).fault.get_or_insert(fault);
        self.block_queue.close(0);
    }
}

impl Work for BlockComparison<'_> {
    fn part(&self, _number: usize, _workers: &Workers) {
        let mut buffer = readback::buffer();
        while let Next::Block(block) = self.block_queue.next(0) {
            let whole = block.range();
            let inside = whole.start..whole.end.min(self.range.end);
            let judged = self.judge(&block, &inside, &mut buffer);
            match judged {
                Ok(suspect) => lock(&self.state).suspects.extend(suspect),
                Err(fault) => self.fail(fault),
            }
            let mut state = lock(&self.state);
            put(&mut state.blocks, block.index, block.digest);
            state.done = state.done.saturating_add(length(&inside));
        }
    }

    fn died(&self, died: Died) {
        self.fail(died.into());
    }
}

/// Reads image and drive side by side, and gives the pieces that do not match.
fn read_both(
    image: &dyn ReadAt,
    drive: &dyn DriveIo,
    range: Range<u64>,
    cancel: &Cancel,
    counting: &Counting<'_>,
) -> Result<CompareState, JobFault> {
    let block_queue = &BlockQueue::new(1, Laggard::WaitedFor);
    let (source, checked) = (KeptImage(image), Checked::default());
    let reading = ImageReader {
        source: &source,
        checked: &checked,
        trusts_check: false,
        is_whole: false,
        from: 0,
        withheld_from: usize::MAX,
    };
    let comparing = BlockComparison { drive, range, cancel, counting, block_queue, state: Mutex::default() };
    let mut teller = Teller::of(counting, 0, Stage::ReadBack);
    reading.beside(block_queue, cancel, || {
        Workers::run(IN_FLIGHT, &comparing, &mut |_| teller.tell(lock(&comparing.state).done));
        lock(&comparing.state).fault.take().map_or(Ok(()), Err)
    })?;
    let mut state = std::mem::take(&mut *lock(&comparing.state));
    state.suspects.sort_by_key(|suspect| suspect.piece.at);
    Ok(state)
}
