//! An empty FAT volume: FAT32, or FAT16 and FAT12 where there is too little room.
//!
//! Source: Microsoft FAT Specification (2004), sections 3 (boot sector), 4 (allocation table), 5 (FSInfo), 6 (directories).

use crate::bytes::MIB;
use crate::bytes::field::put;
use crate::compose::composition::Composition;
use crate::compose::mbr::NO_SYSTEM;
use crate::volume::fat as on_disk;
use crate::volume::mbr::BOOT_SIGNATURE;

/// A fixed disk, section 3.1.
const MEDIA: u8 = 0xF8;
/// Copies of the table.
const TABLES: u32 = 2;
/// Entries of the root folder of FAT12 and FAT16.
const ROOT_ENTRIES: u32 = 512;
/// Volumes below this are FAT16 or FAT12, as every system makes them.
const FAT32_LEAST: u64 = 512 * MIB;
/// Clusters of FAT12 and of FAT16 are fewer than these, section 3.5; nobody goes near the border.
const FAT12_CLUSTERS: u32 = 4_085;
const FAT16_CLUSTERS: u32 = 65_525;
const NEAR: u32 = 16;
/// From this size on, data begins at a multiple of it, counted from the volume's start: flash is erased in large pieces.
const ALIGNED_FROM: u64 = 64 * MIB;
const ALIGNMENT: u64 = 4 * MIB;
/// Where FAT32 keeps what is free, the copy of its boot sector, and how many sectors are set aside at least.
const INFO_AT: u32 = 1;
const BACKUP_AT: u32 = 6;
const RESERVED_32: u32 = 32;
/// Places of the boot sector that readers do not look at, section 3.
const SECTORS_PER_TRACK: usize = 24;
const HEADS: usize = 26;
const HIDDEN: usize = 28;
const MEDIA_AT: usize = 21;
const BACKUP_PLACE: usize = 50;
/// Drive number, a zero, signature 0x29, serial number, label, type: at 36, or 64 in FAT32.
const EXTENDED_16: usize = 36;
const EXTENDED_32: usize = 64;
/// FSInfo, section 5: how many clusters are free, and where the next may be.
const INFO_NEXT: usize = 492;
const INFO_END: usize = 508;
const INFO_END_MAGIC: u32 = 0xAA55_0000;

/// What the volume is to be.
#[derive(Clone, Copy, Debug)]
pub(super) struct FatVolume<'a> {
    /// Length in bytes.
    pub bytes: u64,
    pub sector_bytes: u32,
    /// Sectors that lie before it on the drive.
    pub hidden: u32,
    /// As [`crate::compose::VolumeKind::label`] gives it.
    pub label: &'a str,
    pub serial: u32,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum FatWidth {
    Twelve,
    Sixteen,
    ThirtyTwo,
}

/// Where what lies, in sectors.
struct FatShape {
    width: FatWidth,
    sectors: u32,
    per_cluster: u32,
    reserved: u32,
    per_table: u32,
    root: u32,
    clusters: u32,
}

/// Bytes of a cluster of FAT32 for so many bytes, section 3.5, table 3.
fn cluster_32(bytes: u64) -> u64 {
    const GIB: u64 = 1 << 30;
    match bytes {
        ..0x2_0000_0000 => 4 << 10,
        0x2_0000_0000..0x4_0000_0000 => 8 << 10,
        _ if bytes < 32 * GIB => 16 << 10,
        _ => 32 << 10,
    }
}

impl FatShape {
    fn of(volume: &FatVolume<'_>) -> Option<Self> {
        let sector = volume.sector_bytes;
        let sectors = u32::try_from(volume.bytes.checked_div(u64::from(sector))?).ok()?;
        if volume.bytes >= FAT32_LEAST {
            let bytes = cluster_32(volume.bytes).max(u64::from(sector));
            let per_cluster = u32::try_from(bytes).ok()?.checked_div(sector)?;
            return Self::with(FatWidth::ThirtyTwo, sectors, per_cluster, volume);
        }
        // The smallest clusters that are few enough.
        let powers =
            (0..8).map(|power| 1u32 << power).filter(|per_cluster| per_cluster.saturating_mul(sector) <= 64 << 10);
        let mut shapes = powers.flat_map(|per_cluster| {
            [FatWidth::Twelve, FatWidth::Sixteen]
                .into_iter()
                .filter_map(move |width| Self::with(width, sectors, per_cluster, volume))
        });
        shapes.next()
    }

