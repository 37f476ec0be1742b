//! Folders of a FAT volume, entry by entry.
//!
//! Source: Microsoft FAT Specification (2004), section 6 (directories), section 7 (long names).

use crate::bytes::field::put;
use crate::compose::error::ComposeError;
use crate::compose::fat::short_name::{ShortName, short_names};
use crate::compose::placing::Placing;
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

/// The folders of a tree on a volume with this label.
pub(super) struct FatFolders<'a> {
    tree: &'a Tree<'a>,
    label: &'a str,
    /// By the numbers of the items; the root has none.
    names: Vec<Option<ShortName>>,
}

impl<'a> FatFolders<'a> {
    pub(super) fn of(tree: &'a Tree<'_>, label: &'a str) -> Self {
        let mut names = vec![None; tree.len()];
        for number in 0..tree.len() {
            let (numbers, long): (Vec<usize>, Vec<&str>) =
                tree.in_folder(number).map(|(number, item)| (number, item.name.as_str())).unzip();
            for (number, short) in numbers.into_iter().zip(short_names(&long)) {
                if let Some(name) = names.get_mut(number) {
                    *name = Some(short);
                }
            }
        }
        Self { tree, label, names }
    }

    /// What lies in a folder, with numbers and short names.
    fn items(&self, number: usize) -> impl Iterator<Item = (usize, &TreeItem<'a>, ShortName)> {
        let name = |number: usize| self.names.get(number).copied().flatten();
        self.tree.in_folder(number).filter_map(move |(number, item)| Some((number, item, name(number)?)))
    }

    /// How many bytes the entries of a folder take.
    pub(super) fn bytes(&self, number: usize) -> Result<u64, ComposeError> {
        let own = if number == ROOT { usize::from(!self.label.is_empty()) } else { 2 };
        let items = self.items(number).map(|(_, item, short)| long_entries(short, &item.name).saturating_add(1));
        let entries = items.fold(own, usize::saturating_add) as u64;
        if entries > ENTRIES_MOST {
            return Err(ComposeError::FullFolder { path: self.tree.path(number), kind: VolumeKind::Fat32 });
        }
        Ok(entries.saturating_mul(on_disk::ENTRY as u64))
    }

    /// The entries of a folder.
    pub(super) fn entries(&self, number: usize, placing: &Placing) -> Vec<u8> {
        let mut entries = self.own_entries(number, placing);
        for (number, item, short) in self.items(number) {
            if !short.is_whole {
                long_name(&mut entries, &item.name, short.sum());
            }
            let (attribute, bytes) = match &item.content {
                TreeContent::Folder(_) => (on_disk::ATTRIBUTE_FOLDER, 0),
                TreeContent::File(bytes) => {
                    (on_disk::ATTRIBUTE_ARCHIVE, u32::try_from(bytes.size()).unwrap_or(u32::MAX))
                }
            };
            let mut entry = entry(&short.bytes, attribute, DosStamp::of(item.modified), placing.run(number).first);
            put(&mut entry, on_disk::FILE_SIZE, &bytes.to_le_bytes());
            entries.extend(entry);
        }
        entries
    }

    /// What a folder begins with: the label in the root, and in others themselves and what they lie in.
    fn own_entries(&self, number: usize, placing: &Placing) -> Vec<u8> {
        let item = self.tree.items().get(number).filter(|_| number != ROOT);
        let Some(item) = item else {
            // The label has no age.
            let label = (!self.label.is_empty())
                .then(|| entry(&padded(self.label), on_disk::ATTRIBUTE_VOLUME, DosStamp::of(None), 0));
            return label.map_or_else(Vec::new, |label| label.to_vec());
        };
        let above = self.tree.items().get(item.parent).and_then(|parent| parent.modified);
        // The root is 0 from below, wherever it lies, section 6.5.
        let first_above = if item.parent == ROOT { 0 } else { placing.run(item.parent).first };
        let own =
            entry(b".          ", on_disk::ATTRIBUTE_FOLDER, DosStamp::of(item.modified), placing.run(number).first);
        [own, entry(b"..         ", on_disk::ATTRIBUTE_FOLDER, DosStamp::of(above), first_above)].concat()
    }
}

fn long_entries(short: ShortName, name: &str) -> usize {
    if short.is_whole { 0 } else { name.encode_utf16().count().div_ceil(UNITS) }
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
