//! What lies on a drive, read from its first sectors and without the system's help.

use std::io;

use crate::bytes::{Part, ReadAt};
use crate::drive::{Holds, Partition, Surface, Volume};
use crate::volume::{counting, filesystem, gpt, mbr};

/// Offsets at which partitions of sticks and cards usually begin, in MiB: their superblocks lie within the next [`SUPERBLOCK_BYTES`].
const PARTITION_STARTS_MIB: [u64; 7] = [1, 2, 4, 8, 16, 32, 64];
/// btrfs has its superblock at 64 KiB, the furthest of all that are recognised.
const SUPERBLOCK_BYTES: usize = 128 << 10;
/// The first bytes of this size are sampled every [`DENSE_STEP`] bytes: a stick is filled from its start.
const DENSE_BYTES: u64 = 1 << 30;
const DENSE_STEP: u64 = 4 << 20;
/// Samples between both ends of the whole.
const SAMPLES: u64 = 64;
const END_BYTES: usize = 64 << 10;

/// Size of the parts in which samples are compared, in bytes.
const CHUNK_BYTES: usize = 4096;

/// Whether there is anything in these bytes: both ends, the usual places of superblocks and samples between them are read.
///
/// # Errors
/// When they can't be read.
pub fn surface(part: &dyn ReadAt) -> io::Result<Surface> {
    let is_empty = are_samples(part, &mut |_, sample| Ok(is_blank(sample)))?;
    Ok(if is_empty { Surface::Empty } else { Surface::Data })
}

/// Whether the same samples hold nothing but blank chunks and chunks that `is_expected` knows by their offset and bytes.
///
/// # Errors
/// When they can't be read.
pub fn holds_only(part: &dyn ReadAt, is_expected: &mut dyn FnMut(u64, &[u8]) -> io::Result<bool>) -> io::Result<bool> {
    are_samples(part, &mut |at, sample| {
        let mut offset = at;
        for chunk in sample.chunks(CHUNK_BYTES) {
            if !is_blank(chunk) && !is_expected(offset, chunk)? {
                return Ok(false);
            }
            offset = offset.saturating_add(chunk.len() as u64);
        }
        Ok(true)
    })
}

fn is_blank(bytes: &[u8]) -> bool {
    [0x00, 0xFF].iter().any(|blank| bytes.iter().all(|byte| byte == blank))
}

/// Whether `is_fine` holds for every sample, given by its offset and bytes.
fn are_samples(part: &dyn ReadAt, is_fine: &mut dyn FnMut(u64, &[u8]) -> io::Result<bool>) -> io::Result<bool> {
    let chunk = CHUNK_BYTES as u64;
    let whole = |at: u64| at.saturating_sub(at.checked_rem(chunk).unwrap_or_default());
    let step = part.size().checked_div(SAMPLES).unwrap_or(0);
    let between = (1..SAMPLES).map(|sample| (whole(step.saturating_mul(sample)), CHUNK_BYTES));
    let ends = [(0, END_BYTES), (whole(part.size().saturating_sub(END_BYTES as u64)), END_BYTES + CHUNK_BYTES)];
    let starts = PARTITION_STARTS_MIB.iter().map(|mib| (mib << 20, SUPERBLOCK_BYTES));
    let dense = (1..DENSE_BYTES.checked_div(DENSE_STEP).unwrap_or(0))
        .map(|sample| (sample.saturating_mul(DENSE_STEP), CHUNK_BYTES));
    let all = ends.into_iter().chain(starts).chain(dense).chain(between).filter(|(at, _)| *at < part.size());
    let mut buffer = vec![0u8; SUPERBLOCK_BYTES];
    for (at, bytes) in all {
        let sample = buffer.get_mut(..bytes).unwrap_or_default();
        let count = part.fill_at(at, sample)?;
        if !is_fine(at, sample.get(..count).unwrap_or_default())? {
            return Ok(false);
        }
    }
    Ok(true)
}

/// Looks at a drive.
///
/// # Errors
/// When the drive can't be read.
pub fn read(drive: &dyn ReadAt) -> io::Result<Holds> {
    let (placed, whole) = read_placed(drive)?;
    let surface = if placed.is_empty() && whole.is_none() { surface(drive)? } else { Surface::Unread };
    Ok(Holds { partitions: placed.into_iter().map(|(partition, _)| partition).collect(), whole, surface })
}

