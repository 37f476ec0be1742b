//! A boot region of an exFAT volume; it has two, alike.
//!
//! Source: Microsoft, exFAT file system specification, section 3.

use crate::bytes::field::put;
use crate::compose::exfat::shape::{ExfatShape, ExfatVolume, REGION};
use crate::compose::exfat::up_case::checksum;
use crate::volume::exfat as on_disk;
use crate::volume::mbr::BOOT_SIGNATURE;

/// Sectors of it that end in a signature, section 3.2, and the one of checksums, section 3.4.
const EXTENDED: std::ops::Range<u32> = 1..9;
const EXTENDED_SIGNATURE: [u8; 4] = [0x00, 0x00, 0x55, 0xAA];
/// Fields of the boot sector that readers here do not look at, section 3.1.
const PARTITION_OFFSET: usize = 64;
const VOLUME_LENGTH: usize = 72;
const TABLE_LENGTH: usize = 84;
const SERIAL: usize = 100;
const REVISION: usize = 104;
const FLAGS: usize = 106;
const TABLES: usize = 110;
const DRIVE_SELECT: usize = 111;
const IN_USE: usize = 112;
const CODE: std::ops::Range<usize> = 120..510;
/// HLT: as the specification wants it where nothing starts, section 3.1.19.
const HALT: u8 = 0xF4;

/// The boot sector and what belongs to it; `root` is the root folder's first cluster, `used` how many clusters are taken.
pub(super) fn boot_region(volume: &ExfatVolume<'_>, shape: &ExfatShape, root: u32, used: u32) -> Option<Vec<u8>> {
    let sector = usize::try_from(shape.sector).ok()?;
    let mut region = vec![0u8; sector.checked_mul(usize::try_from(REGION).ok()?)?];
    put(&mut region, 0, &[0xEB, 0x76, 0x90]);
    put(&mut region, on_disk::NAME, b"EXFAT   ");
    put(&mut region, PARTITION_OFFSET, &volume.hidden.to_le_bytes());
    put(&mut region, VOLUME_LENGTH, &shape.sectors.to_le_bytes());
    put(&mut region, on_disk::TABLE_OFFSET, &u32::try_from(shape.table_at).ok()?.to_le_bytes());
    put(&mut region, TABLE_LENGTH, &u32::try_from(shape.table_sectors).ok()?.to_le_bytes());
    put(&mut region, on_disk::HEAP_OFFSET, &u32::try_from(shape.heap_at).ok()?.to_le_bytes());
    put(&mut region, on_disk::CLUSTER_COUNT, &shape.clusters.to_le_bytes());
    put(&mut region, on_disk::ROOT_CLUSTER, &root.to_le_bytes());
    put(&mut region, SERIAL, &volume.serial.to_le_bytes());
    put(&mut region, REVISION, &[0x00, 0x01]);
    let shift = |bytes: u64| u8::try_from(bytes.checked_ilog2()?).ok();
    put(&mut region, on_disk::SECTOR_SHIFT, &[shift(shape.sector)?]);
    put(&mut region, on_disk::CLUSTER_SHIFT, &[shift(shape.cluster.checked_div(shape.sector)?)?]);
    put(&mut region, TABLES, &[1]);
    put(&mut region, DRIVE_SELECT, &[0x80]);
    let hundredths = u64::from(used).saturating_mul(100).checked_div(u64::from(shape.clusters))?;
    put(&mut region, IN_USE, &[u8::try_from(hundredths).ok()?]);
    region.get_mut(CODE)?.fill(HALT);
    put(&mut region, BOOT_SIGNATURE, &[0x55, 0xAA]);
    let start = |number: u32| usize::try_from(number).unwrap_or(usize::MAX).saturating_mul(sector);
    for number in EXTENDED {
        put(&mut region, start(number.saturating_add(1)).saturating_sub(4), &EXTENDED_SIGNATURE);
    }
    let last = start(REGION.saturating_sub(1));
    let summed = region.iter().copied().take(last).enumerate();
    // What changes while it is in use does not count.
    let counts = |(at, _): &(usize, u8)| !(FLAGS..FLAGS.saturating_add(2)).contains(at) && *at != IN_USE;
    let sum = checksum(summed.filter(counts).map(|(_, byte)| byte)).to_le_bytes();
    region.get_mut(last..)?.chunks_mut(4).for_each(|word| put(word, 0, &sum));
    Some(region)
}
