//! Any bytes as a FAT volume.
#![no_main]

use libfuzzer_sys::fuzz_target;
use pyrotyp_core::image::fat;

fuzz_target!(|data: Vec<u8>| {
    if let Ok(Some(volume)) = fat::read(&data) {
        if let Ok(Some(nodes)) = volume.list(&data, "EFI/BOOT") {
            let mut head = [0u8; 64];
            nodes.iter().take(8).for_each(|node| {
                let _ = volume.head_of(&data, node, &mut head);
            });
        }
        let _ = volume.file_at(&data, data.len() as u64 / 2);
    }
});
