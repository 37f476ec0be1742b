//! What lies on a drive, read from its first sectors and without the system's help.

use std::io;

use crate::bytes::{Part, ReadAt};
use crate::drive::{Holds, Partition, Surface, Volume};
use crate::volume::{counting, filesystem, gpt, mbr};

/// Places that are looked at to tell whether there is anything, and how much of each, in bytes; the first and the last are larger.
const PLACES: u64 = 16;
const PLACE_BYTES: usize = 4096;
const END_BYTES: usize = 64 << 10;

/// Whether there is anything in these bytes, by some places of them.
///
/// # Errors
/// When they can't be read.
pub fn surface(part: &dyn ReadAt) -> io::Result<Surface> {
    let step = part.size().checked_div(PLACES).unwrap_or(0);
    let between = (1..PLACES).map(|place| (step.saturating_mul(place), PLACE_BYTES));
    let ends = [(0, END_BYTES), (part.size().saturating_sub(END_BYTES as u64), END_BYTES)];
    let mut piece = vec![0u8; END_BYTES];
    for (at, bytes) in ends.into_iter().chain(between) {
        let piece = piece.get_mut(..bytes).unwrap_or_default();
        let count = part.fill_at(at, piece)?;
        let piece = piece.get(..count).unwrap_or_default();
        if ![0x00, 0xFF].iter().any(|blank| piece.iter().all(|byte| byte == blank)) {
            return Ok(Surface::Data);
        }
    }
    Ok(Surface::Empty)
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
