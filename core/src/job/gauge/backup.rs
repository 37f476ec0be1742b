//! What lay where a look puts its marks: kept on the bench before anything is changed, so that a power cut costs nothing.
//!
//! The file: a line of JSON ([`KeptHeading`]), then for each place where it begins (8 bytes), its length (4 bytes), the BLAKE3 of both and
//! of what lay there (32 bytes), and that. Numbers are little-endian. A last place that a power cut tore was not marked yet.

use std::fs::{File, OpenOptions};
use std::io::{self, BufRead, BufReader, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use serde::{Deserialize, Serialize};

use crate::bytes::field::{take, u32_le, u64_le};
use crate::drive::Tag;
use crate::job::gauge::marks::{MARK_BYTES, Marker};
use crate::job::lock::lock;
use crate::machine;

/// Version of the format.
const VERSION: u32 = 1;
/// Longest stretch that is kept in one piece, in bytes.
pub(super) const PIECE: usize = 1 << 20;
/// Length of what stands before each piece.
const FRONT: usize = 44;
/// Longest first line, in bytes.
const HEADING_MOST: u64 = 4096;
/// Most pieces that are read.
const PIECES_MOST: usize = 1 << 16;

/// Which drive it is about, and with which marks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct KeptHeading {
    version: u32,
    drive: String,
    drive_bytes: u64,
    seed: String,
}

/// A stretch of the drive that is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct KeptPiece {
    /// Where it lies on the drive.
    pub at: u64,
    /// Its length in bytes.
    pub bytes: usize,
    /// Where it lies in the file.
    place: u64,
    digest: blake3::Hash,
}

/// What is kept of one drive.
pub struct KeptPlaces {
    heading: KeptHeading,
    path: PathBuf,
    file: Mutex<File>,
    pieces: Vec<KeptPiece>,
    end: u64,
}

/// Where what is kept of a drive lies, below the bench's `state`.
pub fn kept_path(state: &Path, drive: &Tag) -> PathBuf {
    state.join("under-way").join(format!("{}.kept", drive.as_str().replace('?', "-")))
}

fn digest(at: u64, bytes: &[u8]) -> blake3::Hash {
    let mut hasher = blake3::Hasher::new();
    hasher.update(&at.to_le_bytes()).update(&(bytes.len() as u64).to_le_bytes()).update(bytes);
    hasher.finalize()
}

impl KeptPlaces {
    /// Begins, for a look with this seed; `None` where something is kept already, which nobody else has.
    ///
    /// # Errors
    /// When it can't be written.
    pub(super) fn begin(path: &Path, drive: &Tag, drive_bytes: u64, seed: &str) -> io::Result<Option<Self>> {
        let heading = KeptHeading { version: VERSION, drive: drive.to_string(), drive_bytes, seed: seed.to_owned() };
        let mut line = serde_json::to_string(&heading)?;
        line.push('\n');
        // Whole or not there: the name is on the disk before anything is marked.
        path.parent().map_or(Ok(()), machine::make_folder)?;
        if !machine::keep_absent(path, line.as_bytes())? {
            return Ok(None);
        }
        let file = machine::open_own(path, OpenOptions::new().read(true).write(true))?;
        let end = line.len() as u64;
        Ok(Some(Self { heading, path: path.to_owned(), file: Mutex::new(file), pieces: Vec::new(), end }))
    }

    /// What an earlier look left; `None` where there is nothing.
    ///
    /// # Errors
    /// When it can't be read.
    pub fn find(path: &Path) -> io::Result<Option<Self>> {
        let file = match machine::open_own(path, OpenOptions::new().read(true)) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(error),
        };
        let mut from = BufReader::new(&file);
        let mut line = String::new();
        from.by_ref().take(HEADING_MOST).read_line(&mut line)?;
        let heading: KeptHeading = serde_json::from_str(&line)?;
        if heading.version != VERSION {
            return Err(io::Error::other(format!("it is of version {}, not {VERSION}", heading.version)));
        }
        let (mut pieces, mut end) = (Vec::new(), line.len() as u64);
        let mut buffer = vec![0; PIECE];
        while let Some(piece) = next(&mut from, end, &mut buffer)? {
            let is_inside = piece.at.checked_add(piece.bytes as u64).is_some_and(|last| last <= heading.drive_bytes);
            if !is_inside || pieces.len() >= PIECES_MOST {
                break;
            }
            end = piece.place.saturating_add(piece.bytes as u64);
            pieces.push(piece);
        }
        Ok(Some(Self { heading, path: path.to_owned(), file: Mutex::new(file), pieces, end }))
    }

    /// Keeps a piece; it is safe once [`Self::sync`] has returned.
    pub(super) fn keep(&mut self, at: u64, bytes: &[u8]) -> io::Result<()> {
        let digest = digest(at, bytes);
        let length = u32::try_from(bytes.len()).map_err(|_| io::ErrorKind::InvalidInput)?;
        let front = [&at.to_le_bytes()[..], &length.to_le_bytes(), digest.as_bytes()].concat();
        let file = self.file.get_mut().unwrap_or_else(std::sync::PoisonError::into_inner);
        file.seek(SeekFrom::Start(self.end))?;
        file.write_all(&front)?;
        file.write_all(bytes)?;
        let place = self.end.saturating_add(front.len() as u64);
        self.pieces.push(KeptPiece { at, bytes: bytes.len(), place, digest });
        self.end = place.saturating_add(bytes.len() as u64);
        Ok(())
    }

    /// Has all of it on the disk.
    pub(super) fn sync(&self) -> io::Result<()> {
        lock(&self.file).sync_data()
    }

    /// The pieces, in the order in which they were kept.
    pub(super) fn pieces(&self) -> &[KeptPiece] {
        &self.pieces
    }

    /// What lay in a piece.
    pub(super) fn read(&self, piece: &KeptPiece, into: &mut [u8]) -> io::Result<()> {
        let mut file = lock(&self.file);
        file.seek(SeekFrom::Start(piece.place))?;
        file.read_exact(into)?;
        if digest(piece.at, into) == piece.digest { Ok(()) } else { Err(io::ErrorKind::InvalidData.into()) }
    }

    /// The marks that lie where something is kept.
    pub(super) fn marker(&self) -> Marker {
        Marker::new(&self.heading.seed)
    }

    /// Whether it is about a drive with this tag and size.
    pub fn is_about(&self, drive: &Tag, drive_bytes: u64) -> bool {
        self.heading.drive == drive.as_str() && self.heading.drive_bytes == drive_bytes
    }

    /// Whether nothing was kept yet, and so nothing was marked.
    pub fn is_empty(&self) -> bool {
        self.pieces.is_empty()
    }

    /// Nothing is to be put back any more.
    pub fn remove(self) {
        // What stays is put back nowhere: the drive does not hold these marks any more.
        let _ = machine::remove_own(&self.path);
    }
}

