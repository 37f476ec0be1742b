//! Does the image match the checksums that were published for it?

use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use super::inside::FileList;
use super::sums::{self, Line, SUMS_BYTES_MOST};
use super::{Algorithm, Hashers, Sum};
use crate::Cancel;
use crate::image::ReadAt;

/// Read in pieces of this many bytes.
const PIECE: usize = 4 << 20;

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

/// What was found out about an image's checksums.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Report {
    /// Everything computed.
    pub sums: Vec<Sum>,
    /// What was expected, beside what was found.
    pub checked: Vec<Checked>,
    /// Lists that do not name the image.
    pub unlisted: Vec<PathBuf>,
    /// How its files came out against the list inside it.
    pub inside: Option<FileList>,
}

impl Report {
    /// Whether nothing speaks against the image.
    pub fn ok(&self) -> bool {
        self.checked.iter().all(Checked::matches) && self.inside.as_ref().is_none_or(FileList::ok)
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
    #[error("the sums file {} holds no checksum that can be read", path.display())]
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

/// Whether lists of checksums have names like this: `SHA256SUMS`, `sha256sum.txt`, `CHECKSUM`, `larkspur.DIGESTS`.
///
/// Signatures of such lists, which have one more ending, are none.
pub fn is_list(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    let stem = name.strip_suffix(".txt").unwrap_or(&name);
    let sums = stem.strip_suffix("sums").or_else(|| stem.strip_suffix("sum")).unwrap_or(stem);
    let sums = sums.trim_end_matches(['-', '_', '.']);
    let is_algorithm = Algorithm::named(sums).is_some() || matches!(sums, "b2" | "b3");
    is_algorithm || stem.ends_with("checksum") || stem.ends_with("checksums") || stem.ends_with(".digests")
}

/// What is added to an image's name for a list of its own.
const ENDINGS: [&str; 12] =
    ["md5", "sha1", "sha224", "sha256", "sha384", "sha512", "b2", "b3", "blake3", "sha256sum", "sha512sum", "md5sum"];
/// Most entries of a folder in which lists are looked for.
const ENTRIES_MOST: usize = 10_000;

/// What the list at `path` says about the file called `file_name`.
///
/// # Errors
/// When the list can't be read, is too long, or holds no checksum.
pub fn sums_in(path: &Path, file_name: &str) -> Result<SumsBeside, CheckError> {
    let lines = lines_of(path)?;
    Ok(sums_for(path, file_name, lines))
}

/// All lines of a list.
fn lines_of(path: &Path) -> Result<Vec<Line>, CheckError> {
    let fail = |source| CheckError::Sums { path: path.to_owned(), source };
    let mut text = Vec::new();
    let file = File::open(path).map_err(fail)?;
    file.take(SUMS_BYTES_MOST.saturating_add(1)).read_to_end(&mut text).map_err(fail)?;
    if text.len() as u64 > SUMS_BYTES_MOST {
        return Err(CheckError::TooLong { path: path.to_owned(), limit: SUMS_BYTES_MOST });
    }
    let list = path.file_name().map(|name| name.to_string_lossy()).unwrap_or_default();
    let lines = sums::parse(&text, sums::algorithm_in(&list));
    if lines.is_empty() {
        return Err(CheckError::NoSums { path: path.to_owned() });
    }
    Ok(lines)
}

/// Those of a list's lines that are for the file called `file_name`.
fn sums_for(path: &Path, file_name: &str, lines: Vec<Line>) -> SumsBeside {
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
    found
}

/// What all lists with usual names beside `image` say about it. A list that holds no checksum is passed over.
///
/// # Errors
/// When a list is there and can't be read.
pub fn sums_beside(image: &Path) -> Result<SumsBeside, CheckError> {
    let mut found = SumsBeside::default();
    let Some(name) = image.file_name().and_then(|name| name.to_str()) else { return Ok(found) };
    let own = ENDINGS.iter().map(|ending| format!("{name}.{ending}"));
    let folder = image.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let entries = std::fs::read_dir(folder).into_iter().flatten().take(ENTRIES_MOST).flatten();
    let names = entries.filter_map(|entry| entry.file_name().into_string().ok());
    let mut lists: Vec<String> = names.filter(|entry| is_list(entry)).collect();
    lists.sort();
    let (own, shared) = (own.map(|list| (list, true)), lists.into_iter().map(|list| (list, false)));
    for (list, is_own) in own.chain(shared) {
        let path = image.with_file_name(list);
        if !path.is_file() {
            continue;
        }
        match lines_of(&path) {
            // A checksum without a name belongs to whatever lies beside it, which need not be this image.
            Ok(lines) if !is_own && lines.iter().all(|line| line.name.is_none()) => {}
            Ok(lines) => {
                let more = sums_for(&path, name, lines);
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
    let mut hashers = Hashers::new(wanted.chain([Algorithm::Sha256]));
    let (mut current, mut next) = (vec![0u8; PIECE], vec![0u8; PIECE]);
    let read = |at: u64, into: &mut [u8]| image.fill_at(at, into).map_err(|source| CheckError::Image { at, source });
    let (mut at, mut count) = (0u64, read(0, &mut current)?);
    while at < image.size() {
        if cancel.is_set() {
            return Err(CheckError::Stopped);
        }
        if count == 0 {
            return Err(CheckError::Shrunk { at, bytes: image.size() });
        }
        at = at.saturating_add(count as u64);
        let hashed = current.get(..count).unwrap_or_default();
        count = hashers.update_while(hashed, || read(at, &mut next))?;
        std::mem::swap(&mut current, &mut next);
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
