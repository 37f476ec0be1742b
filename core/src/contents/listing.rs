//! Volumes, and what lies at their top.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::{fmt, io};

use crate::bytes::{Part, ReadAt};
use crate::contents::placed::{read_placed, surface};
use crate::drive::{Partition, Surface, Volume};
use crate::volume::{Item, exfat, ext, fat, gpt, iso9660, mbr};

/// A volume, and what lies at its top.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
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

impl Listed {
    /// A volume of which no more is known than that it is there.
    pub fn unlisted(number: Option<u32>, volume: Volume) -> Self {
        Self { number, volume, used_bytes: None, items: None }
    }
}

/// A kind of partition table.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "UPPERCASE")]
pub enum TableKind {
    /// A GUID partition table.
    Gpt,
    /// A master boot record with entries.
    Mbr,
}

impl fmt::Display for TableKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Gpt => "GPT",
            Self::Mbr => "MBR",
        })
    }
}

/// All that is on a drive.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Contents {
    /// Which partition table it has.
    pub table: Option<TableKind>,
    /// What an installer image on it calls itself.
    pub image: Option<String>,
    /// Its volumes.
    pub volumes: Vec<Listed>,
    /// What is on it where there is no volume.
    pub surface: Surface,
}

/// Looks at everything that is on a drive.
///
/// # Errors
/// When the drive can't be read.
pub fn contents(drive: &dyn ReadAt) -> io::Result<Contents> {
    let (partitions, whole) = read_placed(drive)?;
    let mut sector = [0u8; mbr::MBR_BYTES];
    drive.fill_at(0, &mut sector)?;
    let table = match gpt::read(drive)? {
        Some(_) => Some(TableKind::Gpt),
        None => mbr::parse(&sector, 512).filter(|table| !table.entries.is_empty()).map(|_| TableKind::Mbr),
    };
    let image = match iso9660::read(drive)? {
        Some(Ok(_)) => crate::image::inspect(drive)?.title(),
        _ => None,
    };
    let mut volumes = Vec::new();
    if let Some(volume) = whole {
        volumes.push(listed(drive, None, 0, volume)?);
    }
    let volume_end = volumes.first().map_or(0, |whole: &Listed| whole.used_bytes.unwrap_or(whole.volume.bytes));
    // An entry for a part of the whole volume, as hybrid images have them, is no volume of its own.
    let is_own = |(partition, start): &(Partition, u64)| partition.volume.filesystem.is_some() || *start >= volume_end;
    for (partition, start) in partitions.into_iter().filter(is_own) {
        volumes.push(listed(drive, Some(partition.number), start, partition.volume)?);
    }
    let surface = if volumes.is_empty() { surface(drive)? } else { Surface::Unread };
    Ok(Contents { table, image, volumes, surface })
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::volume::ITEMS_MOST;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]
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
