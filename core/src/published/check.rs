//! Does the image match the checksums that were published for it?

use std::io;
use std::path::PathBuf;

use crate::bytes::ReadAt;
use crate::hash::{Algorithm, BlockDigests, BlockHasher, Hashers, Sum, Taker};
use crate::published::Vouched;
use crate::published::embedded::{Embedded, EmbeddedReport, Summing};
use crate::published::inside::FileList;
use crate::published::sidecar::{Published, Unusable};
use crate::published::signature::Key;
use crate::published::torrent::{Comparing, PiecesReport};
use crate::stop::Cancel;
use crate::text::Shown;

/// A checksum that the image should have, and who says so.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Expected {
    /// The checksum.
    pub sum: Sum,
    /// Whether its kind is told, and not guessed from its length.
    pub is_told: bool,
    /// `--sum`, or the path of the list.
    pub source: String,
}

impl Expected {
    /// A checksum whose kind is told.
    pub fn told(sum: Sum, source: &str) -> Self {
        Self { sum, is_told: true, source: source.to_owned() }
    }

    /// The algorithms with which it may be meant.
    pub fn algorithms(&self) -> impl Iterator<Item = Algorithm> + Clone {
        let meant = self.sum.algorithm;
        meant.of_same_length().filter(move |algorithm| !self.is_told || *algorithm == meant)
    }
}

/// A checksum of the image beside the one that was expected.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Checked {
    /// What the image has.
    pub found: Sum,
    /// What it should have.
    pub expected: Expected,
}

impl Checked {
    /// Whether the two are the same.
    pub fn matches(&self) -> bool {
        self.found.hex == self.expected.sum.hex && (!self.expected.is_told || self.found == self.expected.sum)
    }
}

/// What was found out about an image.
#[derive(Clone, Debug, Default)]
pub struct Report {
    /// Everything computed.
    pub sums: Vec<Sum>,
    /// What was expected, beside what was found.
    pub checked: Vec<Checked>,
    /// Lists that do not name the image.
    pub unlisted: Vec<PathBuf>,
    /// Files that may say something of the image and can't be used, and why, in words.
    pub unusable: Vec<Unusable>,
    /// Who vouches for the lists or the image.
    pub signatures: Vec<Vouched>,
    /// The key that has signed for this system before, when nothing of what was found is signed by a known key now.
    pub missed_key: Option<Key>,
    /// How it came out against the pieces of torrents.
    pub pieces: Vec<PiecesReport>,
    /// How it came out against the sum in its volume descriptor.
    pub embedded: Option<EmbeddedReport>,
    /// How its files came out against the list inside it.
    pub inside: Option<FileList>,
    /// The digests of its blocks, where a job is to follow.
    pub blocks: Option<BlockDigests>,
}

impl Report {
    /// Whether nothing speaks against the image.
    pub fn ok(&self) -> bool {
        self.checked.iter().all(Checked::matches)
            && !self.signatures.iter().any(|vouched| vouched.is_refusal)
            && self.pieces.iter().all(PiecesReport::ok)
            && self.embedded.as_ref().is_none_or(EmbeddedReport::ok)
            && self.inside.as_ref().is_none_or(FileList::ok)
    }

    /// What is proven of the image, at best.
    pub fn proof(&self) -> Proof<'_> {
        let (strong, weak): (Vec<_>, Vec<_>) =
            self.checked.iter().partition(|checked| !checked.found.algorithm.is_forgeable());
        let good = || self.signatures.iter().filter(|vouched| vouched.is_good());
        let vouches = |vouched: &&Vouched| {
            vouched.is_over_image || strong.iter().any(|checked| checked.expected.source == vouched.over)
        };
        if !self.ok() {
            Proof::Refuted
        } else if let Some(vouched) = good().find(vouches) {
            Proof::Signed(vouched)
        } else if !strong.is_empty() {
            Proof::Published
        } else if !weak.is_empty() {
            Proof::PublishedWeakly
        } else if self.pieces.iter().any(|report| report.pieces > 0) || self.embedded.is_some() || self.inside.is_some()
        {
            Proof::Undamaged
        } else {
            Proof::Nothing
        }
    }
}

/// How much a check has proven.
#[derive(Clone, Copy, Debug)]
pub enum Proof<'a> {
    /// Something speaks against the image.
    Refuted,
    /// Somebody whose key is known vouches for these very bytes.
    Signed(&'a Vouched),
    /// A published checksum that can't be forged names these bytes; who published it is not proven.
    Published,
    /// Only checksums that can be forged do.
    PublishedWeakly,
    /// What came with the image says that it is not damaged.
    Undamaged,
    /// There was nothing to compare with.
    Nothing,
}

impl Proof<'_> {
    /// In a word that records and programs may rely on.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Refuted => "refuted",
            Self::Signed(_) => "signed",
            Self::Published => "published",
            Self::PublishedWeakly => "published-weakly",
            Self::Undamaged => "undamaged",
            Self::Nothing => "nothing",
        }
    }
}