/// The piece that begins at `end` of the file; `None` where it ends, or is torn.
fn next(from: &mut impl Read, end: u64, buffer: &mut [u8]) -> io::Result<Option<KeptPiece>> {
    let torn = |error: io::Error| if error.kind() == io::ErrorKind::UnexpectedEof { Ok(None) } else { Err(error) };
    let mut front = [0u8; FRONT];
    if let Err(error) = from.read_exact(&mut front) {
        return torn(error);
    }
    let (Some(at), Some(length), Some(told)) = (u64_le(&front, 0), u32_le(&front, 8), take::<32>(&front, 12)) else {
        return Ok(None);
    };
    let bytes = usize::try_from(length).unwrap_or(usize::MAX);
    let is_whole = bytes.is_multiple_of(MARK_BYTES) && bytes > 0;
    let Some(inside) = buffer.get_mut(..bytes).filter(|_| is_whole) else { return Ok(None) };
    if let Err(error) = from.read_exact(inside) {
        return torn(error);
    }
    let digest = digest(at, inside);
    let piece = KeptPiece { at, bytes, place: end.saturating_add(FRONT as u64), digest };
    Ok((*digest.as_bytes() == told).then_some(piece))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_is_kept_comes_back_and_what_was_torn_or_changed_does_not() {
        let folder = tempfile::tempdir().unwrap();
        let tag: Tag = "DBR7J".parse().unwrap();
        let path = kept_path(folder.path(), &tag);
        assert!(KeptPlaces::find(&path).unwrap().is_none());
        let mut kept = KeptPlaces::begin(&path, &tag, 1 << 30, "seed").unwrap().unwrap();
        for number in 0..3u8 {
            kept.keep(u64::from(number) << 20, &[number; 1024]).unwrap();
        }
        kept.sync().unwrap();
        let bytes = std::fs::read(&path).unwrap();
        let found = |bytes: &[u8]| {
            std::fs::write(&path, bytes).unwrap();
            let kept = KeptPlaces::find(&path).unwrap().unwrap();
            let mut into = [9; 1024];
            kept.pieces().iter().for_each(|piece| kept.read(piece, &mut into).unwrap());
            (kept.pieces().iter().map(|piece| (piece.at, piece.bytes)).collect::<Vec<_>>(), into[1])
        };
        let all = vec![(0, 1024), (1 << 20, 1024), (2 << 20, 1024)];
        assert_eq!(found(&bytes), (all.clone(), 2));
        assert_eq!(found(&bytes[..bytes.len() - 1]), (all[..2].to_vec(), 1));
        let mut changed = bytes.clone();
        *changed.last_mut().unwrap() ^= 1;
        assert_eq!(found(&changed), (all[..2].to_vec(), 1));
        assert_eq!(found(&[&bytes[..], b"more"].concat()).0, all);
        std::fs::write(&path, &bytes).unwrap();
        let kept = KeptPlaces::find(&path).unwrap().unwrap();
        assert!(KeptPlaces::begin(&path, &tag, 1 << 30, "another").unwrap().is_none());
        assert!(std::fs::read(&path).unwrap() == bytes && !kept.is_empty());
        assert!(kept.is_about(&tag, 1 << 30) && !kept.is_about(&tag, 1 << 29));
        kept.remove();
        assert!(!path.exists());
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_panic(bytes: Vec<u8>, has_heading: bool) {
            let file = tempfile::NamedTempFile::new().unwrap();
            let heading = "{\"version\":1,\"drive\":\"DBR7J\",\"drive_bytes\":4096,\"seed\":\"x\"}\n";
            let whole = [if has_heading { heading.as_bytes() } else { b"" }, &bytes].concat();
            std::fs::write(file.path(), whole).unwrap();
            if let Ok(Some(kept)) = KeptPlaces::find(file.path()) {
                prop_assert!(kept.pieces().iter().all(|piece| piece.at + piece.bytes as u64 <= 4096));
            }
        }
    }
}
