//! Any bytes as an image: tables, volumes, trees, and the file that lies at a place.
#![no_main]

use libfuzzer_sys::fuzz_target;
use pyrotyp_core::compose::unpacked;
use pyrotyp_core::image::{FileMap, inspect};
use pyrotyp_core::volume::udf;

fuzz_target!(|data: &[u8]| {
    // The interesting structures begin at 0, 32 KiB and behind: short inputs are laid over an image of zeros.
    let mut image = vec![0u8; 80 << 10];
    let (head, rest) = data.split_at(data.len().min(2048));
    image[..head.len()].copy_from_slice(head);
    let rest = &rest[..rest.len().min(image.len() - (32 << 10))];
    image[32 << 10..][..rest.len()].copy_from_slice(rest);
    if let Ok(inspection) = inspect(&image) {
        let _ = FileMap::of(&image, &inspection).map(|files| files.at(301).is_some());
        let _ = unpacked(&image, &inspection).map(|made| made.files);
        let _ = udf::leaves(&image);
    }
});
