//! Whether a drive still answers: every request to it is counted, and somebody looks at the clock.

use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::thread::Thread;
use std::time::{Duration, Instant};

use super::{Event, Watcher};
use crate::drive::{DriveFault, DriveIo, DriveWrite};

/// How often the clock is looked at.
const LOOK: Duration = Duration::from_millis(100);

/// The requests of one drive.
pub struct Pulse {
    began: Instant,
    /// When a request last began with none under way, or ended, in milliseconds since `began`.
    last: AtomicU64,
    under_way: AtomicUsize,
}

impl Pulse {
    pub fn new() -> Self {
        Self { began: Instant::now(), last: AtomicU64::new(0), under_way: AtomicUsize::new(0) }
    }

    fn beat(&self) {
        let now = u64::try_from(self.began.elapsed().as_millis()).unwrap_or(u64::MAX);
        self.last.store(now, Ordering::Relaxed);
    }

    fn count<T>(&self, request: impl FnOnce() -> T) -> T {
        if self.under_way.fetch_add(1, Ordering::Relaxed) == 0 {
            self.beat();
        }
        let answer = request();
        self.beat();
        self.under_way.fetch_sub(1, Ordering::Relaxed);
        answer
    }

    /// How long a request has been waiting without any other being answered.
    fn silence(&self) -> Duration {
        if self.under_way.load(Ordering::Relaxed) == 0 {
            return Duration::ZERO;
        }
        self.began.elapsed().saturating_sub(Duration::from_millis(self.last.load(Ordering::Relaxed)))
    }
}

/// Ends the watch, also when what is watched panics.
struct Ending<'a> {
    is_over: &'a AtomicBool,
    watch: &'a Thread,
}

impl Drop for Ending<'_> {
    fn drop(&mut self) {
        self.is_over.store(true, Ordering::Relaxed);
        // Nobody waits for it to look once more.
        self.watch.unpark();
    }
}

/// Does the work, and meanwhile tells of every drive that stays silent, again after each further such time.
pub fn watched<T>(pulses: &[Pulse], after: Duration, watcher: &dyn Watcher, work: impl FnOnce() -> T) -> T {
    let is_over = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let watching = scope.spawn(|| watch(pulses, after, &is_over, watcher));
        let _ending = Ending { is_over: &is_over, watch: watching.thread() };
        work()
    })
}

fn watch(pulses: &[Pulse], after: Duration, is_over: &AtomicBool, watcher: &dyn Watcher) {
    let mut told = vec![0u64; pulses.len()];
    while !is_over.load(Ordering::Relaxed) {
        std::thread::park_timeout(LOOK.min(after / 2));
        for (drive, (pulse, told)) in pulses.iter().zip(&mut told).enumerate() {
            let silence = pulse.silence();
            let times = u64::try_from(silence.as_millis() / after.as_millis().max(1)).unwrap_or(u64::MAX);
            if times > *told {
                watcher.heard(drive, &Event::Stalled { seconds: silence.as_secs() });
            }
            *told = times;
        }
    }
}

/// A drive whose requests are counted.
pub struct Watched<'a, D: ?Sized> {
    pub drive: &'a D,
    pub pulse: &'a Pulse,
}

impl<D: DriveIo + ?Sized> DriveIo for Watched<'_, D> {
    fn bytes(&self) -> u64 {
        self.drive.bytes()
    }

    fn sector_bytes(&self) -> u32 {
        self.drive.sector_bytes()
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
        self.pulse.count(|| self.drive.read_at(at, into))
    }
}

impl<D: DriveWrite + ?Sized> DriveWrite for Watched<'_, D> {
    fn write_at(&self, at: u64, from: &[u8]) -> Result<(), DriveFault> {
        self.pulse.count(|| self.drive.write_at(at, from))
    }

    fn flush(&self) -> Result<(), DriveFault> {
        self.pulse.count(|| self.drive.flush())
    }
}
