//! Any bytes as what is kept of work under way: of a drive that is looked at, of one that is saved, of blocks that were written.
#![no_main]

use libfuzzer_sys::fuzz_target;
use pyrotyp_core::job::gauge::ProbeBackup;
use pyrotyp_core::job::save::SaveMap;
use pyrotyp_core::ledger::Blocks;

fuzz_target!(|data: &[u8]| {
    let file = std::env::temp_dir().join(format!("pyrotyp-fuzz-{}", std::process::id()));
    std::fs::write(&file, data).unwrap();
    let _ = ProbeBackup::open(&file);
    if let Ok(Some(map)) = SaveMap::find(&file) {
        assert!(map.done <= map.bytes && map.unreadable.iter().all(|range| range.end <= map.bytes));
    }
    std::fs::remove_file(&file).unwrap();
    let _ = Blocks::parse(&String::from_utf8_lossy(data));
});
