//! Partitions behind an image: on the card, on the drive, compared, kept by the next release, and refused with a word.

use std::fs;

use pyrotyp_sample::{Recipe, Tables};

use super::bench::{Bench, DESKTOP, RESCUE, steady_with_rates, tag_of};

/// Where the catalogue that was used last is kept.
const CATALOGUE: &str = "notes/catalogue.toml";

/// A catalogue that says in what Larkspur Linux keeps its settings.
fn catalogue(filesystem: &str) -> String {
    format!(
        "catalogue = 1\n[[system]]\nname = \"Larkspur Linux\"\n[system.settings]\nlabel = \"LARK-MEMORY\"\n\
         filesystem = \"{filesystem}\"\nfile = \"memory.txt\"\ntext = \"everything\\n\"\n"
    )
}

/// Where a partition of a written drive lies, and what it holds, by the document of its job.
fn spare(document: &serde_json::Value, number: usize) -> (usize, usize) {
    let one = &document["image"]["spare"][number];
    let place = |key: &str| usize::try_from(one[key].as_u64().unwrap()).unwrap();
    (place("offset"), place("bytes"))
}

#[test]
fn a_partition_behind_the_image_is_made_proven_used_and_kept() {
    let compact = pyrotyp_sample::cafe::compact().build();
    let bench = Bench::new().stick("a", "").file("desktop.iso", &DESKTOP).file("compact.iso", &compact);
    let a = tag_of(&bench, "a");
    let told = [
        bench.at_terminal(&format!("write desktop.iso --to {a} --spare photos:8MB --spare rest::exfat"), "\n"),
        bench.at_terminal(
            &format!("write desktop.iso --to {a} --spare photos --state notes --bell=no"),
            &format!("{a}\n"),
        ),
        bench.on_tray(&format!("contents {a} --state notes --quiet")),
    ];
    let again = format!("write desktop.iso --to {a} --unattended --accept just-verified --state notes --tray tray");
    let document = bench.json(&format!("{again} --spare photos"));
    // The checksum is the image's own, and not that of what was made of it.
    let sum = bench.json("check desktop.iso")["sums"][0]["hex"].clone();
    assert_eq!((&document["image"]["sha256"], &document["image"]["bytes"]), (&sum, &DESKTOP.len().into()));
    let (offset, bytes) = spare(&document, 0);
    let drive = bench.drive("a");
    assert!(drive[..446] == DESKTOP[..446] && drive[64 << 10..DESKTOP.len()] == DESKTOP[64 << 10..]);
    assert_eq!(drive[offset + 510..offset + 512], [0x55, 0xAA]);
    // Somebody puts a file there: the image is proven all the same, with it and without.
    bench.alter("a", (offset + bytes - 4096) as u64, b"somebody's photo");
    let mut told = told.to_vec();
    for words in ["compare {a} desktop.iso", "compare {a}"] {
        told.push(bench.on_tray(&format!("{} --quiet --state notes", words.replace("{a}", &a))));
    }
    let compared = bench.json(&format!("compare {a} desktop.iso --state notes --tray tray"));
    assert_eq!((&compared["result"], &compared["not_compared"][0]["number"]), (&"verified".into(), &3.into()));
    // What enters the partition is compared as well, and so is the rest.
    let made = bench.drive("a");
    bench.alter("a", 1300, b"?");
    assert!(bench.on_tray(&format!("compare {a} desktop.iso --state notes")).contains("at byte 1300"));
    assert!(bench.on_tray(&format!("compare {a} --state notes")).starts_with("exit 7"));
    fs::write(bench.path("tray/a.img"), &made).unwrap();
    // The next release leaves it where it is, with what lies in it; asked for or not.
    let next = format!("write compact.iso --to {a} --only-changed --unattended --accept just-verified --state notes");
    let asked = next.replace("--unattended --accept just-verified ", "").replace("notes", "notes --quiet");
    told.push(bench.at_terminal(&format!("{asked} --accept just-verified"), "\n"));
    told.push(bench.on_tray(&next));
    told.push(bench.on_tray(&format!("{next} --quiet --spare PHOTOS")));
    told.push(bench.on_tray(&format!("contents {a} --state notes --quiet")));
    assert!(bench.drive("a")[offset + bytes - 4096..].starts_with(b"somebody's photo"));
    assert!(bench.on_tray(&format!("compare {a} --state notes --quiet")).starts_with("exit 0"));
    for other in ["--spare other", "--spare photos --spare more"] {
        told.push(bench.on_tray(&format!("{next} {other}")));
    }
    // One that reaches into it, or a partition that is something else by now, is refused.
    let long = [compact.as_slice(), &vec![0; offset]].concat();
    fs::write(bench.path("long.iso"), long).unwrap();
    told.push(bench.on_tray(&next.replace("compact", "long")));
    bench.alter("a", offset as u64, &[0; 4096]);
    told.push(bench.on_tray(&next));
    steady_with_rates().bind(|| insta::assert_snapshot!("spare", told.join("\n")));
}

