//! Where a quick look puts its marks.
//!
//! One long stretch near the start, the *field*, shows up again further on where a drive counts round: whatever its true size, one of
//! the places that lie half a field apart reads a part of it. Single places all along the drive show the rest: places that
//! drop what they are given, repeat something else, or can't be read.

use std::ops::Range;

use crate::devices::ALIGNMENT;
use crate::job::layout::length;

/// Drives below this are all head and end: nothing can be told of them.
pub(super) const DRIVE_LEAST: u64 = 4 << 20;
/// The field is this part of the drive, within these bounds in bytes: long enough that no cache of a drive holds all of it.
const FIELD_PART: u64 = 2048;
const FIELD_LEAST: u64 = 32 << 20;
const FIELD_LEAST_PART: u64 = 64;
const FIELD_MOST: u64 = 128 << 20;
/// It begins behind this part of the drive, so that no table lies in it.
const BEFORE_FIELD: u64 = 256;
/// How many single places.
const PLACES: u64 = 32;
/// A single place is this part of the drive, within these bounds in bytes.
const PLACE_PART: u64 = 4096;
const PLACE_MOST: u64 = 512 << 10;
/// Single places at each step towards the true end.
const STEPS: u64 = 16;

const UNIT: u64 = ALIGNMENT as u64;

fn down(bytes: u64) -> u64 {
    bytes.saturating_sub(bytes.checked_rem(UNIT).unwrap_or_default())
}

fn part(bytes: u64, of: u64) -> u64 {
    bytes.checked_div(of).unwrap_or_default()
}

/// The places of one look, in bytes and in whole units of the alignment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Places {
    /// The long stretch.
    pub field: Range<u64>,
    /// The single ones, in order; the last ends with the drive.
    pub single: Vec<Range<u64>>,
    end: u64,
}

impl Places {
    /// On a drive of this size; `None` where it is too small.
    pub(super) fn of(drive_bytes: u64) -> Option<Self> {
        let end = down(drive_bytes);
        if end < DRIVE_LEAST {
            return None;
        }
        let least = FIELD_LEAST.min(part(end, FIELD_LEAST_PART));
        let field_bytes = down(part(end, FIELD_PART).clamp(least, FIELD_MOST.max(least))).max(UNIT);
        let start = down(part(end, BEFORE_FIELD)).max(UNIT);
        let field = start..start.saturating_add(field_bytes);
        let bytes = down(part(end, PLACE_PART).min(PLACE_MOST)).max(UNIT);
        // The first lies before the field, all others behind it.
        let room = end.saturating_sub(bytes).saturating_sub(field.end);
        let behind = (1..PLACES).map(|number| {
            let share = part(room.saturating_mul(number), PLACES.saturating_sub(1));
            down(field.end.saturating_add(share))
        });
        let first = down(part(field.start, 2)).min(field.start.saturating_sub(UNIT));
        let first = first..first.saturating_add(bytes).min(field.start);
        let mut single = vec![first];
        single.extend(behind.map(|at| at..at.saturating_add(bytes)));
        Some(Self { field, single, end })
    }

    /// Where the field is looked for behind itself, each place a unit long.
    pub(super) fn echoes(&self) -> impl Iterator<Item = u64> + use<> {
        let step = usize::try_from(down(part(length(&self.field), 2)).max(UNIT)).unwrap_or(usize::MAX);
        let last = self.end.saturating_sub(UNIT);
        (self.field.end..=last).step_by(step)
    }

    /// The last single place.
    pub(super) fn last(&self) -> Range<u64> {
        self.single.last().cloned().unwrap_or(0..0)
    }

    /// Where the last single place is looked for near the start, each place a unit long: there it shows on a drive that counts round
    /// only just before its end, so that no echo of the field fits behind.
    pub(super) fn echoes_of_last(&self) -> impl Iterator<Item = u64> + use<> {
        let step = usize::try_from(length(&self.last()).max(UNIT)).unwrap_or(usize::MAX);
        (0..self.field.end.saturating_add(length(&self.field)).min(self.last().start)).step_by(step)
    }

    /// All bytes that are marked at first.
    pub(super) fn bytes(&self) -> u64 {
        self.single.iter().map(length).fold(length(&self.field), u64::saturating_add)
    }
}

/// How many bytes of a drive of this size a quick look marks at first.
pub fn marked_bytes(drive_bytes: u64) -> u64 {
    Places::of(drive_bytes).map_or(0, |places| places.bytes())
}

/// Single places between a good one, which ends at `range.start`, and a bad one, which begins at `range.end`.
pub(super) fn between(range: &Range<u64>) -> Vec<Range<u64>> {
    let places = (1..=STEPS).map(|number| {
        let share = part(length(range).saturating_mul(number), STEPS.saturating_add(1));
        down(range.start.saturating_add(share))
    });
    let mut places: Vec<u64> = places.filter(|at| range.contains(at)).collect();
    places.dedup();
    places.into_iter().map(|at| at..at.saturating_add(UNIT).min(range.end)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn whatever_its_true_size_a_drive_that_counts_round_shows_a_part_of_the_field(
            bytes in DRIVE_LEAST..2_000_000_000_000, share in 25u64..1001, missing in 512u64..9_000_000,
        ) {
            let places = Places::of(bytes).unwrap();
            let true_bytes = part(bytes, 1000) * share / 512 * 512;
            // Or it lacks a little only.
            let true_bytes = if share == 1000 { bytes.saturating_sub(missing) / 512 * 512 } else { true_bytes };
            prop_assume!(true_bytes > places.field.end + UNIT && true_bytes + 512 <= down(bytes));
            let seen = places.echoes().find(|at| *at >= true_bytes && places.field.contains(&(at % true_bytes)));
            let last = || places.echoes_of_last().any(|at| places.last().contains(&(at + true_bytes)));
            prop_assert!(seen.map_or_else(last, |at| at / true_bytes == 1), "{:?} {}", places.field, true_bytes);
        }

        #[test]
        fn the_places_are_on_the_drive_and_apart(bytes in 0u64..u64::MAX / 64) {
            let Some(places) = Places::of(bytes) else { return Ok(()) };
            let mut all = places.single.clone();
            all.insert(1, places.field.clone());
            prop_assert!(all.iter().all(|place| !place.is_empty() && place.start % UNIT == 0 && place.end % UNIT == 0));
            prop_assert!(all.windows(2).all(|two| two[0].end <= two[1].start), "{all:?}");
            prop_assert_eq!(all.last().map(|last| last.end), Some(down(bytes)));
            prop_assert!(places.bytes() <= 160 << 20);
        }
    }

    #[test]
    fn steps_towards_the_end_come_closer() {
        let places = between(&(0..64 << 20));
        assert_eq!((places.len(), places[0].start), (16, down((64 << 20) / 17)));
        assert_eq!(between(&(0..4096)).len(), 1);
        assert_eq!(between(&(0..0)), []);
        assert_eq!(between(&(4096..12_288)), [4096..8192, 8192..12_288]);
    }
}