/// Why a check could not be made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CheckError {
    /// A sums file can't be read.
    #[error("can't read the sums file {}", path.shown())]
    Sums {
        /// Which one.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// A signature or key file can't be read.
    #[error("can't read {}", path.shown())]
    Unreadable {
        /// Which one.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// A sums file is too long to be one.
    #[error("the sums file {} is longer than {limit} bytes", path.shown())]
    TooLong {
        /// Which one.
        path: PathBuf,
        /// The most that is read.
        limit: u64,
    },
    /// A list or torrent that was given does not apply to the image.
    #[error("{} does not apply to this image: {why}", path.shown())]
    NotForImage {
        /// Which one.
        path: PathBuf,
        /// Why, in words.
        why: String,
    },
    /// A sums file holds no checksum at all.
    #[error("the sums file {} holds no checksum that can be read", path.shown())]
    NoSums {
        /// Which one.
        path: PathBuf,
    },
    /// The image can't be read.
    #[error("can't read the image at byte {at}")]
    Image {
        /// Where reading failed.
        at: u64,
        /// Why.
        source: io::Error,
    },
    /// The image ended before its length: something shortens it meanwhile.
    #[error("the image ended at byte {at} of {bytes}: something is changing it")]
    Shrunk {
        /// Where it ended.
        at: u64,
        /// How long it was.
        bytes: u64,
    },
    /// Told to stop.
    #[error("stopped before the end")]
    Stopped,
}

impl CheckError {
    /// What to do about it.
    pub fn next_step(&self) -> &'static str {
        match self {
            Self::Sums { .. } => "give a readable list with --sums, or a checksum with --sum",
            Self::Unreadable { .. } => "check the name, and that you may read it",
            Self::NotForImage { .. } => {
                "give the one that was published for this file, its value with --sum, or give a renamed image its published name"
            }
            Self::TooLong { .. } | Self::NoSums { .. } => {
                "give the list that was published with --sums; one that lies there by mistake, move away"
            }
            Self::Image { .. } => "copy the image to another disk, or download it again",
            Self::Shrunk { .. } => "wait until the download has ended, then run the same command again",
            Self::Stopped => "run the same command again",
        }
    }
}

/// What an image is checked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Purpose {
    /// To know it.
    Look,
    /// To be written: the digests of its blocks are wanted as well.
    Write,
}

/// What an image is held against, and for what.
#[derive(Clone, Copy)]
pub struct Claims<'a> {
    /// What was published for it.
    pub published: &'a Published,
    /// The sum that it carries inside.
    pub embedded: Option<&'a Embedded>,
    /// What it is checked for.
    pub purpose: Purpose,
}

/// Reads the image once and compares it with all that was published for it and with its embedded sum.
///
/// Computes SHA-256 always, and the digests of its blocks where a job is to follow. Signatures and the list inside the image are left to their own functions. `progress` hears
/// the bytes done.
///
/// # Errors
/// When the image can't be read, shrinks meanwhile, or `cancel` says stop.
pub fn check(
    image: &dyn ReadAt,
    claims: Claims<'_>,
    cancel: &Cancel,
    progress: &mut dyn FnMut(u64),
) -> Result<Report, CheckError> {
    let Claims { published, embedded, purpose } = claims;
    let expected = &published.expected;
    let wanted = expected.iter().flat_map(Expected::algorithms);
    let mut hashers = Hashers::new(wanted.chain([Algorithm::Sha256]));
    let torrents = published.torrents.iter();
    let mut comparing: Vec<Comparing<'_>> =
        torrents.map(|(path, torrent)| Comparing::new(torrent, path.shown(), image.size())).collect();
    let mut summing = embedded.map(Summing::new);
    let others = comparing.iter_mut().map(|comparing| Box::new(comparing) as Box<dyn Taker>);
    let summed = summing.iter_mut().map(|summing| Box::new(summing) as Box<dyn Taker>);
    let mut blocks = (purpose == Purpose::Write).then(BlockHasher::new);
    let hashed = blocks.iter_mut().map(|blocks| Box::new(blocks) as Box<dyn Taker>);
    crate::hash::pass(image, hashers.takers().chain(others).chain(summed).chain(hashed), cancel, progress)?;
    let sums = hashers.finish();
    Ok(Report {
        blocks: blocks.map(BlockHasher::finish),
        pieces: comparing.into_iter().map(Comparing::finish).collect(),
        embedded: summing.map(Summing::finish),
        ..compare(published, sums)
    })
}

/// Whether these checksums are all with which the expected ones are to be compared.
pub fn are_enough(sums: &[Sum], expected: &[Expected]) -> bool {
    let has = |algorithm: Algorithm| sums.iter().any(|sum| sum.algorithm == algorithm);
    expected.iter().all(|expected| expected.algorithms().all(has))
}

/// Compares checksums that are known already with those that were published; the image is not read.
pub fn compare(published: &Published, sums: Vec<Sum>) -> Report {
    let pair = |expected: &Expected| {
        let mut meant = expected.algorithms().filter_map(|one| sums.iter().find(|sum| sum.algorithm == one));
        let first = meant.clone().next()?;
        let found = meant.find(|sum| sum.hex == expected.sum.hex).unwrap_or(first);
        Some(Checked { found: found.clone(), expected: expected.clone() })
    };
    let checked = published.expected.iter().filter_map(pair).collect();
    Report {
        checked,
        sums,
        unlisted: published.unlisted.clone(),
        unusable: published.unusable.clone(),
        ..Report::default()
    }
}
