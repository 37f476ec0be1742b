use std::fs::File;
use std::time::{Duration, Instant};

use super::bench::{Bench, DESKTOP, DRIVE_BYTES, RESCUE, steady, tag_of};
use pyrotyp_core::guard::RULES;
use pyrotyp_core::hash::{Algorithm, Hashers};

const SYSTEM: &str = "
[[drive]]
name = \"marrow\"
vendor = \"Marrow\"
model = \"NV2\"
serial = \"MNV2-51200831\"
bytes = 50331648
bus = \"nvme\"
[[drive.partition]]
number = 2
bytes = 40000000
filesystem = \"ext4\"
mounted_at = \"/\"
";

#[test]
fn a_verified_stick_holds_the_image_and_nothing_old_at_either_end() {
    let bench = Bench::new().stick("a", "").file("desktop.iso", &DESKTOP);
    let tag = tag_of(&bench, "a");
    steady().bind(|| {
        let told = bench.on_tray(&format!("write desktop.iso --to {tag} --unattended --json --state notes"));
        insta::assert_snapshot!(told, @r#"
        exit 0
        {
          "job": "[WHEN]-590J1",
          "record": 1,
          "started": "[WHEN]",
          "ended": "[WHEN]",
          "version": "0.1.0",
          "kind": "write",
          "person": "[WHO]",
          "bench": "[WHO]",
          "accepted": [],
          "result": "verified",
          "image": {
            "file": "[DIR]/desktop.iso",
            "bytes": 19573248,
            "label": "LARKSPUR_92_DESKTOP",
            "title": "Larkspur Linux 9.2 Desktop",
            "architecture": "x86-64",
            "verdict": "ready",
            "boots": [
              {
                "firmware": "bios",
                "arch": "x86",
                "via": "mbr",
                "signed": null
              },
              {
                "firmware": "bios",
                "arch": "x86",
                "via": "el-torito",
                "signed": null
              },
              {
                "firmware": "uefi",
                "arch": "x86-64",
                "via": "esp",
                "signed": false
              },
              {
                "firmware": "uefi",
                "arch": "x86-64",
                "via": "el-torito",
                "signed": false
              }
            ],
            "sha256": "b7c81d1c8f11950702d70221f00b6ee673694d4c64e371211c82a10301487418",
            "proof": "nothing"
          },
          "drives": [
            {
              "tag": "590J1",
              "path": "tray:a",
              "vendor": "Kestrin",
              "model": "Pocket",
              "serial": "KP-a",
              "bytes": 50331648,
              "result": "verified",
              "head": "sealed",
              "fault": null,
              "fault_file": null,
              "stages": [
                {
                  "name": "claim",
                  "bytes": 0,
                  "seconds": "[TIME]"
                },
                {
                  "name": "blank",
                  "bytes": 2097152,
                  "seconds": "[TIME]"
                },
                {
                  "name": "body",
                  "bytes": 18524672,
                  "seconds": "[TIME]"
                },
                {
                  "name": "read-back",
                  "bytes": 18524672,
                  "seconds": "[TIME]"
                },
                {
                  "name": "seal",
                  "bytes": 1048576,
                  "seconds": "[TIME]"
                },
                {
                  "name": "release",
                  "bytes": 0,
                  "seconds": "[TIME]"
                }
              ],
              "written_bytes": 18524672,
              "read_again": 0,
              "conclusion": null,
              "differences": [],
              "more_differences": 0,
              "findings": [
                {
                  "id": "has-data",
                  "level": "note",
                  "text": "holds data of no kind that is known here",
                  "next": ""
                }
              ]
            }
          ]
        }
        -- standard error:
        no checksum to compare the image with: none was given or found
        write: 18.5 MB in [TIME]
        read back: 18.5 MB in [TIME]
        seal: 1.0 MB in [TIME]
        "#);
    });
    let drive = bench.drive("a");
    assert!(drive.starts_with(&DESKTOP));
    assert!(drive[drive.len() - (1 << 20)..].iter().all(|byte| *byte == 0));
    assert_eq!(bench.records("notes"), 1);
}

#[test]
fn whatever_is_wrong_is_refused_and_no_drive_is_touched() {
    let bench = Bench::new()
        .stick("a", "")
        .stick("locked", "write_protected = true\n")
        .stick("member", "held_by = \"md0 (cellar)\"\n")
        .stick("data", "[[drive.partition]]\nnumber = 1\nbytes = 4096\n")
        .tray("[[drive]]\nname = \"tiny\"\nserial = \"T-9913\"\nbytes = 1048576\nbus = \"usb\"\nremovable = true\n")
        .tray("[[drive]]\nname = \"slot\"\nserial = \"T-9914\"\nbytes = 0\nbus = \"usb\"\nremovable = true\n")
        .tray("[[drive]]\nname = \"vault\"\nserial = \"T-9915\"\nbytes = 50331648\nbus = \"usb\"\n")
        .tray("[[drive]]\nname = \"twin-1\"\nserial = \"0000\"\nbytes = 50331648\nbus = \"usb\"\nremovable = true\n")
        .tray("[[drive]]\nname = \"twin-2\"\nserial = \"0000\"\nbytes = 50331648\nbus = \"usb\"\nremovable = true\n")
        .tray(SYSTEM)
        .file("empty.iso", b"")
        .file("page.iso", b"<html>404</html>")
        .file("cut.iso", &DESKTOP[..10_000_000])
        .file("SHA256SUMS", format!("{}  listed.iso\n", "12".repeat(32)).as_bytes())
        .file("listed.iso", &RESCUE);
    // The data stick is still as delivered, so that its partition is the descriptor's.
    std::fs::remove_file(bench.path("tray/data.img")).unwrap();
    let tag = |name| tag_of(&bench, name);
    let mut told = String::new();
    let mut refuse = |words: String| {
        let said = bench.on_tray(&format!("write {words}"));
        told.push_str(&format!("$ write {words}\n{said}\n"));
        assert!(!said.starts_with("exit 0"), "{words}: {said}");
    };
    for file in ["nowhere.iso", ".", "empty.iso", "page.iso", "cut.iso", "listed.iso"] {
        refuse(format!("{file} --to {} --unattended", tag("a")));
    }
    for name in ["locked", "member", "tiny", "slot", "vault", "twin-1"] {
        refuse(format!("rescue.iso --to {} --unattended", tag(name)));
    }
    refuse("rescue.iso --to data1 --unattended".into());
    refuse("rescue.iso --to 00000 --unattended".into());
    refuse("rescue.iso --to tray:a --unattended".into());
    refuse(format!("rescue.iso --to {}", tag("a")));
    refuse(format!("rescue.iso --to {} --unattended --accept everything", tag("a")));
    insta::assert_snapshot!("refusals", told);
    for name in ["a", "locked", "member"] {
        assert!(!bench.was_touched(name), "{name}");
    }
    for name in ["tiny", "slot", "vault", "twin-1", "twin-2", "data", "marrow"] {
        assert!(!bench.path(&format!("tray/{name}.img")).exists(), "{name} was opened for writing");
    }
}

#[test]
fn no_option_opens_the_way_to_the_system_disk() {
    let bench = Bench::new().tray(SYSTEM);
    let everything: String = RULES.iter().map(|rule| format!(" --accept {}", rule.id)).collect();
    for name in [&*tag_of(&bench, "marrow"), "tray:marrow", "marrow", "marrow2", "tray:marrow2"] {
        let told = bench.on_tray(&format!("write rescue.iso --to {name} --unattended{everything}"));
        assert!(told.starts_with("exit 5"), "{name}: {told}");
        assert!(told.contains("system-disk: this system runs from it (/)"), "{name}: {told}");
    }
    assert!(!bench.path("tray/marrow.img").exists());
}

#[test]
fn the_image_is_never_written_over_itself() {
    let bench = Bench::new();
    let at = bench.path("").canonicalize().unwrap();
    let mounted = format!("[[drive.partition]]\nnumber = 1\nbytes = 4096\nmounted_at = \"{}\"\n", at.display());
    let bench = bench.stick("a", &mounted);
    std::fs::remove_file(bench.path("tray/a.img")).unwrap();
    let told = bench.on_tray(&format!("write rescue.iso --to {} --unattended", tag_of(&bench, "a")));
    assert!(told.contains("image-on-target: the image itself lies on this drive"), "{told}");
}

#[test]
fn a_stick_that_fails_does_not_start_a_pc_and_says_why() {
    let at = 3_000_000;
    let faults = [
        ("write-error", format!("kind = \"write-error\"\nat = {at}\nbytes = 512")),
        ("read-error", format!("kind = \"read-error\"\nat = {at}\nbytes = 512")),
        ("corrupt", format!("kind = \"corrupt\"\nat = {at}\nbytes = 2048")),
        ("drop", format!("kind = \"drop\"\nat = {at}\nbytes = 100000")),
        ("drop-head", "kind = \"drop\"\nat = 0\nbytes = 512".to_owned()),
        ("wrap", "kind = \"wrap\"\ntrue_bytes = 4194304".to_owned()),
        ("unplug", "kind = \"unplug\"\nafter_bytes = 5000000".to_owned()),
    ];
    let mut told = String::new();
    for (name, fault) in faults {
        let bench = Bench::new().stick("a", &format!("[[drive.fault]]\n{fault}\n")).file("desktop.iso", &DESKTOP);
        let said = bench.on_tray(&format!("write desktop.iso --to {} --unattended --quiet", tag_of(&bench, "a")));
        told.push_str(&format!("{name}: {said}\n"));
        // Where the drive drops or wraps, what lies at its ends is not what was sent there.
        if !matches!(name, "drop-head" | "wrap") {
            assert!(bench.is_blank_at_its_ends("a"), "{name}");
        }
        assert_ne!(bench.drive("a")[..1 << 20], DESKTOP[..1 << 20], "{name}");
    }
    steady().bind(|| insta::assert_snapshot!("faults", told));
}

#[test]
fn ctrl_c_leaves_a_blank_head_and_says_so() {
    let slow = "[[drive.fault]]\nkind = \"slow\"\nbytes_per_second = 4000000\n";
    let bench = Bench::new().stick("a", slow).file("desktop.iso", &DESKTOP);
    let mut command =
        bench.command(&format!("write desktop.iso --to {} --unattended --tray tray", tag_of(&bench, "a")));
    let child = command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped()).spawn().unwrap();
    let begun = Instant::now();
    // The first block behind the head is the sign that the body is under way.
    while bench.drive("a")[1 << 20..][..16] != DESKTOP[1 << 20..][..16] {
        assert!(begun.elapsed() < Duration::from_secs(60), "the body never began");
        std::thread::sleep(Duration::from_millis(20));
    }
    let pid = child.id().to_string();
    assert!(std::process::Command::new("kill").args(["-INT", &pid]).status().unwrap().success());
    insta::assert_snapshot!(bench.tell(&child.wait_with_output().unwrap()), @"
    exit 8
    -- standard error:
    no checksum to compare the image with: none was given or found
    pyrotyp: drive 590J1 (Kestrin Pocket): stopped during the writing
       its head is blank: no PC starts from it
       next: to go on from there, run the same command with --resume
    ");
    assert!(bench.is_blank_at_its_ends("a"));
}

#[test]
fn at_a_terminal_only_the_typed_tag_confirms() {
    let holiday = "[[drive.partition]]\nnumber = 1\nbytes = 48000000\nfilesystem = \"fat32\"\nlabel = \"HOLIDAY\"\n";
    let bench = Bench::new().stick("a", holiday).stick("b", "");
    std::fs::remove_file(bench.path("tray/a.img")).unwrap();
    let (tag, other) = (tag_of(&bench, "a"), tag_of(&bench, "b"));
    let write = format!("write rescue.iso --to {tag} --color never --quiet");
    steady().bind(|| {
        insta::assert_snapshot!("card", bench.at_terminal(&write, &format!("{other}\n")));
    });
    // The right tag among other words is no answer either.
    for typed in ["\n".to_owned(), "y\n".into(), "yes\n".into(), format!("not {tag}\n"), format!("{tag} {other}\n")] {
        let told = bench.at_terminal(&write, &typed);
        assert!(told.starts_with("exit 5") && told.contains("nothing was changed"), "{typed:?}: {told}");
    }
    // Nor is a tag that was typed before the card was there to be read.
    let told = bench.at_terminal_early(&format!("{tag}\n"), &write, "\n");
    assert!(told.starts_with("exit 5") && told.contains("no tag was typed, and nothing was changed"), "{told}");
    // Ctrl-C is a character to a terminal.
    let told = bench.at_terminal(&write, "\x03");
    assert!(told.starts_with("exit 8") && told.contains("nothing was changed"), "{told}");
    assert!(!bench.path("tray/a.img").exists() && !bench.was_touched("b"));
    let told = bench.at_terminal(&write, &format!("{}\n", tag.to_lowercase()));
    assert!(told.starts_with("exit 0") && told.contains("verified"), "{told}");
    assert!(bench.drive("a").starts_with(&RESCUE));
}

#[test]
fn the_next_drive_plugged_in_can_be_the_one() {
    let late = "[[drive]]\nname = \"late\"\nserial = \"L-3301\"\nbytes = 50331648\nbus = \"usb\"\nremovable = true\n\
                appears_after_ms = 700\n";
    let bench = Bench::new().stick("a", "").tray(late);
    let told = bench.at_terminal("write rescue.iso --to arriving --color never", "\n");
    assert!(told.contains("plug the drive in now") && told.contains("tray:late"), "{told}");
    assert!(!bench.was_touched("a"));
}

#[test]
fn what_proves_nothing_is_refused_where_nobody_confirms_it() {
    let card = "[[drive]]\nname = \"card\"\nmodel = \"SD Card Reader\"\nserial = \"BR-20260117\"\nbytes = 50331648\n\
                bus = \"usb\"\nremovable = true\n";
    let photos =
        "[[drive.partition]]\nnumber = 1\nbytes = 4096\nfilesystem = \"btrfs\"\nlabel = \"PHOTOS\"\ndrives = 2\n";
    let bench = Bench::new()
        .tray(card)
        .tray(&card.replace("\"card\"", "\"other\"").replace("bytes", "slot = 1\nbytes"))
        .stick("copied", "opened_by = \"rescue copy (process 71)\"")
        .stick(
            "changed",
            "opened_by = \"rescue copy (process 71)\"\n[[drive.fault]]\nkind = \"drop\"\nat = 3000000\nbytes = 90000\n",
        )
        .stick("photos", photos);
    std::fs::remove_file(bench.path("tray/photos.img")).unwrap();
    let tag = |name: &str| tag_of(&bench, name);
    let (card, other) = (tag("card"), tag("other"));
    assert!(card.ends_with('?') && other.ends_with('?') && card != other, "two cards of one size are told apart");
    let write =
        |name: &str, more: &str| bench.on_tray(&format!("write rescue.iso --to {name} --unattended --quiet {more}"));
    let mut told = vec![write(&card, ""), write("card", ""), write("arriving", "")];
    told.extend(["copied", "photos"].map(|name| write(&tag(name), "")));
    assert!(!bench.was_touched("copied") && !bench.path("tray/photos.img").exists());
    // At a terminal a card may be confirmed.
    let typed = bench.at_terminal(&format!("write rescue.iso --to {card} --quiet --color never"), &format!("{card}\n"));
    assert!(typed.starts_with("exit 0"), "{typed}");
    let accepted = write(&tag("copied"), "--accept held-open");
    assert!(accepted.starts_with("exit 0") && accepted.contains("still has the drive open"), "{accepted}");
    // What another program may have changed is not the drive's fault.
    told.push(write(&tag("changed"), "--accept held-open"));
    assert!(write(&tag("photos"), "--accept part-of-group").starts_with("exit 0"));
    insta::assert_snapshot!("no_proof", told.join("\n"));
}

#[test]
fn a_tray_reaches_nothing_but_its_own_files() {
    let bench = Bench::new().stick("a", "").stick("b", "").file("precious", b"somebody's");
    std::fs::remove_file(bench.path("tray/a.img")).unwrap();
    let (a, b) = (tag_of(&bench, "a"), tag_of(&bench, "b"));
    std::os::unix::fs::symlink(bench.path("precious"), bench.path("tray/a.img")).unwrap();
    std::fs::remove_file(bench.path("tray/b.img")).unwrap();
    std::os::unix::fs::symlink("/dev/null", bench.path("tray/b.img")).unwrap();
    for (tag, command) in
        [(&a, "write rescue.iso --unattended --to"), (&b, "write rescue.iso --unattended --to"), (&a, "contents")]
    {
        let told = bench.on_tray(&format!("{command} {tag}"));
        assert!(told.starts_with("exit 5") && told.contains("can't be opened"), "{told}");
    }
    assert_eq!(std::fs::read(bench.path("precious")).unwrap(), b"somebody's");
}

#[test]
fn a_skipped_read_back_is_never_called_verified() {
    // The fault would show, had anybody looked.
    let bench = Bench::new().stick("a", "[[drive.fault]]\nkind = \"corrupt\"\nat = 3000000\nbytes = 512\n");
    let tag = tag_of(&bench, "a");
    steady().bind(|| {
        let told = bench.on_tray(&format!("write rescue.iso --to {tag} --unattended --skip-readback --eject --quiet"));
        insta::assert_snapshot!(told, @"
        exit 0
        written: WRENFIELD_RESCUE_3 is on drive 590J1 (Kestrin Pocket); it was not read back, nothing is proven
          5.2 MB in [TIME]: writing [TIME]
          SHA-256 0d8ca679a4c957b5cfbf6b51d0ffa55624e211539ca12e0d54ff15d9c7b4d933
        ");
    });
    assert_eq!(bench.drive("a").len() as u64, DRIVE_BYTES);
}

#[test]
fn a_packed_image_is_proven_before_and_unpacked_onto_the_drive() {
    use std::io::Write;
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packed.write_all(&DESKTOP).unwrap();
    let packed = packed.finish().unwrap();
    let bench = Bench::new()
        .stick("a", "")
        .file("desktop.iso.gz", &packed)
        .file("cut.iso.gz", &packed[..packed.len() / 2])
        .file("bomb.gz", &zeros_packed());
    let tag = tag_of(&bench, "a");
    steady().bind(|| {
        for image in ["cut.iso.gz", "bomb.gz"] {
            let told =
                bench.on_tray(&format!("write {image} --to {tag} --unattended --quiet --accept nothing-to-start"));
            insta::assert_snapshot!(image, told);
            assert!(!bench.was_touched("a"));
        }
        let told = bench.on_tray(&format!("write desktop.iso.gz --to {tag} --unattended --quiet"));
        insta::assert_snapshot!(told, @"
        exit 0
        verified: Larkspur Linux 9.2 Desktop is on drive 590J1 (Kestrin Pocket), read back and equal byte for byte
          19.6 MB in [TIME]: writing [TIME], reading back [TIME]
          SHA-256 b7c81d1c8f11950702d70221f00b6ee673694d4c64e371211c82a10301487418
        ");
    });
    assert!(bench.drive("a").starts_with(&DESKTOP));
    let told = bench.on_tray(&format!("compare {tag} desktop.iso.gz --quiet"));
    assert!(told.starts_with("exit 0\nverified"), "{told}");
}

/// An ISO volume that holds data only, with more zeros behind it than the drive has room for.
fn zeros_packed() -> Vec<u8> {
    use std::io::Write;
    let recipe = pyrotyp_sample::Recipe {
        tables: pyrotyp_sample::Tables::None,
        el_torito: false,
        esp: pyrotyp_sample::Esp::None,
        ..pyrotyp_sample::cafe::compact().recipe
    };
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packed.write_all(&recipe.build()).unwrap();
    packed.write_all(&vec![0; 100 << 20]).unwrap();
    packed.finish().unwrap()
}

/// An image of so many bytes, mostly zeros, that takes a moment to be compared, and a stick that has room for it.
fn large(name: &str, bytes: u64) -> Bench {
    let bench = Bench::new().file(name, &DESKTOP);
    File::options().write(true).open(bench.path(name)).unwrap().set_len(bytes).unwrap();
    bench.tray(&format!(
        "[[drive]]\nname = \"a\"\nvendor = \"Kestrin\"\nmodel = \"Pocket\"\nserial = \"KP-a\"\nbytes = {}\nbus = \"usb\"\n\
         link_mbps = 480\nremovable = true\n",
        1 << 30
    ))
}

#[test]
fn the_question_comes_while_the_image_is_compared_and_nothing_is_erased_before_that_is_right() {
    let bytes = 700 << 20;
    // No processor has instructions of its own for this one: it takes its time everywhere.
    let wrong = format!("{}  large.iso\n", "0".repeat(32));
    let bench = large("large.iso", bytes).file("MD5SUMS", wrong.as_bytes());
    let write = format!("write large.iso --to {} --color never", tag_of(&bench, "a"));
    let tag = format!("{}\n", tag_of(&bench, "a"));
    // Nobody answers; somebody answers before it is known; somebody says no.
    let told: Vec<String> = ["", &tag, "\n"].iter().map(|typed| bench.at_terminal(&write, typed)).collect();
    for (told, exit) in told.iter().zip(["exit 4", "exit 4", "exit 5"]) {
        assert!(told.starts_with(exit) && told.contains("being compared: MD5 with MD5SUMS"), "{told}");
        assert!(told.contains("type its tag"), "{told}");
    }
    assert!(told[1].contains("the MD5 does not match MD5SUMS") && !told[2].contains("match"), "{told:?}");
    assert!(!bench.path("tray/a.img").exists(), "not a byte was written");
    insta::assert_snapshot!("while_the_question_is_open", told[0]);
}

#[test]
fn what_comes_out_right_after_the_answer_is_written() {
    let bytes = 200 << 20;
    let bench = large("large.iso", bytes);
    let mut image = DESKTOP.clone();
    image.resize(bytes as usize, 0);
    let mut hashers = Hashers::new([Algorithm::Sha256]);
    hashers.update(&image);
    let bench = bench.file("SHA256SUMS", format!("{}  large.iso\n", hashers.finish().remove(0).hex).as_bytes());
    let tag = tag_of(&bench, "a");
    let told = bench.at_terminal(&format!("write large.iso --to {tag} --color never"), &format!("{tag}\n"));
    assert!(told.starts_with("exit 0") && told.contains("SHA-256 matches SHA256SUMS"), "{told}");
    assert!(bench.drive("a")[..image.len()] == image);
}
