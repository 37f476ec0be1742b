//! The whole tree, so that it can be laid out elsewhere: what is not understood or not there is told, and never passed over.
//!
//! Source: ECMA-119, §9.1.6 (files in several records); Rock Ridge (IEEE P1282 draft 1.12), §4.1.5 (folders that were moved).

use std::collections::{BTreeSet, VecDeque};
use std::io;

use crate::bytes::ReadAt;
use crate::volume::iso9660::layout::SECTOR;
use crate::volume::iso9660::tree::{DirectoryRecord, FOLDER_BYTES_MOST, record_of};
use crate::volume::iso9660::volume::{Extent, IsoVolume};
use crate::volume::{Leaf, LeafKind};

/// Most entries of a tree that are read, and most bytes of a path.
const LEAVES_MOST: usize = 1 << 20;
const PATH_MOST: usize = 4096;
/// Most bytes of all folders together: they may lie over each other.
const FOLDERS_BYTES_MOST: u64 = 256 << 20;

/// An entry, and the folder that it leads to.
struct Entered {
    leaf: Leaf,
    folder: Option<Extent>,
}

impl Entered {
    fn leaf(leaf: Leaf) -> Option<Self> {
        Some(Self { leaf, folder: None })
    }
}

/// A folder that is yet to be read.
struct Waiting {
    path: String,
    extent: Extent,
}

impl IsoVolume {
    /// All of the tree, folder by folder.
    ///
    /// # Errors
    /// When the image can't be read.
    pub fn leaves(&self, image: &dyn ReadAt) -> io::Result<Vec<Leaf>> {
        let mut leaves: Vec<Leaf> = Vec::new();
        let mut seen = BTreeSet::from([self.root.start]);
        let mut waiting = VecDeque::from([Waiting { path: String::new(), extent: self.root }]);
        let mut left = FOLDERS_BYTES_MOST;
        while let Some(Waiting { path, extent }) = waiting.pop_front() {
            left = left.saturating_sub(extent.bytes);
            let many = (left == 0).then_some("there is more in folders than is read");
            if let Some(why) = unreadable(image, &extent).or(many) {
                leaves.push(Leaf { path, modified: None, kind: LeafKind::Lost(why) });
                continue;
            }
            let mut before: Option<Leaf> = None;
            for record in self.entries(image, &extent)?.into_iter().filter(|record| !record.rock_ridge.is_moved) {
                let full = if path.is_empty() { record.name.clone() } else { format!("{path}/{}", record.name) };
                leaves.extend(before.take_if(|before| before.path != full).map(unfinished));
                let Some(Entered { leaf, folder }) = self.entered(image, full, record, &mut before)? else { continue };
                if leaves.len() >= LEAVES_MOST || leaf.path.len() > PATH_MOST {
                    let kind = LeafKind::Lost("there are more files, or longer paths, than are read");
                    leaves.push(Leaf { kind, ..leaf });
                    return Ok(leaves);
                }
                if let Some(extent) = folder {
                    // A folder that is its own parent would have no end.
                    if !seen.insert(extent.start) {
                        let kind = LeafKind::Lost("this folder lies in itself, or in two places");
                        leaves.push(Leaf { kind, ..leaf });
                        continue;
                    }
                    waiting.push_back(Waiting { path: leaf.path.clone(), extent });
                }
                leaves.push(leaf);
            }
            leaves.extend(before.map(unfinished));
        }
        Ok(leaves)
    }

    /// What a record stands for, and the folder that it leads to; nothing while the file goes on in the next record.
    fn entered(
        &self,
        image: &dyn ReadAt,
        path: String,
        record: DirectoryRecord,
        before: &mut Option<Leaf>,
    ) -> io::Result<Option<Entered>> {
        let DirectoryRecord { is_folder, extent, recorded, goes_on, rock_ridge, .. } = record;
        let leaf = |kind| Leaf { path: path.clone(), modified: recorded, kind };
        if let Some(link) = rock_ridge.link() {
            return Ok(Entered::leaf(leaf(LeafKind::Link(link))));
        }
        if rock_ridge.is_special() {
            return Ok(Entered::leaf(leaf(LeafKind::Special)));
        }
        if let Some(child) = rock_ridge.child {
            let moved = self.folder_at(image, u64::from(child).saturating_mul(self.block_bytes))?;
            let kind =
                if moved.is_some() { LeafKind::Folder } else { LeafKind::Lost("its folder is not where it should be") };
            return Ok(Some(Entered { leaf: leaf(kind), folder: moved }));
        }
        if is_folder {
            return Ok(Some(Entered { leaf: leaf(LeafKind::Folder), folder: Some(extent) }));
        }
        let mut parts = match before.take() {
            Some(Leaf { kind: LeafKind::File(parts), .. }) => parts,
            _ => Vec::new(),
        };
        parts.push(extent);
        if goes_on {
            *before = Some(leaf(LeafKind::File(parts)));
            return Ok(None);
        }
        let end = |part: &Extent| part.start.saturating_add(part.bytes);
        let is_there = parts.iter().all(|part| part.bytes == 0 || end(part) <= image.size());
        let kind = if is_there { LeafKind::File(parts) } else { LeafKind::Lost("it lies behind the end of the image") };
        Ok(Entered::leaf(leaf(kind)))
    }

