//! What a drive holds in place of the image, and why.

use std::ops::Range;

use crate::record::{Cause, Difference};

/// Differences closer together than this, in bytes, are told as one.
const MERGE_WITHIN: u64 = 4096;
/// Most differences that are told one by one.
pub const TOLD_MOST: usize = 200;

/// Differences as they are found, merged and bounded.
#[derive(Debug, Default)]
pub(crate) struct Differences {
    pub told: Vec<Difference>,
    /// How many more there are.
    pub more: u64,
    /// Bits that read wrong where single bits do.
    pub bits: u64,
    /// On which of the eight lines of a byte they were.
    pub lines: u8,
    /// How much differs, in bytes.
    pub bytes: u64,
}

impl Differences {
    pub(crate) fn is_empty(&self) -> bool {
        self.told.is_empty()
    }

    /// Adds a range; one that follows closely on the last, with the same cause, extends it.
    pub(crate) fn add(&mut self, range: Range<u64>, cause: Cause) {
        self.bytes = self.bytes.saturating_add(range.end.saturating_sub(range.start));
        if let Some(last) = self.told.last_mut()
            && last.cause == cause
            && range.start.saturating_sub(last.offset.saturating_add(last.bytes)) <= MERGE_WITHIN
            && self.more == 0
        {
            last.bytes = range.end.saturating_sub(last.offset);
        } else if self.told.len() < TOLD_MOST {
            let bytes = range.end.saturating_sub(range.start);
            self.told.push(Difference { offset: range.start, bytes, cause, file: None });
        } else {
            self.more = self.more.saturating_add(1);
        }
    }

    /// Compares what should be at byte `at` with what is there; `judge` may know more about a range than its bytes tell.
    pub(crate) fn compare(
        &mut self,
        at: u64,
        expected: &[u8],
        found: &[u8],
        judge: &mut dyn FnMut(&Range<u64>, Cause) -> Cause,
    ) {
        for run in runs(expected, found) {
            let expected = expected.get(run.clone()).unwrap_or_default();
            let found = found.get(run.clone()).unwrap_or_default();
            let range = at.saturating_add(run.start as u64)..at.saturating_add(run.end as u64);
            let cause = judge(&range, cause(expected, found));
            if cause == Cause::SingleBits {
                for (a, b) in expected.iter().zip(found) {
                    self.bits = self.bits.saturating_add(u64::from((a ^ b).count_ones()));
                    self.lines |= a ^ b;
                }
            }
            self.add(range, cause);
        }
    }
}

/// Stretches in which two blocks differ, short gaps included.
fn runs(expected: &[u8], found: &[u8]) -> Vec<Range<usize>> {
    let mut runs: Vec<Range<usize>> = Vec::new();
    let differing = expected.iter().zip(found).enumerate().filter(|(_, (a, b))| a != b);
    for (place, _) in differing {
        match runs.last_mut() {
            Some(last) if place.saturating_sub(last.end) <= MERGE_WITHIN as usize => last.end = place.saturating_add(1),
            _ => runs.push(place..place.saturating_add(1)),
        }
    }
    runs
}

/// What the bytes of one stretch tell.
pub(super) fn cause(expected: &[u8], found: &[u8]) -> Cause {
    let differing = expected.iter().zip(found).filter(|(a, b)| a != b);
    let one_bit = differing.clone().all(|(a, b)| (a ^ b).count_ones() == 1);
    let sparse = differing.clone().count() <= expected.len().div_ceil(64);
    let lost = |value: u8| differing.clone().all(|(_, b)| *b == value);
    if one_bit && sparse {
        Cause::SingleBits
    } else if lost(0) {
        Cause::Zeros
    } else if lost(0xFF) {
        Cause::Ones
    } else {
        Cause::OtherData
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_merged_where_nothing_lies_between_and_bounded() {
        let mut all = Differences::default();
        let told = |all: &Differences| all.told.iter().map(|one| (one.offset, one.bytes)).collect::<Vec<_>>();
        all.add(100..200, Cause::Zeros);
        all.add(200 + MERGE_WITHIN..300 + MERGE_WITHIN, Cause::Zeros);
        assert_eq!(told(&all), [(100, 200 + MERGE_WITHIN)], "as near as may be");
        all.add(301 + 2 * MERGE_WITHIN..400 + 2 * MERGE_WITHIN, Cause::Zeros);
        all.add(400 + 2 * MERGE_WITHIN..500 + 2 * MERGE_WITHIN, Cause::Ones);
        assert_eq!(
            told(&all)[1..],
            [(301 + 2 * MERGE_WITHIN, 99), (400 + 2 * MERGE_WITHIN, 100)],
            "too far, and of another kind"
        );
        assert_eq!(all.bytes, 100 + 100 + 99 + 100);
        for number in 0..TOLD_MOST as u64 {
            let at = (1 << 20) * (number + 1);
            all.add(at..at + 1, Cause::OtherData);
        }
        assert_eq!((all.told.len(), all.more), (TOLD_MOST, 3));
        let last = told(&all)[TOLD_MOST - 1];
        all.add(last.0 + 1..last.0 + 2, Cause::OtherData);
        assert_eq!(
            (told(&all)[TOLD_MOST - 1], all.more),
            (last, 4),
            "behind what is left out, nothing follows closely"
        );
    }

    #[test]
    fn single_bits_are_counted_with_their_lines() {
        let mut all = Differences::default();
        let expected = vec![1u8; 1024];
        let mut found = expected.clone();
        assert!(all.is_empty());
        (found[3], found[203]) = (0b101, 0b1001);
        all.compare(0, &expected, &found, &mut |_, cause| cause);
        assert!(!all.is_empty());
        assert_eq!((all.bits, all.lines, all.told[0].cause), (2, 0b1100, Cause::SingleBits));
        // A byte that is another one altogether, and bits in most of them, are no failing memory.
        assert_eq!(cause(&[0; 128], &[[3; 1].as_slice(), &[0; 127]].concat()), Cause::OtherData);
        assert_eq!(cause(&[0; 128], &[1; 128]), Cause::OtherData);
    }

    #[test]
    fn the_bytes_tell_the_cause() {
        let expected: Vec<u8> = (0..20_000u32).map(|n| (n % 251) as u8 | 1).collect();
        let causes = |spoil: &dyn Fn(&mut [u8])| {
            let mut found = expected.clone();
            spoil(&mut found);
            let mut differences = Differences::default();
            differences.compare(1000, &expected, &found, &mut |_, cause| cause);
            differences.told.iter().map(|d| (d.offset, d.bytes, d.cause)).collect::<Vec<_>>()
        };
        assert_eq!(causes(&|_| ()), []);
        assert_eq!(causes(&|found| found[512..1024].fill(0)), [(1512, 512, Cause::Zeros)]);
        assert_eq!(causes(&|found| found[512..1024].fill(0xFF)), [(1512, 512, Cause::Ones)]);
        assert_eq!(causes(&|found| found[700] ^= 4), [(1700, 1, Cause::SingleBits)]);
        assert_eq!(causes(&|found| found.swap(0, 5)), [(1000, 6, Cause::OtherData)]);
        // Two places far apart are two differences, two close together are one.
        let far = |found: &mut [u8]| [10, 15_000].iter().for_each(|at| found[*at] ^= 8);
        assert_eq!(causes(&far), [(1010, 1, Cause::SingleBits), (16_000, 1, Cause::SingleBits)]);
        let near = |found: &mut [u8]| [10, 3_000].iter().for_each(|at| found[*at] ^= 8);
        assert_eq!(causes(&near), [(1010, 2991, Cause::SingleBits)]);
    }
}
