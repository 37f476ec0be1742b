//! Marks: sectors of which each tells where it belongs, and which nobody but this look can have written.

use crate::bytes::field::{put, take};

/// Length of a mark, in bytes: the smallest sector.
pub(super) const MARK_BYTES: usize = 512;
/// Behind its place, a mark is filled with what follows from that and from the seed.
const FILLING_FROM: usize = 8;

/// Makes the marks of one look.
#[derive(Clone)]
pub struct Marker {
    key: [u8; 32],
}

impl Marker {
    /// Of a look with this seed: another seed, other marks.
    pub fn new(seed: &str) -> Self {
        Self { key: *blake3::hash(seed.as_bytes()).as_bytes() }
    }

    fn mark(&self, at: u64, into: &mut [u8]) {
        let mut hasher = blake3::Hasher::new_keyed(&self.key);
        hasher.update(&at.to_le_bytes());
        hasher.finalize_xof().fill(into.get_mut(FILLING_FROM..).unwrap_or_default());
        put(into, 0, &at.to_le_bytes());
    }

    /// Fills whole sectors with the marks of the place `at`.
    pub fn fill(&self, at: u64, into: &mut [u8]) {
        for (number, sector) in into.chunks_mut(MARK_BYTES).enumerate() {
            self.mark(place(at, number), sector);
        }
    }

    /// The place to which a sector belongs that was found somewhere; `None` if it is no mark.
    pub(super) fn place_of(&self, sector: &[u8]) -> Option<u64> {
        let at = take(sector, 0).map(u64::from_le_bytes)?;
        let mut mark = [0u8; MARK_BYTES];
        self.mark(at, &mut mark);
        (mark == sector).then_some(at)
    }

    /// Whether bytes read at `at` are the marks of that place.
    pub(super) fn is_at(&self, at: u64, bytes: &[u8]) -> bool {
        bytes.chunks(MARK_BYTES).enumerate().all(|(number, sector)| self.place_of(sector) == Some(place(at, number)))
    }
}

/// Where the sector with this number lies, counted from `at`.
pub(super) fn place(at: u64, number: usize) -> u64 {
    at.saturating_add((number as u64).saturating_mul(MARK_BYTES as u64))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mark_tells_its_place_and_its_look_and_nothing_else_is_one() {
        let marker = Marker::new("590J1 2026-11-23T08:00:00Z");
        let mut bytes = vec![0; 4096];
        marker.fill(1 << 33, &mut bytes);
        assert!(marker.is_at(1 << 33, &bytes) && !marker.is_at(0, &bytes));
        assert_eq!(marker.place_of(&bytes[512..1024]), Some((1 << 33) + 512));
        assert_eq!(Marker::new("another").place_of(&bytes[..512]), None);
        bytes[511] ^= 1;
        assert_eq!((marker.place_of(&bytes[..512]), marker.place_of(&[0; 512])), (None, None));
        assert!(!marker.is_at(1 << 33, &bytes));
    }
}
