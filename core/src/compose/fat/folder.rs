//! Folders of a FAT volume, entry by entry.
//!
//! Source: Microsoft FAT Specification (2004), section 6 (directories), section 7 (long names).

use crate::bytes::field::put;
use crate::compose::error::ComposeError;
use crate::compose::fat::short_name::{ShortName, short_names};
use crate::compose::placing::{ClusterRun, Placing};
use crate::compose::stamp::DosStamp;
use crate::compose::tree::{ROOT, Tree, TreeContent, TreeItem};
use crate::compose::volume_kind::VolumeKind;
use crate::volume::fat as on_disk;

/// Code units of a name in each of its entries, and the last entry's mark, section 7.
const UNITS: usize = 13;
const LAST: u8 = 0x40;
const SUM: usize = 13;
/// A folder has no more entries, section 6.
const ENTRIES_MOST: u64 = 65_536;

/// How many bytes the entries of a folder take.
pub(super) fn folder_bytes(tree: &Tree<'_>, number: usize, label: &str) -> Result<u64, ComposeError> {
    let names: Vec<&str> = tree.in_folder(number).map(|(_, item)| item.name.as_str()).collect();
    let short = short_names(&names);
    let items = short.iter().zip(&names).map(|(short, name)| long_entries(short, name).saturating_add(1));
    let own = if number == ROOT { usize::from(!label.is_empty()) } else { 2 };
    let entries = items.fold(own, usize::saturating_add) as u64;
    if entries > ENTRIES_MOST {
        return Err(ComposeError::FullFolder { path: tree.path(number), kind: VolumeKind::Fat32 });
    }
    Ok(entries.saturating_mul(on_disk::ENTRY as u64))
}

fn long_entries(short: &ShortName, name: &str) -> usize {
    if short.is_whole { 0 } else { name.encode_utf16().count().div_ceil(UNITS) }
}

/// The entries of a folder.
pub(super) fn folder(tree: &Tree<'_>, number: usize, label: &str, placing: &Placing) -> Vec<u8> {
    let mut entries = Vec::new();
    if number != ROOT {
        let parent = tree.items().get(number).map_or(ROOT, |item| item.parent);
        // The root is 0 from below, wherever it lies, section 6.5.
        let above = if parent == ROOT { ClusterRun::default() } else { placing.run(parent) };
        for (name, from, run) in [(b".          ", number, placing.run(number)), (b"..         ", parent, above)] {
            let stamp = DosStamp::of(tree.items().get(from).and_then(|item| item.modified));
            entries.extend(entry(name, on_disk::ATTRIBUTE_FOLDER, stamp, run.first));
        }
    } else if !label.is_empty() {
        // The label has no age.
        entries.extend(entry(&padded(label), on_disk::ATTRIBUTE_VOLUME, DosStamp::of(None), 0));
    }
    let items: Vec<(usize, &TreeItem<'_>)> = tree.in_folder(number).collect();
    let names: Vec<&str> = items.iter().map(|(_, item)| item.name.as_str()).collect();
    for ((number, item), short) in items.into_iter().zip(short_names(&names)) {
        if !short.is_whole {
            long_name(&mut entries, &item.name, short.sum());
        }
        let (attribute, bytes) = match &item.content {
            TreeContent::Folder(_) => (on_disk::ATTRIBUTE_FOLDER, 0),
            TreeContent::File(bytes) => (on_disk::ATTRIBUTE_ARCHIVE, u32::try_from(bytes.size()).unwrap_or(u32::MAX)),
        };
        let mut entry = entry(&short.bytes, attribute, DosStamp::of(item.modified), placing.run(number).first);
        put(&mut entry, on_disk::FILE_SIZE, &bytes.to_le_bytes());
        entries.extend(entry);
    }
    entries
}

/// A label in its eleven places.
pub(super) fn padded(label: &str) -> [u8; 11] {
    let mut padded = [b' '; 11];
    put(&mut padded, 0, label.as_bytes());
    padded
}

fn entry(name: &[u8; 11], attributes: u8, stamp: DosStamp, first: u32) -> [u8; on_disk::ENTRY] {
    let mut entry = [0u8; on_disk::ENTRY];
    let [low, lower, high, higher] = first.to_le_bytes();
    let [day, time] = [stamp.day, stamp.time].map(u16::to_le_bytes);
    put(&mut entry, 0, name);
    put(&mut entry, on_disk::ATTRIBUTES, &[attributes]);
    if attributes != on_disk::ATTRIBUTE_VOLUME {
        put(&mut entry, on_disk::MADE, &[&[stamp.hundredths][..], &time, &day, &day].concat());
    }
    put(&mut entry, on_disk::CLUSTER_HIGH, &[high, higher]);
    put(&mut entry, on_disk::TIME, &time);
    put(&mut entry, on_disk::DATE, &day);
    put(&mut entry, on_disk::CLUSTER_LOW, &[low, lower]);
    entry
}

/// The pieces of a long name, the last one first.
fn long_name(entries: &mut Vec<u8>, name: &str, sum: u8) {
    let units: Vec<u16> = name.encode_utf16().collect();
    let pieces = units.chunks(UNITS).zip(1u8..).collect::<Vec<_>>();
    let count = pieces.len();
    for (piece, order) in pieces.into_iter().rev() {
        // A piece that is not full ends in a zero, and is filled up with ones.
        let filled = piece.iter().copied().chain([0]).chain(std::iter::repeat(0xFFFF)).take(UNITS);
        let raw: Vec<u8> = filled.flat_map(u16::to_le_bytes).collect();
        let mut entry = [0u8; on_disk::ENTRY];
        let is_last = usize::from(order) == count;
        put(&mut entry, 0, &[if is_last { order | LAST } else { order }]);
        put(&mut entry, on_disk::ATTRIBUTES, &[on_disk::ATTRIBUTE_LONG]);
        put(&mut entry, SUM, &[sum]);
        let mut rest = raw.as_slice();
        for place in on_disk::LONG_PIECES {
            let (part, behind) = rest.split_at_checked(place.len()).unwrap_or((rest, &[]));
            put(&mut entry, place.start, part);
            rest = behind;
        }
        entries.extend(entry);
    }
}
