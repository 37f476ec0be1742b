//! Any bytes as a FAT volume, and as all that may be on a drive.
#![no_main]

use std::ops::ControlFlow;

use libfuzzer_sys::fuzz_target;
use pyrotyp_core::contents::contents;
use pyrotyp_core::volume::fat;

fuzz_target!(|data: Vec<u8>| {
    let _ = contents(&data);
    if let Ok(Some(volume)) = fat::read(&data) {
        if let Ok(Some(nodes)) = volume.list(&data, "EFI/BOOT") {
            let mut head = [0u8; 64];
            nodes.iter().take(8).for_each(|node| {
                let _ = volume.head_of(&data, node, &mut head);
            });
        }
        let _ = volume.stretches(&data, &mut |_, _| ControlFlow::Continue(()));
    }
});
