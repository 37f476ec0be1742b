//! What is on a drive now, and so what writing would destroy: read without mounting anything, and without writing a byte.
//!
//! Promise: any bytes give an answer, never a panic, in bounded memory and time.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod exfat;
mod ext;

use std::io;
use std::sync::{Mutex, PoisonError};

use jiff::civil::DateTime;

use crate::drive::{AlignedBuf, DriveFault, DriveIo, Volume, read_content};
use crate::image::{Part, ReadAt, fat, gpt, iso9660, mbr};

/// Most entries of a folder that are looked at.
pub const ITEMS_MOST: usize = 2000;

/// A file or folder at the top of a volume.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Item {
    /// Its name.
    pub name: String,
    /// Whether it is a folder.
    pub is_folder: bool,
    /// Length in bytes; nothing is told of folders.
    pub bytes: u64,
    /// When it was changed last, by the clock of whoever did.
    pub modified: Option<DateTime>,
}

/// A volume, and what lies at its top.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listed {
    /// The partition's number; `None` for a file system on the drive as a whole.
    pub number: Option<u32>,
    /// What it is.
    pub volume: Volume,
    /// How much of it is taken, in bytes, where that is known.
    pub used_bytes: Option<u64>,
    /// The newest first; `None` where the file system can't be looked into here.
    pub items: Option<Vec<Item>>,
}

/// All that is on a drive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Contents {
    /// `GPT` or `MBR`.
    pub table: Option<&'static str>,
    /// What an installer image on it calls itself.
    pub image: Option<String>,
    /// Its volumes.
    pub volumes: Vec<Listed>,
}

/// Looks at everything that is on a drive.
///
/// # Errors
/// When the drive can't be read.
pub fn contents(drive: &dyn ReadAt) -> io::Result<Contents> {
    let (partitions, whole) = read_content(drive)?;
    let mut sector = [0u8; mbr::MBR_BYTES];
    drive.fill_at(0, &mut sector)?;
    let table = match gpt::read(drive)? {
        Some(_) => Some("GPT"),
        None => mbr::parse(&sector, 512).filter(|table| !table.entries.is_empty()).map(|_| "MBR"),
    };
    let image = match iso9660::read(drive)? {
        Some(Ok(_)) => crate::image::inspect(drive)?.naming.name,
        _ => None,
    };
    let mut volumes = Vec::new();
    if let Some(volume) = whole {
        volumes.push(listed(drive, None, 0, volume)?);
    }
    for (partition, start) in partitions {
        volumes.push(listed(drive, Some(partition.number), start, partition.volume)?);
    }
    Ok(Contents { table, image, volumes })
}

fn listed(drive: &dyn ReadAt, number: Option<u32>, start: u64, volume: Volume) -> io::Result<Listed> {
    let part = Part { whole: drive, start, bytes: volume.bytes };
    let (mut items, used_bytes) = match volume.filesystem.as_deref().unwrap_or_default() {
        "fat12" | "fat16" | "fat32" => match fat::read(&part)? {
            Some(fat) => (Some(fat.top(&part)?), fat.used_bytes(&part)?),
            None => (None, None),
        },
        "exfat" => exfat::top(&part)?,
        "ext2" | "ext3" | "ext4" => ext::top(&part)?,
        "iso9660" => match iso9660::read(&part)? {
            Some(Ok(found)) => (Some(found.top(&part)?), Some(found.declared_bytes.min(volume.bytes))),
            _ => (None, None),
        },
        _ => (None, None),
    };
    if let Some(items) = &mut items {
        items.sort_by(|a, b| (b.modified, &a.name).cmp(&(a.modified, &b.name)));
    }
    Ok(Listed { number, volume, used_bytes, items })
}

/// How much of a drive is read at once, in bytes: a multiple of every sector.
const WINDOW: usize = 64 << 10;

/// The bytes of an open drive at any place, read in whole sectors.
pub struct Sectors<'a> {
    drive: &'a dyn DriveIo,
    /// Where the last stretch that was read begins, how long it is, and its bytes.
    window: Mutex<(u64, usize, AlignedBuf)>,
}

impl<'a> Sectors<'a> {
    /// Of this drive.
    pub fn of(drive: &'a dyn DriveIo) -> Self {
        Self { drive, window: Mutex::new((0, 0, AlignedBuf::new(WINDOW))) }
    }
}

impl ReadAt for Sectors<'_> {
    fn size(&self) -> u64 {
        self.drive.bytes()
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let mut window = self.window.lock().unwrap_or_else(PoisonError::into_inner);
        let (start, filled, bytes) = &mut *window;
        let has = |start: u64, filled: usize| at >= start && at < start.saturating_add(filled as u64);
        if !has(*start, *filled) {
            let from = at.saturating_sub(at.checked_rem(WINDOW as u64).unwrap_or(0));
            let left = usize::try_from(self.size().saturating_sub(from)).unwrap_or(WINDOW).min(WINDOW);
            *filled = 0;
            let window = bytes.get_mut(..left).unwrap_or_default();
            if left > 0 {
                self.drive.read_at(from, window).map_err(|fault| match fault {
                    DriveFault::Gone => io::Error::other("the drive is gone"),
                    DriveFault::Failed(error) => error,
                })?;
            }
            (*start, *filled) = (from, left);
        }
        let skip = usize::try_from(at.saturating_sub(*start)).unwrap_or(usize::MAX);
        let there = bytes.get(..*filled).and_then(|bytes| bytes.get(skip..)).unwrap_or_default();
        let count = there.len().min(into.len());
        if let (Some(to), Some(from)) = (into.get_mut(..count), there.get(..count)) {
            to.copy_from_slice(from);
        }
        Ok(count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A drive in memory that takes whole sectors alone.
    struct Whole(Vec<u8>);

    impl DriveIo for Whole {
        fn bytes(&self) -> u64 {
            self.0.len() as u64
        }

        fn sector_bytes(&self) -> u32 {
            4096
        }

        fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
            assert!(at.is_multiple_of(4096) && into.len().is_multiple_of(4096), "{at} {}", into.len());
            into.copy_from_slice(&self.0[at as usize..][..into.len()]);
            Ok(())
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]
        #[test]
        fn any_place_of_a_drive_is_read_in_whole_sectors(
            sectors in 1usize..40,
            reads in prop::collection::vec((0u64..180_000, 0usize..70_000), 1..8),
        ) {
            let drive = Whole(pyrotyp_sample::noise(sectors * 4096, 3));
            let bytes = Sectors::of(&drive);
            for (at, length) in reads {
                let mut into = vec![0u8; length];
                let count = bytes.fill_at(at, &mut into).unwrap();
                let rest = drive.0.get(at as usize..).unwrap_or_default();
                prop_assert_eq!(&into[..count], &rest[..length.min(rest.len())]);
            }
        }

        #[test]
        fn nothing_on_a_drive_makes_it_panic(
            image in prop_oneof![Just(pyrotyp_sample::disk_image("x")), Just(pyrotyp_sample::cafe::compact().build())],
            hits in prop::collection::vec((0usize..120_000, any::<u8>()), 0..40),
        ) {
            let mut image = image;
            for (place, byte) in hits {
                image[place] = byte;
            }
            let found = contents(&image).unwrap();
            prop_assert!(found.volumes.iter().all(|listed| listed.items.as_ref().is_none_or(|items| items.len() <= ITEMS_MOST)));
        }
    }
}
