//! The blocks under way: one reader fills them, every drive takes each at its own pace, and their number is bounded.

use std::collections::VecDeque;
use std::ops::Range;
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

use crate::devices::AlignedBuf;
use crate::hash::BLOCK_BYTES;
use crate::job::ImageFault;
use crate::job::layout::start_of;
use crate::job::lock::lock;

/// Buffers for one drive: four requests in flight, one block being read, one being hashed, two ready.
const BUFFERS: usize = 8;
/// Buffers for one drive where other jobs run at the same time: two requests in flight, one block being read, one ready.
const BUFFERS_SHARED: usize = 4;
/// Buffers more for each further drive: so far may it lag behind before it hinders anybody.
const BUFFERS_EACH: usize = 2;
/// How long drives that could go on wait for one that lags, all told, before it is left behind.
const PATIENCE: Duration = Duration::from_secs(2);
/// How often a waiting reader looks around.
const LOOK: Duration = Duration::from_millis(50);

/// Buffers that come back when nobody needs their block any more.
struct Pool {
    free: Mutex<Vec<AlignedBuf>>,
    came_back: Condvar,
}

/// What comes next of an image.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum NextBlocks {
    /// The block with this number; so many bytes of it belong to the image.
    Block { index: usize, bytes: usize },
    /// So many blocks from this number on stay as they are on the drives.
    Holes { index: usize, count: usize },
}

/// A block of the image, or several that stay as they are, on its way to one drive or several.
pub(super) struct Block {
    /// Its number.
    pub index: usize,
    /// How many there are: more than one in a hole only.
    pub count: usize,
    /// How much of it belongs to the image, in bytes.
    pub bytes: usize,
    /// Its digest, from the check before or computed on the way.
    pub digest: blake3::Hash,
    buffer: AlignedBuf,
    pool: Arc<Pool>,
}

impl Block {
    /// Where it lies in the image.
    pub(super) fn range(&self) -> Range<u64> {
        let start = start_of(self.index);
        start..start.saturating_add(self.bytes as u64)
    }

    /// Its bytes in `range` of the image, and zeros behind the image's end.
    pub(super) fn part(&self, range: &Range<u64>) -> &[u8] {
        let start = start_of(self.index);
        let inside = |at: u64| usize::try_from(at.saturating_sub(start)).unwrap_or(usize::MAX);
        self.buffer.get(inside(range.start)..inside(range.end)).unwrap_or_default()
    }
}

impl Drop for Block {
    fn drop(&mut self) {
        let buffer = std::mem::replace(&mut self.buffer, AlignedBuf::new(0));
        lock(&self.pool.free).push(buffer);
        self.pool.came_back.notify_all();
    }
}

/// What a drive gets next.
pub(super) enum Next {
    /// A block.
    Block(Arc<Block>),
    /// Nothing more: the others went on without it from this block on.
    LeftBehind(usize),
    /// Nothing more: the image has ended, or reading it failed.
    End,
}

#[derive(Default)]
struct Queue {
    blocks: VecDeque<Arc<Block>>,
    /// How many threads wait for a block.
    waiting: usize,
    left_at: Option<usize>,
    is_closed: bool,
}

#[derive(Default)]
struct QueueState {
    queues: Vec<Queue>,
    has_ended: bool,
    /// How long drives have waited for one that lags.
    waited: Duration,
}

/// What becomes of a drive that others wait for too long.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Laggard {
    /// The others wait.
    WaitedFor,
    /// They go on, and it reads the image by itself.
    LeftBehind,
}

/// The blocks under way between one reader and its drives.
pub(super) struct BlockQueue {
    state: Mutex<QueueState>,
    changed: Condvar,
    pool: Arc<Pool>,
    laggard: Laggard,
}

impl BlockQueue {
    /// For so many drives.
    pub(super) fn new(drives: usize, laggard: Laggard) -> Self {
        let buffers = BUFFERS_EACH.saturating_mul(drives.saturating_sub(1)).saturating_add(BUFFERS);
        Self::with_buffers(drives, buffers, laggard)
    }

    /// The same, for a job beside which others run.
    pub(super) fn beside_others(drives: usize, laggard: Laggard) -> Self {
        let buffers = BUFFERS_EACH.saturating_mul(drives.saturating_sub(1)).saturating_add(BUFFERS_SHARED);
        Self::with_buffers(drives, buffers, laggard)
    }

    /// For one drive that was left behind: as few buffers as keep it busy.
    pub(super) fn of_one() -> Self {
        Self::with_buffers(1, BUFFERS - 3, Laggard::WaitedFor)
    }

    fn with_buffers(drives: usize, buffers: usize, laggard: Laggard) -> Self {
        let free = (0..buffers).map(|_| AlignedBuf::new(BLOCK_BYTES as usize)).collect();
        Self {
            state: Mutex::new(QueueState {
                queues: (0..drives).map(|_| Queue::default()).collect(),
                ..QueueState::default()
            }),
            changed: Condvar::new(),
            pool: Arc::new(Pool { free: Mutex::new(free), came_back: Condvar::new() }),
            laggard,
        }
    }

