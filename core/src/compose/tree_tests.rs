//! Volumes with files: whatever the tree and the size, each file is read again as it was given, or the tree is refused.

use std::collections::BTreeMap;
use std::ops::{ControlFlow, Range};

use jiff::civil::date;
use proptest::prelude::*;

use crate::bytes::{Cursor, MIB, Part, ReadAt};
use crate::compose::{Composition, FileBytes, Storage, TableForm, Tree, VolumeKind, storage_with};
use crate::image::inspect;
use crate::volume::{exfat, fat};

fn wanted(drive_bytes: u64, kind: VolumeKind, sector_bytes: u32) -> Storage {
    let label = "BENCH".to_owned();
    Storage { drive_bytes, sector_bytes, kind, table: TableForm::Mbr, label, serial: 7 }
}

/// What our own readers find in the volume: each file and folder, and the stretches that it lies in.
fn found(made: &Composition<'_>) -> BTreeMap<String, Vec<Range<u64>>> {
    let seen = inspect(made).unwrap();
    let start = seen.tables.mbr[0].start;
    let volume = Part { whole: made, start, bytes: made.size() - start };
    let mut found: BTreeMap<String, Vec<Range<u64>>> = BTreeMap::new();
    let mut visit = |path: &str, range: Range<u64>| {
        found.entry(path.to_owned()).or_default().push(start + range.start..start + range.end);
        ControlFlow::Continue(())
    };
    match fat::read(&volume).unwrap() {
        Some(fat) => fat.stretches(&volume, &mut visit).unwrap(),
        None => exfat::stretches(&volume, &mut visit).unwrap(),
    }
    found
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(96) })]
    #[test]
    fn whatever_the_tree_each_file_is_read_again_or_it_is_refused(
        items in prop::collection::vec(("([aAbé日.~-][aAbé日 .~-]{0,2}/){0,3}[aAbcé日한.🦀x-][aAbcé日한.🦀 x-]{0,19}", 0usize..9000), 0..60),
        how in 0usize..3, wide: bool,
    ) {
        let (kind, bytes) = [(VolumeKind::Fat32, 20 * MIB), (VolumeKind::Fat32, 600 * MIB), (VolumeKind::Exfat, 40 * MIB)][how];
        let source: Vec<u8> = (0..20_000u32).flat_map(u32::to_le_bytes).collect();
        let (mut tree, mut given) = (Tree::default(), BTreeMap::new());
        for (number, (path, bytes)) in items.iter().enumerate() {
            // In two parts, from places that are in no order.
            let from = number * 997 % 9000;
            let parts: Vec<Range<u64>> = vec![40_000..40_000 + *bytes as u64 / 3, from as u64..(from + bytes - bytes / 3) as u64];
            let whole = [&source[40_000..40_000 + bytes / 3], &source[from..from + bytes - bytes / 3]].concat();
            if tree.add_file(path, Some(date(2026, 11, 27).at(9, 30, 1, 0)), FileBytes::Parts { of: &source, parts }).is_ok() {
                given.insert(path.clone(), whole);
            }
        }
        let Ok(made) = storage_with(&wanted(bytes, kind, if wide { 4096 } else { 512 }), &tree) else {
            // There is room for all of this, but in FAT with sectors so wide.
            prop_assert!(wide && how == 0);
            return Ok(());
        };
        let found = found(&made);
        for (path, bytes) in &given {
            // The first one gave its folder the name.
            let folded = |path: &str| path.split('/').map(|name| name.to_uppercase()).collect::<Vec<_>>();
            let runs = found.iter().find(|(other, _)| folded(other) == folded(path)).map_or(&[][..], |(_, runs)| runs);
            prop_assert!(runs.len() <= 1, "{path} lies in pieces: {runs:?}");
            let mut read = vec![0xEE; bytes.len()];
            if let Some(run) = runs.first() {
                made.fill_at(run.start, &mut read).unwrap();
            }
            prop_assert!(read == *bytes, "{path}");
        }
        prop_assert_eq!(found.len() + given.values().filter(|bytes| bytes.is_empty()).count(), tree.len() - 1);
    }
}

#[test]
fn what_a_volume_does_not_hold_is_refused_with_a_word() {
    let (source, short) = (Zeros(1 << 40), b"too short".to_vec());
    let made = |kind, drive_bytes, files: &[(String, u64)]| {
        let mut tree = Tree::default();
        for (path, bytes) in files {
            let parts = std::iter::once(0..*bytes).collect();
            tree.add_file(path, None, FileBytes::Parts { of: &source, parts }).unwrap();
        }
        storage_with(&wanted(drive_bytes, kind, 512), &tree)
    };
    let one = |path: &str, bytes: u64| vec![(path.to_owned(), bytes)];
    let photos: Vec<(String, u64)> = (0..4000).map(|number| (format!("photos/{number:0>200}.jpg"), 0)).collect();
    let told: Vec<String> = [
        (VolumeKind::Fat32, 16_000 * MIB, one("live/system.img", 1 << 32)),
        (VolumeKind::Exfat, 16_000 * MIB, one("live/system.img", 17 << 30)),
        (VolumeKind::Fat32, 20 * MIB, one("letters", 30 * MIB)),
        (VolumeKind::Fat32, 16_000 * MIB, photos.clone()),
        (VolumeKind::Ext4, 16_000 * MIB, one("letters", 9)),
    ]
    .into_iter()
    .map(|(kind, bytes, files)| made(kind, bytes, &files).unwrap_err().to_string())
    .collect();
    insta::assert_snapshot!(told.join("\n"), @"
    live/system.img has 4.3 GB, and a file of fat32 has 4 GiB less one byte at most
    the files take 18.3 GB, and the volume has room for 16.8 GB
    the files take 31.5 MB, and the volume has room for 18.7 MB
    the folder photos holds more than a folder of fat32 can
    files can't be put into a volume of ext4
    ");
    assert!(made(VolumeKind::Exfat, 16_000 * MIB, &photos).is_ok());
    // The longest that FAT counts is laid out.
    let longest = made(VolumeKind::Fat32, 16_000 * MIB, &one("live/system.img", (1 << 32) - 1)).unwrap();
    let run = found(&longest)["live/system.img"].clone();
    assert!(run.len() == 1 && run[0].end - run[0].start == 1 << 32, "{run:?}");
    // What its source does not hold is an error where it is read, and never zeros.
    let mut tree = Tree::default();
    tree.add_file("letters", None, FileBytes::Parts { of: &short, parts: vec![0..9, 3..10] }).unwrap();
    let cut = storage_with(&wanted(20 * MIB, VolumeKind::Fat32, 512), &tree).unwrap();
    let read = std::io::copy(&mut Cursor { of: &cut, at: 0 }, &mut std::io::sink());
    assert_eq!(read.unwrap_err().to_string(), "a file ends before its length");
}

/// So many zeros.
struct Zeros(u64);

impl ReadAt for Zeros {
    fn size(&self) -> u64 {
        self.0
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> std::io::Result<usize> {
        let count = into.len().min((self.0 - at.min(self.0)) as usize);
        into[..count].fill(0);
        Ok(count)
    }
}
