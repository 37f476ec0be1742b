//! Any tree in any volume: what is made is read again as it was given by our own readers, or it is refused.
#![no_main]

use std::collections::BTreeSet;
use std::ops::ControlFlow;

use libfuzzer_sys::fuzz_target;
use pyrotyp_core::bytes::{Part, ReadAt};
use pyrotyp_core::compose::{FileBytes, Storage, TableForm, Tree, VolumeKind, storage_with};
use pyrotyp_core::volume::{exfat, fat};

fuzz_target!(|data: &[u8]| {
    let Some(([how, scale, low, high], rest)) = data.split_first_chunk::<4>() else { return };
    let kind = if how & 1 == 0 { VolumeKind::Fat32 } else { VolumeKind::Exfat };
    let drive_bytes = (u64::from(u16::from_le_bytes([*low, *high])) << (scale % 32)) & !4095;
    let sector_bytes = if how & 2 == 0 { 512 } else { 4096 };
    let source = rest.to_vec();
    let mut tree = Tree::default();
    // Readers leave off spaces around a name, for people.
    let is_bare = |path: &str| path.split('/').all(|name| name.trim() == name);
    // A path a line; how long a file is follows from its bytes, and what is in it is the input itself.
    for line in rest.split(|byte| *byte == b'\n') {
        let path = String::from_utf8_lossy(line);
        if !is_bare(path.strip_suffix('/').unwrap_or(&path)) {
            continue;
        }
        let bytes = line.iter().fold(0u64, |sum, byte| sum * 31 % 70_001 + u64::from(*byte)).min(rest.len() as u64);
        let parts = std::iter::once(0..bytes).collect();
        let _ = match path.strip_suffix('/') {
            Some(folder) => tree.add_folder(folder, None),
            None => tree.add_file(&path, None, FileBytes::Parts { of: &source, parts }),
        };
    }
    let wanted =
        Storage { drive_bytes, sector_bytes, kind, table: TableForm::None, label: "BENCH".to_owned(), serial: 1 };
    let Ok(made) = storage_with(&wanted, &tree) else { return };
    assert!(made.size() <= drive_bytes);
    let (mut seen, mut ends) = (BTreeSet::new(), Vec::new());
    let volume = Part { whole: &made, start: 0, bytes: made.size() };
    let mut visit = |path: &str, range: std::ops::Range<u64>| {
        assert!(seen.insert(path.to_owned()), "{path} lies in pieces");
        ends.push(range);
        ControlFlow::Continue(())
    };
    match fat::read(&volume).unwrap() {
        Some(fat) => fat.stretches(&volume, &mut visit).unwrap(),
        None => exfat::stretches(&volume, &mut visit).unwrap(),
    }
    ends.sort_by_key(|range| range.start);
    assert!(ends.windows(2).all(|pair| pair[0].end <= pair[1].start), "two lie in one place");
});
