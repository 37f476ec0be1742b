//! Torrent files: the sums of an image's pieces, which locate damage. Nothing here talks to a network.
//!
//! Source: BEP 3 (bencoding; `info`, `piece length`, `pieces` of SHA-1), BEP 52 (`file tree`, `piece layers`, trees of SHA-256
//! over blocks of 16 KiB).
//! Promise: any bytes give an answer, never a panic; memory is bounded by the size of the torrent.

use ring::digest::{Context, SHA1_FOR_LEGACY_USE_ONLY, SHA256};

use crate::hash::Taker;
use crate::published::bencode::{Value, parse};

/// Sums of version 1 and of version 2, in bytes.
const SHA1_BYTES: usize = 20;
const SHA256_BYTES: usize = 32;
/// What a leaf of version 2 is made of, in bytes (BEP 52, "file tree").
const BLOCK: u64 = 16 << 10;
/// Longest and shortest piece, in bytes.
const PIECE_MOST: u64 = 1 << 30;
/// Most damaged ranges that are kept.
const RANGES_MOST: usize = 1000;

/// The pieces of one file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Torrent {
    /// Length of the file, in bytes.
    pub bytes: u64,
    /// Length of a piece, in bytes.
    piece: u64,
    sums: Sums,
}

/// Where a torrent has both, version 2 is taken: it can't be forged, and no piece reaches into another file.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Sums {
    /// Version 1: pieces of all files one behind the other.
    First {
        /// Where the file begins among all of them.
        start: u64,
        /// Length of all files together.
        total: u64,
        sums: Vec<u8>,
    },
    /// Version 2: a tree for each file.
    Second {
        root: [u8; SHA256_BYTES],
        /// Sums of the pieces; empty for a file that is no longer than one.
        layer: Vec<u8>,
    },
}

/// How the file came out against its pieces.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PiecesReport {
    /// The torrent's path.
    pub source: String,
    /// How many pieces were compared.
    pub pieces: u64,
    /// Bytes that no piece of this file alone covers: version 1 lets pieces reach into the next file.
    pub unproven_bytes: u64,
    /// First byte and length of each damaged range; 1000 at most.
    pub damaged: Vec<(u64, u64)>,
    /// The length that the torrent names, if it is not the file's.
    pub other_length: Option<u64>,
}

impl PiecesReport {
    /// Whether no piece differs.
    pub fn ok(&self) -> bool {
        self.damaged.is_empty() && self.other_length.is_none()
    }
}

/// What a torrent says of the file called `file_name`; `None` if it is no torrent or does not name the file.
pub fn torrent(bytes: &[u8], file_name: &str) -> Option<Torrent> {
    let top = parse(bytes)?;
    let info = top.get("info")?;
    let piece = info.get("piece length")?.number().filter(|bytes| (1..=PIECE_MOST).contains(bytes))?;
    let (bytes, sums) = second(&top, info, file_name, piece).or_else(|| first(info, file_name, piece))?;
    Some(Torrent { bytes, piece, sums })
}

/// Length of the file, and its pieces of version 1.
fn first(info: &Value<'_>, file_name: &str, piece: u64) -> Option<(u64, Sums)> {
    let sums = info.get("pieces")?.bytes()?;
    let (mut total, mut found) = (0u64, None);
    match info.get("files") {
        None => {
            total = info.get("length")?.number()?;
            found = (info.get("name")?.text()? == file_name).then_some((0, total));
        }
        Some(files) => {
            for file in files.list()? {
                let length = file.get("length")?.number()?;
                if found.is_none() && file.get("path")?.list()?.last()?.text()? == file_name {
                    found = Some((total, length));
                }
                total = total.checked_add(length)?;
            }
        }
    }
    let (start, bytes) = found?;
    let needed = total.div_ceil(piece).checked_mul(SHA1_BYTES as u64)?;
    (sums.len() as u64 == needed).then(|| (bytes, Sums::First { start, total, sums: sums.to_vec() }))
}

/// Length of the file, and its tree of version 2.
fn second(top: &Value<'_>, info: &Value<'_>, file_name: &str, piece: u64) -> Option<(u64, Sums)> {
    if info.get("meta version")?.number()? != 2 || !piece.is_power_of_two() || piece < BLOCK {
        return None;
    }
    let entry = info.get("file tree")?.find(file_name)?.get("")?;
    let bytes = entry.get("length")?.number()?;
    let root: [u8; SHA256_BYTES] = entry.get("pieces root")?.bytes()?.try_into().ok()?;
    if bytes <= piece {
        return Some((bytes, Sums::Second { root, layer: Vec::new() }));
    }
    let layer = top.get("piece layers")?.get_bytes(&root)?.bytes()?;
    let is_complete = layer.len() as u64 == bytes.div_ceil(piece).checked_mul(SHA256_BYTES as u64)?;
    let is_of_root = || tree_root(layer.chunks_exact(SHA256_BYTES), padding(piece)) == root;
    (is_complete && is_of_root()).then(|| (bytes, Sums::Second { root, layer: layer.to_vec() }))
}

