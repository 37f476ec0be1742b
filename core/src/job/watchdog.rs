//! Whether a drive still answers: every request to it is counted, and somebody looks at the clock.

use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::thread::Thread;
use std::time::{Duration, Instant};

use crate::devices::{DriveFault, DriveIo, DriveWrite};
use crate::job::{Event, Watcher};

/// How often the clock is looked at.
const LOOK: Duration = Duration::from_millis(100);

/// The requests of one drive.
pub(super) struct Heartbeat {
    began: Instant,
    /// When a request last began with none under way, or ended, in milliseconds since `began`.
    last: AtomicU64,
    under_way: AtomicUsize,
}

impl Heartbeat {
    pub(super) fn new() -> Self {
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
pub(super) fn watched<T>(
    heartbeats: &[Heartbeat],
    after: Duration,
    watcher: &dyn Watcher,
    work: impl FnOnce() -> T,
) -> T {
    let is_over = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let watching = scope.spawn(|| watch(heartbeats, after, &is_over, watcher));
        let _ending = Ending { is_over: &is_over, watch: watching.thread() };
        work()
    })
}

fn watch(heartbeats: &[Heartbeat], after: Duration, is_over: &AtomicBool, watcher: &dyn Watcher) {
    let mut told = vec![0u64; heartbeats.len()];
    while !is_over.load(Ordering::Relaxed) {
        std::thread::park_timeout(LOOK.min(after.checked_div(2).unwrap_or(LOOK)));
        for (drive, (heartbeat, told)) in heartbeats.iter().zip(&mut told).enumerate() {
            let silence = heartbeat.silence();
            let times = u64::try_from(silence.as_millis().checked_div(after.as_millis()).unwrap_or_default())
                .unwrap_or(u64::MAX);
            if times > *told {
                watcher.heard(drive, &Event::Stalled { seconds: silence.as_secs() });
            }
            *told = times;
        }
    }
}

/// A drive whose requests are counted.
pub(super) struct Watched<'a, D: ?Sized> {
    pub drive: &'a D,
    pub heartbeat: &'a Heartbeat,
}

impl<D: DriveIo + ?Sized> DriveIo for Watched<'_, D> {
    fn bytes(&self) -> u64 {
        self.drive.bytes()
    }

    fn sector_bytes(&self) -> u32 {
        self.drive.sector_bytes()
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
        self.heartbeat.count(|| self.drive.read_at(at, into))
    }
}

impl<D: DriveWrite + ?Sized> DriveWrite for Watched<'_, D> {
    fn write_at(&self, at: u64, from: &[u8]) -> Result<(), DriveFault> {
        self.heartbeat.count(|| self.drive.write_at(at, from))
    }

    fn check_medium(&self) -> Result<(), DriveFault> {
        self.drive.check_medium()
    }

    fn flush(&self) -> Result<(), DriveFault> {
        self.heartbeat.count(|| self.drive.flush())
    }
}

#[cfg(test)]
mod tests {
    use std::panic::{AssertUnwindSafe, catch_unwind};
    use std::sync::Mutex;

    use super::*;

    struct Told(Mutex<Vec<(usize, Event)>>);

    impl Watcher for Told {
        fn heard(&self, drive: usize, event: &Event) {
            self.0.lock().unwrap().push((drive, event.clone()));
        }
    }

    #[test]
    fn the_silent_drive_alone_is_told_of_and_the_watch_ends_with_its_work() {
        let told = Told(Mutex::default());
        let heartbeats = [Heartbeat::new(), Heartbeat::new()];
        let after = Duration::from_millis(40);
        // Of a request that takes long, one drive waits; the other has nothing to do.
        watched(&heartbeats, after, &told, || heartbeats[1].count(|| std::thread::sleep(after * 5)));
        let heard = std::mem::take(&mut *told.0.lock().unwrap());
        assert!(!heard.is_empty() && heard.iter().all(|one| matches!(one, (1, Event::Stalled { .. }))), "{heard:?}");
        assert_eq!(watched(&heartbeats, Duration::from_secs(20), &told, || 7), 7);
        // It does not go on for ever when the work panics.
        let panics = || watched(&heartbeats, after, &told, || panic!("the work"));
        assert!(catch_unwind(AssertUnwindSafe(panics)).is_err());
    }
}
