//! An image's files on a stick: laid out, proven and told, by the same guard and question as an image.

use std::fs;

use pyrotyp_sample::{Esp, File, Recipe, Tables, efi_program};

use super::bench::{Bench, DESKTOP, steady_with_rates, tag_of};

/// An image that starts from an optical disc alone; its files hold a program for UEFI.
pub(crate) fn optical(label: &str, more: Vec<File>) -> Vec<u8> {
    let name = "Larkspur Linux 9.2 Optical";
    let mut files = vec![
        File { path: "EFI/BOOT/BOOTX64.EFI".to_owned(), bytes: efi_program(name) },
        File::text(".disk/info", "Larkspur Linux 9.2 Desktop (64-bit), long-term release\n"),
        File::filler("live/system.img", 3_000_000, 13),
    ];
    files.extend(more);
    let (tables, esp) = (Tables::None, Esp::None);
    Recipe { name: name.to_owned(), label: label.to_owned(), tables, esp, el_torito: true, files }.build()
}

#[test]
fn the_files_of_an_optical_image_start_a_pc_from_a_stick() {
    let odd = vec![File::text("docs/why?.txt", "why"), File::text("docs/Letter to Ann.txt", "dear Ann")];
    let bench = Bench::new().stick("a", "").stick("b", "").file("optical.iso", &optical("LARKSPUR_92_OPTICAL", odd));
    let [a, b] = ["a", "b"].map(|name| tag_of(&bench, name));
    let mut told = vec![
        bench.on_tray(&format!("write optical.iso --to {a} --unattended --state notes")),
        bench.on_tray(&format!("unpack optical.iso --to {a} --to {b} --unattended --quiet --state notes")),
        bench.on_tray(&format!("contents {a} --state notes --quiet")),
        // It does not hold the image's bytes in their order, and is proven again by what its job kept.
        bench.on_tray(&format!("compare {a} optical.iso --state notes --quiet")),
        bench.on_tray(&format!("compare {a} --state notes --quiet")),
    ];
    let (first, second) = (bench.drive("a"), bench.drive("b"));
    assert!(first[..4 << 20] == second[..4 << 20], "both are alike");
    let system = pyrotyp_sample::noise(3_000_000, 13);
    assert!(first.windows(512).step_by(512).any(|sector| *sector == system[..512]));
    // What is on it is an image like any other: it starts by UEFI.
    assert!(bench.on_tray(&format!("save {a} saved.img --quiet --state notes")).starts_with("exit 0"));
    let seen = &bench.json("inspect saved.img")[0];
    assert_eq!((&seen["verdict"], &seen["boots"][0]["via"]), (&"ready".into(), &"esp".into()));
    let words = format!("unpack optical.iso --to {a} --unattended --accept just-verified --tray tray --state notes");
    let document = bench.json(&format!("{words} --only-changed --table gpt --label optical"));
    assert_eq!(
        (&document["files"], &document["label"], &document["table"]),
        (&5.into(), &"OPTICAL".into(), &"gpt".into())
    );
    assert_eq!(document["image"]["verdict"], "ready");
    assert_eq!(document["left_out"][0]["path"], "docs/why?.txt");
    // Stopped or not, the same command makes the same bytes: there is nothing left to be written.
    let again = bench.json(&format!("{words} --only-changed --table gpt --label optical"));
    assert!(again["drives"][0]["written_bytes"].as_u64().unwrap() <= 2 << 20, "{again:#}");
    told.push(bench.pyrotyp("ledger show last --state notes"));
    told.push(bench.on_tray(&format!(
        "unpack optical.iso --to {b} --unattended --accept just-verified --skip-readback --state notes"
    )));
    assert!(bench.on_tray(&format!("compare {b} --state notes")).starts_with("exit 0"));
    let words = format!("unpack optical.iso --to {b} --unattended --accept just-verified --state notes");
    assert!(bench.on_tray(&words).starts_with("exit 0"));
    assert!(bench.pyrotyp("ledger report last --into page.html --state notes").starts_with("exit 0"));
    let page = fs::read_to_string(bench.path("page.html")).unwrap();
    assert!(page.contains("files are laid out on it") && page.contains("How to start it"), "{page}");
    let mut settings = steady_with_rates();
    settings.add_filter(r"\d{4}-\d\d-\d\d \d\d:\d\d", "[LOCAL]");
    settings.add_filter(r"on \d{4}-\d\d-\d\d: the drive", "on [DAY]: the drive");
    settings.bind(|| insta::assert_snapshot!("unpacked", told.join("\n")));
}

#[test]
fn what_can_not_be_laid_out_is_told_before_anything_is_erased() {
    let tiny = "[[drive]]\nname = \"tiny\"\nmodel = \"Old\"\nserial = \"T-1\"\nbytes = 3145728\nbus = \"usb\"\nremovable = true\n";
    let mut cut = optical("CUT", Vec::new());
    cut.truncate(3_000_000);
    let mut lost = optical("LOST", Vec::new());
    // The largest file's record says where it begins, and how long it is: it shall begin behind the end.
    let length = both(3_000_000u32.to_le_bytes());
    let at = lost.windows(8).position(|window| *window == length).unwrap();
    lost[at - 8..at].copy_from_slice(&both(900_000u32.to_le_bytes()));
    let bench = Bench::new()
        .stick("a", "")
        .tray(tiny)
        .file("optical.iso", &optical("LARKSPUR", Vec::new()))
        .file("cut.iso", &cut)
        .file("lost.iso", &lost)
        .file("wrong.iso", &optical("WRONG", Vec::new()))
        .file("wrong.iso.sha256", format!("{}  wrong.iso\n", "0".repeat(64)).as_bytes())
        .file("desktop.iso", &DESKTOP)
        .file("disk.img", &pyrotyp_sample::disk_image("Wrenfield"));
    let [a, tiny] = ["a", "tiny"].map(|name| tag_of(&bench, name));
    let mut told = vec![bench.at_terminal(&format!("unpack optical.iso --to {a}"), "\n")];
    for words in [
        format!("optical.iso --to {a}"),
        format!("optical.iso --to {a} --label Übersicht --unattended"),
        format!("optical.iso --to {a} --to {a} --unattended"),
        format!("optical.iso --to {tiny} --unattended"),
        format!("cut.iso --to {a} --unattended"),
        format!("lost.iso --to {a} --unattended"),
        format!("wrong.iso --to {a} --unattended"),
        format!("disk.img --to {a} --unattended"),
        format!("desktop.iso --to {a} --unattended"),
    ] {
        told.push(format!("$ unpack {words}\n{}", bench.on_tray(&format!("unpack {words} --state notes"))));
    }
    steady_with_rates().bind(|| insta::assert_snapshot!("not_unpacked", told.join("\n")));
    assert!(!bench.was_touched("a"));
}

/// A number as directory records hold it, little-endian and then big-endian.
fn both(little: [u8; 4]) -> [u8; 8] {
    let mut both = [0; 8];
    both[..4].copy_from_slice(&little);
    both[4..].copy_from_slice(&little);
    both[4..].reverse();
    both
}
