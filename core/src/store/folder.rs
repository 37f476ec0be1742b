//! Documents in a folder, a file each.

use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};

use crate::machine::{self, FileStamp};

/// Name of the file whose lock is the lease.
const LEASE: &str = ".lock";

/// A place for documents.
#[derive(Clone, Debug, Default)]
pub struct Store {
    folder: PathBuf,
}

/// Which of the documents that had a name one after the other this was.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Version(blake3::Hash);

impl Version {
    /// Of a document with these bytes.
    pub fn of(bytes: &[u8]) -> Self {
        Self(blake3::hash(bytes))
    }
}

/// A document as it was when it was read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Kept {
    /// All of it.
    pub bytes: Vec<u8>,
    /// By which a change shows.
    pub version: Version,
}

/// Whether a document was put there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[must_use]
pub enum Put {
    /// It was.
    Done,
    /// Somebody else's is there.
    Taken,
}

/// Held by one process at a time, until it is dropped.
#[derive(Debug)]
pub struct Lease {
    _lock: File,
}

impl Store {
    /// In this folder, which is made when something is put there.
    pub fn in_folder(folder: impl Into<PathBuf>) -> Self {
        Self { folder: folder.into() }
    }

    /// Where it is.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Where a document is, for people.
    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.join(name)
    }

    fn place(&self, name: &str) -> io::Result<PathBuf> {
        let is_name = Path::new(name).file_name().is_some_and(|file| file == name);
        let place = is_name.then(|| self.path(name));
        place.ok_or_else(|| io::Error::new(io::ErrorKind::InvalidInput, "a document's name is one part of a path"))
    }

    /// The document with this name, if it is no longer than `most` bytes; `None` if there is none.
    ///
    /// # Errors
    /// When it is there and can't be read.
    pub fn get(&self, name: &str, most: u64) -> io::Result<Option<Kept>> {
        match machine::read_own(&self.place(name)?, most) {
            Ok(bytes) => Ok(Some(Kept { version: Version::of(&bytes), bytes })),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// Puts a document there, whatever had its name.
    ///
    /// # Errors
    /// When it can't be written.
    pub fn put(&self, name: &str, bytes: &[u8]) -> io::Result<()> {
        let place = self.place(name)?;
        machine::make_folder(&self.folder)?;
        machine::keep_own(&place, bytes)
    }

    /// Puts a document there if none has its name.
    ///
    /// # Errors
    /// When it can't be written.
    pub fn put_if_absent(&self, name: &str, bytes: &[u8]) -> io::Result<Put> {
        let place = self.place(name)?;
        machine::make_folder(&self.folder)?;
        Ok(if machine::keep_absent(&place, bytes)? { Put::Done } else { Put::Taken })
    }

    /// Puts a document in the place of one that nobody has changed since it was read. Others must do so as well.
    ///
    /// # Errors
    /// When it can't be read or written.
    pub fn replace(&self, name: &str, bytes: &[u8], seen: Version) -> io::Result<Put> {
        let _lease = self.lease()?;
        let now = self.get(name, u64::MAX)?.map(|kept| kept.version);
        if now != Some(seen) {
            return Ok(Put::Taken);
        }
        self.put(name, bytes).map(|()| Put::Done)
    }

    /// Names of the documents, `most` at most, in no order; none where there is no such place yet.
    ///
    /// # Errors
    /// When it can't be read: what is not known is not nothing.
    pub fn names(&self, most: usize) -> io::Result<Vec<String>> {
        match machine::names_in(&self.folder, most) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
            names => {
                let names = names?.into_iter().filter_map(|name| name.into_string().ok());
                // What begins like this is ours: the lease, and what is being written.
                Ok(names.filter(|name| !name.starts_with('.')).collect())
            }
        }
    }

    /// The documents as they are now, `most` at most, in no order; none where there is no such place yet.
    ///
    /// # Errors
    /// When it can't be read.
    pub fn stamps(&self, most: usize) -> io::Result<Vec<FileStamp>> {
        match machine::stamps_in(&self.folder, most) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
            stamps => stamps,
        }
    }

    /// Waits until no other process holds it, for half a minute at most.
    ///
    /// # Errors
    /// When another process holds on to it, or the place can't be written.
    pub fn lease(&self) -> io::Result<Lease> {
        machine::make_folder(&self.folder)?;
        Ok(Lease { _lock: machine::lock_own(&self.path(LEASE))? })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_two_who_change_a_document_the_second_learns_of_the_first() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::in_folder(folder.path().join("not/made/yet"));
        assert_eq!((store.get("a", 9).unwrap(), store.names(9).unwrap()), (None, Vec::new()));
        assert_eq!(store.put_if_absent("a", b"one").unwrap(), Put::Done);
        assert_eq!(store.put_if_absent("a", b"two").unwrap(), Put::Taken);
        let seen = store.get("a", 9).unwrap().unwrap();
        assert_eq!(seen.bytes, b"one");
        assert_eq!(store.replace("a", b"three", seen.version).unwrap(), Put::Done);
        assert_eq!(store.replace("a", b"four", seen.version).unwrap(), Put::Taken);
        assert_eq!(store.replace("b", b"four", seen.version).unwrap(), Put::Taken, "nothing is there to be replaced");
        assert_eq!(store.get("a", 9).unwrap().unwrap().bytes, b"three");
        assert!(store.get("a", 4).is_err(), "longer than is read of it");
        for name in ["", "..", "a/b", "/etc/hostname"] {
            assert!(store.get(name, 9).is_err() && store.put(name, b"").is_err(), "{name}");
        }
    }
}
