//! What publishers put beside an image, or into it, so that its bytes can be proven.
//!
//! Source: BEP 3 and BEP 52 for torrents; the text form of signify(1); the application use area as families fill it.

use md5::Digest as _;
use ring::digest::{SHA1_FOR_LEGACY_USE_ONLY, SHA256, digest};
use ring::signature::Ed25519KeyPair;

use crate::BLOCK;

/// The application use area of the primary volume descriptor (ECMA-119, §8.4.32).
const AREA: std::ops::Range<usize> = 16 * BLOCK + 883..16 * BLOCK + 1395;
const SKIPPED: usize = 15;
const FRAGMENTS: usize = 20;
const STEP: usize = 32 << 10;

/// Puts the MD5 of the volume, and 20 sums of its fragments, into the volume descriptor.
pub fn embed_sum(image: &mut [u8]) {
    let at = 16 * BLOCK + 80;
    let blocks = u32::from_le_bytes([image[at], image[at + 1], image[at + 2], image[at + 3]]) as usize;
    let total = (blocks - SKIPPED) * BLOCK;
    image[AREA].fill(b' ');
    let (mut sum, mut fragments, mut last) = (md5::Md5::new(), String::new(), 0);
    for (index, step) in image[..total].chunks(STEP).enumerate() {
        sum.update(step);
        let reached = index * STEP / (total / (FRAGMENTS + 1));
        if reached != last && reached <= FRAGMENTS {
            last = reached;
            let running = sum.clone().finalize();
            fragments.extend(running.iter().take(3).map(|byte| format!("{byte:x}").remove(0)));
        }
    }
    let hex: String = sum.finalize().iter().map(|byte| format!("{byte:02x}")).collect();
    let text =
        format!("ISO MD5SUM = {hex};SKIPSECTORS = {SKIPPED};FRAGMENT SUMS = {fragments};FRAGMENT COUNT = {FRAGMENTS};");
    image[AREA][..text.len()].copy_from_slice(text.as_bytes());
}

/// Which sums a torrent has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TorrentKind {
    /// SHA-1 over each piece.
    First,
    /// A tree of SHA-256.
    Second,
    /// Both.
    Hybrid,
}

fn string(bytes: &[u8]) -> Vec<u8> {
    [format!("{}:", bytes.len()).as_bytes(), bytes].concat()
}

/// A torrent of one file, with pieces of `piece` bytes: a power of two, 16 KiB at least.
pub fn torrent(kind: TorrentKind, name: &str, bytes: &[u8], piece: usize) -> Vec<u8> {
    let length = bytes.len();
    let (mut info, mut layers) = (Vec::new(), Vec::new());
    if kind != TorrentKind::First {
        // The tree of a file no longer than one piece is as large as it needs to be, and has no layer.
        let whole = if length > piece { piece } else { length.div_ceil(16 << 10).next_power_of_two() << 14 };
        let sums: Vec<[u8; 32]> = bytes.chunks(whole).map(|part| tree_of(part, whole)).collect();
        let root = root(sums.clone(), tree_of(&[], whole));
        info.extend(b"9:file treed".iter());
        info.extend(string(name.as_bytes()));
        info.extend(format!("d0:d6:lengthi{length}e11:pieces root").bytes());
        info.extend(string(&root));
        info.extend(b"eee");
        let layer = if length > piece { [string(&root), string(&sums.concat())].concat() } else { Vec::new() };
        layers = [b"12:piece layersd".to_vec(), layer, b"e".to_vec()].concat();
    }
    if kind != TorrentKind::Second {
        info.extend(format!("6:lengthi{length}e").bytes());
    }
    if kind != TorrentKind::First {
        info.extend(b"12:meta versioni2e");
    }
    info.extend(b"4:name");
    info.extend(string(name.as_bytes()));
    info.extend(format!("12:piece lengthi{piece}e").bytes());
    if kind != TorrentKind::Second {
        let sums: Vec<u8> =
            bytes.chunks(piece).flat_map(|piece| digest(&SHA1_FOR_LEGACY_USE_ONLY, piece).as_ref().to_vec()).collect();
        info.extend(b"6:pieces");
        info.extend(string(&sums));
    }
    [b"d4:infod".to_vec(), info, b"e".to_vec(), layers, b"e".to_vec()].concat()
}

fn sha256(bytes: &[u8]) -> [u8; 32] {
    digest(&SHA256, bytes).as_ref().try_into().expect("SHA-256 has 32 bytes")
}

/// The sum over a piece: its blocks of 16 KiB, and zeros for those that are not there.
fn tree_of(bytes: &[u8], piece: usize) -> [u8; 32] {
    let mut leaves: Vec<[u8; 32]> = bytes.chunks(16 << 10).map(sha256).collect();
    leaves.resize(piece / (16 << 10), [0; 32]);
    root(leaves, [0; 32])
}

fn root(mut layer: Vec<[u8; 32]>, padding: [u8; 32]) -> [u8; 32] {
    layer.resize(layer.len().next_power_of_two(), padding);
    while layer.len() > 1 {
        layer = layer.chunks(2).map(|two| sha256(&two.concat())).collect();
    }
    layer[0]
}

/// The café's own key for its lists, made up like all else, and a list signed with it.
pub struct Signed {
    /// The public key's file.
    pub key: String,
    /// The detached signature's file.
    pub signature: String,
}

/// Signs a list the way signify does.
///
/// # Panics
/// Never: the key is made of 32 fixed bytes.
pub fn sign(list: &[u8]) -> Signed {
    use ring::signature::KeyPair as _;
    let pair = Ed25519KeyPair::from_seed_unchecked(b"harbour street repair cafe bench").expect("32 bytes make a key");
    let line = |comment: &str, rest: &[u8]| {
        let raw = [b"Ed".as_slice(), b"HARBOUR!", rest].concat();
        format!("untrusted comment: {comment}\n{}\n", data_encoding::BASE64.encode(&raw))
    };
    Signed {
        key: line("Larkspur Linux releases public key", pair.public_key().as_ref()),
        signature: line("signed by the maker of the demo", pair.sign(list).as_ref()),
    }
}