#[test]
fn a_partition_that_was_only_half_made_is_not_kept() {
    // Its first sectors are there, and then the drive fails.
    let fault = "[[drive.fault]]\nkind = \"write-error\"\nat = 20979712\nbytes = 512\n";
    let bench = Bench::new().stick("a", fault).file("desktop.iso", &DESKTOP);
    let a = tag_of(&bench, "a");
    let write = format!("write desktop.iso --to {a} --unattended --quiet --state notes");
    assert!(bench.on_tray(&format!("{write} --spare photos")).starts_with("exit 6"));
    assert_eq!(bench.drive("a")[20_971_520 + 510..20_971_520 + 512], [0x55, 0xAA]);
    let descriptor = fs::read_to_string(bench.path("tray/tray.toml")).unwrap();
    fs::write(bench.path("tray/tray.toml"), descriptor.replace(fault, "")).unwrap();
    let document = bench.json(&format!("{write} --tray tray --only-changed"));
    assert_eq!((&document["result"], &document["image"]["spare"]), (&"verified".into(), &serde_json::Value::Null));
    // One that was whole is kept by a job that fails, and by the next.
    let spare = format!("{write} --tray tray --accept just-verified --only-changed");
    assert_eq!(
        bench.json(&format!("{spare} --spare photos"))["image"]["spare"][0]["was_there"],
        serde_json::Value::Null
    );
    fs::write(bench.path("tray/tray.toml"), descriptor.replace("20979712", "5000000")).unwrap();
    bench.alter("a", 5_000_000, b"?");
    assert_eq!(bench.json(&spare)["result"], "failed");
    fs::write(bench.path("tray/tray.toml"), descriptor.replace(fault, "")).unwrap();
    let kept = bench.json(&spare);
    assert_eq!((&kept["result"], &kept["image"]["spare"][0]["was_there"]), (&"verified".into(), &true.into()));
    // Whoever looks the job up is told of it, and so is whoever is handed the stick.
    let behind = "partition 3 \"PHOTOS\", fat32, 25.2 MB";
    assert!(bench.pyrotyp("ledger show last --state notes").contains(&format!("behind    {behind}")));
    assert!(bench.pyrotyp("ledger report last --into page.html --state notes").starts_with("exit 0"));
    let page = fs::read_to_string(bench.path("page.html")).unwrap();
    assert!(page.contains("behind it") && page.contains("PHOTOS"), "{page}");
}

#[test]
fn partition_that_was_deleted_or_added_elsewhere_is_not_put_back() {
    let bench = Bench::new().stick("a", "").file("desktop.iso", &DESKTOP);
    let a = tag_of(&bench, "a");
    let write = format!("write desktop.iso --to {a} --unattended --quiet --state notes --accept just-verified");
    assert!(bench.on_tray(&format!("{write} --spare PHOTOS:8MiB")).starts_with("exit 0"));
    let made = bench.drive("a");
    let refused = |change: &dyn Fn(&mut Vec<u8>)| {
        let mut bytes = made.clone();
        change(&mut bytes);
        fs::write(bench.path("tray/a.img"), &bytes).unwrap();
        let told = bench.on_tray(&format!("{write} --only-changed"));
        assert!(told.starts_with("exit 5") && told.contains("changed since the last job"), "{told}");
        assert!(bench.drive("a") == bytes);
    };
    // Entries of the GUID table, and of the master boot record, by the places that the record has altered.
    let job = bench.json("ledger --state notes")[0]["job"].as_str().unwrap().to_owned();
    let record = bench.json(&format!("ledger show {job} --state notes"));
    let altered = record["image"]["altered"].as_array().unwrap();
    assert!(!altered.is_empty());
    for one in altered {
        let at = one["offset"].as_u64().unwrap() as usize;
        refused(&|bytes| bytes[at] ^= 0x55);
    }
    fs::write(bench.path("tray/a.img"), &made).unwrap();
    // While the question is open.
    let at = altered[0]["offset"].as_u64().unwrap() as usize;
    let words = format!("write desktop.iso --to {a} --state notes --accept just-verified --only-changed");
    let told = bench.at_terminal_answering(&words, &|| {
        bench.alter("a", at as u64, &[made[at] ^ 0x55]);
        format!("{a}\n")
    });
    assert!(told.starts_with("exit 5") && told.contains("\"PHOTOS\" changed since you were asked"), "{told}");
    let mut altered_made = made.clone();
    altered_made[at] ^= 0x55;
    assert!(bench.drive("a") == altered_made);
    fs::write(bench.path("tray/a.img"), &made).unwrap();
    assert!(bench.on_tray(&format!("{write} --only-changed")).starts_with("exit 0"));
}

