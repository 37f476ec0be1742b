//! An empty exFAT volume.
//!
//! Source: Microsoft, exFAT file system specification, sections 3 (boot regions), 4 (allocation table), 7.1 to 7.3 (bitmap, up-case
//! table, label).

use crate::bytes::MIB;
use crate::bytes::field::put;
use crate::compose::composition::Composition;
use crate::volume::exfat as on_disk;
use crate::volume::mbr::BOOT_SIGNATURE;

/// Sectors of a boot region, section 3; a second one lies behind the first.
const REGION: u32 = 12;
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
/// Types of entries, sections 7.1 to 7.3.
const UP_CASE: u8 = 0x82;
const LABEL: u8 = 0x83;
const CHECKSUM_AT: usize = 4;
/// Volumes are no smaller, section 3.1.5, and clusters are no more, section 3.1.9.
const LEAST: u64 = MIB;
const CLUSTERS_MOST: u64 = 0xFFFF_FFF5;
/// The first cluster there is.
const FIRST: u32 = 2;

/// What the volume is to be.
#[derive(Clone, Copy, Debug)]
pub(super) struct ExfatVolume<'a> {
    /// Length in bytes.
    pub bytes: u64,
    pub sector_bytes: u32,
    /// Sectors that lie before it on the drive.
    pub hidden: u64,
    pub label: &'a str,
    pub serial: u32,
}

/// Bytes of a cluster: as systems choose them, and few enough for any size.
fn cluster_bytes(bytes: u64) -> u64 {
    const GIB: u64 = 1 << 30;
    match bytes {
        _ if bytes <= 256 * MIB => 4 << 10,
        _ if bytes <= 32 * GIB => 32 << 10,
        _ if bytes <= 512 * GIB => 128 << 10,
        _ => 256 << 10,
    }
}

/// Where what lies: sectors for the table and the heap, clusters behind that.
struct ExfatShape {
    sector: u64,
    cluster: u64,
    sectors: u64,
    table_at: u64,
    table_sectors: u64,
    heap_at: u64,
    clusters: u32,
}

impl ExfatShape {
    fn of(volume: &ExfatVolume<'_>) -> Option<Self> {
        let sector = u64::from(volume.sector_bytes);
        let cluster = cluster_bytes(volume.bytes).max(sector);
        let sectors = volume.bytes.checked_div(sector)?;
        let align =
            if volume.bytes >= 512 * MIB { MIB.checked_div(sector)? } else { cluster.checked_div(sector)? }.max(1);
        let table_at = u64::from(REGION).checked_mul(2)?.checked_next_multiple_of(align)?;
        let most = volume.bytes.checked_div(cluster)?;
        let table_sectors = most.checked_add(2)?.checked_mul(4)?.div_ceil(sector);
        let heap_at = table_at.checked_add(table_sectors)?.checked_next_multiple_of(align)?;
        let per_cluster = cluster.checked_div(sector)?;
        let clusters = sectors.checked_sub(heap_at)?.checked_div(per_cluster)?;
        let clusters = u32::try_from(clusters).ok().filter(|clusters| u64::from(*clusters) < CLUSTERS_MOST)?;
        (volume.bytes >= LEAST).then_some(Self { sector, cluster, sectors, table_at, table_sectors, heap_at, clusters })
    }

    /// Clusters that so many bytes take.
    fn clusters_of(&self, bytes: usize) -> u32 {
        u32::try_from((bytes as u64).div_ceil(self.cluster.max(1))).unwrap_or(u32::MAX)
    }
}

/// The volume; `None` where it is too small or too large.
pub(super) fn exfat(volume: &ExfatVolume<'_>) -> Option<Composition> {
    let shape = ExfatShape::of(volume)?;
    let up_case = up_case_table();
    let bitmap_bytes = usize::try_from(shape.clusters.div_ceil(8)).ok()?;
    let counts = [shape.clusters_of(bitmap_bytes), shape.clusters_of(up_case.len()), 1];
    let [bitmap_clusters, up_case_clusters, _] = counts;
    let up_case_first = FIRST.checked_add(bitmap_clusters)?;
    let root = up_case_first.checked_add(up_case_clusters)?;
    let used = counts.iter().copied().fold(0u32, u32::saturating_add);
    if used >= shape.clusters {
        return None;
    }
    let cluster_at = |cluster: u32| {
        let before = u64::from(cluster.saturating_sub(FIRST)).saturating_mul(shape.cluster);
        shape.heap_at.saturating_mul(shape.sector).saturating_add(before)
    };
    let mut made = Composition::zeros(cluster_at(root.checked_add(1)?));
    let region = boot_region(volume, &shape, root)?;
    let second = u64::from(REGION).saturating_mul(shape.sector);
    made.put(0, region.clone());
    made.put(second, region);
    made.put(shape.table_at.saturating_mul(shape.sector), table(&counts));
    let mut bitmap = vec![0u8; bitmap_bytes];
    for cluster in 0..used {
        if let Some(byte) = bitmap.get_mut(usize::try_from(cluster / 8).ok()?) {
            *byte |= 1u8.checked_shl(cluster % 8)?;
        }
    }
    made.put(cluster_at(FIRST), bitmap);
    made.put(cluster_at(up_case_first), up_case.clone());
    made.put(cluster_at(root), root_folder(volume.label, bitmap_bytes, (up_case_first, &up_case)));
    Some(made)
}

