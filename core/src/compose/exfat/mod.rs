//! An exFAT volume, empty or with a tree.
//!
//! Source: Microsoft, exFAT file system specification, sections 3 (boot regions), 4 (allocation table), 7.1 to 7.3 (bitmap, up-case
//! table, label).

mod boot_region;
mod folder;
mod shape;
mod up_case;

use crate::bytes::field::put;
use crate::compose::composition::Composition;
use crate::compose::error::ComposeError;
use crate::compose::exfat::boot_region::boot_region;
use crate::compose::exfat::folder::{folder, folder_bytes};
use crate::compose::exfat::shape::{ExfatShape, FIRST, REGION};
use crate::compose::exfat::up_case::{checksum, up_case_table};
use crate::compose::placing::{ClusterSpace, Placing};
use crate::compose::tree::{ROOT, Tree, TreeContent};
use crate::compose::volume_kind::VolumeKind;
use crate::volume::exfat as on_disk;

pub(super) use crate::compose::exfat::shape::ExfatVolume;

/// Types of entries, sections 7.1 to 7.3.
const UP_CASE: u8 = 0x82;
const LABEL: u8 = 0x83;
const CHECKSUM_AT: usize = 4;
/// How many entries the root folder begins with: label, bitmap, table of capital letters.
const OWN: usize = 3;

/// The volume with all of `tree`.
pub(super) fn exfat<'a>(volume: &ExfatVolume<'_>, tree: &Tree<'a>) -> Result<Composition<'a>, ComposeError> {
    let no_size = || ComposeError::Size { kind: VolumeKind::Exfat, bytes: volume.bytes };
    let shape = ExfatShape::of(volume).ok_or_else(no_size)?;
    let up_case = up_case_table();
    let bitmap_bytes = usize::try_from(shape.clusters.div_ceil(8)).map_err(|_| no_size())?;
    let [bitmap_clusters, up_case_clusters] = [bitmap_bytes, up_case.len()].map(|bytes| shape.clusters_of(bytes));
    let up_case_first = FIRST.saturating_add(bitmap_clusters);
    let first = up_case_first.saturating_add(up_case_clusters);
    let end = shape.clusters.saturating_add(FIRST);
    // So small that not even an empty root folder fits.
    if first >= end {
        return Err(no_size());
    }
    let own = |number| if number == ROOT { OWN } else { 0 };
    let space = ClusterSpace { cluster: shape.cluster, first, end };
    // A folder without entries has a cluster too, as systems make them.
    let placing = Placing::of(tree, space, |number| Ok(folder_bytes(tree, number, own(number))?.max(1)))?;
    let root = placing.run(ROOT);
    let used = placing.next.saturating_sub(FIRST);
    let mut made = Composition::zeros(shape.cluster_at(placing.next));
    let region = boot_region(volume, &shape, root.first, used).ok_or_else(no_size)?;
    made.put(0, region.clone());
    made.put(u64::from(REGION).saturating_mul(shape.sector), region);
    // Of all that has no entry to say so, the table tells that it lies in one piece.
    made.put(shape.table_at.saturating_mul(shape.sector), table(&[bitmap_clusters, up_case_clusters, root.count]));
    made.put(shape.cluster_at(FIRST), bitmap(used, bitmap_bytes));
    made.put(shape.cluster_at(up_case_first), up_case.clone());
    for (number, run) in placing.in_order().filter(|(_, run)| run.count > 0) {
        let at = shape.cluster_at(run.first);
        match tree.items().get(number).map(|item| &item.content) {
            Some(TreeContent::File(bytes)) => made.put_file(at, bytes),
            _ => {
                let start = if number == ROOT {
                    root_start(volume.label, bitmap_bytes, (up_case_first, &up_case))
                } else {
                    Vec::new()
                };
                made.put(at, [start, folder(tree, number, &placing, shape.cluster)].concat());
            }
        }
    }
    Ok(made)
}

/// A bit for each cluster: the first `used` are taken.
fn bitmap(used: u32, bytes: usize) -> Vec<u8> {
    let mut bitmap = vec![u8::MAX; (used >> 3) as usize];
    bitmap.push((1u8 << (used & 7)).saturating_sub(1));
    bitmap.resize(bytes, 0);
    bitmap
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

/// What the root folder begins with.
fn root_start(label: &str, bitmap_bytes: usize, (up_case_first, up_case): (u32, &[u8])) -> Vec<u8> {
    let mut entries = vec![0u8; on_disk::ENTRY.saturating_mul(OWN)];
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
