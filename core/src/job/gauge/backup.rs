//! Original bytes of the sectors that a quick test marks: on the bench's disk before the first mark is written.
//!
//! The file: a line of JSON ([`BackupHeader`]), then for each extent its offset on the drive (8 bytes), its length (4 bytes), the
//! BLAKE3 of both and of the original bytes (32 bytes), and the original bytes. Numbers are little-endian. A last extent that a
//! power cut tore has no marks on the drive yet.
//!
//! A backup belongs to one drive and one run: two drives with equal tags, or two runs on one drive, never share a file.

use std::ffi::OsString;
use std::fs::{File, OpenOptions, TryLockError};
use std::io::{self, BufRead, BufReader, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use serde::{Deserialize, Serialize};

use crate::bytes::field::{take, u32_le, u64_le};
use crate::job::gauge::marks::{MARK_BYTES, Marker};
use crate::job::lock::lock;
use crate::machine;
use crate::record::DriveIdentity;
use crate::text::{Shown, plain};

/// Version of the format.
const VERSION: u32 = 2;
/// Longest extent, in bytes.
pub(super) const MAX_EXTENT_BYTES: usize = 1 << 20;
/// Length of what stands before each extent in the file, in bytes.
const EXTENT_HEADER_BYTES: usize = 44;
/// Longest first line, in bytes.
const MAX_HEADER_BYTES: u64 = 4096;
/// Most extents that are read from a file.
const MAX_EXTENTS: usize = 1 << 16;
/// Most names in the folder that are looked at.
const MAX_NAMES: usize = 10_000;
/// Folder below the bench's state in which backups lie.
const FOLDER: &str = "under-way";
/// Ending of a backup's file name.
const SUFFIX: &str = ".backup";

/// First line of a backup: the drive and the run to which it belongs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct BackupHeader {
    version: u32,
    /// Without its path, which changes from plug to plug.
    drive: DriveIdentity,
    /// Seed of the run's marks.
    seed: String,
}

/// A range of the drive with its original bytes in the file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct BackupExtent {
    /// Offset on the drive, in bytes.
    pub offset: u64,
    /// Length in bytes.
    pub len: usize,
    /// Offset of the original bytes in the file.
    file_offset: u64,
    digest: blake3::Hash,
}

/// Original bytes of one quick test on one drive.
pub struct ProbeBackup {
    header: BackupHeader,
    path: PathBuf,
    file: Mutex<File>,
    extents: Vec<BackupExtent>,
    end: u64,
}

/// First part of the name of every backup of drives with this tag.
fn name_prefix(tag: &str) -> String {
    format!("{}-", tag.replace('?', "_"))
}

fn digest(at: u64, bytes: &[u8]) -> blake3::Hash {
    let mut hasher = blake3::Hasher::new();
    hasher.update(&at.to_le_bytes()).update(&(bytes.len() as u64).to_le_bytes()).update(bytes);
    hasher.finalize()
}

