//! Any text as a list of checksums, a typed checksum, a tag, a tray's descriptor, a station's plan and a job's notes.
#![no_main]

use std::path::Path;

use libfuzzer_sys::fuzz_target;
use pyrotyp_core::devices::tray::Descriptor;
use pyrotyp_core::drive::Tag;
use pyrotyp_core::hash::Sum;
use pyrotyp_core::job::journal;
use pyrotyp_core::published::{kind_in, parse};
use pyrotyp_core::station::StationPlan;

fuzz_target!(|data: &[u8]| {
    for line in parse(data, kind_in("larkspur.DIGESTS")).lines {
        assert_eq!(line.sum.hex.len(), line.sum.algorithm.hex_digits());
    }
    if let Ok(text) = std::str::from_utf8(data) {
        let _ = text.parse::<Sum>();
        let _ = text.parse::<Tag>();
        let _ = Descriptor::parse(text);
        let _ = journal::parse(text);
        let _ = StationPlan::parse(text, Path::new("/"));
    }
});
