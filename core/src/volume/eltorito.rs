//! El Torito: what does a PC start when this lies in an optical drive?
//!
//! Source: "El Torito" Bootable CD-ROM Format Specification 1.0, §2; platform 0xEF: UEFI 2.10, §13.3.2.1.
//! Promise: any bytes give an answer, never a panic, in memory bounded by one sector.

use std::io;

use serde::{Deserialize, Serialize};

use crate::bytes::field::{take, u16_le, u32_le};
use crate::bytes::{ReadAt, read_block};
use crate::volume::iso9660::SECTOR;

/// Size of every entry of the catalogue, in bytes (§2).
const ENTRY: usize = 32;

/// Whom an entry is for (§2.1, platform ID).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlatformId(pub u8);

impl PlatformId {
    /// PCs with a BIOS.
    pub const BIOS: Self = Self(0);
    /// UEFI.
    pub const EFI: Self = Self(0xEF);
}

/// The boot indicator of an entry that may be started (§2.2).
const BOOTABLE: u8 = 0x88;

/// What the firmware imitates for the boot image (§2.2, boot media type).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Emulation {
    /// Nothing: the image is loaded as it is.
    None,
    /// A floppy disk of 1.2, 1.44 or 2.88 MB.
    Floppy,
    /// A hard disk.
    HardDisk,
    /// A code that the specification does not have.
    Other(u8),
}

/// One thing to start.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct BootEntry {
    /// Whom it is for.
    pub platform: PlatformId,
    /// Whether it is marked as startable.
    pub bootable: bool,
    /// As what it is started.
    pub emulation: Emulation,
    /// First byte of the boot image.
    pub start: u64,
    /// Length that the entry gives, in bytes; some images leave it at one sector of 512.
    pub bytes: u64,
}

/// A decoded catalogue.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct BootCatalogue {
    /// Whether the validation entry's 16-bit words add up to zero (§2.1).
    pub checksum_ok: bool,
    /// Entries in the order of the catalogue; 63 at most.
    pub entries: Vec<BootEntry>,
}

/// Reads the catalogue's first sector; `None` if it is outside the image or has no validation entry.
///
/// # Errors
/// When the image can't be read.
pub fn read(image: &dyn ReadAt, at: u64) -> io::Result<Option<BootCatalogue>> {
    Ok(read_block::<SECTOR>(image, at)?.and_then(|raw| parse(raw.as_slice())))
}

fn parse(raw: &[u8]) -> Option<BootCatalogue> {
    let mut records = raw.chunks_exact(ENTRY);
    let validation = records.next()?;
    let [1, platform] = take::<2>(validation, 0)? else { return None };
    if take(validation, 30)? != [0x55, 0xAA] {
        return None;
    }
    let words = validation.chunks_exact(2).filter_map(|pair| u16_le(pair, 0));
    let checksum_ok = words.fold(0u16, u16::wrapping_add) == 0;
    let mut platform = PlatformId(platform);
    let mut entries = Vec::new();
    for record in records {
        match take::<2>(record, 0)? {
            [0x90 | 0x91, next] => platform = PlatformId(next),
            [indicator @ (BOOTABLE | 0x00), _] => entries.extend(entry(record, platform, indicator)),
            _ => {} // an extension of the entry before
        }
    }
    Some(BootCatalogue { checksum_ok, entries })
}

fn entry(record: &[u8], platform: PlatformId, indicator: u8) -> Option<BootEntry> {
    let (sectors, block) = (u16_le(record, 6)?, u32_le(record, 8)?);
    (block != 0).then_some(BootEntry {
        platform,
        bootable: indicator == BOOTABLE,
        emulation: match record.get(1)? & 0x0F {
            0 => Emulation::None,
            1..=3 => Emulation::Floppy,
            4 => Emulation::HardDisk,
            other => Emulation::Other(other),
        },
        start: u64::from(block).checked_mul(SECTOR as u64)?,
        bytes: u64::from(sectors).checked_mul(512)?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn both_platforms_of_a_hybrid_image_are_found() {
        let image = pyrotyp_sample::cafe::desktop().build();
        let catalogue = read(&image, 21 * SECTOR as u64).unwrap().unwrap();
        assert!(catalogue.checksum_ok);
        let platforms: Vec<_> = catalogue.entries.iter().map(|e| (e.platform, e.bootable, e.emulation)).collect();
        assert_eq!(platforms, [(PlatformId::BIOS, true, Emulation::None), (PlatformId::EFI, true, Emulation::None)]);
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_panic(mut bytes in proptest::collection::vec(any::<u8>(), 64..SECTOR)) {
            bytes[0] = 1;
            bytes[30..32].copy_from_slice(&[0x55, 0xAA]);
            prop_assert!(parse(&bytes).unwrap().entries.len() < 64);
        }
    }
}