impl ProbeBackup {
    /// Creates the empty backup of one run, below the bench's `state`.
    ///
    /// # Errors
    /// When it can't be written, or a run with this seed has one already.
    pub(super) fn create(state: &Path, drive: &DriveIdentity, seed: &str) -> io::Result<Self> {
        let header = BackupHeader { version: VERSION, drive: drive.clone().anywhere(), seed: seed.to_owned() };
        let mut line = serde_json::to_string(&header)?;
        let name = blake3::hash(line.as_bytes()).to_hex();
        line.push('\n');
        let folder = state.join(FOLDER);
        machine::make_folder(&folder)?;
        let path = folder.join(format!("{}{}{SUFFIX}", name_prefix(&drive.tag), name.get(..16).unwrap_or_default()));
        // The name is on the disk before anything is marked.
        if !machine::keep_absent(&path, line.as_bytes())? {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        let file = machine::open_own(&path, OpenOptions::new().read(true).write(true))?;
        // As long as the run goes on, nobody else takes it for an interrupted one.
        file.lock()?;
        let end = line.len() as u64;
        Ok(Self { header, path, file: Mutex::new(file), extents: Vec::new(), end })
    }

    /// Opens every backup below `state` that belongs to a drive with this identity; other drives may share the identity.
    ///
    /// # Errors
    /// When the folder or one of the backups can't be read.
    pub fn find_all(state: &Path, drive: &DriveIdentity) -> io::Result<Vec<Self>> {
        let folder = state.join(FOLDER);
        let names = match machine::names_in(&folder, MAX_NAMES) {
            // Where there is no folder, there is no backup.
            Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => Vec::new(),
            names => names?,
        };
        let (prefix, identity) = (name_prefix(&drive.tag), drive.clone().anywhere());
        let is_candidate =
            |name: &OsString| name.to_str().is_some_and(|name| name.starts_with(&prefix) && name.ends_with(SUFFIX));
        let mut found = Vec::new();
        for name in names.into_iter().filter(is_candidate) {
            let path = folder.join(name);
            if is_in_use(&path)? {
                continue;
            }
            let backup = Self::open(&path)
                .map_err(|error| io::Error::new(error.kind(), format!("{}: {}", path.shown(), plain(&error))))?;
            found.extend(Some(backup).filter(|backup| backup.header.drive == identity));
        }
        Ok(found)
    }

    /// Opens a backup and checks all of it.
    ///
    /// # Errors
    /// When it can't be read or is of another version.
    pub fn open(path: &Path) -> io::Result<Self> {
        let file = machine::open_own(path, OpenOptions::new().read(true))?;
        let mut from = BufReader::new(&file);
        let mut line = String::new();
        from.by_ref().take(MAX_HEADER_BYTES).read_line(&mut line)?;
        let header: BackupHeader = serde_json::from_str(&line)?;
        if header.version != VERSION {
            return Err(io::Error::other(format!("it has version {}, not {VERSION}", header.version)));
        }
        let (mut extents, mut end) = (Vec::new(), line.len() as u64);
        let mut buffer = vec![0; MAX_EXTENT_BYTES];
        while let Some(extent) = next(&mut from, end, &mut buffer)? {
            let is_inside = extent.offset.checked_add(extent.len as u64).is_some_and(|last| last <= header.drive.bytes);
            if !is_inside || extents.len() >= MAX_EXTENTS {
                break;
            }
            end = extent.file_offset.saturating_add(extent.len as u64);
            extents.push(extent);
        }
        Ok(Self { header, path: path.to_owned(), file: Mutex::new(file), extents, end })
    }

    /// Appends the original bytes at `offset`; they are safe once [`Self::sync`] has returned.
    pub(super) fn append(&mut self, offset: u64, bytes: &[u8]) -> io::Result<()> {
        let digest = digest(offset, bytes);
        let length = u32::try_from(bytes.len()).map_err(|_| io::ErrorKind::InvalidInput)?;
        let front = [&offset.to_le_bytes()[..], &length.to_le_bytes(), digest.as_bytes()].concat();
        let file = self.file.get_mut().unwrap_or_else(std::sync::PoisonError::into_inner);
        file.seek(SeekFrom::Start(self.end))?;
        file.write_all(&front)?;
        file.write_all(bytes)?;
        let file_offset = self.end.saturating_add(front.len() as u64);
        self.extents.push(BackupExtent { offset, len: bytes.len(), file_offset, digest });
        self.end = file_offset.saturating_add(bytes.len() as u64);
        Ok(())
    }

    /// Waits until all extents are on the disk.
    pub(super) fn sync(&self) -> io::Result<()> {
        lock(&self.file).sync_data()
    }

    /// Returns the extents, in the order in which they were appended.
    pub(super) fn extents(&self) -> &[BackupExtent] {
        &self.extents
    }

    /// Reads the original bytes of an extent.
    pub(super) fn read(&self, extent: &BackupExtent, into: &mut [u8]) -> io::Result<()> {
        let mut file = lock(&self.file);
        file.seek(SeekFrom::Start(extent.file_offset))?;
        file.read_exact(into)?;
        if digest(extent.offset, into) == extent.digest { Ok(()) } else { Err(io::ErrorKind::InvalidData.into()) }
    }

    /// Returns the generator of the marks that lie over the extents.
    pub(super) fn marker(&self) -> Marker {
        Marker::new(&self.header.seed)
    }

    /// Returns the path of the backup's file.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Deletes the backup: all of its marks are replaced, or none was ever written.
    pub(super) fn remove(self) {
        // One that stays can't do harm: without its marks on a drive it restores nothing.
        let _ = machine::remove_own(&self.path);
    }
}

/// Whether the run of this backup goes on just now.
fn is_in_use(path: &Path) -> io::Result<bool> {
    match machine::open_own(path, OpenOptions::new().read(true))?.try_lock_shared() {
        Err(TryLockError::WouldBlock) => Ok(true),
        Err(TryLockError::Error(error)) => Err(error),
        Ok(()) => Ok(false),
    }
}

/// Reads the extent that begins at `end` of the file; `None` where the file ends or is torn.
fn next(from: &mut impl Read, end: u64, buffer: &mut [u8]) -> io::Result<Option<BackupExtent>> {
    let torn = |error: io::Error| if error.kind() == io::ErrorKind::UnexpectedEof { Ok(None) } else { Err(error) };
    let mut front = [0u8; EXTENT_HEADER_BYTES];
    if let Err(error) = from.read_exact(&mut front) {
        return torn(error);
    }
    let (Some(offset), Some(length), Some(expected)) = (u64_le(&front, 0), u32_le(&front, 8), take::<32>(&front, 12))
    else {
        return Ok(None);
    };
    let len = usize::try_from(length).unwrap_or(usize::MAX);
    let is_whole = len.is_multiple_of(MARK_BYTES) && len > 0;
    let Some(original) = buffer.get_mut(..len).filter(|_| is_whole) else { return Ok(None) };
    if let Err(error) = from.read_exact(original) {
        return torn(error);
    }
    let digest = digest(offset, original);
    let file_offset = end.saturating_add(EXTENT_HEADER_BYTES as u64);
    let extent = BackupExtent { offset, len, file_offset, digest };
    Ok((*digest.as_bytes() == expected).then_some(extent))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn identity(tag: &str, serial: &str) -> DriveIdentity {
        let (tag, serial) = (tag.to_owned(), Some(serial.to_owned()));
        DriveIdentity { tag, path: "/dev/sdb".to_owned(), vendor: None, model: None, serial, bytes: 1 << 30 }
    }

    #[test]
    fn torn_or_changed_extent_ends_a_backup() {
        let folder = tempfile::tempdir().unwrap();
        let drive = identity("DBR7J", "KP-1");
        let mut backup = ProbeBackup::create(folder.path(), &drive, "seed").unwrap();
        let path = backup.path().to_owned();
        for number in 0..3u8 {
            backup.append(u64::from(number) << 20, &[number; 1024]).unwrap();
        }
        backup.sync().unwrap();
        let bytes = std::fs::read(&path).unwrap();
        let found = |bytes: &[u8]| {
            std::fs::write(&path, bytes).unwrap();
            let backup = ProbeBackup::open(&path).unwrap();
            let mut into = [9; 1024];
            backup.extents().iter().for_each(|extent| backup.read(extent, &mut into).unwrap());
            (backup.extents().iter().map(|extent| (extent.offset, extent.len)).collect::<Vec<_>>(), into[1])
        };
        let all = vec![(0, 1024), (1 << 20, 1024), (2 << 20, 1024)];
        assert_eq!(found(&bytes), (all.clone(), 2));
        assert_eq!(found(&bytes[..bytes.len() - 1]), (all[..2].to_vec(), 1));
        let mut changed = bytes.clone();
        *changed.last_mut().unwrap() ^= 1;
        assert_eq!(found(&changed), (all[..2].to_vec(), 1));
        assert_eq!(found(&[&bytes[..], b"more"].concat()).0, all);
    }

    #[test]
    fn each_drive_and_run_has_its_own_backup() {
        let folder = tempfile::tempdir().unwrap();
        let count = |drive: &DriveIdentity| ProbeBackup::find_all(folder.path(), drive).unwrap().len();
        let [first, twin] = ["KP-1", "KP-2"].map(|serial| identity("DBR7?", serial));
        assert_eq!(count(&first), 0);
        let backup = ProbeBackup::create(folder.path(), &first, "one").unwrap();
        drop(ProbeBackup::create(folder.path(), &first, "two").unwrap());
        assert!(ProbeBackup::create(folder.path(), &first, "one").is_err());
        assert_eq!(count(&first), 1, "a run that goes on is not an interrupted one");
        let path = backup.path().to_owned();
        drop(backup);
        let elsewhere = DriveIdentity { path: "/dev/sdx".to_owned(), ..first.clone() };
        assert_eq!((count(&first), count(&elsewhere), count(&twin)), (2, 2, 0));
        ProbeBackup::open(&path).unwrap().remove();
        assert_eq!(count(&first), 1);
        std::fs::write(folder.path().join("under-way/DBR7_-x.backup"), "{").unwrap();
        assert!(ProbeBackup::find_all(folder.path(), &first).is_err(), "unusable is not the same as absent");
    }

    proptest! {
        #[test]
        fn open_never_panics(bytes: Vec<u8>, has_header: bool) {
            let file = tempfile::NamedTempFile::new().unwrap();
            let header = "{\"version\":2,\"drive\":{\"tag\":\"DBR7J\",\"bytes\":4096},\"seed\":\"x\"}\n";
            let whole = [if has_header { header.as_bytes() } else { b"" }, &bytes].concat();
            std::fs::write(file.path(), whole).unwrap();
            if let Ok(backup) = ProbeBackup::open(file.path()) {
                prop_assert!(backup.extents().iter().all(|extent| extent.offset + extent.len as u64 <= 4096));
            }
        }
    }
}
