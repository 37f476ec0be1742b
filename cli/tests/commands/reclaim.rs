//! A drive back to plain storage, by the same guard, question and engine as an image.

use std::fs;

use super::bench::{Bench, DESKTOP, steady, tag_of};

/// A large stick that nobody has written yet: its backing file is sparse.
fn large(name: &str, bytes: u64) -> String {
    format!(
        "[[drive]]\nname = \"{name}\"\nvendor = \"Kestrin\"\nmodel = \"Pocket 64\"\nserial = \"KP64-{name}\"\nbytes = {bytes}\n\
         bus = \"usb\"\nlink_mbps = 5000\nremovable = true\n[[drive.partition]]\nnumber = 1\nbytes = 1048576\nfilesystem = \"ntfs\"\n\
         label = \"Fête: 24\"\n"
    )
}

#[test]
fn a_written_stick_becomes_plain_storage_and_keeps_no_trace() {
    let bench = Bench::new().stick("a", "").tray(&large("b", 64_000_000_000)).file("desktop.iso", &DESKTOP);
    let [a, b] = ["a", "b"].map(|name| tag_of(&bench, name));
    assert!(bench.on_tray(&format!("write desktop.iso --to {a} --unattended --state notes")).starts_with("exit 0"));
    let mut told = vec![bench.on_tray(&format!("reclaim {a} --unattended --quiet --state notes"))];
    told.push(bench.on_tray(&format!("reclaim {a} --unattended --accept just-verified --state notes --quiet")));
    told.push(bench.on_tray(&format!("contents {a} --state notes --quiet")));
    let drive = bench.drive("a");
    let volume = &drive[1 << 20..];
    assert_eq!(
        (&drive[510..512], &volume[510..512], &volume[54..62]),
        (&[0x55, 0xAA][..], &[0x55, 0xAA][..], &b"FAT16   "[..])
    );
    // Of the image: neither the descriptor of the optical disc, nor a table at either end.
    assert!(drive[0x8000..0x9000].iter().chain(&drive[drive.len() - (1 << 20)..]).all(|byte| *byte == 0));
    // No stick that may be a finished one any more, and nothing that a comparison could be held against.
    assert!(bench.on_tray(&format!("write rescue.iso --to {a} --unattended --state notes")).starts_with("exit 0"));
    told.push(
        bench.on_tray(&format!("reclaim {a} --unattended --accept just-verified --label pocket --state notes --quiet")),
    );
    told.push(bench.on_tray(&format!("compare {a} --state notes")));
    told.push(bench.pyrotyp(&format!("ledger drive {a} --state notes --quiet")));
    told.push(bench.pyrotyp("ledger label last --into label.svg --state notes"));
    assert!(bench.pyrotyp("ledger report last --into page.html --state notes").starts_with("exit 0"));
    let page = fs::read_to_string(bench.path("page.html")).unwrap();
    assert!(page.contains("Plain storage again") && !page.contains("How to start it"), "{page}");
    // A large one is exFAT, with as much of its label as that may keep.
    told.push(bench.on_tray(&format!("reclaim {b} --unattended --quiet --state notes")));
    let document =
        bench.json(&format!("reclaim {b} --as fat32 --table none --label day --unattended --tray tray --state notes"));
    assert_eq!(
        (&document["filesystem"], &document["table"], &document["label"], &document["result"]),
        (&"fat32".into(), &"none".into(), &"DAY".into(), &"verified".into())
    );
    let mut settings = steady();
    settings.add_filter(r" +\d[\d.]* [kMG]?B/s", " [RATE]");
    settings.add_filter(r"\d{4}-\d\d-\d\d( \d\d:\d\d)?", "[LOCAL]");
    settings.bind(|| insta::assert_snapshot!("reclaimed", told.join("\n")));
}

#[test]
fn only_the_typed_tag_reclaims_and_the_guard_holds() {
    let vault = "[[drive]]\nname = \"vault\"\nvendor = \"Odalen\"\nmodel = \"Vault\"\nserial = \"OV-1\"\nbytes = 1000204886016\nbus = \"usb\"\n";
    let tiny = "[[drive]]\nname = \"tiny\"\nmodel = \"Old\"\nserial = \"T-1\"\nbytes = 1048576\nbus = \"usb\"\nremovable = true\n";
    let failing = "[[drive.fault]]\nkind = \"drop\"\nat = 1048576\nbytes = 4096\n";
    let bench = Bench::new().stick("a", "").stick("b", failing).tray(vault).tray(tiny);
    let [a, b, vault, tiny] = ["a", "b", "vault", "tiny"].map(|name| tag_of(&bench, name));
    let mut told = vec![bench.at_terminal(&format!("reclaim {a}"), "\n")];
    assert!(!bench.was_touched("a"));
    for words in [
        format!("reclaim {vault} --unattended"),
        "reclaim /dev/sdz --unattended".to_owned(),
        "reclaim tray:a --unattended".to_owned(),
        "reclaim arriving --unattended".to_owned(),
        format!("reclaim {a} --unattended --label twelve-chars"),
        format!("reclaim {a} --unattended --as exfat --label a/b"),
        format!("reclaim {a} --unattended --as ntfs"),
        format!("reclaim {tiny} --unattended"),
        format!("reclaim {a}"),
    ] {
        told.push(format!("$ {words}\n{}", bench.on_tray(&words)));
        assert!(!bench.was_touched("a"), "{words}");
    }
    // What was put together does not lie there: the drive is not called reclaimed.
    let differs = bench.on_tray(&format!("reclaim {b} --unattended --quiet"));
    assert!(differs.starts_with("exit 7") && !differs.contains("reclaimed"), "{differs}");
    let done = bench.at_terminal(&format!("reclaim {a}"), &format!("{a}\n"));
    assert!(done.starts_with("exit 0") && done.contains("reclaimed: "), "{done}");
    steady().bind(|| insta::assert_snapshot!("not_reclaimed", told.join("\n")));
}
