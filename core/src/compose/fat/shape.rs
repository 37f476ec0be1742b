//! How large the parts of a FAT volume are.
//!
//! Source: Microsoft FAT Specification (2004), section 3.

use crate::bytes::MIB;
use crate::volume::fat as on_disk;

/// Copies of the table.
pub(super) const TABLES: u32 = 2;
/// Entries of the root folder of FAT12 and FAT16: as many as are usual, and most of all.
const ROOT_ENTRIES: u32 = 512;
const ROOT_ENTRIES_MOST: u32 = 65_408;
/// Volumes below this are FAT16 or FAT12, as every system makes them.
const FAT32_LEAST: u64 = 512 * MIB;
/// Clusters of FAT12 and of FAT16 are fewer than these, section 3.5; nobody goes near the border.
const FAT12_CLUSTERS: u32 = 4_085;
const FAT16_CLUSTERS: u32 = 65_525;
const NEAR: u32 = 16;
/// From this size on, data begins at a multiple of it, counted from the volume's start: flash is erased in large pieces.
const ALIGNED_FROM: u64 = 64 * MIB;
const ALIGNMENT: u64 = 4 * MIB;
/// How many sectors FAT32 sets aside at least.
const RESERVED_32: u32 = 32;

/// What the volume is to be.
#[derive(Clone, Copy, Debug)]
pub(in crate::compose) struct FatVolume<'a> {
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
pub(super) enum FatWidth {
    Twelve,
    Sixteen,
    ThirtyTwo,
}

/// Where what lies, in sectors.
pub(super) struct FatShape {
    pub width: FatWidth,
    pub sectors: u32,
    pub per_cluster: u32,
    pub reserved: u32,
    pub per_table: u32,
    pub root: u32,
    pub clusters: u32,
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
    /// With a root folder of so many bytes; `None` where the volume is too small or too large for FAT.
    pub(super) fn of(volume: &FatVolume<'_>, root_bytes: u64) -> Option<Self> {
        let sector = volume.sector_bytes;
        if volume.bytes >= FAT32_LEAST {
            let bytes = cluster_32(volume.bytes).max(u64::from(sector));
            let per_cluster = u32::try_from(bytes).ok()?.checked_div(sector)?;
            return Self::with(FatWidth::ThirtyTwo, per_cluster, volume, 0);
        }
        let per_sector = sector.checked_div(on_disk::ENTRY as u32)?;
        let entries = u32::try_from(root_bytes.checked_div(on_disk::ENTRY as u64)?).ok()?;
        let entries = entries.max(ROOT_ENTRIES).checked_next_multiple_of(per_sector)?;
        let root = (entries <= ROOT_ENTRIES_MOST).then_some(entries)?.checked_div(per_sector)?;
        // The smallest clusters that are few enough.
        let powers =
            (0..8).map(|power| 1u32 << power).filter(|per_cluster| per_cluster.saturating_mul(sector) <= 64 << 10);
        let mut shapes = powers.flat_map(|per_cluster| {
            [FatWidth::Twelve, FatWidth::Sixteen]
                .into_iter()
                .filter_map(move |width| Self::with(width, per_cluster, volume, root))
        });
        shapes.next()
    }

    /// With clusters of so many sectors; `None` if their number is none of this width.
    fn with(width: FatWidth, per_cluster: u32, volume: &FatVolume<'_>, root: u32) -> Option<Self> {
        let sector = volume.sector_bytes;
        let sectors = u32::try_from(volume.bytes.checked_div(u64::from(sector))?).ok()?;
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