    /// With clusters of so many sectors; `None` if their number is none of this width.
    fn with(width: FatWidth, sectors: u32, per_cluster: u32, volume: &FatVolume<'_>) -> Option<Self> {
        let sector = volume.sector_bytes;
        let root = if width == FatWidth::ThirtyTwo { 0 } else { (ROOT_ENTRIES.checked_mul(32)?).div_ceil(sector) };
        let least = if width == FatWidth::ThirtyTwo { RESERVED_32 } else { 1 };
        // Tables that are long enough for what is left without them are long enough.
        let most = sectors.checked_sub(least)?.checked_sub(root)?.checked_div(per_cluster)?;
        let bits: u64 = match width {
            FatWidth::Twelve => 12,
            FatWidth::Sixteen => 16,
            FatWidth::ThirtyTwo => 32,
        };
        let table_bytes = u64::from(most).checked_add(2)?.checked_mul(bits)?.div_ceil(8);
        let per_table = u32::try_from(table_bytes.div_ceil(u64::from(sector))).ok()?;
        let before_data = least.checked_add(per_table.checked_mul(TABLES)?)?.checked_add(root)?;
        let align = if volume.bytes >= ALIGNED_FROM { u32::try_from(ALIGNMENT).ok()?.checked_div(sector)? } else { 1 };
        let data = before_data.checked_next_multiple_of(align.max(1))?;
        let reserved = least.checked_add(data.checked_sub(before_data)?)?;
        let clusters = sectors.checked_sub(data)?.checked_div(per_cluster)?;
        let range = match width {
            FatWidth::Twelve => 1..FAT12_CLUSTERS.saturating_sub(NEAR),
            FatWidth::Sixteen => FAT12_CLUSTERS.saturating_add(NEAR)..FAT16_CLUSTERS.saturating_sub(NEAR),
            FatWidth::ThirtyTwo => FAT16_CLUSTERS.saturating_add(NEAR)..0x0FFF_FFF5,
        };
        // Sixteen bits count what is set aside.
        (range.contains(&clusters) && reserved <= u32::from(u16::MAX)).then_some(Self {
            width,
            sectors,
            per_cluster,
            reserved,
            per_table,
            root,
            clusters,
        })
    }
}

/// The volume; `None` where it is too small or too large for FAT.
pub(super) fn fat(volume: &FatVolume<'_>) -> Option<Composition> {
    let shape = FatShape::of(volume)?;
    let sector = volume.sector_bytes;
    let place = |sectors: u32| u64::from(sectors).saturating_mul(u64::from(sector));
    let tables = shape.per_table.checked_mul(TABLES)?;
    let root_at = shape.reserved.checked_add(tables)?;
    // FAT32's root folder is its first cluster.
    let root_sectors = if shape.width == FatWidth::ThirtyTwo { shape.per_cluster } else { shape.root };
    let mut made = Composition::zeros(place(root_at.checked_add(root_sectors)?));
    let boot = boot_sector(volume, &shape);
    made.put(0, boot.clone());
    if shape.width == FatWidth::ThirtyTwo {
        let info = info_sector(&shape, sector);
        made.put(place(INFO_AT), info.clone());
        made.put(place(BACKUP_AT), boot);
        made.put(place(BACKUP_AT.saturating_add(INFO_AT)), info);
    }
    let first = match shape.width {
        FatWidth::Twelve => vec![MEDIA, 0xFF, 0xFF],
        FatWidth::Sixteen => vec![MEDIA, 0xFF, 0xFF, 0xFF],
        // The third entry is the root folder, which ends with its first cluster.
        FatWidth::ThirtyTwo => {
            [0x0FFF_FF00 | u32::from(MEDIA), 0x0FFF_FFFF, 0x0FFF_FFFF].map(u32::to_le_bytes).concat()
        }
    };
    for table in 0..TABLES {
        made.put(place(shape.reserved.checked_add(shape.per_table.checked_mul(table)?)?), first.clone());
    }
    if !volume.label.is_empty() {
        let mut entry = vec![0u8; on_disk::ENTRY];
        put(&mut entry, 0, &padded(volume.label));
        put(&mut entry, on_disk::ATTRIBUTES, &[on_disk::ATTRIBUTE_VOLUME]);
        // 1980-01-01, the first day there is: the label has no age.
        put(&mut entry, on_disk::DATE, &0x21u16.to_le_bytes());
        made.put(place(root_at), entry);
    }
    Some(made)
}