fn pair(left: &[u8], right: &[u8]) -> [u8; SHA256_BYTES] {
    let mut context = Context::new(&SHA256);
    context.update(left);
    context.update(right);
    context.finish().as_ref().try_into().unwrap_or_default()
}

/// The sum of a piece of nothing but absent blocks, which pads a layer (BEP 52: absent leaves are zeros).
fn padding(piece: u64) -> [u8; SHA256_BYTES] {
    let mut sum = [0; SHA256_BYTES];
    let mut length = BLOCK;
    while length < piece {
        sum = pair(&sum, &sum);
        length = length.saturating_mul(2);
    }
    sum
}

/// The root over a layer, filled up to a power of two with `padding`.
fn tree_root<'a>(layer: impl Iterator<Item = &'a [u8]>, padding: [u8; SHA256_BYTES]) -> [u8; SHA256_BYTES] {
    let mut layer: Vec<[u8; SHA256_BYTES]> = layer.filter_map(|sum| sum.try_into().ok()).collect();
    let mut padding = padding;
    while layer.len() > 1 {
        layer = layer.chunks(2).filter_map(|two| Some(pair(two.first()?, two.get(1).unwrap_or(&padding)))).collect();
        padding = pair(&padding, &padding);
    }
    layer.first().copied().unwrap_or(padding)
}

/// Compares the pieces while the image is read.
pub(super) struct Comparing<'a> {
    torrent: &'a Torrent,
    at: u64,
    /// Over the piece (version 1) or the block (version 2) under way.
    context: Context,
    /// Sums of the blocks of the piece under way.
    leaves: Vec<[u8; SHA256_BYTES]>,
    report: PiecesReport,
}

impl<'a> Comparing<'a> {
    /// Begins at the image's first byte.
    pub(super) fn new(torrent: &'a Torrent, source: String, file_bytes: u64) -> Self {
        let other_length = (torrent.bytes != file_bytes).then_some(torrent.bytes);
        let report = PiecesReport { source, other_length, ..PiecesReport::default() };
        Self { torrent, at: 0, context: torrent.context(), leaves: Vec::new(), report }
    }

    /// How it came out.
    pub(super) fn finish(mut self) -> PiecesReport {
        let mut merged: Vec<(u64, u64)> = Vec::new();
        for (start, bytes) in self.report.damaged {
            match merged.last_mut() {
                Some(last) if last.0.saturating_add(last.1) == start => last.1 = last.1.saturating_add(bytes),
                _ => merged.push((start, bytes)),
            }
        }
        self.report.damaged = merged;
        self.report
    }

    /// The piece (version 1) that ends here.
    fn end_first(&mut self, start: u64, total: u64, sums: &[u8], sum: &[u8]) {
        let piece = self.torrent.piece;
        let index = start.saturating_add(self.at).saturating_sub(1).checked_div(piece).unwrap_or(0);
        let begin = index.saturating_mul(piece);
        let in_file = begin.saturating_sub(start);
        let length = self.at.saturating_sub(in_file);
        // A piece that other files share is known only with their bytes.
        let end = begin.saturating_add(piece).min(total);
        if begin < start || end > start.saturating_add(self.torrent.bytes) {
            self.report.unproven_bytes = self.report.unproven_bytes.saturating_add(length);
            return;
        }
        let at = usize::try_from(index).unwrap_or(usize::MAX).saturating_mul(SHA1_BYTES);
        self.judge(sums.get(at..at.saturating_add(SHA1_BYTES)), sum, in_file, length);
    }

    /// The piece (version 2) that ends here.
    fn end_second(&mut self, root: &[u8; SHA256_BYTES], layer: &[u8]) {
        let piece = self.torrent.piece;
        let index = self.at.saturating_sub(1).checked_div(piece).unwrap_or(0);
        let start = index.saturating_mul(piece);
        let mut leaves = std::mem::take(&mut self.leaves);
        if !layer.is_empty() {
            leaves.resize(usize::try_from(piece.checked_div(BLOCK).unwrap_or(1)).unwrap_or(1), [0; SHA256_BYTES]);
        }
        let found = tree_root(leaves.iter().map(<[u8; SHA256_BYTES]>::as_slice), [0; SHA256_BYTES]);
        let at = usize::try_from(index).unwrap_or(usize::MAX).saturating_mul(SHA256_BYTES);
        let expected =
            if layer.is_empty() { Some(root.as_slice()) } else { layer.get(at..at.saturating_add(SHA256_BYTES)) };
        self.judge(expected, &found, start, self.at.saturating_sub(start));
    }

    fn judge(&mut self, expected: Option<&[u8]>, found: &[u8], start: u64, bytes: u64) {
        self.report.pieces = self.report.pieces.saturating_add(1);
        if expected != Some(found) && self.report.damaged.len() < RANGES_MOST {
            self.report.damaged.push((start, bytes));
        }
    }
}

