//! Partitions behind any tables: the image is equal but for what is told, and they are found where they are told to be, or it is refused.
#![no_main]

use libfuzzer_sys::fuzz_target;
use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::compose::{OnDrive, SpareDrive, SpareWish, Tree, VolumeKind, kept_beside, patched, spared};
use pyrotyp_core::contents::read_placed;
use pyrotyp_core::image::inspect_on;

fuzz_target!(|data: &[u8]| {
    let Some(([low, high, how, size], rest)) = data.split_first_chunk::<4>() else { return };
    let bytes = u64::from(u16::from_le_bytes([*low, *high])) << 20;
    let sector_bytes = if how & 4 == 0 { 512 } else { 4096 };
    let image = rest.to_vec();
    let Ok(seen) = inspect_on(&image, sector_bytes) else { return };
    let drive = SpareDrive { bytes, sector_bytes, serial: 1 };
    let kind = |bit: u8| if how & bit == 0 { VolumeKind::Fat32 } else { VolumeKind::Exfat };
    let wish = |kind, bytes| SpareWish { label: "BENCH".to_owned(), kind, bytes, tree: Tree::default() };
    let wishes = [wish(kind(1), Some(u64::from(*size) << 20)), wish(kind(2), None)];
    let Ok(made) = spared(&image, &seen, drive, &wishes) else { return };
    assert!(made.made.size() <= bytes);
    let read = |of: &dyn ReadAt| {
        let mut all = vec![0; image.len()];
        of.fill_at(0, &mut all).unwrap();
        all
    };
    let mut whole = read(&made.made);
    assert!(whole == read(&patched(&image, &made.altered)));
    for (at, bytes) in &made.altered {
        let range = *at as usize..*at as usize + bytes.len();
        whole[range.clone()].copy_from_slice(&image[range]);
    }
    assert!(whole == image);
    let (found, _) = read_placed(&OnDrive { made: &made.made, drive_bytes: bytes }).unwrap();
    for place in &made.places {
        assert!(found.iter().any(|(_, start)| *start == place.range.start), "{place:?}: {found:?}");
    }
    let kept = kept_beside(&image, &seen, drive, &made.places).unwrap();
    assert_eq!((kept.places, kept.altered), (made.places, made.altered));
});
