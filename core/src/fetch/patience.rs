//! How long a mirror is borne with: how often it may fail, and when it is asked again.

use std::time::Duration;

/// How often a mirror may fail in a row.
const FAILURES_MOST: u32 = 6;
/// How often it may fail at all, whatever comes between.
const FAILURES_EVER: u32 = 500;
/// After so many bytes that it brought on, a failure is no longer in a row with the one before.
pub(super) const PROGRESS: u64 = 64 << 10;
/// Slower than this, in bytes a second, a mirror is no use to anybody.
pub(super) const CRAWLING: u64 = 256;
/// The first pause before a mirror is asked again; each further one is twice as long, up to the longest.
const PAUSE: Duration = Duration::from_millis(250);
pub(super) const PAUSE_LONGEST: Duration = Duration::from_secs(60);

/// What one mirror has cost so far.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Patience {
    in_a_row: u32,
    ever: u32,
}

impl Patience {
    /// It failed once more.
    pub(super) fn failed(&mut self) {
        self.in_a_row = self.in_a_row.saturating_add(1);
        self.ever = self.ever.saturating_add(1);
    }

    /// It brought something on.
    pub(super) fn went_on(&mut self) {
        self.in_a_row = 0;
    }

    /// How often it failed in a row.
    pub(super) fn in_a_row(&self) -> u32 {
        self.in_a_row
    }

    /// Whether it is not asked again.
    pub(super) fn is_over(&self) -> bool {
        self.in_a_row >= FAILURES_MOST || self.ever >= FAILURES_EVER
    }

    /// How long it is left alone.
    pub(super) fn pause(&self) -> Duration {
        PAUSE.saturating_mul(1 << self.in_a_row.saturating_sub(1).min(10)).min(PAUSE_LONGEST)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mirror_is_asked_later_and_later_and_not_for_ever() {
        let mut patience = Patience::default();
        let pauses: Vec<u128> = (0..5)
            .map(|_| {
                patience.failed();
                assert!(!patience.is_over());
                patience.pause().as_millis()
            })
            .collect();
        assert_eq!(pauses, [250, 500, 1000, 2000, 4000]);
        patience.went_on();
        assert_eq!(patience.in_a_row(), 0);
        // One that always brings a little and then fails is not borne with for ever either.
        let failures = (1..).take_while(|_| {
            patience.went_on();
            patience.failed();
            !patience.is_over()
        });
        assert_eq!(failures.count(), 494);
        (0..6).for_each(|_| patience.failed());
        assert!(patience.is_over());
    }
}
