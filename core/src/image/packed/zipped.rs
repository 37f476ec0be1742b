//! The one image in a zip.

use std::io::{self, Read, Seek, SeekFrom};
use std::sync::Arc;

use crate::image::packed::fault::PackedFault;
use crate::image::packed::shared_bytes::SharedBytes;

/// Most files of an archive that are looked at and told.
pub const ENTRIES_MOST: usize = 10_000;
/// Most images of a zip that are named.
const IMAGES_TOLD: usize = 12;
/// Names of image files inside a zip.
const IMAGE_ENDINGS: [&str; 6] = [".iso", ".img", ".raw", ".dd", ".bin", ".hdd"];

/// One file of a zip.
#[derive(Clone, Debug)]
pub(super) struct ZippedFile {
    pub start: u64,
    pub packed_bytes: u64,
    pub is_stored: bool,
    pub crc: u32,
}

/// Reads a source from a place on.
pub(super) struct Sequential {
    pub source: SharedBytes,
    pub at: u64,
}

impl Read for Sequential {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let count = self.source.read_at(self.at, into)?;
        self.at = self.at.saturating_add(count as u64);
        Ok(count)
    }
}

impl Seek for Sequential {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let place = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
            SeekFrom::End(by) => self.source.size().checked_add_signed(by),
        };
        self.at = place.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

/// Checks the length and the CRC of a zip's file when its end is reached.
pub(super) struct Summed {
    pub inner: Box<dyn Read + Send>,
    pub hasher: crc32fast::Hasher,
    pub expected: u32,
    /// How much is still to come.
    pub left: u64,
}

impl Read for Summed {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let count = self.inner.read(into)?;
        self.hasher.update(into.get(..count).unwrap_or_default());
        let left = self.left.checked_sub(count as u64);
        self.left = left.ok_or_else(|| io::Error::new(io::ErrorKind::InvalidData, "it is longer than it says"))?;
        if count == 0 && !into.is_empty() {
            if self.left > 0 {
                return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "it is shorter than it says"));
            }
            if self.hasher.clone().finalize() != self.expected {
                return Err(io::Error::new(io::ErrorKind::InvalidData, "its CRC does not match"));
            }
        }
        Ok(count)
    }
}

/// The one image of a zip, and its size: the only file, or the only one whose name ends as an image's does.
pub(super) fn only_image(source: &SharedBytes) -> Result<(u64, ZippedFile), PackedFault> {
    let directory = |source| PackedFault::Directory { source };
    let reader = Sequential { source: Arc::clone(source), at: 0 };
    let mut archive = zip::ZipArchive::new(reader).map_err(directory)?;
    let files = archive.len();
    let names = archive.file_names().take(ENTRIES_MOST).map(|name| name.map(|name| name.into_owned()));
    let numbered = names.enumerate().filter_map(|(index, name)| Some((index, name.ok()?)));
    let plain: Vec<(usize, String)> = numbered.filter(|(_, name)| !name.ends_with('/')).collect();
    let is_image = |name: &str| IMAGE_ENDINGS.iter().any(|ending| name.to_lowercase().ends_with(ending));
    let mut images = plain.clone();
    if plain.len() != 1 {
        images.retain(|(_, name)| is_image(name));
    }
    let (index, name) = match images.as_slice() {
        [only] => only.clone(),
        [] => return Err(PackedFault::NoImage { files }),
        several => {
            let names = several.iter().take(IMAGES_TOLD).map(|(_, name)| name.clone());
            return Err(PackedFault::SeveralImages { names: names.collect(), all: several.len() });
        }
    };
    let file = archive.by_index_raw(index).map_err(directory)?;
    let is_stored = match file.compression() {
        _ if file.encrypted() => return Err(PackedFault::Unusual { name, how: "encrypted".into() }),
        zip::CompressionMethod::Stored => true,
        zip::CompressionMethod::Deflated => false,
        other => return Err(PackedFault::Unusual { name, how: format!("packed with {other}") }),
    };
    let Some(start) = file.data_start() else { return Err(PackedFault::NoImage { files }) };
    let entry = ZippedFile { start, packed_bytes: file.compressed_size(), is_stored, crc: file.crc32() };
    Ok((file.size(), entry))
}