#[test]
fn what_a_live_system_keeps_its_settings_in_comes_from_the_catalogue() {
    let bench = Bench::new().stick("a", "").file("desktop.iso", &DESKTOP);
    fs::create_dir(bench.path("notes")).unwrap();
    let a = tag_of(&bench, "a");
    let words = format!("write desktop.iso --to {a} --state notes");
    let mut told = vec![bench.on_tray(&format!("{words} --unattended --spare settings"))];
    fs::write(bench.path(CATALOGUE), catalogue("exfat")).unwrap();
    told.push(bench.at_terminal(&format!("{words} --spare settings:12MiB"), &format!("{a}\n")));
    told.push(bench.on_tray(&format!("contents {a} --state notes --quiet")));
    told.push(
        bench.on_tray(&format!("{words} --unattended --quiet --only-changed --accept just-verified --spare settings")),
    );
    fs::write(bench.path(CATALOGUE), catalogue("xfs")).unwrap();
    told.push(bench.on_tray(&format!("{words} --unattended --spare LARK-MEMORY")));
    steady_with_rates().bind(|| insta::assert_snapshot!("spare_settings", told.join("\n")));
}

#[test]
fn where_no_partition_fits_behind_an_image_nothing_is_touched() {
    let bare = Recipe { tables: Tables::None, ..pyrotyp_sample::cafe::rescue().recipe }.build();
    let small = "[[drive]]\nname = \"small\"\nvendor = \"Kestrin\"\nmodel = \"Mini\"\nserial = \"KM-1\"\nbytes = 25165824\nbus = \"usb\"\nremovable = true\n";
    let large = small.replace("small", "large").replace("KM-1", "KM-2").replace("25165824", "62914560");
    let bench =
        Bench::new().stick("a", "").tray(small).tray(&large).file("desktop.iso", &DESKTOP).file("bare.iso", &bare);
    let [a, small, large] = ["a", "small", "large"].map(|name| tag_of(&bench, name));
    let mut told = Vec::new();
    for words in [
        format!("desktop.iso --to {a} --spare :4GB"),
        format!("desktop.iso --to {a} --spare a:much"),
        format!("desktop.iso --to {a} --spare a:4MB:ntfs"),
        format!("desktop.iso --to {a} --spare a:4MB:fat32:x"),
        format!("desktop.iso --to {a} --spare twelve-letter"),
        format!("desktop.iso --to {a} --spare a:1TB"),
        format!("desktop.iso --to {a} --spare a --spare b"),
        format!("desktop.iso --to {a} --to {small} --spare a"),
        format!("desktop.iso --to {a} --to {large} --spare a"),
        format!("bare.iso --to {a} --spare a --accept optical-only"),
        format!("- --to {a} --spare a"),
        format!("{small} --to {a} --spare a"),
    ] {
        let out = bench.on_tray(&format!("write {words} --unattended --state notes"));
        told.push(format!("$ write {words}\n{out}"));
    }
    steady_with_rates().bind(|| insta::assert_snapshot!("no_spare", told.join("\n")));
    assert!(!bench.was_touched("a"));
    // In a master boot record, sticks of two sizes hold the same.
    let both =
        format!("write rescue.iso --to {a} --to {small} --spare more:4MiB:exfat --unattended --quiet --state notes");
    assert!(bench.on_tray(&both).starts_with("exit 0"));
    // As far as anything is written: behind that lies what was there before.
    let end = RESCUE.len().next_multiple_of(4 << 20) + (12 << 10);
    assert!(bench.drive("a")[..end] == bench.drive("small")[..end]);
    // The same command goes on with what it left: it makes the same bytes.
    let again = bench.json(&format!("{both} --tray tray --only-changed --accept just-verified"));
    assert!(again["drives"][0]["written_bytes"].as_u64().unwrap() <= 2 << 20, "{again:#}");
}
