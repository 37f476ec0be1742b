use super::bench::{Bench, DESKTOP, RESCUE, steady, tag_of};

#[test]
fn a_stick_that_was_altered_is_told_where_why_and_in_which_file() {
    let bench = Bench::new().stick("a", "").file("desktop.iso", &DESKTOP);
    let tag = tag_of(&bench, "a");
    bench.on_tray(&format!("write desktop.iso --to {tag} --unattended"));
    steady().bind(|| {
        insta::assert_snapshot!(bench.on_tray(&format!("compare {tag} desktop.iso")), @"
        exit 0
        verified: drive 590J1 (Kestrin Pocket) holds desktop.iso, 19.6 MB read and equal byte for byte
        -- standard error:
        read back: 19.6 MB in [TIME]
        ");
    });
    bench.alter("a", 4096, &[0xFF; 64]); // behind the tables: no file
    bench.alter("a", 5_000_000, &[0; 4000]); // in a file of the volume
    let esp = DESKTOP.len() - 33 * 512 - (2 << 20);
    let program = esp + DESKTOP[esp..].windows(2).position(|two| two == b"MZ").unwrap();
    bench.alter("a", program as u64 + 99, b"not what was written here"); // in the ESP behind the volume
    steady().bind(|| {
        insta::assert_snapshot!(bench.on_tray(&format!("compare {tag} desktop.iso --quiet")), @"
        exit 7
        differs: drive 590J1 (Kestrin Pocket) does not hold desktop.iso
          a part of it was changed after it was written
          at byte 4096, 64 bytes: a computer changed notes of its own there
          at byte 5000000, 4000 bytes: reads back as zeros, in live/system.img
          at byte 17484387, 25 bytes: holds other data, in partition 2: EFI/BOOT/BOOTX64.EFI
        ");
        insta::assert_snapshot!(bench.on_tray(&format!("compare {tag} desktop.iso --json --quiet")), @r#"
        exit 7
        {
          "result": "differs",
          "bytes": 19573248,
          "against": {
            "file": "desktop.iso"
          },
          "conclusion": {
            "id": "changed-later",
            "text": "a part of it was changed after it was written",
            "next": "write it again with --only-changed: only what differs is written",
            "true_bytes": null
          },
          "holds": null,
          "read_again": 0,
          "differences": [
            {
              "offset": 4096,
              "bytes": 64,
              "cause": "housekeeping",
              "file": null
            },
            {
              "offset": 5000000,
              "bytes": 4000,
              "cause": "zeros",
              "file": "live/system.img"
            },
            {
              "offset": 17484387,
              "bytes": 25,
              "cause": "other-data",
              "file": "partition 2: EFI/BOOT/BOOTX64.EFI"
            }
          ],
          "more_differences": 0
        }
        "#);
    });
}

#[test]
fn what_can_not_be_compared_says_why() {
    let small = "[[drive]]\nname = \"small\"\nbytes = 1048576\nbus = \"usb\"\nremovable = true\nserial = \"S-771\"\n";
    let bad = "[[drive.fault]]\nkind = \"read-error\"\nat = 2000000\nbytes = 10\n";
    let empty = "[[drive]]\nname = \"slot\"\nbytes = 0\nbus = \"usb\"\nremovable = true\nserial = \"B-1\"\n";
    let parted = "[[drive.partition]]\nnumber = 1\nbytes = 4096\n";
    let bench = Bench::new().tray(small).tray(empty).stick("bad", &format!("{parted}{bad}"));
    bench.alter("bad", 0, &RESCUE);
    steady().bind(|| {
        insta::assert_snapshot!(bench.on_tray("compare small rescue.iso --quiet"), @"
        exit 7
        differs: drive CSK93 (unnamed drive) does not hold rescue.iso
          the image is longer than the drive
          at byte 0, 512 bytes: reads back as zeros
          at byte 32768, 1015808 bytes: reads back as zeros
          at byte 1048576, 4106240 bytes: lies behind the drive's end, in rescue/tools.img
        ");
        insta::assert_snapshot!(bench.on_tray("compare bad rescue.iso --quiet"), @"
        exit 7
        differs: drive Q3DMK (Kestrin Pocket) does not hold rescue.iso
          parts of it can't be read any more
          at byte 1966080, 65536 bytes: can't be read, in rescue/tools.img
        ");
        insta::assert_snapshot!(bench.on_tray("compare nothing rescue.iso --quiet"), @"
        exit 5
        -- standard error:
        pyrotyp: no drive `nothing` is attached; attached are CSK93 (unnamed drive), VDVG? (unnamed drive), Q3DMK (Kestrin Pocket)
           next: plug it in, or choose one that `pyrotyp drives --tray tray --all` shows
        ");
        insta::assert_snapshot!(bench.on_tray("compare slot rescue.iso --quiet"), @"
        exit 5
        -- standard error:
        pyrotyp: drive VDVG? has no medium in it
           next: put the card in
        ");
        assert_eq!(bench.on_tray("contents slot --quiet"), bench.on_tray("compare slot rescue.iso --quiet"));
        insta::assert_snapshot!(bench.on_tray("compare tray:bad1 rescue.iso --quiet"), @"
        exit 5
        -- standard error:
        pyrotyp: `tray:bad1` is a partition, and an image takes a whole drive
           next: name the drive: Q3DMK
        ");
    });
}

#[test]
fn a_stick_with_another_image_is_told_what_it_holds_and_nothing_that_overwrites_is_offered() {
    // The two are alike but for a file, as one release is to the next.
    let mut next = pyrotyp_sample::cafe::desktop();
    next.recipe.files[0].bytes = b"Larkspur Linux 9.4 Desktop (64-bit), long-term release\n".to_vec();
    next.recipe.label = "LARKSPUR_94_DESKTOP".into();
    let bench = Bench::new().stick("a", "").file("desktop.iso", &DESKTOP).file("next.iso", &next.build());
    let tag = tag_of(&bench, "a");
    bench.on_tray(&format!("write next.iso --to {tag} --unattended --quiet"));
    let mut told = vec![bench.on_tray(&format!("compare {tag} desktop.iso"))];
    bench.on_tray(&format!("write rescue.iso --to {tag} --unattended --quiet --accept just-verified"));
    told.push(bench.on_tray(&format!("compare {tag} desktop.iso")));
    // What somebody made of it since then is not what the records know of it.
    let fresh = pyrotyp_sample::noise(4 << 20, 3);
    bench.alter("a", 0, &fresh);
    told.push(bench.on_tray(&format!("compare {tag} rescue.iso")));
    let mut settings = steady();
    settings.add_filter(r"written on \d{4}-\d\d-\d\d", "written on [DAY]");
    settings.bind(|| insta::assert_snapshot!("another_image", told.join("\n")));
}
