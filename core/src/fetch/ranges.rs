//! Which bytes of a file are there.

use serde::{Deserialize, Serialize};

/// Ranges of bytes, first and behind the last, in order, none touching the next.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub(super) struct Ranges(Vec<(u64, u64)>);

impl Ranges {
    /// Whether this can be what was kept of a file of `bytes` bytes: what is read from a disk may be anything.
    pub(super) fn is_sound(&self, bytes: u64) -> bool {
        let apart = self.0.windows(2).all(|pair| matches!(pair, [(_, end), (start, _)] if end < start));
        apart && self.0.iter().all(|(start, end)| start < end && *end <= bytes)
    }

    /// Takes in the bytes from `start` to before `end`.
    pub(super) fn add(&mut self, start: u64, end: u64) {
        if start >= end {
            return;
        }
        let (mut from, mut to) = (start, end);
        self.0.retain(|(first, last)| {
            let touches = *first <= to && *last >= from;
            if touches {
                (from, to) = (from.min(*first), to.max(*last));
            }
            !touches
        });
        let place = self.0.partition_point(|(first, _)| *first < from);
        self.0.insert(place, (from, to));
    }

    /// Takes the bytes from `start` to before `end` out again.
    pub(super) fn remove(&mut self, start: u64, end: u64) {
        if start >= end {
            return;
        }
        let parts = self.0.iter().flat_map(|(first, last)| [(*first, start.min(*last)), (end.max(*first), *last)]);
        self.0 = parts.filter(|(first, last)| first < last).collect();
    }

    /// Length of what is there without a gap from the start on.
    pub(super) fn prefix(&self) -> u64 {
        self.0.first().filter(|(start, _)| *start == 0).map_or(0, |(_, end)| *end)
    }

    /// How many bytes are there.
    pub(super) fn bytes(&self) -> u64 {
        self.0.iter().fold(0, |sum, (start, end)| sum.saturating_add(end.saturating_sub(*start)))
    }

    /// The first range at or behind `from` that is not there, up to `limit`.
    pub(super) fn gap(&self, from: u64, limit: u64) -> Option<(u64, u64)> {
        let mut start = from;
        for (first, last) in &self.0 {
            if *first > start {
                return (start < limit).then(|| (start, limit.min(*first)));
            }
            start = start.max(*last);
        }
        (start < limit).then_some((start, limit))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn ranges_say_what_a_list_of_bytes_would(steps in prop::collection::vec((any::<bool>(), 0u64..64, 0u64..64), 0..40)) {
            let (mut ranges, mut bytes) = (Ranges::default(), [false; 64]);
            for (adds, a, b) in steps {
                let (start, end) = (a.min(b), a.max(b));
                if adds { ranges.add(start, end) } else { ranges.remove(start, end) }
                bytes[start as usize..end as usize].fill(adds);
                prop_assert!(ranges.is_sound(64), "{ranges:?}");
                prop_assert_eq!(ranges.bytes(), bytes.iter().filter(|there| **there).count() as u64);
                prop_assert_eq!(ranges.prefix(), bytes.iter().take_while(|there| **there).count() as u64);
                let gap = (start..64).find(|at| !bytes[*at as usize]).map(|first| {
                    (first, (first..64).find(|at| bytes[*at as usize]).unwrap_or(64))
                });
                prop_assert_eq!(ranges.gap(start, 64), gap);
            }
        }
    }
}
