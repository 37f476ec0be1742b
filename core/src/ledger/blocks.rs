//! Digests of the blocks that a job wrote, beside its record: by them a drive is compared without its image.
//!
//! The file: the line `pyrotyp blocks 1`, a line with the image's length in bytes, then a line with the BLAKE3 of each block of
//! [`BLOCK_BYTES`](crate::hash::BLOCK_BYTES), in hexadecimal digits, or `stays N` for N blocks that were left as they were, and last
//! the BLAKE3 of all lines before.

use std::fmt::Write as _;
use std::io;
use std::ops::Range;
use std::path::Path;

use crate::hash::{BLOCK_BYTES, BlockDigests, hole_digest};
use crate::ledger::records::store;
use crate::store::Store;

const FIRST_LINE: &str = "pyrotyp blocks 1";
/// Longest file that is read, in bytes: that of an image of 4 TB.
const BYTES_MOST: u64 = 80 << 20;
/// How a line begins that counts blocks that were left as they were.
const STAYS: &str = "stays ";
/// Most blocks that are read: of a drive of 8 TB.
const BLOCKS_MOST: u64 = 1 << 21;
/// What ends its name.
const ENDING: &str = ".blocks";

/// What a job wrote, by its blocks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Blocks {
    /// Length of the image, in bytes.
    pub bytes: u64,
    /// The digest of each of its blocks; the last may be shorter.
    pub digests: BlockDigests,
}

impl Blocks {
    /// The same, but for the blocks that lie in these ranges of the drive with all of their bytes.
    #[must_use]
    pub fn without(mut self, ranges: &[Range<u64>]) -> Self {
        for (digest, start) in self.digests.iter_mut().zip((0u64..).step_by(usize::try_from(BLOCK_BYTES).unwrap_or(1)))
        {
            let end = start.saturating_add(BLOCK_BYTES);
            if ranges.iter().any(|range| range.start <= start && end <= range.end) {
                *digest = hole_digest();
            }
        }
        self
    }

    fn text(&self) -> String {
        let mut text = format!("{FIRST_LINE}\n{}\n", self.bytes);
        for same in self.digests.chunk_by(|a, b| a == b) {
            // Writing to a string never fails.
            let _ = match same {
                [hole, ..] if *hole == hole_digest() => writeln!(text, "{STAYS}{}", same.len()),
                digests => digests.iter().try_for_each(|digest| writeln!(text, "{}", digest.to_hex())),
            };
        }
        let all = blake3::hash(text.as_bytes());
        let _ = writeln!(text, "{}", all.to_hex());
        text
    }

    /// Reads such a file.
    ///
    /// # Errors
    /// When it is none, or damaged.
    pub fn parse(text: &str) -> io::Result<Self> {
        let fail = |why| io::Error::new(io::ErrorKind::InvalidData, why);
        let (body, last) = text.trim_end().rsplit_once('\n').ok_or_else(|| fail("it is too short"))?;
        let sum = blake3::Hash::from_hex(last).map_err(|_| fail("its last line is no digest"))?;
        let mut hasher = blake3::Hasher::new();
        hasher.update(body.as_bytes()).update(b"\n");
        if hasher.finalize() != sum {
            return Err(fail("it is not what it was"));
        }
        let mut lines = body.lines();
        if lines.next() != Some(FIRST_LINE) {
            return Err(fail("it begins like nothing that is known here"));
        }
        let bytes: u64 = lines.next().and_then(|line| line.parse().ok()).ok_or_else(|| fail("it tells no length"))?;
        let other_number = || fail("it has another number of blocks than its length takes");
        let wanted = bytes.div_ceil(BLOCK_BYTES);
        let mut digests = BlockDigests::new();
        for line in lines {
            let holes = line.strip_prefix(STAYS).and_then(|count| count.parse::<u64>().ok());
            let count = holes.unwrap_or(1);
            if wanted.min(BLOCKS_MOST).saturating_sub(digests.len() as u64) < count {
                return Err(other_number());
            }
            let digest = holes.map_or_else(|| blake3::Hash::from_hex(line), |_| Ok(hole_digest()));
            let digest = digest.map_err(|_| fail("a line is no digest"))?;
            digests.extend(std::iter::repeat_n(digest, usize::try_from(count).unwrap_or_default()));
        }
        if digests.len() as u64 != wanted {
            return Err(other_number());
        }
        Ok(Self { bytes, digests })
    }
}

fn file_of(job: &str) -> String {
    format!("{job}{ENDING}")
}

/// Keeps them beside the record of a job.
///
/// # Errors
/// When they can't be written.
pub fn keep_blocks(state: &Path, job: &str, blocks: &Blocks) -> io::Result<()> {
    store(state).put(&file_of(job), blocks.text().as_bytes())
}

/// Those of a job; `None` where none were kept.
///
/// # Errors
/// When they are there and can't be used.
pub fn blocks_of(state: &Path, job: &str) -> io::Result<Option<Blocks>> {
    read(&store(state), job)
}

pub(super) fn read(records: &Store, job: &str) -> io::Result<Option<Blocks>> {
    let Some(kept) = records.get(&file_of(job), BYTES_MOST)? else { return Ok(None) };
    Blocks::parse(&String::from_utf8_lossy(&kept.bytes)).map(Some)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn digests_come_back_as_they_were_kept_and_a_changed_file_is_refused() {
        let state = tempfile::tempdir().unwrap();
        let hole = hole_digest();
        let digests = vec![blake3::hash(b"a"), hole, hole, hole, blake3::hash(b"b"), hole];
        let blocks = Blocks { bytes: 5 * BLOCK_BYTES + 1, digests };
        assert!(blocks.text().contains("stays 3\n"));
        assert_eq!(blocks_of(state.path(), "x").unwrap(), None);
        keep_blocks(state.path(), "x", &blocks).unwrap();
        assert_eq!(blocks_of(state.path(), "x").unwrap(), Some(blocks.clone()));
        let text = blocks.text();
        for at in (0..text.len()).step_by(7) {
            let mut changed = text.clone().into_bytes();
            changed[at] ^= 1;
            assert!(Blocks::parse(&String::from_utf8_lossy(&changed)).is_err(), "byte {at}");
        }
        // A block that is in a range with a part of it only counts still.
        let without = blocks.clone().without(&[BLOCK_BYTES / 2..3 * BLOCK_BYTES, 4 * BLOCK_BYTES..5 * BLOCK_BYTES]);
        assert_eq!(without.digests, [vec![blake3::hash(b"a")], vec![hole; 5]].concat());
        for other in [Blocks { bytes: BLOCK_BYTES, ..blocks.clone() }, Blocks { bytes: 7 * BLOCK_BYTES, ..blocks }] {
            assert!(Blocks::parse(&other.text()).is_err());
        }
    }

    proptest! {
        #[test]
        fn no_text_makes_it_panic(text: String, lines: Vec<String>) {
            let _ = Blocks::parse(&text);
            let body = format!("{FIRST_LINE}\n{}\n", lines.join("\n"));
            let _ = Blocks::parse(&format!("{body}{}\n", blake3::hash(body.as_bytes()).to_hex()));
        }
    }
}
