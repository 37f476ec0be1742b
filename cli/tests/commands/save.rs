//! A drive into a file: what counts of it, with its checksum beside it, and never in the place of something else.

use std::fs;

use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::compose::{FileBytes, Storage, TableForm, Tree, VolumeKind, storage_with};

use super::bench::{Bench, DESKTOP, steady_with_rates, tag_of};

#[test]
fn a_stick_becomes_an_image_that_is_written_like_any() {
    let bad = "[[drive.fault]]\nkind = \"read-error\"\nat = 9000960\nbytes = 512\n";
    let bench = Bench::new().stick("a", "").stick("b", "").stick("worn", bad).file("desktop.iso", &DESKTOP);
    let [a, b, worn] = ["a", "b", "worn"].map(|name| tag_of(&bench, name));
    for tag in [&a, &worn] {
        let written = format!("write desktop.iso --to {tag} --unattended --skip-readback --state notes");
        assert!(bench.on_tray(&written).starts_with("exit 0"));
    }
    let before = bench.drive("a");
    let mut told = vec![bench.on_tray(&format!("save {a} stick.img --state notes"))];
    assert!(bench.drive("a") == before, "it stays as it is");
    let image = fs::read(bench.path("stick.img")).unwrap();
    assert!(image == DESKTOP[..image.len()] && image.len() == DESKTOP.len(), "{} of {}", image.len(), DESKTOP.len());
    told.push(bench.on_tray(&format!("save {a} packed.img.zst --state notes --quiet")));
    for file in ["stick.img", "packed.img.zst"] {
        told.push(bench.pyrotyp(&format!("check {file} --quiet")));
        assert!(
            bench
                .on_tray(&format!("write {file} --to {b} --unattended --accept just-verified --state notes"))
                .starts_with("exit 0")
        );
        assert!(bench.drive("b")[..DESKTOP.len()] == *DESKTOP, "{file}");
    }
    told.push(bench.on_tray(&format!("save {worn} worn.img --state notes")));
    assert!(!bench.path("worn.img").exists());
    told.push(bench.pyrotyp("ledger show last --state notes --quiet"));
    assert!(bench.pyrotyp("ledger report last --into page.html --state notes").starts_with("exit 0"));
    told.push(bench.on_tray(&format!("save {worn} worn.img --fill-unreadable --state notes --quiet")));
    let document = bench.json(&format!("save {b} whole.img --whole --tray tray --state notes"));
    assert_eq!((&document["bytes"], &document["tag"]), (&bench.drive("b").len().into(), &b.into()));
    assert!(fs::read(bench.path("whole.img")).unwrap() == bench.drive("b"));
    steady_with_rates().bind(|| insta::assert_snapshot!("saved", told.join("\n")));
}

#[test]
fn nothing_is_saved_over_or_from_what_is_in_use() {
    let mounted =
        "[[drive.partition]]\nnumber = 1\nbytes = 1048576\nfilesystem = \"ext4\"\nmounted_at = \"/srv/photos\"\n";
    let empty = "[[drive]]\nname = \"empty\"\nvendor = \"Kestrin\"\nmodel = \"Pocket\"\nserial = \"KP-9\"\nbytes = 16000000\nbus = \"usb\"\nremovable = true\n";
    let used = format!("{}{mounted}", empty.replace("\"empty\"", "\"used\"").replace("KP-9", "KP-8881"));
    let bench = Bench::new().tray(empty).tray(&used).file("there.img", b"mine");
    let [empty, used] = ["empty", "used"].map(|name| tag_of(&bench, name));
    let mut told = Vec::new();
    for words in [
        format!("save {empty} there.img"),
        format!("save {empty} no/where.img"),
        format!("save {empty} new.img"),
        format!("save {used} new.img --whole"),
        "save ZZZZZ new.img".to_owned(),
        format!("save {empty}"),
    ] {
        told.push(format!("$ {words}\n{}", bench.on_tray(&words)));
    }
    assert_eq!(fs::read(bench.path("there.img")).unwrap(), b"mine");
    fs::write(bench.path("new.img.sha256"), "of another file").unwrap();
    told.push(bench.on_tray(&format!("save {empty} new.img --whole")));
    assert!(!bench.path("new.img").exists() && !bench.path("new.img.part").exists());
    steady_with_rates().bind(|| insta::assert_snapshot!("not_saved", told.join("\n")));
}

