//! Any wish for plain storage: what is made is known by our own readers for what was wished, or it is refused.
#![no_main]

use libfuzzer_sys::fuzz_target;
use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::compose::{Storage, TableForm, VolumeKind, storage};
use pyrotyp_core::contents::contents;
use pyrotyp_core::hash::BLOCK_BYTES;

fuzz_target!(|data: &[u8]| {
    let Some((numbers, name)) = data.split_first_chunk::<14>() else { return };
    let [how, scale, a, b, c, d, e, f, g, h, serial @ ..] = *numbers;
    let drive_bytes = u64::from_le_bytes([a, b, c, d, e, f, g, h]) >> (scale % 64);
    let kind = if how & 1 == 0 { VolumeKind::Fat32 } else { VolumeKind::Exfat };
    let table = TableForm::ALL[usize::from(how >> 1) % TableForm::ALL.len()];
    let sector_bytes = if how & 0x80 == 0 { 512 } else { 4096 };
    let label = kind.label_like(&String::from_utf8_lossy(name));
    let serial = u32::from_le_bytes(serial);
    let wanted = Storage { drive_bytes, sector_bytes, kind, table, label: label.clone(), serial };
    let Ok(made) = storage(&wanted) else { return };
    assert!(made.size() <= drive_bytes);
    assert!(!made.is_hole(&(0..BLOCK_BYTES)), "the head is never left as it is");
    let found = contents(&made).unwrap();
    let [one] = found.volumes.as_slice() else { panic!("{wanted:?}: {:?}", found.volumes) };
    let filesystem = one.volume.filesystem.as_deref().unwrap_or_default();
    assert!(
        filesystem.starts_with(if kind == VolumeKind::Fat32 { "fat" } else { "exfat" }),
        "{wanted:?}: {filesystem}"
    );
    assert_eq!(one.volume.label.clone().unwrap_or_default().trim(), label.trim(), "{wanted:?}");
    assert!(one.items.as_ref().is_none_or(Vec::is_empty), "{wanted:?}");
});
