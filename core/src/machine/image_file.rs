//! A file as bytes that can be read at any place.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use crate::bytes::ReadAt;

/// An image in a file. Its length is taken once: a file that shrinks meanwhile gives short reads.
#[derive(Debug)]
pub struct ImageFile {
    file: Mutex<File>,
    bytes: u64,
}

impl ImageFile {
    /// Opens the file at `path` for reading.
    ///
    /// # Errors
    /// When it can't be opened, or is not a regular file (a folder, a device, a pipe).
    pub fn open(path: &Path) -> io::Result<Self> {
        Self::of(super::open_regular(path)?)
    }

    /// An image in a file that is open.
    ///
    /// # Errors
    /// When its length can't be told.
    pub fn of(file: File) -> io::Result<Self> {
        let bytes = file.metadata()?.len();
        Ok(Self { file: Mutex::new(file), bytes })
    }

    /// The same file, open once more.
    ///
    /// # Errors
    /// When the system gives no second handle of it.
    pub fn again(&self) -> io::Result<File> {
        self.file.lock().unwrap_or_else(PoisonError::into_inner).try_clone()
    }
}

impl ReadAt for ImageFile {
    fn size(&self) -> u64 {
        self.bytes
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let mut file = self.file.lock().unwrap_or_else(PoisonError::into_inner);
        file.seek(SeekFrom::Start(at))?;
        file.read(into)
    }
}
