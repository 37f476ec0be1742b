//! How fast something moves: what was moved in the latest stretch of time.

use std::collections::VecDeque;
use std::time::Duration;

/// Amounts at their times, as far back as one stretch goes.
#[derive(Clone, Debug)]
pub struct Rate {
    stretch: Duration,
    marks: VecDeque<(Duration, u64)>,
}

impl Rate {
    /// Over stretches of this length.
    pub fn over(stretch: Duration) -> Self {
        Self { stretch, marks: VecDeque::new() }
    }

    /// Forgets what was.
    pub fn clear(&mut self) {
        self.marks.clear();
    }

    /// So many bytes were moved by `at`.
    pub fn mark(&mut self, at: Duration, done: u64) {
        self.marks.push_back((at, done));
        // One mark before the stretch stays: it is where the stretch begins.
        while self.marks.get(1).is_some_and(|(second, _)| at.saturating_sub(*second) > self.stretch) {
            self.marks.pop_front();
        }
    }

    /// How many marks count.
    pub fn marks(&self) -> usize {
        self.marks.len()
    }

    /// The latest mark.
    pub fn last(&self) -> Option<(Duration, u64)> {
        self.marks.back().copied()
    }

    /// Bytes a second; `None` before more than `shortest` has gone by.
    pub fn per_second(&self, shortest: Duration) -> Option<f64> {
        let ((first_at, first), (last_at, last)) = (self.marks.front()?, self.marks.back()?);
        let took = last_at.saturating_sub(*first_at);
        (took > shortest && last > first).then(|| last.saturating_sub(*first) as f64 / took.as_secs_f64())
    }
}