/// A label in its eleven places.
fn padded(label: &str) -> [u8; 11] {
    let mut padded = [b' '; 11];
    put(&mut padded, 0, label.as_bytes());
    padded
}

fn boot_sector(volume: &FatVolume<'_>, shape: &FatShape) -> Vec<u8> {
    let sector = volume.sector_bytes;
    let mut boot = vec![0u8; usize::try_from(sector).unwrap_or(512)];
    let is_32 = shape.width == FatWidth::ThirtyTwo;
    let extended = if is_32 { EXTENDED_32 } else { EXTENDED_16 };
    let code = extended.saturating_add(26);
    // A jump over the fields to the code behind them.
    put(&mut boot, 0, &[0xEB, u8::try_from(code.saturating_sub(2)).unwrap_or_default(), 0x90]);
    put(&mut boot, 3, b"PYROTYP ");
    put(&mut boot, on_disk::BYTES_PER_SECTOR, &u16::try_from(sector).unwrap_or(512).to_le_bytes());
    put(&mut boot, on_disk::SECTORS_PER_CLUSTER, &[u8::try_from(shape.per_cluster).unwrap_or_default()]);
    put(&mut boot, on_disk::RESERVED_SECTORS, &u16::try_from(shape.reserved).unwrap_or_default().to_le_bytes());
    put(&mut boot, on_disk::TABLES, &[TABLES as u8]);
    let entries = if is_32 { 0 } else { ROOT_ENTRIES as u16 };
    put(&mut boot, on_disk::ROOT_ENTRIES, &entries.to_le_bytes());
    let few = u16::try_from(shape.sectors).ok().filter(|_| !is_32);
    put(&mut boot, on_disk::SECTORS_16, &few.unwrap_or(0).to_le_bytes());
    put(&mut boot, on_disk::SECTORS_32, &if few.is_some() { 0 } else { shape.sectors }.to_le_bytes());
    put(&mut boot, MEDIA_AT, &[MEDIA]);
    put(&mut boot, SECTORS_PER_TRACK, &63u16.to_le_bytes());
    put(&mut boot, HEADS, &255u16.to_le_bytes());
    put(&mut boot, HIDDEN, &volume.hidden.to_le_bytes());
    if is_32 {
        put(&mut boot, on_disk::SECTORS_PER_TABLE_32, &shape.per_table.to_le_bytes());
        put(&mut boot, on_disk::ROOT_CLUSTER, &2u32.to_le_bytes());
        put(&mut boot, on_disk::INFO_SECTOR, &(INFO_AT as u16).to_le_bytes());
        put(&mut boot, BACKUP_PLACE, &(BACKUP_AT as u16).to_le_bytes());
    } else {
        put(
            &mut boot,
            on_disk::SECTORS_PER_TABLE_16,
            &u16::try_from(shape.per_table).unwrap_or_default().to_le_bytes(),
        );
    }
    put(&mut boot, extended, &[0x80, 0, 0x29]);
    put(&mut boot, extended.saturating_add(3), &volume.serial.to_le_bytes());
    let label = if volume.label.is_empty() { "NO NAME" } else { volume.label };
    put(&mut boot, if is_32 { on_disk::LABEL_32 } else { on_disk::LABEL_16 }, &padded(label));
    let kind: &[u8; 8] = match shape.width {
        FatWidth::Twelve => b"FAT12   ",
        FatWidth::Sixteen => b"FAT16   ",
        FatWidth::ThirtyTwo => b"FAT32   ",
    };
    put(&mut boot, extended.saturating_add(18), kind);
    put(&mut boot, code, &NO_SYSTEM);
    put(&mut boot, BOOT_SIGNATURE, &[0x55, 0xAA]);
    boot
}

fn info_sector(shape: &FatShape, sector: u32) -> Vec<u8> {
    let mut info = vec![0u8; usize::try_from(sector).unwrap_or(512)];
    put(&mut info, 0, &on_disk::INFO_MAGIC.to_le_bytes());
    put(&mut info, on_disk::INFO_MAGIC_2_AT, &on_disk::INFO_MAGIC_2.to_le_bytes());
    put(&mut info, on_disk::INFO_FREE, &shape.clusters.saturating_sub(1).to_le_bytes());
    put(&mut info, INFO_NEXT, &3u32.to_le_bytes());
    put(&mut info, INFO_END, &INFO_END_MAGIC.to_le_bytes());
    info
}
