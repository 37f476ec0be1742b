//! How fast each drive is along its length, heard from what is told of it.

use std::sync::Mutex;
use std::time::Instant;

use crate::job::lock::lock;
use crate::job::{Event, Watcher};
use crate::record::{SpeedMark, Speeds, Stage};

/// Most marks of a stage: when there are more, every second one goes.
const MARKS_MOST: usize = 128;

/// A watcher that passes on what it hears, and keeps how far each drive was when.
pub(super) struct SpeedMeter<'a> {
    inner: &'a dyn Watcher,
    drives: Vec<Mutex<Metered>>,
}

struct Metered {
    speeds: Speeds,
    began: Instant,
    /// Of so many marks that come, one is kept.
    one_in: usize,
    skipped: usize,
    last: Option<SpeedMark>,
}

impl<'a> SpeedMeter<'a> {
    /// For so many drives.
    pub(super) fn new(inner: &'a dyn Watcher, drives: usize) -> Self {
        let metered =
            || Metered { speeds: Speeds::default(), began: Instant::now(), one_in: 1, skipped: 0, last: None };
        Self { inner, drives: (0..drives).map(|_| Mutex::new(metered())).collect() }
    }

    /// What was seen of one drive.
    pub(super) fn of(&self, drive: usize) -> Speeds {
        self.drives.get(drive).map(|metered| lock(metered).speeds.clone()).unwrap_or_default()
    }
}

impl Metered {
    fn marks(&mut self, stage: Stage) -> Option<&mut Vec<SpeedMark>> {
        match stage {
            Stage::Body => Some(&mut self.speeds.body),
            Stage::ReadBack => Some(&mut self.speeds.read_back),
            _ => None,
        }
    }

    fn begin(&mut self) {
        (self.began, self.one_in, self.skipped, self.last) = (Instant::now(), 1, 0, None);
    }

    fn mark(&mut self, stage: Stage, mark: SpeedMark) {
        self.last = Some(mark);
        self.skipped = self.skipped.saturating_add(1);
        if self.skipped < self.one_in {
            return;
        }
        self.skipped = 0;
        let one_in = self.one_in;
        let Some(marks) = self.marks(stage) else { return };
        marks.push(mark);
        if marks.len() > MARKS_MOST {
            let mut number = 0usize;
            marks.retain(|_| {
                number = number.saturating_add(1);
                number.is_multiple_of(2)
            });
            self.one_in = one_in.saturating_mul(2);
        }
    }

    /// The last mark counts, whether it was one of those that are kept or not.
    fn end(&mut self, stage: Stage) {
        let last = self.last.take();
        if let Some(marks) = self.marks(stage)
            && let Some(last) = last.filter(|last| marks.last() != Some(last))
        {
            marks.push(last);
        }
    }
}

impl Watcher for SpeedMeter<'_> {
    fn heard(&self, drive: usize, event: &Event) {
        if let Some(metered) = self.drives.get(drive) {
            let mut metered = lock(metered);
            match event {
                Event::Began { .. } => metered.begin(),
                Event::Moved { stage, done } => {
                    let seconds = metered.began.elapsed().as_secs_f64();
                    metered.mark(*stage, SpeedMark { done: *done, seconds });
                }
                Event::Ended { stage } => metered.end(*stage),
                _ => {}
            }
        }
        self.inner.heard(drive, event);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Deaf;

    impl Watcher for Deaf {
        fn heard(&self, _drive: usize, _event: &Event) {}
    }

    #[test]
    fn however_long_a_stage_is_its_marks_are_few_and_the_last_one_counts() {
        let meter = SpeedMeter::new(&Deaf, 2);
        meter.heard(1, &Event::Began { stage: Stage::Body, bytes: None });
        for done in 1..=10_001u64 {
            meter.heard(1, &Event::Moved { stage: Stage::Body, done });
        }
        meter.heard(1, &Event::Ended { stage: Stage::Body });
        meter.heard(1, &Event::Moved { stage: Stage::Seal, done: 5 });
        meter.heard(9, &Event::Moved { stage: Stage::Body, done: 5 });
        let Speeds { body, read_back } = meter.of(1);
        assert!((MARKS_MOST / 2..=MARKS_MOST + 1).contains(&body.len()), "{}", body.len());
        assert_eq!(body.last().unwrap().done, 10_001);
        assert!(body.is_sorted_by(|a, b| a.done < b.done && a.seconds <= b.seconds));
        // Evenly: no gap is longer than twice another, but for the last.
        let gaps: Vec<u64> = body.windows(2).map(|two| two[1].done - two[0].done).collect();
        let (longest, shortest) = (gaps.iter().max(), gaps[..gaps.len() - 1].iter().min());
        assert!(longest.unwrap() <= &(shortest.unwrap() * 2), "{gaps:?}");
        assert!(read_back.is_empty() && meter.of(0).is_empty() && meter.of(9).is_empty());
    }
}
