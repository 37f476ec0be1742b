//! What lies on a drive, read from its first sectors and without the system's help.

use std::io;

use super::{Partition, Volume};
use crate::image::{Part, ReadAt, filesystem, gpt, mbr};

/// The partitions of a drive, and the file system that spans the whole.
///
/// # Errors
/// When the drive can't be read.
pub fn read(drive: &dyn ReadAt) -> io::Result<(Vec<Partition>, Option<Volume>)> {
    let (placed, whole) = read_placed(drive)?;
    Ok((placed.into_iter().map(|(partition, _)| partition).collect(), whole))
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
        let entries = mbr::parse(&sector, 512).map(|mbr| mbr.entries).unwrap_or_default();
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
        let volume = volume.unwrap_or(Volume { bytes, ..Volume::default() });
        partitions.push((Partition { number, volume }, start));
    }
    Ok((partitions, whole))
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
    }))
}
