//! Any bytes as a packed image, with room for one MiB of what is inside.
#![no_main]

use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use pyrotyp_core::image::{SharedBytes, open};
use pyrotyp_core::stop::Cancel;

fuzz_target!(|data: Vec<u8>| {
    let source: SharedBytes = Arc::new(data);
    if let Ok(opened) = open(&source)
        && let Some(packed) = opened.packed
    {
        let _ = packed.measure(1 << 20, &Cancel::new(), &mut |_| ());
    }
});
