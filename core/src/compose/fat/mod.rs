//! A FAT volume, empty or with a tree: FAT32, or FAT16 and FAT12 where there is too little room.
//!
//! Source: Microsoft FAT Specification (2004), sections 3 (boot sector), 4 (allocation table), 5 (FSInfo), 6 (directories).

mod boot_sector;
mod folder;
mod shape;
mod short_name;

use std::sync::Arc;

use crate::compose::chains::Chains;
use crate::compose::composition::Composition;
use crate::compose::error::ComposeError;
use crate::compose::fat::boot_sector::{BACKUP_AT, INFO_AT, MEDIA, boot_sector, info_sector};
use crate::compose::fat::folder::FatFolders;
use crate::compose::fat::shape::{FatShape, FatWidth, TABLES};
use crate::compose::placing::{ClusterSpace, Placing};
use crate::compose::tree::{ROOT, Tree, TreeContent};
use crate::compose::volume_kind::VolumeKind;

pub(super) use crate::compose::fat::shape::FatVolume;

/// The volume with all of `tree`.
pub(super) fn fat<'a>(volume: &FatVolume<'_>, tree: &Tree<'a>) -> Result<Composition<'a>, ComposeError> {
    let kind = VolumeKind::Fat32;
    files_fit(tree)?;
    let folders = FatFolders::of(tree, volume.label);
    let root_bytes = folders.bytes(ROOT)?;
    let no_size = || ComposeError::Size { kind, bytes: volume.bytes };
    let shape = FatShape::of(volume, root_bytes).ok_or_else(no_size)?;
    let place = |sectors: u32| u64::from(sectors).saturating_mul(u64::from(volume.sector_bytes));
    let cluster = place(shape.per_cluster);
    let space = ClusterSpace { cluster, first: 2, end: shape.clusters.saturating_add(2) };
    let placing = Placing::of(tree, space, |number| {
        // FAT32's root folder lies among the clusters, the first of all; elsewhere it has a place of its own.
        let is_apart = number == ROOT && shape.width != FatWidth::ThirtyTwo;
        if is_apart { Ok(0) } else { Ok(folders.bytes(number)?.max(1)) }
    })?;
    let root_at = place(shape.reserved).saturating_add(place(shape.per_table).saturating_mul(u64::from(TABLES)));
    let data_at = root_at.saturating_add(place(shape.root));
    let cluster_at = |cluster_number: u32| {
        data_at.saturating_add(u64::from(cluster_number.saturating_sub(2)).saturating_mul(cluster))
    };
    let mut made = Composition::zeros(cluster_at(placing.next));
    put_housekeeping(&mut made, volume, &shape, &placing);
    if shape.width != FatWidth::ThirtyTwo {
        made.put(root_at, folders.entries(ROOT, &placing));
    }
    for (number, run) in placing.in_order().filter(|(_, run)| run.count > 0) {
        match tree.items().get(number).map(|item| &item.content) {
            Some(TreeContent::File(bytes)) => made.put_file(cluster_at(run.first), bytes),
            _ => made.put(cluster_at(run.first), folders.entries(number, &placing)),
        }
    }
    Ok(made)
}

/// No file is longer than its entry counts, section 6.
fn files_fit(tree: &Tree<'_>) -> Result<(), ComposeError> {
    let length = |content: &TreeContent<'_>| match content {
        TreeContent::File(bytes) => bytes.size(),
        TreeContent::Folder(_) => 0,
    };
    let mut lengths = tree.items().iter().map(|item| length(&item.content)).enumerate();
    match lengths.find(|(_, bytes)| u32::try_from(*bytes).is_err()) {
        Some((number, bytes)) => {
            Err(ComposeError::LargeFile { path: tree.path(number), bytes, kind: VolumeKind::Fat32 })
        }
        None => Ok(()),
    }
}

/// Boot sectors and tables.
fn put_housekeeping(made: &mut Composition<'_>, volume: &FatVolume<'_>, shape: &FatShape, placing: &Placing) {
    let sector = volume.sector_bytes;
    let place = |sectors: u32| u64::from(sectors).saturating_mul(u64::from(sector));
    let boot = boot_sector(volume, shape);
    made.put(0, boot.clone());
    if shape.width == FatWidth::ThirtyTwo {
        let info = info_sector(shape, sector, placing.next);
        made.put(place(INFO_AT), info.clone());
        made.put(place(BACKUP_AT), boot);
        made.put(place(BACKUP_AT.saturating_add(INFO_AT)), info);
    }
    let last = placing.in_order().filter(|(_, run)| run.count > 0);
    let ends = last.map(|(_, run)| run.first.saturating_add(run.count).saturating_sub(1)).collect();
    let chains = Arc::new(Chains { start: [0x0FFF_FF00 | u32::from(MEDIA), u32::MAX >> 4], ends });
    for table in 0..TABLES {
        let at = place(shape.reserved.saturating_add(shape.per_table.saturating_mul(table)));
        match shape.width {
            FatWidth::ThirtyTwo => made.put_chains(at, &chains),
            FatWidth::Sixteen => {
                made.put(at, chains.entries(0).flat_map(|entry| (entry as u16).to_le_bytes()).collect());
            }
            FatWidth::Twelve => made.put(at, in_twelve_bits(chains.entries(0))),
        }
    }
}

/// Two entries of twelve bits in three bytes, section 4.1.
fn in_twelve_bits(entries: impl Iterator<Item = u32>) -> Vec<u8> {
    let entries: Vec<u32> = entries.map(|entry| entry & 0xFFF).collect();
    let pairs = entries.chunks(2).flat_map(|pair| {
        let [low, high] = [pair.first(), pair.get(1)].map(|entry| entry.copied().unwrap_or_default());
        let [one, two, three, _] = (low | high << 12).to_le_bytes();
        [one, two, three]
    });
    pairs.collect()
}
