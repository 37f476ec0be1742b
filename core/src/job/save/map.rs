//! What is known of a file that is not whole yet: how far it is, and what of the drive could not be read.

use std::io;
use std::ops::Range;
use std::path::Path;

use serde::{Deserialize, Serialize};

use crate::drive::Tag;
use crate::machine;

/// Version of the format.
const VERSION: u32 = 1;
/// Longest file that is read, in bytes.
const BYTES_MOST: u64 = 32 << 20;

/// A document of JSON beside the file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SaveMap {
    version: u32,
    /// The drive's tag.
    pub drive: String,
    /// The drive's size in bytes.
    pub drive_bytes: u64,
    /// How much of it is saved, in bytes.
    pub bytes: u64,
    /// So much of that is in the file, from the start on.
    pub done: u64,
    /// Where the drive could not be read; the file holds zeros there.
    pub unreadable: Vec<Range<u64>>,
    /// Length of each packed frame in the file, in its order; nothing where it is not packed.
    pub frames: Vec<u32>,
}

impl SaveMap {
    /// Of a file that is begun.
    pub(super) fn begin(drive: &Tag, drive_bytes: u64, bytes: u64) -> Self {
        let (unreadable, frames) = (Vec::new(), Vec::new());
        Self { version: VERSION, drive: drive.to_string(), drive_bytes, bytes, done: 0, unreadable, frames }
    }

    /// Reads one; `None` where there is none.
    ///
    /// # Errors
    /// When it is there and can't be used.
    pub fn find(path: &Path) -> io::Result<Option<Self>> {
        let text = match machine::read_own(path, BYTES_MOST) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            read => read?,
        };
        let map: Self = serde_json::from_slice(&text)?;
        let inside = |range: &Range<u64>| range.start < range.end && range.end <= map.bytes;
        let is_sound = map.version == VERSION && map.done <= map.bytes && map.bytes <= map.drive_bytes;
        if is_sound && map.unreadable.iter().all(inside) {
            Ok(Some(map))
        } else {
            Err(io::Error::new(io::ErrorKind::InvalidData, "its numbers do not fit together"))
        }
    }

    /// Keeps it: whole, or as it was.
    pub(super) fn keep(&self, path: &Path) -> io::Result<()> {
        machine::keep_own(path, serde_json::to_string(self)?.as_bytes())
    }

    /// Whether it is about the same bytes of the same drive.
    pub(super) fn is_like(&self, other: &Self) -> bool {
        (&self.drive, self.drive_bytes, self.bytes) == (&other.drive, other.drive_bytes, other.bytes)
    }
}