impl Torrent {
    /// Whether a piece holds bytes of the file and of no other file, so that it can be compared.
    pub fn has_whole_piece(&self) -> bool {
        let Sums::First { start, total, .. } = self.sums else { return true };
        let first = start.div_ceil(self.piece).saturating_mul(self.piece);
        let end = start.saturating_add(self.bytes);
        first < end && first.saturating_add(self.piece).min(total) <= end
    }

    fn context(&self) -> Context {
        match self.sums {
            Sums::First { .. } => Context::new(&SHA1_FOR_LEGACY_USE_ONLY),
            Sums::Second { .. } => Context::new(&SHA256),
        }
    }

    /// Where the piece (version 1) or block (version 2) of byte `at` ends.
    fn end(&self, at: u64) -> u64 {
        let (offset, length) = match self.sums {
            Sums::First { start, .. } => (start, self.piece),
            Sums::Second { .. } => (0, BLOCK),
        };
        let left = length.saturating_sub(offset.saturating_add(at).checked_rem(length).unwrap_or(0));
        at.saturating_add(left).min(self.bytes)
    }
}

impl Taker for Comparing<'_> {
    fn take(&mut self, bytes: &[u8]) {
        let torrent = self.torrent;
        let mut rest = bytes;
        while self.at < torrent.bytes && !rest.is_empty() {
            let end = torrent.end(self.at);
            let want = usize::try_from(end.saturating_sub(self.at)).unwrap_or(usize::MAX);
            let (now, more) = rest.split_at_checked(want).unwrap_or((rest, &[]));
            rest = more;
            self.at = self.at.saturating_add(now.len() as u64);
            self.context.update(now);
            if self.at < end {
                continue;
            }
            let sum = std::mem::replace(&mut self.context, torrent.context()).finish();
            match &torrent.sums {
                Sums::First { start, total, sums } => self.end_first(*start, *total, sums, sum.as_ref()),
                Sums::Second { root, layer } => {
                    self.leaves.extend(<[u8; SHA256_BYTES]>::try_from(sum.as_ref()));
                    if self.at.is_multiple_of(torrent.piece) || self.at == torrent.bytes {
                        self.end_second(root, layer);
                    }
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use pyrotyp_sample::{TorrentKind, noise};

    fn compare(torrent: &Torrent, bytes: &[u8]) -> PiecesReport {
        let mut comparing = Comparing::new(torrent, "t".to_owned(), bytes.len() as u64);
        // As it comes from a file: in pieces that fit nothing.
        bytes.chunks(10_007).for_each(|chunk| comparing.take(chunk));
        comparing.finish()
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(48))]

        #[test]
        fn a_changed_byte_is_found_in_its_own_piece_and_nowhere_else(
            length in 1usize..300_000, power in 14u32..18, kind in 0usize..3, place in any::<prop::sample::Index>(),
        ) {
            let (mut bytes, piece) = (noise(length, 5), 1usize << power);
            let kind = [TorrentKind::First, TorrentKind::Second, TorrentKind::Hybrid][kind];
            let torrent = torrent(&pyrotyp_sample::torrent(kind, "a.iso", &bytes, piece), "a.iso").unwrap();
            let report = compare(&torrent, &bytes);
            prop_assert!(report.ok() && report.pieces == length.div_ceil(piece) as u64, "{report:?}");
            let at = place.index(length);
            bytes[at] ^= 1;
            let start = at / piece * piece;
            let damaged = vec![(start as u64, piece.min(length - start) as u64)];
            prop_assert_eq!(compare(&torrent, &bytes).damaged, damaged);
        }

        #[test]
        fn no_bytes_make_it_panic(raw: Vec<u8>, cut in 0usize..400) {
            let _ = torrent(&raw, "a");
            let mut whole = pyrotyp_sample::torrent(TorrentKind::Hybrid, "a", &raw, 16 << 10);
            whole.truncate(cut);
            let _ = torrent(&whole, "a");
        }
    }

    #[test]
    fn a_piece_that_another_file_shares_is_not_judged() {
        // Three files of 10, 20 and 10 bytes in pieces of 16: the second file owns none of them whole.
        let sums = "x".repeat(3 * SHA1_BYTES);
        let file = |name: &str, bytes: u32| format!("d6:lengthi{bytes}e4:pathl1:{name}ee");
        let files = [file("a", 10), file("b", 20), file("c", 10)].concat();
        let text = format!("d4:infod5:filesl{files}e4:name1:d12:piece lengthi16e6:pieces60:{sums}ee");
        let report = compare(&torrent(text.as_bytes(), "b").unwrap(), &[0; 20]);
        assert_eq!((report.pieces, report.unproven_bytes, report.ok()), (0, 20, true));
        let compares = ["a", "b", "c"].map(|name| torrent(text.as_bytes(), name).unwrap().has_whole_piece());
        assert_eq!(compares, [false, false, true]);
        let report = compare(&torrent(text.as_bytes(), "c").unwrap(), &[0; 10]);
        assert_eq!(
            (report.unproven_bytes, report.damaged),
            (2, vec![(2, 8)]),
            "the last piece ends with the last file"
        );
        assert_eq!(torrent(text.as_bytes(), "z"), None);
    }
}