#[test]
fn a_drive_is_copied_to_several_at_once_and_one_that_fails_stops_no_other() {
    let failing = "[[drive.fault]]\nkind = \"write-error\"\nat = 9000960\nbytes = 4096\n";
    let bench =
        Bench::new().stick("a", "").stick("b", "").stick("c", failing).stick("d", "").file("desktop.iso", &DESKTOP);
    let [a, b, c, d] = ["a", "b", "c", "d"].map(|name| tag_of(&bench, name));
    assert!(bench.on_tray(&format!("write desktop.iso --to {a} --unattended --state notes")).starts_with("exit 0"));
    let before = bench.drive("a");
    let mut told =
        vec![bench.on_tray(&format!("write {a} --to {b} --to {c} --to {d} --unattended --quiet --state notes"))];
    for name in ["b", "d"] {
        assert!(bench.drive(name)[..DESKTOP.len()] == *DESKTOP, "{name}");
    }
    assert!(bench.drive("a") == before && bench.is_blank_at_its_ends("c"));
    // By the digests that were kept, a copy is proven without the drive that it came from.
    told.push(bench.on_tray(&format!("compare {d} --state notes")));
    told.push(bench.on_tray(&format!("write {a} --to {a} --unattended --state notes --accept just-verified")));
    told.push(bench.at_terminal(&format!("write {a} --to {b} --state notes --accept just-verified"), "\n"));
    assert!(bench.drive("a") == before);
    // A word that may be a tag, and is none that is attached, is a file that is missing.
    told.push(bench.on_tray(&format!("write ZZZZZ --to {b} --unattended")));
    steady_with_rates().bind(|| insta::assert_snapshot!("copied", told.join("\n")));
}

#[test]
fn what_is_erased_is_saved_and_proven_first() {
    let bad = "[[drive.fault]]\nkind = \"read-error\"\nat = 9000960\nbytes = 512\n";
    let bench = Bench::new().stick("a", "").stick("b", "").stick("worn", bad).file("desktop.iso", &DESKTOP);
    let [a, b, worn] = ["a", "b", "worn"].map(|name| tag_of(&bench, name));
    assert!(bench.on_tray(&format!("write desktop.iso --to {a} --unattended --state notes")).starts_with("exit 0"));
    let mut told = Vec::new();
    let words = |more: &str| format!("write rescue.iso --unattended --accept just-verified --state notes {more}");
    for more in [
        format!("--to {a} --save-first old.img.zst"),
        format!("--to {a} --save-first old.img.zst"),
        format!("--to {worn} --save-first worn.img"),
        format!("--to {a} --to {b} --save-first two.img"),
    ] {
        told.push(format!("$ … {more}\n{}", bench.on_tray(&words(&more))));
    }
    assert!(!bench.was_touched("worn"));
    told.push(bench.pyrotyp("inspect old.img.zst"));
    assert!(bench.on_tray(&format!("write old.img.zst --to {b} --unattended --state notes")).starts_with("exit 0"));
    assert!(bench.drive("b")[..DESKTOP.len()] == *DESKTOP, "what was erased is there again");
    steady_with_rates().bind(|| insta::assert_snapshot!("saved_first", told.join("\n")));
}

