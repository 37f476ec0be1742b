//! Any bytes as a Metalink file or a catalogue, and what a name in it leads to.
#![no_main]

use libfuzzer_sys::fuzz_target;
use pyrotyp_core::catalogue::Catalogue;
use pyrotyp_core::fetch::metalink;
use pyrotyp_core::image::Naming;

fuzz_target!(|data: &[u8]| {
    for mut wanted in metalink(data).unwrap_or_default() {
        assert!(!wanted.name.contains('/') && !wanted.mirrors.is_empty());
        wanted.prefer("de");
    }
    let Ok(catalogue) = Catalogue::read(data) else { return };
    let today = jiff::civil::date(2026, 11, 23);
    for system in &catalogue.systems {
        let naming = Naming { system: Some(system.name.clone()), version: Some("9.2".to_owned()), ..Naming::default() };
        let _ = catalogue.look_up(&naming, today);
        if let Ok(pick) = catalogue.find(&system.name, "x86-64", today) {
            let _ = (pick.title(), pick.wanted(), pick.sums());
        }
    }
});
