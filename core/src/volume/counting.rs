//! In which sectors a master boot record counts: it does not tell.

use std::io;

use crate::bytes::{Part, ReadAt};
use crate::volume::{filesystem, mbr};

/// Sizes of sectors that drives have, in bytes, the usual one first.
const SIZES: [u32; 2] = [512, 4096];

/// The size of the sectors in which a record counts: that with which a file system lies where it says. Where none does, `otherwise`.
///
/// # Errors
/// When the drive can't be read.
pub fn sector_bytes(drive: &dyn ReadAt, record: &[u8], otherwise: u32) -> io::Result<u32> {
    for sector_bytes in SIZES {
        let entries = mbr::parse(record, sector_bytes).map(|mbr| mbr.entries).unwrap_or_default();
        for entry in entries.iter().filter(|entry| entry.start < drive.size()) {
            if filesystem::recognise(&Part { whole: drive, start: entry.start, bytes: entry.bytes })?.is_some() {
                return Ok(sector_bytes);
            }
        }
    }
    Ok(otherwise)
}
