//! The file under way: `NAME.part`, and beside it `NAME.part.toml`, which says what of it is there.

use std::ffi::OsString;
use std::fs::{self, File, TryLockError};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use serde::{Deserialize, Serialize};

use crate::fetch::public_address::public_address;
use crate::fetch::ranges::Ranges;
use crate::fetch::{FetchError, Wanted};

/// Longest side file that is read, in bytes.
const SIDE_BYTES_MOST: u64 = 4 << 20;

/// What the side file says.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Side {
    /// Where it came from so far.
    pub address: String,
    /// What tells that version of it from others, if the server said.
    pub validator: Option<String>,
    /// Length of the whole file, in bytes.
    pub bytes: u64,
    /// Its checksum, where it was known.
    pub sum: Option<String>,
    /// What is there, and has reached the disk.
    pub done: Ranges,
}

/// The file under way, held by this process alone.
pub struct PartFile {
    /// Shared with threads that may still be writing when nobody waits for them any more.
    pub(super) file: Arc<Mutex<File>>,
    pub(super) side: Side,
    path: PathBuf,
    side_path: PathBuf,
    target: PathBuf,
}

fn with_ending(path: &Path, ending: &str) -> PathBuf {
    let mut name = OsString::from(path);
    name.push(ending);
    PathBuf::from(name)
}

impl PartFile {
    /// Opens, or makes, the file that is to become `target`, and takes up what an earlier fetch of the same image left.
    ///
    /// # Errors
    /// When it can't be made, or another process is at it.
    pub fn open(target: &Path, wanted: &Wanted) -> Result<Self, FetchError> {
        let (path, side_path) = (with_ending(target, ".part"), with_ending(target, ".part.toml"));
        let fail = |source| FetchError::Folder { path: path.clone(), source };
        let file = File::options().read(true).write(true).create(true).truncate(false).open(&path).map_err(fail)?;
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => return Err(FetchError::Busy { path }),
            Err(TryLockError::Error(error)) => return Err(fail(error)),
        }
        let there = file.metadata().map_err(fail)?.len();
        // Browsers name their downloads like this as well.
        if there > 0 && !side_path.exists() {
            return Err(FetchError::Foreign { path });
        }
        let usable = |side: &Side| side.done.is_sound(there.min(side.bytes)) && continues(side, wanted);
        let side = read_side(&side_path).filter(usable);
        if side.is_none() {
            file.set_len(0).map_err(fail)?;
        }
        let file = Arc::new(Mutex::new(file));
        let part = Self { file, side: side.unwrap_or_default(), path, side_path, target: target.to_owned() };
        part.save().map_err(|source| FetchError::Folder { path: part.side_path.clone(), source })?;
        Ok(part)
    }

    /// Where the bytes are until the end.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// How many bytes an earlier fetch left.
    pub fn kept_bytes(&self) -> u64 {
        self.side.done.bytes()
    }

    /// Nothing of it counts any more.
    pub(super) fn start_over(&mut self) {
        self.side = Side::default();
    }

    /// Has what is there reach the disk, and then says so in the side file.
    pub(super) fn save(&self) -> io::Result<()> {
        // A second handle: nobody who writes meanwhile has to wait.
        let file = self.file.lock().unwrap_or_else(PoisonError::into_inner).try_clone()?;
        file.sync_data()?;
        let text = toml::to_string(&self.side).map_err(io::Error::other)?;
        let folder = self.side_path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let mut side = tempfile::NamedTempFile::new_in(folder)?;
        side.write_all(text.as_bytes())?;
        side.persist(&self.side_path)?;
        Ok(())
    }

    /// Gives the whole file its own name, which nothing must bear yet.
    ///
    /// # Errors
    /// When something bears it already, or the folder can't be written.
    pub fn finish(self) -> Result<PathBuf, FetchError> {
        let fail = |source| FetchError::Folder { path: self.target.clone(), source };
        {
            let file = self.file.lock().unwrap_or_else(PoisonError::into_inner);
            file.set_len(self.side.bytes).and_then(|()| file.sync_all()).map_err(fail)?;
        }
        // A second name first, since renaming would put it in another file's place; not every file system has links.
        match fs::hard_link(&self.path, &self.target) {
            Ok(()) => fs::remove_file(&self.path).map_err(fail)?,
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => return Err(fail(error)),
            Err(_) if self.target.exists() => return Err(fail(io::ErrorKind::AlreadyExists.into())),
            Err(_) => fs::rename(&self.path, &self.target).map_err(fail)?,
        }
        match fs::remove_file(&self.side_path) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(fail(error)),
            _ => Ok(self.target.clone()),
        }
    }

    /// Reads what is there from byte `at` on.
    pub(super) fn read_at(file: &Mutex<File>, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let mut file = file.lock().unwrap_or_else(PoisonError::into_inner);
        file.seek(SeekFrom::Start(at))?;
        file.read(into)
    }
}

impl Drop for PartFile {
    /// Lets others have it, even while a connection that nobody waits for still holds the file.
    fn drop(&mut self) {
        let file = self.file.lock().unwrap_or_else(PoisonError::into_inner);
        // Nothing came: nothing is kept that somebody would have to clear away.
        if file.metadata().is_ok_and(|found| found.len() == 0) {
            let _ = fs::remove_file(&self.path);
            let _ = fs::remove_file(&self.side_path);
        }
        // Closing does the same, a little later.
        let _ = file.unlock();
    }
}

fn read_side(path: &Path) -> Option<Side> {
    let mut text = String::new();
    File::open(path).ok()?.take(SIDE_BYTES_MOST).read_to_string(&mut text).ok()?;
    toml::from_str(&text).ok()
}

/// Whether what was kept belongs to the image that is wanted now.
fn continues(side: &Side, wanted: &Wanted) -> bool {
    let same_length = wanted.bytes.is_none_or(|bytes| bytes == side.bytes);
    let known = wanted.sums.first().map(|sum| &sum.hex);
    let same_image = match (&side.sum, known) {
        (Some(old), Some(now)) => old == now,
        // Without a checksum, only the same version of the same address can be gone on with.
        _ => {
            side.validator.is_some()
                && wanted.mirrors.iter().any(|mirror| public_address(&mirror.address) == side.address)
        }
    };
    same_length && same_image
}
