//! A digest for each block of an image: what a drive that was written is compared with.

use std::io;
use std::sync::LazyLock;

use crate::bytes::{MIB, ReadAt};
use crate::hash::Taker;

/// A digest is kept for each stretch of this many bytes, counted from the start of the image.
pub const BLOCK_BYTES: u64 = 4 * MIB;

/// The digest of a block.
pub type BlockDigest = blake3::Hash;

/// The BLAKE3 digests of an image's blocks, in their order; the last block may be shorter.
pub type BlockDigests = Vec<blake3::Hash>;

/// What stands in a list of digests for a block that stays as it is on the drive: the digest of no bytes.
pub fn hole_digest() -> blake3::Hash {
    static HOLE: LazyLock<blake3::Hash> = LazyLock::new(|| blake3::hash(&[]));
    *HOLE
}

/// Computes the digests of an image's blocks while its bytes go by.
#[derive(Default)]
pub struct BlockHasher {
    hasher: blake3::Hasher,
    /// How much of the block under way has been taken in.
    filled: u64,
    done: BlockDigests,
}

impl BlockHasher {
    /// Of an image of which nothing was seen yet.
    pub fn new() -> Self {
        Self::default()
    }

    /// The digests of all the bytes taken in.
    pub fn finish(mut self) -> BlockDigests {
        if self.filled > 0 {
            self.done.push(self.hasher.finalize());
        }
        self.done
    }
}

impl Taker for BlockHasher {
    fn take(&mut self, bytes: &[u8]) {
        let mut rest = bytes;
        while !rest.is_empty() {
            let room = usize::try_from(BLOCK_BYTES.saturating_sub(self.filled)).unwrap_or(usize::MAX);
            let (now, later) = rest.split_at_checked(room).unwrap_or((rest, &[]));
            self.hasher.update(now);
            self.filled = self.filled.saturating_add(now.len() as u64);
            rest = later;
            if self.filled == BLOCK_BYTES {
                self.done.push(self.hasher.finalize());
                self.hasher.reset();
                self.filled = 0;
            }
        }
    }
}

/// The digest of the first block of an image, or of what begins like one.
///
/// # Errors
/// When it can't be read.
pub fn first_block(of: &dyn ReadAt) -> io::Result<blake3::Hash> {
    let length = usize::try_from(of.size().min(BLOCK_BYTES)).unwrap_or_default();
    let mut block = vec![0u8; length];
    let count = of.fill_at(0, &mut block)?;
    Ok(blake3::hash(block.get(..count).unwrap_or_default()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig { cases: 16, failure_persistence: None, ..ProptestConfig::default() })]
        #[test]
        fn however_the_bytes_come_each_block_has_its_own_digest(bytes in 0usize..13 << 20, piece in 1usize..3 << 20) {
            let image = pyrotyp_sample::noise(bytes, 5);
            let mut hasher = BlockHasher::new();
            image.chunks(piece).for_each(|part| hasher.take(part));
            let expected: BlockDigests = image.chunks(BLOCK_BYTES as usize).map(blake3::hash).collect();
            prop_assert_eq!(hasher.finish(), expected);
        }
    }
}
