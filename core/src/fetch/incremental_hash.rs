//! Checksums of a file that is still growing: they follow what is there without a gap, and are done when it is.

use std::fs::File;
use std::io;
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::thread::JoinHandle;

use crate::bytes::ReadAt;
use crate::fetch::part::PartFile;
use crate::hash::{Algorithm, Hashers, Sum, pass};
use crate::stop::Cancel;

/// How far a connection may be ahead of the checksums, in bytes: further, it would only take the processor from them.
const LEAD: u64 = 16 << 20;

/// Where the checksums are.
#[derive(Debug, Default)]
pub(super) struct HashPace {
    at: AtomicU64,
    counts: AtomicBool,
}

impl HashPace {
    /// Whether whoever is at byte `at` should wait for the checksums.
    pub(super) fn is_ahead(&self, at: u64) -> bool {
        self.counts.load(Ordering::Relaxed) && at > self.at.load(Ordering::Relaxed).saturating_add(LEAD)
    }
}

/// How far the file has grown.
struct Growing {
    file: Mutex<File>,
    bytes: u64,
    /// What is there without a gap, and whether more will come.
    mark: Mutex<(u64, bool)>,
    moved: Condvar,
}

impl ReadAt for Growing {
    fn size(&self) -> u64 {
        self.bytes
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let mark = self.mark.lock().unwrap_or_else(PoisonError::into_inner);
        let waits = |(there, goes_on): &mut (u64, bool)| *goes_on && *there <= at && at < self.bytes;
        let mark = self.moved.wait_while(mark, waits).unwrap_or_else(PoisonError::into_inner);
        let there = mark.0;
        drop(mark);
        let most = usize::try_from(there.saturating_sub(at)).unwrap_or(usize::MAX).min(into.len());
        PartFile::read_at(&self.file, at, into.get_mut(..most).unwrap_or_default())
    }
}

/// Computes checksums on a thread of its own while the file grows.
pub(super) struct Follower {
    growing: Arc<Growing>,
    cancel: Cancel,
    pace: Arc<HashPace>,
    thread: JoinHandle<Option<Vec<Sum>>>,
}

/// Whether more of the file comes.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Growth {
    GoesOn,
    Over,
}

impl Follower {
    /// Begins with the file at `path`, which is to have `bytes` bytes.
    pub(super) fn start(path: &Path, bytes: u64, algorithms: &[Algorithm], pace: &Arc<HashPace>) -> io::Result<Self> {
        let file = Mutex::new(File::open(path)?);
        let growing = Arc::new(Growing { file, bytes, mark: Mutex::new((0, true)), moved: Condvar::new() });
        let (cancel, wanted) = (Cancel::new(), algorithms.to_vec());
        let (seen, stop) = (Arc::clone(&growing), cancel.clone());
        let told = Arc::clone(pace);
        pace.at.store(0, Ordering::Relaxed);
        pace.counts.store(true, Ordering::Relaxed);
        let thread = std::thread::Builder::new().name("checksums".to_owned()).spawn(move || {
            let mut hashers = Hashers::new(wanted);
            pass(&*seen, hashers.takers(), &stop, &mut |at| told.at.store(at, Ordering::Relaxed)).ok()?;
            Some(hashers.finish())
        })?;
        Ok(Self { growing, cancel, pace: Arc::clone(pace), thread })
    }

    fn set(&self, there: Option<u64>, growth: Growth) {
        let mut mark = self.growing.mark.lock().unwrap_or_else(PoisonError::into_inner);
        *mark = (there.unwrap_or(mark.0), growth == Growth::GoesOn);
        drop(mark);
        self.growing.moved.notify_all();
    }

    /// So much is there without a gap.
    pub(super) fn reached(&self, there: u64) {
        self.set(Some(there), Growth::GoesOn);
    }

    /// The checksums of the whole file, all of which is there; `None` when it could not be read.
    pub(super) fn finish(self) -> Option<Vec<Sum>> {
        self.set(Some(self.growing.bytes), Growth::Over);
        self.thread.join().ok().flatten()
    }

    /// Leaves it unfinished.
    pub(super) fn give_up(self) {
        self.cancel.set();
        self.pace.counts.store(false, Ordering::Relaxed);
        self.set(None, Growth::Over);
        // It ends by itself; nobody needs what it has.
        drop(self.thread);
    }
}
