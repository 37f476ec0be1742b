//! Does the image match the checksums that were published for it?

use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use super::sums::{self, SUMS_BYTES_MOST};
use super::{Hashers, Sum};
use crate::Cancel;
use crate::image::ReadAt;

/// Read in pieces of this many bytes.
const PIECE: usize = 1 << 20;

/// A checksum that the image should have, and who says so.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Expected {
    /// The checksum.
    pub sum: Sum,
    /// `--sum`, or the path of the list.
    pub source: String,
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
        self.found == self.expected.sum
    }
}

/// What the sums files beside an image, or the one given, say about it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SumsBeside {
    /// Checksums for the image.
    pub expected: Vec<Expected>,
    /// Lists that were read and do not name the image.
    pub unlisted: Vec<PathBuf>,
}

/// Why a check could not be made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CheckError {
    /// A sums file can't be read.
    #[error("can't read the sums file {}", path.display())]
    Sums {
        /// Which one.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// A sums file is too long to be one.
    #[error("the sums file {} is longer than {limit} bytes", path.display())]
    TooLong {
        /// Which one.
        path: PathBuf,
        /// The most that is read.
        limit: u64,
    },
    /// A sums file holds no checksum at all.
    #[error("the sums file {} holds no line in the GNU form", path.display())]
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
            Self::TooLong { .. } | Self::NoSums { .. } => {
                "give the list of checksums that was published with the image"
            }
            Self::Image { .. } => "copy the image to another disk, or download it again",
            Self::Shrunk { .. } => "wait until the download has ended, then run the same command again",
            Self::Stopped => "run the same command again",
        }
    }
}

/// Names under which lists lie beside images.
const LISTS: [&str; 8] =
    ["SHA256SUMS", "SHA512SUMS", "SHA1SUMS", "MD5SUMS", "sha256sum.txt", "sha512sum.txt", "sha1sum.txt", "md5sum.txt"];
/// What is added to an image's name for a list of its own.
const ENDINGS: [&str; 4] = ["sha256", "sha512", "sha1", "md5"];

/// What the list at `path` says about the file called `file_name`.
///
/// # Errors
/// When the list can't be read, is too long, or holds no checksum.
pub fn sums_in(path: &Path, file_name: &str) -> Result<SumsBeside, CheckError> {
    let fail = |source| CheckError::Sums { path: path.to_owned(), source };
    let mut text = Vec::new();
    let file = File::open(path).map_err(fail)?;
    file.take(SUMS_BYTES_MOST.saturating_add(1)).read_to_end(&mut text).map_err(fail)?;
    if text.len() as u64 > SUMS_BYTES_MOST {
        return Err(CheckError::TooLong { path: path.to_owned(), limit: SUMS_BYTES_MOST });
    }
    let lines = sums::parse(&text);
    if lines.is_empty() {
        return Err(CheckError::NoSums { path: path.to_owned() });
    }
    let mut found = SumsBeside::default();
    for line in lines.into_iter().filter(|line| line.is_for(file_name)) {
        let expected = Expected { sum: line.sum, source: path.display().to_string() };
        // A list that contradicts itself must fail, so both of its lines are kept.
        if !found.expected.contains(&expected) {
            found.expected.push(expected);
        }
    }
    if found.expected.is_empty() {
        found.unlisted.push(path.to_owned());
    }
    Ok(found)
}

/// What all lists with usual names beside `image` say about it. A list that holds no checksum is passed over.
///
/// # Errors
/// When a list is there and can't be read.
pub fn sums_beside(image: &Path) -> Result<SumsBeside, CheckError> {
    let mut found = SumsBeside::default();
    let Some(name) = image.file_name().and_then(|name| name.to_str()) else { return Ok(found) };
    let own = ENDINGS.iter().map(|ending| format!("{name}.{ending}"));
    for list in own.chain(LISTS.iter().map(|list| (*list).to_owned())) {
        let path = image.with_file_name(list);
        if !path.is_file() {
            continue;
        }
        match sums_in(&path, name) {
            Ok(more) => {
                found.expected.extend(more.expected);
                found.unlisted.extend(more.unlisted);
            }
            Err(CheckError::NoSums { .. } | CheckError::TooLong { .. }) => {}
            Err(fault) => return Err(fault),
        }
    }
    Ok(found)
}

/// Computes all algorithms that `expected` names in one pass, SHA-256 always, and sets each beside its expectation.
///
/// Gives all checksums computed, and one [`Checked`] for each expectation, in order. `progress` hears the bytes done.
///
/// # Errors
/// When the image can't be read, shrinks meanwhile, or `cancel` says stop.
pub fn check(
    image: &dyn ReadAt,
    expected: &[Expected],
    cancel: &Cancel,
    progress: &mut dyn FnMut(u64),
) -> Result<(Vec<Sum>, Vec<Checked>), CheckError> {
    let wanted = expected.iter().map(|expected| expected.sum.algorithm);
    let mut hashers = Hashers::new(wanted.chain([super::Algorithm::Sha256]));
    let mut piece = vec![0u8; PIECE];
    let mut at = 0u64;
    while at < image.size() {
        if cancel.is_set() {
            return Err(CheckError::Stopped);
        }
        let count = image.fill_at(at, &mut piece).map_err(|source| CheckError::Image { at, source })?;
        if count == 0 {
            return Err(CheckError::Shrunk { at, bytes: image.size() });
        }
        hashers.update(piece.get(..count).unwrap_or_default());
        at = at.saturating_add(count as u64);
        progress(at);
    }
    let sums = hashers.finish();
    let pair = |expected: &Expected| {
        let found = sums.iter().find(|sum| sum.algorithm == expected.sum.algorithm)?;
        Some(Checked { found: found.clone(), expected: expected.clone() })
    };
    let checked = expected.iter().filter_map(pair).collect();
    Ok((sums, checked))
}