    /// The folder that begins at a place, as its own first record tells.
    fn folder_at(&self, image: &dyn ReadAt, start: u64) -> io::Result<Option<Extent>> {
        let mut sector = [0u8; SECTOR];
        image.fill_at(start, &mut sector)?;
        Ok(record_of(&sector).and_then(|record| self.extent(record)).filter(|own| own.start == start))
    }
}

/// A file that goes on in a record which is not there.
fn unfinished(leaf: Leaf) -> Leaf {
    Leaf { kind: LeafKind::Lost("the record with the rest of it is not there"), ..leaf }
}

/// Why a folder can't be read whole.
fn unreadable(image: &dyn ReadAt, folder: &Extent) -> Option<&'static str> {
    match folder.start.checked_add(folder.bytes) {
        Some(end) if end > image.size() => Some("this folder lies behind the end of the image"),
        Some(_) if folder.bytes <= FOLDER_BYTES_MOST => None,
        _ => Some("this folder is larger than is read"),
    }
}

#[cfg(test)]
mod tests {
    use std::sync::LazyLock;

    use proptest::prelude::*;

    use super::*;
    use crate::volume::iso9660::layout::{EXTENT, FLAGS};
    use crate::volume::iso9660::read;

    static SAMPLE: LazyLock<Vec<u8>> = LazyLock::new(|| pyrotyp_sample::cafe::desktop().build());

    /// Where the record of the file with this name lies: folders take the first sectors behind the tables.
    fn record(image: &[u8], name: &[u8]) -> std::ops::Range<usize> {
        for sector in 22..40 {
            let mut at = sector * SECTOR;
            while let Some(one) = record_of(&image[at..(sector + 1) * SECTOR]) {
                if one.windows(name.len()).any(|window| window == name) {
                    return at..at + one.len();
                }
                at += one.len();
            }
        }
        panic!("no such file")
    }

    fn told(image: &Vec<u8>) -> Vec<String> {
        let volume = read(image).unwrap().unwrap().unwrap();
        let told = |leaf: Leaf| match leaf.kind {
            LeafKind::File(parts) => {
                format!("{} {:?}", leaf.path, parts.iter().map(|part| part.bytes).collect::<Vec<_>>())
            }
            kind => format!("{} {kind:?}", leaf.path),
        };
        volume.leaves(image).unwrap().into_iter().map(told).collect()
    }

    #[test]
    fn all_of_the_tree_is_told_and_a_file_in_two_records_once() {
        let mut image = SAMPLE.clone();
        insta::assert_snapshot!(told(&image).join("\n"), @"
        boot Folder
        .disk Folder
        live Folder
        boot/bios.bin [2048]
        .disk/info [55]
        live/kernel.bin [1300000]
        live/start.cpio [2100000]
        live/system.img [14000000]
        ");
        // The file goes on with the next record, which has the same name.
        let [kernel, start] = [&b"kernel.bin"[..], b"start.cpio"].map(|name| record(&image, name));
        image[kernel.start + FLAGS] |= 0x80;
        let name = image[start.clone()].windows(10).position(|window| window == b"start.cpio").unwrap();
        image[start.start + name..][..10].copy_from_slice(b"kernel.bin");
        assert!(told(&image).contains(&"live/kernel.bin [1300000, 2100000]".to_owned()), "{:?}", told(&image));
        // Without that name, what it was to go on with is another file.
        image[start.start + name..][..10].copy_from_slice(b"start.cpio");
        let lost = "live/kernel.bin Lost(\"the record with the rest of it is not there\")";
        assert!(told(&image).contains(&lost.to_owned()), "{:?}", told(&image));
        image[start.start + FLAGS] |= 0x80;
        let system = record(&image, b"system.img").start;
        image[system + FLAGS] |= 0x80;
        assert!(told(&image).last().unwrap().starts_with("live/system.img Lost"), "{:?}", told(&image));
        // A folder that leads to the root.
        let live = record(&image, b"live").start;
        let root = read(&image).unwrap().unwrap().unwrap().root.start as usize;
        image.copy_within(root + EXTENT..root + EXTENT + 8, live + EXTENT);
        assert!(told(&image).iter().any(|line| line.contains("lies in itself")), "{:?}", told(&image));
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(64) })]
        #[test]
        fn no_bytes_make_it_panic(hits in prop::collection::vec((0usize..12 * SECTOR, any::<u8>()), 1..40)) {
            let mut image = SAMPLE[..40 * SECTOR].to_vec();
            for (at, byte) in hits {
                image[16 * SECTOR + at] = byte;
            }
            if let Some(Ok(volume)) = read(&image).unwrap() {
                volume.leaves(&image).unwrap();
            }
        }
    }
}