#[test]
fn a_drive_with_large_sectors_is_saved_as_far_as_its_table_counts_in_them() {
    let wide = |name: &str, bytes: u64| {
        format!(
            "[[drive]]\nname = \"{name}\"\nmodel = \"Wide\"\nserial = \"KW-000{name}\"\nbytes = {bytes}\nsector_bytes = 4096\n\
             bus = \"usb\"\nremovable = true\n"
        )
    };
    let (bytes, end) = (199_999_488, 198_950_912);
    let bench = Bench::new().tray(&wide("a", bytes)).tray(&wide("b", bytes + 4096)).tray(&wide("c", 20_000_768));
    let [a, b, c] = ["a", "b", "c"].map(|name| tag_of(&bench, name));
    for table in ["mbr", "gpt"] {
        let made = format!("reclaim {a} --table {table} --label HOLIDAY --unattended --state notes");
        assert!(bench.on_tray(&made).starts_with("exit 0"), "{table}");
        // In the last sector of its partition: a save that is cut short would lose it.
        let picture = b"a holiday picture";
        bench.alter("a", end - 4096, picture);
        assert!(bench.on_tray(&format!("save {a} {table}.img --state notes")).starts_with("exit 0"), "{table}");
        let image = fs::read(bench.path(&format!("{table}.img"))).unwrap();
        assert!(
            image.get(end as usize - 4096..).is_some_and(|rest| rest.starts_with(picture)),
            "{table}: {}",
            image.len()
        );
        let accepted = "--accept just-verified --accept nothing-to-start";
        let copied = bench.on_tray(&format!("write {table}.img --to {b} --unattended {accepted} --state notes"));
        assert!(copied.starts_with("exit 0"), "{table}: {copied}");
    }
    // What no reader here knows: then its table counts in the drive's own sectors.
    let mut unknown = vec![0u8; 20_000_768];
    unknown[446..462].copy_from_slice(&[0, 0, 0, 0, 0x83, 0, 0, 0, 0, 1, 0, 0, 0, 16, 0, 0]);
    unknown[510..512].copy_from_slice(&[0x55, 0xAA]);
    fs::write(bench.path("tray/c.img"), unknown).unwrap();
    let document = bench.json(&format!("save {c} c.img --tray tray --state notes"));
    assert_eq!(document["bytes"], (256 + 4096) * 4096);
}

#[test]
fn what_can_not_be_read_is_told_with_the_file_that_lies_there() {
    let mut told = Vec::new();
    for kind in [VolumeKind::Fat32, VolumeKind::Exfat] {
        let mut tree = Tree::default();
        for (path, content) in [("photos/Letter to Ann.txt", b"dear Ann"), ("photos/summer/Reisbräu.jpeg", b"fin, sun")]
        {
            tree.add_file(path, None, FileBytes::Made(content.repeat(2000))).unwrap();
        }
        let label = "HOLIDAY".to_owned();
        let table = TableForm::Mbr;
        let drive_bytes = 32 << 20;
        let wanted = Storage { drive_bytes, sector_bytes: 512, kind, table, label, serial: 1 };
        let made = storage_with(&wanted, &tree).unwrap();
        let mut drive = vec![0u8; drive_bytes as usize];
        made.fill_at(0, &mut drive).unwrap();
        // In the middle of each file.
        let place = |content: &[u8]| drive.windows(8).position(|window| window == content).unwrap() + 4096;
        let bad = [place(b"dear Ann"), place(b"fin, sun")].map(|at| at - at % 512);
        let faults = bad.map(|at| format!("[[drive.fault]]\nkind = \"read-error\"\nat = {at}\nbytes = 512\n")).concat();
        let bench = Bench::new().tray(&format!(
            "[[drive]]\nname = \"a\"\nmodel = \"Pocket\"\nserial = \"KP-a\"\nbytes = {drive_bytes}\nbus = \"usb\"\nremovable = true\n{faults}"
        ));
        fs::write(bench.path("tray/a.img"), drive).unwrap();
        told.push(bench.on_tray(&format!("save {} holiday.img", tag_of(&bench, "a"))));
    }
    // Where it can't be told what is on it, all of it can be had.
    let bad = "[[drive.fault]]\nkind = \"read-error\"\nat = 32768\nbytes = 2048\n";
    let bench = Bench::new().stick("a", bad);
    let save = format!("save {} worn.img", tag_of(&bench, "a"));
    told.push(bench.on_tray(&save));
    told.push(bench.on_tray(&format!("{save} --whole")));
    steady_with_rates().bind(|| insta::assert_snapshot!("unreadable_files", told.join("\n")));
}