    /// An empty buffer, as soon as there is one; `None` when no drive takes blocks any more.
    pub(super) fn buffer(&self) -> Option<AlignedBuf> {
        let began = Instant::now();
        let mut free = lock(&self.pool.free);
        loop {
            if let Some(buffer) = free.pop() {
                drop(free);
                self.note_waiting(began.elapsed());
                return Some(buffer);
            }
            (free, _) = self.pool.came_back.wait_timeout(free, LOOK).unwrap_or_else(PoisonError::into_inner);
            if free.is_empty() {
                drop(free);
                if lock(&self.state).queues.iter().all(|queue| queue.is_closed || queue.left_at.is_some()) {
                    return None;
                }
                self.leave_one_behind(began.elapsed());
                free = lock(&self.pool.free);
            }
        }
    }

    /// Gives a buffer back that became no block.
    pub(super) fn give_back(&self, buffer: AlignedBuf) {
        lock(&self.pool.free).push(buffer);
    }

    fn note_waiting(&self, elapsed: Duration) {
        let mut state = lock(&self.state);
        if state.queues.len() > 1 && somebody_starves(&state) {
            state.waited = state.waited.saturating_add(elapsed);
        }
    }

    /// Lets the drives that could go on do so, once they have waited long enough for the one that lags most.
    fn leave_one_behind(&self, waiting: Duration) {
        let mut state = lock(&self.state);
        if self.laggard == Laggard::WaitedFor
            || !somebody_starves(&state)
            || state.waited.saturating_add(waiting) < PATIENCE
        {
            return;
        }
        let open = state.queues.iter_mut().filter(|queue| !queue.is_closed && queue.left_at.is_none());
        if let Some(last) = open.max_by_key(|queue| queue.blocks.len())
            && let Some(first) = last.blocks.front()
        {
            last.left_at = Some(first.index);
            let left = std::mem::take(&mut last.blocks);
            state.waited = Duration::ZERO;
            drop(state);
            drop(left);
            self.changed.notify_all();
        }
    }

    /// Hands a block to every drive that still takes them; `false` when none does.
    pub(super) fn publish(&self, what: NextBlocks, digest: blake3::Hash, buffer: AlignedBuf) -> bool {
        let (index, bytes, count) = match what {
            NextBlocks::Block { index, bytes } => (index, bytes, 1),
            NextBlocks::Holes { index, count } => (index, 0, count),
        };
        let block = Arc::new(Block { index, count, bytes, digest, buffer, pool: Arc::clone(&self.pool) });
        let mut state = lock(&self.state);
        let mut is_taken = false;
        for queue in state.queues.iter_mut().filter(|queue| !queue.is_closed && queue.left_at.is_none()) {
            queue.blocks.push_back(Arc::clone(&block));
            is_taken = true;
        }
        // The block must not come back to the pool while the state is held.
        drop(state);
        self.changed.notify_all();
        is_taken
    }

    /// No more blocks will come.
    pub(super) fn end(&self) {
        lock(&self.state).has_ended = true;
        self.changed.notify_all();
    }

    /// The next block for a drive.
    pub(super) fn next(&self, drive: usize) -> Next {
        let mut state = lock(&self.state);
        loop {
            let has_ended = state.has_ended;
            let Some(queue) = state.queues.get_mut(drive) else { return Next::End };
            if let Some(block) = queue.blocks.pop_front() {
                return Next::Block(block);
            }
            match queue.left_at {
                Some(at) => return Next::LeftBehind(at),
                None if has_ended || queue.is_closed => return Next::End,
                None => {}
            }
            queue.waiting = queue.waiting.saturating_add(1);
            state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
            if let Some(queue) = state.queues.get_mut(drive) {
                queue.waiting = queue.waiting.saturating_sub(1);
            }
        }
    }

    /// The drive takes no more blocks.
    pub(super) fn close(&self, drive: usize) {
        let mut state = lock(&self.state);
        let left = state.queues.get_mut(drive).map(|queue| {
            queue.is_closed = true;
            std::mem::take(&mut queue.blocks)
        });
        drop(state);
        drop(left);
        self.changed.notify_all();
    }
}

fn somebody_starves(state: &QueueState) -> bool {
    state
        .queues
        .iter()
        .any(|queue| !queue.is_closed && queue.left_at.is_none() && queue.blocks.is_empty() && queue.waiting > 0)
}

/// How reading the image ended, for all drives of a job.
#[derive(Default)]
pub(super) struct ImageEnding {
    told: Mutex<Option<Result<ImageEnd, Arc<ImageFault>>>>,
    changed: Condvar,
}

