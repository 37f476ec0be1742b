//! How much is written at once: found out on the drive itself, in the first seconds.

use std::sync::Mutex;
use std::time::{Duration, Instant};

use crate::hash::BLOCK_BYTES;
use crate::job::lock::lock;

/// Sizes that are tried on a fast drive, in bytes, the largest first: it costs the least where it makes no difference.
const FAST_SIZES: [usize; 3] = [BLOCK_BYTES as usize, 1 << 20, 256 << 10];
/// Sizes that are tried on a slow one: a larger request would hide for seconds whether anything goes on.
const SLOW_SIZES: [usize; 2] = [1 << 20, 256 << 10];
/// A drive that takes more than this, in bytes a second, is a fast one.
const FAST: f64 = 100e6;
/// Each is tried for so long at least, and with so many bytes.
const TRIAL: Duration = Duration::from_millis(600);
const TRIAL_BYTES: u64 = 4 * BLOCK_BYTES;
/// A smaller size is taken only if it is faster by more than one part in so many.
const BETTER_BY: f64 = 20.0;

/// The size of a request, while it is being found out and after.
pub(super) struct RequestSize(Mutex<Trial>);

struct Trial {
    /// When the first request was made.
    asked: Option<Instant>,
    /// What is tried, once the first block has shown how fast the drive is.
    sizes: &'static [usize],
    /// Bytes a second with each size tried so far.
    rates: Vec<f64>,
    began: Option<Instant>,
    bytes: u64,
    chosen: Option<usize>,
}

impl RequestSize {
    pub(super) fn new() -> Self {
        let trial = Trial { asked: None, sizes: &[], rates: Vec::new(), began: None, bytes: 0, chosen: None };
        Self(Mutex::new(trial))
    }

    /// How much to write at once now, in bytes.
    pub(super) fn now(&self, when: Instant) -> usize {
        let mut trial = lock(&self.0);
        trial.asked.get_or_insert(when);
        let tried = trial.sizes.get(trial.rates.len()).copied();
        trial.chosen.or(tried).unwrap_or(SLOW_SIZES[0])
    }

    /// Whether the drive is a fast one; `None` until it has taken its first block.
    pub(super) fn is_fast(&self) -> Option<bool> {
        let trial = lock(&self.0);
        (!trial.sizes.is_empty()).then(|| trial.sizes.len() == FAST_SIZES.len())
    }

    /// A block with so many bytes was written by `when`.
    pub(super) fn wrote(&self, bytes: u64, when: Instant) {
        lock(&self.0).wrote(bytes, when);
    }
}

impl Trial {
    fn wrote(&mut self, bytes: u64, when: Instant) {
        if self.chosen.is_some() {
            return;
        }
        if self.sizes.is_empty() {
            let took = self.asked.map_or(TRIAL, |asked| when.saturating_duration_since(asked));
            let is_fast = bytes as f64 > FAST * took.as_secs_f64();
            self.sizes = if is_fast { &FAST_SIZES } else { &SLOW_SIZES };
        }
        // The first block of each trial only starts the clock: it was asked for under the size before.
        let Some(began) = self.began else {
            self.began = Some(when);
            return;
        };
        self.bytes = self.bytes.saturating_add(bytes);
        let took = when.saturating_duration_since(began);
        if took < TRIAL || self.bytes < TRIAL_BYTES {
            return;
        }
        self.rates.push(self.bytes as f64 / took.as_secs_f64());
        (self.began, self.bytes) = (None, 0);
        if self.rates.len() == self.sizes.len() {
            let best = self.rates.iter().copied().fold(0.0, f64::max);
            let good = |rate: &f64| *rate >= best - best / BETTER_BY;
            self.chosen = self.rates.iter().position(good).and_then(|place| self.sizes.get(place).copied());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The size that is chosen for a drive which takes blocks at this rate, in MiB a second, with each size.
    fn chosen(rates: [u64; 3]) -> usize {
        let size = RequestSize::new();
        let mut now = Instant::now();
        for _ in 0..2000 {
            let rate = rates[FAST_SIZES.iter().position(|known| *known == size.now(now)).unwrap()];
            now += Duration::from_secs_f64(4.0 / rate as f64);
            size.wrote(BLOCK_BYTES, now);
        }
        size.now(now)
    }

    #[test]
    fn the_largest_size_that_is_as_fast_as_any_is_chosen_and_on_a_slow_drive_none_that_hides_progress() {
        assert_eq!(chosen([400, 400, 400]), 4 << 20);
        assert_eq!(chosen([400, 410, 410]), 4 << 20);
        assert_eq!(chosen([1500, 900, 200]), 4 << 20);
        assert_eq!(chosen([400, 600, 610]), 1 << 20);
        assert_eq!(chosen([60, 40, 41]), 1 << 20);
        assert_eq!(chosen([10, 20, 40]), 256 << 10);
    }
}
