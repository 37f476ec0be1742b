//! What fills a drive that is tested as a whole: bytes that never repeat, read like an image.

use std::io;

use crate::bytes::{ReadAt, clipped};
use crate::job::layout::HEAD_BYTES;

/// Bytes that follow from a seed; the head is zeros, so that no PC takes it for anything.
pub struct Pattern {
    key: [u8; 32],
    bytes: u64,
}

impl Pattern {
    /// So many bytes of it.
    pub fn new(seed: &str, bytes: u64) -> Self {
        Self { key: *blake3::hash(seed.as_bytes()).as_bytes(), bytes }
    }
}

impl ReadAt for Pattern {
    fn size(&self) -> u64 {
        self.bytes
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let into = clipped(self.bytes, at, into);
        let mut stream = blake3::Hasher::new_keyed(&self.key).finalize_xof();
        stream.set_position(at);
        stream.fill(into);
        let head = usize::try_from(HEAD_BYTES.saturating_sub(at)).unwrap_or(usize::MAX).min(into.len());
        into.get_mut(..head).unwrap_or_default().fill(0);
        Ok(into.len())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(32))]
        #[test]
        fn any_part_of_it_reads_as_all_of_it_does(at in 0u64..(3 << 20), count in 0usize..9000) {
            let pattern = Pattern::new("a seed", 3 << 20);
            let mut whole = vec![1; 3 << 20];
            prop_assert_eq!(pattern.read_at(0, &mut whole).unwrap(), 3 << 20);
            prop_assert!(whole[..1 << 20].iter().all(|byte| *byte == 0) && whole[1 << 20..].chunks(64).any(|part| part != [0; 64]));
            let mut part = vec![1; count];
            let got = pattern.read_at(at, &mut part).unwrap();
            prop_assert_eq!(&part[..got], &whole[at as usize..at as usize + got]);
        }
    }
}