/// What is known of the image once all of it was read.
#[derive(Clone, Debug)]
pub(super) struct ImageEnd {
    /// Its length.
    pub bytes: u64,
    /// SHA-256, as it was checked or as it was read.
    pub sha256: Option<String>,
    /// The blocks that were read, with their digests.
    pub blocks: Vec<(usize, blake3::Hash)>,
}

impl ImageEnd {
    /// The first block of which a drive saw something else.
    pub(super) fn differs_from(&self, seen: &[Option<blake3::Hash>]) -> Option<usize> {
        let other = |(index, digest): &&(usize, blake3::Hash)| {
            seen.get(*index).copied().flatten().is_some_and(|seen| seen != *digest)
        };
        self.blocks.iter().find(other).map(|(index, _)| *index)
    }
}

impl ImageEnding {
    /// Tells it, once.
    pub(super) fn tell(&self, verdict: Result<ImageEnd, ImageFault>) {
        lock(&self.told).get_or_insert(verdict.map_err(Arc::new));
        self.changed.notify_all();
    }

    /// Waits for it.
    pub(super) fn wait(&self) -> Result<ImageEnd, Arc<ImageFault>> {
        let mut told = lock(&self.told);
        loop {
            if let Some(verdict) = &*told {
                return verdict.clone();
            }
            told = self.changed.wait(told).unwrap_or_else(PoisonError::into_inner);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Hands over a block of which only the first byte matters.
    fn publish(block_queue: &BlockQueue, index: usize) -> bool {
        let Some(mut buffer) = block_queue.buffer() else { return false };
        buffer[0] = index as u8;
        block_queue.publish(NextBlocks::Block { index, bytes: 4096 }, blake3::hash(&[index as u8]), buffer)
    }

    fn next(block_queue: &BlockQueue, drive: usize) -> String {
        match block_queue.next(drive) {
            Next::Block(block) => format!("block {} of {}", block.index, block.part(&block.range())[0]),
            Next::LeftBehind(at) => format!("left behind at {at}"),
            Next::End => "end".to_owned(),
        }
    }

    #[test]
    fn every_drive_gets_every_block_and_buffers_come_back() {
        let block_queue = BlockQueue::new(2, Laggard::LeftBehind);
        // Many more blocks than there are buffers: each comes back when both drives are done with it.
        for index in 0..40 {
            assert!(publish(&block_queue, index));
            for drive in 0..2 {
                assert_eq!(next(&block_queue, drive), format!("block {index} of {index}"));
            }
        }
        assert!(publish(&block_queue, 40));
        block_queue.end();
        assert_eq!([next(&block_queue, 0), next(&block_queue, 0)], ["block 40 of 40", "end"]);
        block_queue.close(1);
        assert_eq!(next(&block_queue, 1), "end", "a drive that takes no more has nothing waiting");
        block_queue.close(0);
        assert!(!publish(&block_queue, 41), "nobody takes it");
    }

    #[test]
    fn a_drive_that_lags_is_left_behind_once_another_has_waited_long_enough() {
        let block_queue = BlockQueue::new(2, Laggard::LeftBehind);
        std::thread::scope(|scope| {
            let fast = scope.spawn(|| {
                let mut taken = 0;
                while matches!(block_queue.next(0), Next::Block(_)) {
                    taken += 1;
                }
                taken
            });
            // The second drive takes one block and no more: the reader soon has no buffer left.
            let begun = Instant::now();
            assert!(publish(&block_queue, 0));
            assert_eq!(next(&block_queue, 1), "block 0 of 0");
            for index in 1..30 {
                assert!(publish(&block_queue, index));
            }
            assert!(begun.elapsed() >= PATIENCE, "it was waited for");
            assert_eq!(next(&block_queue, 1), "left behind at 1");
            block_queue.end();
            assert_eq!(fast.join().unwrap(), 30);
        });
    }

    #[test]
    fn a_reader_does_not_wait_for_drives_that_are_gone() {
        let block_queue = BlockQueue::new(1, Laggard::WaitedFor);
        let mut published = 0;
        while published < BUFFERS && publish(&block_queue, published) {
            published += 1;
        }
        std::thread::scope(|scope| {
            scope.spawn(|| {
                std::thread::sleep(Duration::from_millis(120));
                block_queue.close(0);
            });
            // All buffers are taken; the drive gives up meanwhile.
            while publish(&block_queue, published) {}
        });
        assert_eq!(published, BUFFERS);
    }

    #[test]
    fn blocks_that_differ_from_what_a_drive_saw_are_found() {
        let digest = |n: u8| blake3::hash(&[n]);
        let end = ImageEnd { bytes: 0, sha256: None, blocks: vec![(0, digest(0)), (5, digest(5)), (6, digest(6))] };
        let mut seen = vec![Some(digest(0)), None, None, None, None, Some(digest(5))];
        assert_eq!(end.differs_from(&seen), None);
        seen[5] = Some(digest(9));
        assert_eq!(end.differs_from(&seen), Some(5));
    }
}