/// The allocation table: two fixed entries, then each chain in one piece.
fn table(counts: &[u32; 3]) -> Vec<u8> {
    let mut table = [0xFFFF_FFF8u32, 0xFFFF_FFFF].map(u32::to_le_bytes).concat();
    let mut next = FIRST;
    for count in counts {
        for inside in 1..=*count {
            next = next.saturating_add(1);
            let entry = if inside == *count { u32::MAX } else { next };
            table.extend(entry.to_le_bytes());
        }
    }
    table
}

/// Up-case partners of the basic plane, with runs of letters that have none in two words each, section 7.2.5.
fn up_case_table() -> Vec<u8> {
    let upper = |code: u32| {
        let letter = char::from_u32(code)?;
        let mut upper = letter.to_uppercase();
        let first = upper.next().filter(|_| upper.next().is_none())?;
        u16::try_from(u32::from(first)).ok()
    };
    let mut words: Vec<u16> = Vec::new();
    let mut run = 0u32;
    let end = |words: &mut Vec<u16>, run: u32, next: u32| match run {
        0 => {}
        // One letter takes no more as it is.
        1 => words.extend(u16::try_from(next.saturating_sub(1))),
        run => words.extend([0xFFFF, u16::try_from(run).unwrap_or(u16::MAX)]),
    };
    for code in 0..0xFFFFu32 {
        let partner = upper(code).map_or(code, u32::from);
        // The first 128 letters stand there each by itself, section 7.2.5.1.
        if partner == code && code >= 128 {
            run = run.saturating_add(1);
            continue;
        }
        end(&mut words, run, code);
        run = 0;
        words.extend(u16::try_from(partner));
    }
    end(&mut words, run.saturating_add(1), 0x1_0000);
    words.into_iter().flat_map(u16::to_le_bytes).collect()
}

/// The sum of section 3.4 and of section 7.2.2: turned right by one, and each byte added.
fn checksum(bytes: impl Iterator<Item = u8>) -> u32 {
    bytes.fold(0u32, |sum, byte| sum.rotate_right(1).wrapping_add(u32::from(byte)))
}

fn root_folder(label: &str, bitmap_bytes: usize, (up_case_first, up_case): (u32, &[u8])) -> Vec<u8> {
    let mut entries = vec![0u8; on_disk::ENTRY.saturating_mul(3)];
    let (name, rest) = entries.split_at_mut(on_disk::ENTRY);
    let (bitmap, upper) = rest.split_at_mut(on_disk::ENTRY);
    let units: Vec<u16> = label.encode_utf16().take(11).collect();
    // An entry that is not in use keeps its type, without the highest bit.
    put(name, 0, &[if units.is_empty() { LABEL & 0x7F } else { LABEL }, units.len() as u8]);
    put(name, 2, &units.iter().flat_map(|unit| unit.to_le_bytes()).collect::<Vec<u8>>());
    put(bitmap, 0, &[on_disk::BITMAP]);
    put(bitmap, on_disk::FIRST_CLUSTER, &FIRST.to_le_bytes());
    put(bitmap, on_disk::DATA_LENGTH, &(bitmap_bytes as u64).to_le_bytes());
    put(upper, 0, &[UP_CASE]);
    put(upper, CHECKSUM_AT, &checksum(up_case.iter().copied()).to_le_bytes());
    put(upper, on_disk::FIRST_CLUSTER, &up_case_first.to_le_bytes());
    put(upper, on_disk::DATA_LENGTH, &(up_case.len() as u64).to_le_bytes());
    entries
}

fn boot_region(volume: &ExfatVolume<'_>, shape: &ExfatShape, root: u32) -> Option<Vec<u8>> {
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
    // An empty volume: less than a hundredth is in use.
    put(&mut region, IN_USE, &[0]);
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
