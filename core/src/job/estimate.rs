//! How long a job still takes: from what the drive has confirmed lately, and with the read-back.
//!
//! The first seconds of a stick are fast, since it takes them into its cache. So only what was flushed counts, only the
//! latest stretch of it, and nothing is said before that means something.

use std::time::Duration;

use crate::bytes::Rate;
use crate::job::order::ReadBack;
use crate::job::watch::Event;
use crate::record::Stage;

/// What was flushed in this last stretch of time counts.
const LATELY: Duration = Duration::from_secs(20);
/// From less of a stretch than this, nothing is worked out.
const SHORTEST: Duration = Duration::from_millis(500);
/// What a drive took in its first seconds says nothing.
const WARM_AFTER: Duration = Duration::from_secs(5);
/// Nothing is said before a drive has been at it for so long, and confirmed so often after its first seconds.
const MEANINGFUL_AFTER: Duration = Duration::from_secs(10);
const MEANINGFUL_MARKS: usize = 3;
/// Until it shows, reading is taken to be so many times as fast as writing: as slow as it may be.
const READ_AGAINST_WRITE: f64 = 2.0;
/// While it is read back, so much of a stretch of time means something.
const READ_BACK_AFTER: Duration = Duration::from_secs(3);

/// Time left on one drive; fed with its events and the time since the job began.
#[derive(Clone, Debug)]
pub struct Estimate {
    /// Length of the body, where it is known.
    bytes: Option<u64>,
    read_back: ReadBack,
    stage: Option<Stage>,
    began: Duration,
    rate: Rate,
}

impl Estimate {
    /// Of a job that begins.
    pub fn new(read_back: ReadBack) -> Self {
        Self { bytes: None, read_back, stage: None, began: Duration::ZERO, rate: Rate::over(LATELY) }
    }

    /// Takes in what happened at `now`.
    pub fn heard(&mut self, event: &Event, now: Duration) {
        match event {
            Event::Began { stage, bytes } => {
                (self.stage, self.began) = (Some(*stage), now);
                if matches!(stage, Stage::Body | Stage::ReadBack) {
                    self.bytes = *bytes;
                    self.rate.clear();
                }
            }
            // What is only compared is not flushed; then what was moved is all there is.
            Event::Flushed { done }
                if self.stage == Some(Stage::Body) && now.saturating_sub(self.began) >= WARM_AFTER =>
            {
                self.rate.mark(now, *done);
            }
            Event::Moved { stage: Stage::ReadBack, done } => self.rate.mark(now, *done),
            _ => {}
        }
    }

    /// The time left at `now`, or `None` while nobody can know.
    pub fn left(&self, now: Duration) -> Option<Duration> {
        let (total, rate) = (self.bytes? as f64, self.rate.per_second(SHORTEST)?);
        let (last_at, last) = self.rate.last()?;
        let since = now.saturating_sub(last_at).as_secs_f64();
        let at_it = now.saturating_sub(self.began);
        let seconds = match self.stage? {
            Stage::Body if at_it >= MEANINGFUL_AFTER && self.rate.marks() >= MEANINGFUL_MARKS => {
                let read_back =
                    if self.read_back == ReadBack::Whole { total / (rate * READ_AGAINST_WRITE) } else { 0.0 };
                (total - last as f64).max(0.0) / rate - since + read_back
            }
            Stage::ReadBack if at_it >= READ_BACK_AFTER => (total - last as f64).max(0.0) / rate - since,
            _ => return None,
        };
        Some(Duration::from_secs_f64(seconds.max(0.0)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(seconds: u64) -> Duration {
        Duration::from_secs(seconds)
    }

    #[test]
    fn a_fast_start_does_not_count_and_the_read_back_does() {
        let mut estimate = Estimate::new(ReadBack::Whole);
        estimate.heard(&Event::Began { stage: Stage::Body, bytes: Some(4_000_000_000) }, at(0));
        // Ten seconds at 100 MB/s into the cache, then 10 MB/s.
        let mut done = 0;
        let mut told = Vec::new();
        for second in 1..=80 {
            done += if second <= 10 { 100_000_000 } else { 10_000_000 };
            if second % 2 == 0 {
                estimate.heard(&Event::Flushed { done }, at(second));
            }
            if second % 10 == 0 || second == 5 {
                told.push(estimate.left(at(second)).map(|left| left.as_secs()));
            }
        }
        // At 40 s: writing the 2.7 GB that are left takes 270 s, and 4 GB at 20 MB/s are read back in 200 s.
        assert_eq!(told, [None, Some(50), Some(137), Some(264), Some(470), Some(460), Some(450), Some(440), Some(430)]);
        estimate.heard(&Event::Began { stage: Stage::ReadBack, bytes: Some(4_000_000_000) }, at(300));
        estimate.heard(&Event::Moved { stage: Stage::ReadBack, done: 50_000_000 }, at(301));
        assert_eq!(estimate.left(at(301)), None);
        estimate.heard(&Event::Moved { stage: Stage::ReadBack, done: 250_000_000 }, at(305));
        assert_eq!(estimate.left(at(305)).unwrap().as_secs(), 75);
        // It runs on where nothing is told meanwhile.
        assert_eq!(estimate.left(at(307)).unwrap().as_secs(), 73);
        assert_eq!(Estimate::new(ReadBack::Whole).left(at(9)), None);
    }

    #[test]
    fn nothing_is_told_before_it_means_something() {
        let told = |stage, marks: &[(u64, u64)], now| {
            let mut estimate = Estimate::new(ReadBack::Skip);
            estimate.heard(&Event::Began { stage, bytes: Some(1_000_000_000) }, at(0));
            for (second, done) in marks.iter().map(|(second, megabytes)| (*second, megabytes * 1_000_000)) {
                let event = match stage {
                    Stage::Body => Event::Flushed { done },
                    _ => Event::Moved { stage, done },
                };
                estimate.heard(&event, at(second));
            }
            estimate.left(at(now)).map(|left| left.as_secs())
        };
        let body = |marks: &[(u64, u64)], now| told(Stage::Body, marks, now);
        assert_eq!(body(&[(6, 100), (8, 120), (10, 140)], 10), Some(86));
        assert_eq!(body(&[(6, 100), (8, 120), (10, 140)], 12), Some(84));
        assert_eq!(body(&[(6, 100), (8, 120), (9, 130)], 9), None, "too early");
        assert_eq!(body(&[(6, 100), (10, 140)], 12), None, "confirmed too seldom");
        assert_eq!(body(&[(6, 100), (8, 100), (10, 100)], 12), None, "it does not move");
        assert_eq!(body(&[(10, 100), (10, 120), (10, 140)], 12), None, "in no time");
        let back = |marks: &[(u64, u64)], now| told(Stage::ReadBack, marks, now);
        assert_eq!([back(&[(0, 0), (2, 200)], 2), back(&[(0, 0), (3, 300)], 3)], [None, Some(7)]);
    }
}