/// A partition, and its first byte on the drive.
pub type Placed = (Partition, u64);

/// The same, each partition with its first byte on the drive.
///
/// # Errors
/// When the drive can't be read.
pub fn read_placed(drive: &dyn ReadAt) -> io::Result<(Vec<Placed>, Option<Volume>)> {
    let mut places = Vec::new();
    if let Some(gpt) = gpt::read(drive)? {
        places.extend(gpt.entries.iter().map(|entry| (entry.number, entry.start, entry.bytes)));
    } else {
        let mut sector = [0u8; mbr::MBR_BYTES];
        drive.fill_at(0, &mut sector)?;
        let sector_bytes = counting::sector_bytes(drive, &sector, 512)?;
        let entries = mbr::parse(&sector, sector_bytes).map(|mbr| mbr.entries).unwrap_or_default();
        places.extend(entries.iter().map(|entry| (entry.number, entry.start, entry.bytes)));
    }
    let whole = volume(drive, 0, drive.size())?;
    // A boot sector of FAT looks like a partition table full of nonsense.
    if whole.as_ref().is_some_and(|whole| whole.filesystem.as_deref() != Some("iso9660")) {
        places.clear();
    }
    places.retain(|(_, start, _)| *start < drive.size());
    let mut partitions = Vec::new();
    for (number, start, bytes) in places {
        let volume = match volume(drive, start, bytes)? {
            // An entry that spans the volume is the volume once more.
            Some(_) if start == 0 => None,
            other => other,
        };
        let volume = match volume {
            Some(volume) => volume,
            None => unknown(drive, start, bytes)?,
        };
        partitions.push((Partition { number, volume }, start));
    }
    Ok((partitions, whole))
}

/// A part in which no file system is known.
///
/// # Errors
/// When the drive can't be read.
pub fn unknown(drive: &dyn ReadAt, start: u64, bytes: u64) -> io::Result<Volume> {
    let left = drive.size().saturating_sub(start).min(bytes);
    Ok(Volume { bytes, surface: surface(&Part { whole: drive, start, bytes: left })?, ..Volume::default() })
}

/// The file system in `bytes` bytes from `start` on, if it is known.
///
/// # Errors
/// When the drive can't be read.
pub fn volume(drive: &dyn ReadAt, start: u64, bytes: u64) -> io::Result<Option<Volume>> {
    let found = filesystem::recognise(&Part { whole: drive, start, bytes })?;
    Ok(found.map(|system| Volume {
        bytes,
        filesystem: Some(system.name.to_owned()),
        label: system.label,
        mounted_at: None,
        drives: system.drives,
        surface: Surface::Unread,
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// 300 MiB of zeros with noise at an offset.
    fn drive(offset: usize, len: usize) -> Vec<u8> {
        let mut bytes = vec![0; 300 << 20];
        bytes[offset..offset + len].copy_from_slice(&pyrotyp_sample::noise(len, 3));
        bytes
    }

    #[test]
    fn superblock_at_a_usual_place_is_data() {
        // The first sector of a volume at 4 MiB is lost; a btrfs at 1 MiB has its superblock 64 KiB further.
        for (offset, len) in [((4 << 20) + 512, 4096), ((1 << 20) + (64 << 10), 4096), (100 << 20, 8 << 20), (0, 512)] {
            assert_eq!(surface(&drive(offset, len)).unwrap(), Surface::Data, "{offset}");
        }
        assert_eq!(surface(&drive(0, 0)).unwrap(), Surface::Empty);
        assert_eq!(surface(&vec![0xFF; 9000]).unwrap(), Surface::Empty);
    }

    #[test]
    fn only_expected_chunks_are_accepted() {
        let bytes = drive(8 << 20, 64 << 10);
        let accepts = |expected: &Vec<u8>| {
            holds_only(&bytes, &mut |at, chunk| Ok(expected[at as usize..][..chunk.len()] == *chunk)).unwrap()
        };
        assert!(accepts(&bytes));
        assert!(!accepts(&drive(16 << 20, 64 << 10)));
    }
}
