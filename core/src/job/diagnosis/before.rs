//! What was on a drive before: samples, so that a write which the drive has dropped can be told from any other damage.

use std::ops::Range;

use crate::devices::{AlignedBuf, DriveIo};
use crate::hash::BLOCK_BYTES;
use crate::job::layout::start_of;

/// Size of a sample in bytes: the largest sector in use.
const SAMPLE_BYTES: usize = 4096;
/// Most samples: reading them takes no more than about a second on a stick.
const SAMPLES_MOST: u64 = 1024;

/// Digests of samples, by their place.
#[derive(Debug, Default)]
pub(crate) struct Before(Vec<(u64, blake3::Hash)>);

impl Before {
    /// Takes a sample from the middle of each block of `body`, or of each so-manieth where there are many.
    pub(crate) fn look(drive: &dyn DriveIo, body: &Range<u64>) -> Self {
        let blocks = body.end.div_ceil(BLOCK_BYTES);
        let step = blocks.div_ceil(SAMPLES_MOST).max(1);
        let mut sample = AlignedBuf::new(SAMPLE_BYTES);
        let mut samples = Vec::new();
        for block in (0..blocks).step_by(usize::try_from(step).unwrap_or(usize::MAX)) {
            let at = start_of(usize::try_from(block).unwrap_or(usize::MAX)).saturating_add(BLOCK_BYTES / 2);
            let is_inside = at >= body.start && at.saturating_add(SAMPLE_BYTES as u64) <= body.end;
            // What can't be read now is about to be written; that will tell.
            if is_inside && drive.read_at(at, &mut sample).is_ok() {
                samples.push((at, blake3::hash(&sample)));
            }
        }
        Self(samples)
    }

    /// Whether the drive holds in `range` what it held before, as far as a sample lies there.
    pub(crate) fn is_back(&self, drive: &dyn DriveIo, range: &Range<u64>) -> bool {
        let first = self.0.partition_point(|(at, _)| *at < range.start);
        let inside =
            self.0.iter().skip(first).take_while(|(at, _)| at.saturating_add(SAMPLE_BYTES as u64) <= range.end);
        let mut now = AlignedBuf::new(SAMPLE_BYTES);
        let mut has_seen = false;
        for (at, digest) in inside.take(4) {
            if drive.read_at(*at, &mut now).is_err() || blake3::hash(&now) != *digest {
                return false;
            }
            has_seen = true;
        }
        has_seen
    }
}
