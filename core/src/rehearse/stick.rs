//! What is tried in an emulator, as an open file.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};

use crate::bytes::{Cursor, ReadAt};
use crate::stop::Cancel;

/// Bytes that are moved at a time.
const PIECE_BYTES: usize = 1 << 20;

/// What is tried: a file, or a drive as one.
#[derive(Debug)]
pub struct TrialStick {
    /// Open for reading; nothing else is asked of it.
    pub(super) file: File,
    /// Whether it is a drive.
    pub(super) is_device: bool,
    /// Size of its sectors, in bytes.
    pub(super) sector_bytes: u32,
}

impl TrialStick {
    /// A file, or a drive that was opened as one, with sectors of so many bytes.
    ///
    /// # Errors
    /// When the system does not tell which of both it is.
    pub fn of(file: File, sector_bytes: u32) -> io::Result<Self> {
        let is_device = !file.metadata()?.is_file();
        Ok(Self { file, is_device, sector_bytes })
    }

    /// Bytes that lie in no file as they are, put into one without a name in the folder for temporary files; zeros take no room there.
    ///
    /// # Errors
    /// When they can't be read or kept, or somebody stops it.
    pub fn of_bytes(bytes: &dyn ReadAt, sector_bytes: u32, cancel: &Cancel) -> io::Result<Self> {
        let mut file = tempfile::NamedTempFile::new()?;
        // What is handed over is open for reading alone, and has no name any more when this returns.
        let for_reading = File::open(file.path())?;
        let mut from = match bytes.onward(0)? {
            Some(onward) => onward,
            None => Box::new(Cursor { of: bytes, at: 0 }),
        };
        let mut piece = vec![0; PIECE_BYTES];
        let mut at = 0u64;
        loop {
            if cancel.is_set() {
                return Err(io::ErrorKind::Interrupted.into());
            }
            let count = from.read(&mut piece)?;
            let read = piece.get(..count).unwrap_or_default();
            if read.is_empty() {
                break;
            }
            if read.iter().any(|byte| *byte != 0) {
                file.seek(SeekFrom::Start(at))?;
                file.write_all(read)?;
            }
            at = at.saturating_add(count as u64);
        }
        file.as_file().set_len(at)?;
        Ok(Self { file: for_reading, is_device: false, sector_bytes })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_lie_in_a_file_as_they_are_and_it_can_not_be_written() {
        let mut bytes = vec![0u8; 3 * PIECE_BYTES + 700];
        bytes[PIECE_BYTES + 5] = 7;
        let stick = TrialStick::of_bytes(&bytes, 512, &Cancel::new()).unwrap();
        let mut file = stick.file;
        let mut read = Vec::new();
        file.read_to_end(&mut read).unwrap();
        assert!(read == bytes && !stick.is_device && file.write_all(b"x").is_err());
        let stopped = Cancel::new();
        stopped.set();
        assert_eq!(TrialStick::of_bytes(&bytes, 512, &stopped).unwrap_err().kind(), io::ErrorKind::Interrupted);
    }
}
