use super::bench::{Bench, DESKTOP, RESCUE};
use pyrotyp_sample::{Esp, File, Recipe, Tables, cafe};

fn recipe(tables: Tables, el_torito: bool) -> Recipe {
    let files = vec![File::filler("live/system.img", 300_000, 1)];
    Recipe { name: "Test".into(), label: "TEST".into(), tables, esp: Esp::None, el_torito, files }
}

#[test]
fn the_cafes_images_are_told_apart() {
    let bench = Bench::new()
        .file("desktop.iso", &DESKTOP)
        .file("compact.iso", &cafe::compact().recipe.build())
        .file("disk.img", &pyrotyp_sample::disk_image("A disk"));
    insta::assert_snapshot!(bench.pyrotyp("inspect desktop.iso compact.iso rescue.iso disk.img -v"), @"
    exit 0
    desktop.iso
      is       LARKSPUR_92_DESKTOP, hybrid image (ISO 9660 and disk), 19.6 MB, made 2026-11-23 09:30
      verdict  ready: a stick made from it starts a PC
      whole    yes, nothing is missing at the end
      starts   UEFI 64-bit: yes; BIOS: yes; optical disc: yes
      needs    a drive of 19.6 MB or more
      size     19571200 bytes in the file, 19571200 declared
      fat      partition 2, 2.1 MB at byte 17457152: x86-64
      next     pyrotyp check desktop.iso

    compact.iso
      is       LARKSPUR_92_COMPACT, hybrid image (ISO 9660 and disk), 6.1 MB, made 2026-11-23 09:30
      verdict  ready: a stick made from it starts a PC
      whole    yes, nothing is missing at the end
      starts   UEFI: no; BIOS: yes; optical disc: yes
      needs    a drive of 6.1 MB or more
      size     6055936 bytes in the file, 6055936 declared
      next     pyrotyp check compact.iso

    rescue.iso
      is       WRENFIELD_RESCUE_3, hybrid image (ISO 9660 and disk), 5.2 MB, made 2026-11-23 09:30
      verdict  ready: a stick made from it starts a PC
      whole    yes, nothing is missing at the end
      starts   UEFI 64-bit: yes; BIOS: yes; optical disc: yes
      needs    a drive of 5.2 MB or more
      size     5150720 bytes in the file, 5150720 declared
      fat      partition 2, 2.1 MB at byte 3053568: x86-64
      next     pyrotyp check rescue.iso

    disk.img
      is       disk image, 3.1 MB
      verdict  ready: a stick made from it starts a PC
      whole    yes, nothing is missing at the end
      starts   UEFI 64-bit: yes; BIOS: yes
      needs    a drive of 3.1 MB or more
      size     3145728 bytes in the file, 3145728 declared
      fat      partition 2, 2.1 MB at byte 1048576: x86-64
      next     pyrotyp check disk.img
    ");
}

#[test]
fn programs_get_the_promised_keys() {
    let bench = Bench::new().file("desktop.iso", &DESKTOP[..19_000_000]);
    insta::assert_snapshot!(bench.pyrotyp("inspect desktop.iso --json"), @r#"
    exit 3
    [
      {
        "file": "desktop.iso",
        "bytes": 19000000,
        "kind": "iso9660",
        "container": null,
        "label": "LARKSPUR_92_DESKTOP",
        "created": "2026-11-23 09:30",
        "whole": "no",
        "declared_bytes": 19571200,
        "verdict": "no",
        "findings": [
          {
            "id": "cut-short",
            "level": "stop",
            "text": "571200 bytes are missing: the image declares 19571200, the file has 19000000",
            "next": "finish the download (571 kB to go), or start it again"
          }
        ],
        "boots": [
          {
            "firmware": "bios",
            "arch": "x86",
            "via": "mbr"
          },
          {
            "firmware": "bios",
            "arch": "x86",
            "via": "el-torito"
          },
          {
            "firmware": "uefi",
            "arch": "x86-64",
            "via": "esp"
          },
          {
            "firmware": "uefi",
            "arch": "x86-64",
            "via": "el-torito"
          }
        ],
        "needs_bytes": 19571200
      }
    ]
    "#);
}

#[test]
fn every_impostor_and_wreck_has_its_own_sentence() {
    let mut damaged = RESCUE.clone();
    damaged[16 * 2048 + 80] ^= 1; // one of the two copies of the volume's size
    let mut half = DESKTOP.clone();
    half[512 + 24] ^= 1; // primary GPT header
    let mut neither = half.clone();
    let backup = neither.len() - 512;
    neither[backup + 24] ^= 1;
    let bench = Bench::new()
        .file("empty.iso", b"")
        .file("page.iso", b"\n<!DOCTYPE html><html><body>404 Not Found</body></html>")
        .file("list.iso", b"0123  some.iso\n")
        .file("zeros.iso", &[0; 100_000])
        .file("noise.iso", &pyrotyp_sample::noise(100_000, 3))
        .file("packed.iso", b"\xFD7zXZ\0 and so on")
        .file("archive.iso", b"7z\xBC\xAF\x27\x1C and so on")
        .file("paper.iso", b"%PDF-1.7 and so on")
        .file("cut.iso", &DESKTOP[..10_000_000])
        .file("damaged.iso", &damaged)
        .file("half.iso", &half)
        .file("neither.iso", &neither)
        .file("optical.iso", &recipe(Tables::None, true).build())
        .file("data.iso", &recipe(Tables::None, false).build())
        .file("esp.img", &pyrotyp_sample::disk_image("A disk")[2048 * 512..]);
    let names = "empty page list zeros noise packed archive paper cut damaged half neither optical data";
    let files: Vec<_> = names.split(' ').map(|name| format!("{name}.iso")).collect();
    let told = bench.pyrotyp(&format!("inspect {} esp.img nowhere.iso .", files.join(" ")));
    insta::assert_snapshot!(told, @"
    exit 3
    empty.iso
      is       empty file, 0 bytes
      verdict  no: it can't be written
               empty: the file holds no bytes
                 next: download it again

    page.iso
      is       no image, 55 bytes
      verdict  no: it can't be written
               not-an-image: this is a web page, not an image: the download went wrong
                 next: open it to read what the server said, then download the image again

    list.iso
      is       no image, 15 bytes
      verdict  no: it can't be written
               not-an-image: this is a text file
                 next: open it to see what was downloaded in place of the image

    zeros.iso
      is       no image, 100 kB
      verdict  no: it can't be written
               not-an-image: it begins with zeros where an image has its tables
                 next: download it again

    noise.iso
      is       no image, 100 kB
      verdict  no: it can't be written
               not-an-image: it holds no volume, partition table or file system that is known here
                 next: check that this is the right file; a download may have failed at its start

    packed.iso
      is       archive, packed as xz in 16 bytes
      verdict  no: it can't be written
               damaged: the xz file is damaged or cut short: unpacking stopped at byte 0 of what is inside
                 next: download it again, and check its checksum

    archive.iso
      is       archive, 16 bytes
      verdict  no: it can't be written
               not-an-image: this is a 7z archive
                 next: unpack it, then give the image inside

    paper.iso
      is       no image, 18 bytes
      verdict  no: it can't be written
               not-an-image: this is a PDF document
                 next: give the image file itself

    cut.iso
      is       LARKSPUR_92_DESKTOP, hybrid image (ISO 9660 and disk), 10.0 MB, made 2026-11-23 09:30
      verdict  no: it can't be written
               cut-short: 9571200 bytes are missing: the image declares 19571200, the file has 10000000
                 next: finish the download (9.6 MB to go), or start it again
      whole    no

    damaged.iso
      is       hybrid image (ISO 9660 and disk), 5.2 MB
      verdict  no: it can't be written
               damaged: the ISO 9660 volume descriptor is damaged: volume space size at offset 80 is 2514 in one byte order and 2515 in the other
                 next: download it again

    half.iso
      is       LARKSPUR_92_DESKTOP, hybrid image (ISO 9660 and disk), 19.6 MB, made 2026-11-23 09:30
      verdict  caution: a stick made from it may not start every PC
               half-a-table: the primary GPT can't be used, and some firmware then starts nothing: the CRC of its fields is 047592b7 where 61480a95 is declared, in the header at byte 512
                 next: check the image's checksum
      whole    yes, nothing is missing at the end
      starts   UEFI 64-bit: yes; BIOS: yes; optical disc: yes
      needs    a drive of 19.6 MB or more
      next     pyrotyp check half.iso

    neither.iso
      is       LARKSPUR_92_DESKTOP, hybrid image (ISO 9660 and disk), 19.6 MB, made 2026-11-23 09:30
      verdict  no: it can't be written
               damaged: neither copy of the GPT can be used: the CRC of its fields is 047592b7 where 61480a95 is declared, in the header at byte 512; the CRC of its fields is c53f01ad where a002998f is declared, in the header at byte 19570688
                 next: download it again

    optical.iso
      is       TEST, optical disc image (ISO 9660), 354 kB, made 2026-11-23 09:30
      verdict  no: a stick made from it starts no PC
               optical-only: it starts from an optical disc only: there is no boot code and no EFI system partition for a stick
                 next: look for the hybrid or USB edition of this image
      whole    yes, nothing is missing at the end

    data.iso
      is       TEST, optical disc image (ISO 9660), 352 kB, made 2026-11-23 09:30
      verdict  no: a stick made from it starts no PC
               nothing-to-start: it holds data only: neither boot code for a BIOS nor a program for UEFI
                 next: check that this is the installer's image
      whole    yes, nothing is missing at the end

    esp.img
      is       START, file system image, 2.1 MB
      verdict  caution: a stick made from it may not start every PC
               no-partition-table: it has no partition table: some PCs start nothing from such a stick
      whole    yes, nothing is missing at the end
      starts   UEFI 64-bit: yes; BIOS: no
      needs    a drive of 2.1 MB or more
      next     pyrotyp check esp.img
    -- standard error:
    pyrotyp: there is no file nowhere.iso
       next: check the name; a browser may have added to it
    pyrotyp: . is a folder, not an image file
       next: give the image file itself
    ");
}

#[test]
fn a_cut_anywhere_is_never_called_whole() {
    // Behind the backup GPT nothing is left to miss, so every shorter file must show.
    let bench = Bench::new();
    for keep in [100_000, 1 << 20, 9_000_000, 17_000_000, DESKTOP.len() - 512] {
        let bytes = &DESKTOP[..keep];
        std::fs::write(bench.path("cut.iso"), bytes).unwrap();
        let told = bench.pyrotyp("inspect cut.iso --json");
        assert!(told.starts_with("exit 3"), "{keep}: {told}");
        assert!(told.contains("\"whole\": \"no\""), "{keep}: {told}");
    }
}
