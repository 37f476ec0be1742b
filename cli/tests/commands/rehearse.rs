//! Trial starts: what is on record of them, and how it is told. The starts themselves, which need an emulator, are in `lab/rehearsals.py`.

use std::fs;

use super::bench::{Bench, steady_with_rates};

/// The smallest picture: one grey dot, PNG.
const DOT: &[u8] = &[
    0x89, b'P', b'N', b'G', 0x0D, 0x0A, 0x1A, 0x0A, 0, 0, 0, 13, b'I', b'H', b'D', b'R', 0, 0, 0, 1, 0, 0, 0, 1, 8, 0,
    0, 0, 0, 0x3A, 0x7E, 0x9B, 0x55, 0, 0, 0, 10, b'I', b'D', b'A', b'T', 0x78, 0x9C, 0x63, 0x68, 0, 0, 0, 0x82, 0,
    0x81, 0xDD, 0x43, 0x6A, 0xF4, 0, 0, 0, 0, b'I', b'E', b'N', b'D', 0xAE, 0x42, 0x60, 0x82,
];

const RECORD: &str = r#"{
  "job": "20261123-080000-image", "record": 1, "started": "2026-11-23T08:00:00Z", "ended": "2026-11-23T08:00:30Z", "version": "0.1.0",
  "kind": "rehearse", "person": "ann", "bench": "cafe", "accepted": [], "result": "verified",
  "image": {"file": "/srv/larkspur-9.2-compact-i686.iso", "bytes": 6057984, "label": "LARKSPUR_92_COMPACT",
            "title": "Larkspur Linux 9.2 Compact", "sha256": null},
  "drives": [],
  "starts": [
    {"firmware": "bios", "secure_boot": false, "started": "yes", "reason": "it gives its name: Larkspur Linux 9.2 Compact: started by BIOS",
     "firmware_said": ["Booting from Hard Disk..."], "screen": "", "serial": "Larkspur Linux 9.2 Compact: started by BIOS\u001b[31m <b>",
     "picture": "20261123-080000-image.bios.png", "seconds": 6.4, "read_bytes": 512, "accelerated": true},
    {"firmware": "uefi", "secure_boot": true, "started": "no", "reason": "UEFI says: failed to load Boot0001: Not Found",
     "firmware_said": ["BdsDxe: failed to load Boot0001: Not Found"], "screen": "", "serial": "", "picture": "../../rescue.iso",
     "seconds": 7.1, "read_bytes": 0, "accelerated": false}
  ]
}"#;

#[test]
fn trial_starts_on_record_are_shown_listed_and_handed_over_with_their_pictures() {
    let bench = Bench::new();
    let jobs = bench.path("notes/jobs");
    fs::create_dir_all(&jobs).unwrap();
    fs::write(jobs.join("20261123-080000-image.json"), RECORD).unwrap();
    fs::write(jobs.join("20261123-080000-image.bios.png"), DOT).unwrap();
    let told = ["ledger --state notes", "ledger show last --state notes"]
        .map(|words| format!("$ {words}\n{}", bench.pyrotyp(words)));
    steady_with_rates().bind(|| insta::assert_snapshot!(told.join("\n")));
    assert_eq!(bench.json("ledger --state notes")[0]["starts"][1]["started"], "no");
    assert!(bench.pyrotyp("ledger report last --state notes --into page.html").starts_with("exit 0"));
    let page = fs::read_to_string(bench.path("page.html")).unwrap();
    let [first, second] = ["<strong>BIOS</strong> starts:", "<strong>UEFI, Secure Boot</strong> does not start:"]
        .map(|words| page.find(words).unwrap());
    // Only a picture that lies beside the record is shown, and nothing that the PC said does anything in the page.
    let picture = page.find("src=\"data:image/png;base64,iVBORw0KGgo").unwrap();
    assert!((first..second).contains(&picture) && page.matches("<img").count() == 1, "{page}");
    assert!(page.contains("started by BIOS") && !page.contains('\u{1b}') && !page.contains("<b>"));
}

#[test]
fn what_can_not_be_tried_is_told_before_anything_is_started() {
    let bench = Bench::new().stick("stick", "");
    let mut told = Vec::new();
    for words in
        ["rehearse nothing.iso", "rehearse rescue.iso --firmware legacy", "rehearse rescue.iso --wait 0", "rehearse"]
    {
        told.push(format!("$ {words}\n{}", bench.on_tray(words)));
    }
    steady_with_rates().bind(|| insta::assert_snapshot!(told.join("\n")));
    assert_eq!((bench.was_touched("stick"), bench.path(".local/state/pyrotyp/jobs").exists()), (false, false));
}
