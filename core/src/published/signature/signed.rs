//! What a signature is for, as bytes to be read once.

use std::io::{self, Read};

use crate::bytes::ReadAt;
use crate::published::signature::fault::Fault;
use crate::stop::Cancel;

/// Most that is signed without being hashed first, in bytes: it has to be kept in memory.
const UNHASHED_BYTES_MOST: u64 = 64 << 20;

/// What a signature is for.
#[derive(Clone, Copy)]
pub enum Signed<'a> {
    /// Bytes in memory, such as a list.
    Bytes(&'a [u8]),
    /// A whole image.
    Image(&'a dyn ReadAt, &'a Cancel),
}

impl Signed<'_> {
    pub(super) fn reader(&self) -> Box<dyn Read + '_> {
        match *self {
            Self::Bytes(bytes) => Box::new(bytes),
            Self::Image(image, cancel) => Box::new(Reader { image, cancel, at: 0 }),
        }
    }

    /// All of it, where it is small enough.
    pub(super) fn whole(&self) -> Result<Vec<u8>, Fault> {
        let mut bytes = Vec::new();
        let limit = UNHASHED_BYTES_MOST.saturating_add(1);
        self.reader().take(limit).read_to_end(&mut bytes).map_err(|error| Fault::Reading(error.to_string()))?;
        if bytes.len() as u64 > UNHASHED_BYTES_MOST { Err(Fault::TooLong) } else { Ok(bytes) }
    }
}

struct Reader<'a> {
    image: &'a dyn ReadAt,
    cancel: &'a Cancel,
    at: u64,
}

impl Read for Reader<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        if self.cancel.is_set() {
            return Err(io::Error::other("stopped"));
        }
        let count = self.image.read_at(self.at, into)?;
        self.at = self.at.saturating_add(count as u64);
        Ok(count)
    }
}
