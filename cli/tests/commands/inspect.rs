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
        .file("compact.iso", &cafe::compact().build())
        .file("disk.img", &pyrotyp_sample::disk_image("A disk"));
    insta::assert_snapshot!(bench.pyrotyp("inspect desktop.iso compact.iso rescue.iso disk.img -v"), @"
    exit 0
    desktop.iso
      is       Larkspur Linux 9.2 Desktop (64-bit), long-term release
               LARKSPUR_92_DESKTOP, hybrid image (ISO 9660 and disk), 19.6 MB, made 2026-11-23 09:30
      verdict  ready: a stick made from it starts a PC
      way      raw, as it is (write)
      whole    yes, nothing is missing at the end
      starts   UEFI 64-bit: yes; BIOS: yes; Secure Boot: unlikely; optical disc: yes
      needs    a drive of 19.6 MB or more
      size     19573248 bytes in the file, 19573248 declared
      gpt      partition 1, Live volume, 17.4 MB at byte 32768
      gpt      partition 2, Start, EFI system partition, 2.1 MB at byte 17459200
      fat      partition 2, 2.1 MB at byte 17459200: x86-64
      optical  BIOS, no emulation, at byte 17457152
      optical  UEFI, no emulation, at byte 17459200
      next     pyrotyp check desktop.iso

    compact.iso
      is       Larkspur Linux 9.2 Compact (32-bit), long-term release
               LARKSPUR_92_COMPACT, hybrid image (ISO 9660 and disk), 6.1 MB, made 2026-11-23 09:30
      verdict  ready: a stick made from it starts a PC
      way      raw, as it is (write)
      whole    yes, nothing is missing at the end
      starts   UEFI: no; BIOS: yes; optical disc: yes
      needs    a drive of 6.1 MB or more
      size     6057984 bytes in the file, 6057984 declared
      mbr      partition 1, type 17, 6.1 MB at byte 0, active
      optical  BIOS, no emulation, at byte 6055936
      next     pyrotyp check compact.iso

    rescue.iso
      is       WRENFIELD_RESCUE_3, hybrid image (ISO 9660 and disk), 5.2 MB, made 2026-11-23 09:30
      verdict  ready: a stick made from it starts a PC
      way      raw, as it is (write)
      whole    yes, nothing is missing at the end
      starts   UEFI 64-bit: yes; BIOS: yes; Secure Boot: unlikely; optical disc: yes
      needs    a drive of 5.2 MB or more
      size     5154816 bytes in the file, 5154816 declared
      mbr      partition 1, type 17, 5.2 MB at byte 0, active
      mbr      partition 2, type EF, 2.1 MB at byte 3057664
      fat      partition 2, 2.1 MB at byte 3057664: x86-64
      optical  BIOS, no emulation, at byte 3055616
      optical  UEFI, no emulation, at byte 3057664
      next     pyrotyp check rescue.iso

    disk.img
      is       disk image, 3.1 MB
      verdict  ready: a stick made from it starts a PC
      way      raw, as it is (write)
      whole    yes, nothing is missing at the end
      starts   UEFI 64-bit: yes; BIOS: yes; Secure Boot: unlikely
      needs    a drive of 3.1 MB or more
      size     3145728 bytes in the file, 3145728 declared
      mbr      partition 2, type EF, 2.1 MB at byte 1048576
      fat      partition 2, 2.1 MB at byte 1048576: x86-64
      next     pyrotyp check disk.img
    ");
}

#[test]
fn near_twins_are_put_side_by_side() {
    let mut other = RESCUE.clone();
    let place = other.windows(4).position(|four| four == b"look").unwrap();
    other[place] ^= 1;
    let bench =
        Bench::new().file("twin.iso", &other).file("desktop.iso", &DESKTOP).file("cut.iso", &DESKTOP[..9_000_000]);
    insta::assert_snapshot!(bench.pyrotyp("inspect desktop.iso cut.iso rescue.iso twin.iso"), @"
    exit 3
      image       desktop.iso                                cut.iso
    * system      Larkspur Linux                             Larkspur Linux
    * version     9.2                                        9.2
    * edition     Desktop                                    Desktop
      processor   x86-64                                     x86-64
    * label       LARKSPUR_92_DESKTOP                        LARKSPUR_92_DESKTOP
      kind        hybrid image (ISO 9660 and disk)           hybrid image (ISO 9660 and disk)
      made        2026-11-23 09:30                           2026-11-23 09:30
    * size        19.6 MB, 19573248 bytes                    9.0 MB, 9000000 bytes
    * verdict     ready                                      no
    * UEFI        yes, 64-bit
    * BIOS        yes
    * Secure Boot unlikely
    * needs       19.6 MB

      image       rescue.iso                                 twin.iso
      processor   x86-64                                     x86-64
    * label       WRENFIELD_RESCUE_3                         WRENFIELD_RESCUE_3
      kind        hybrid image (ISO 9660 and disk)           hybrid image (ISO 9660 and disk)
      made        2026-11-23 09:30                           2026-11-23 09:30
    * size        5.2 MB, 5154816 bytes                      5.2 MB, 5154816 bytes
    * verdict     ready                                      ready
    * UEFI        yes, 64-bit                                yes, 64-bit
    * BIOS        yes                                        yes
    * Secure Boot unlikely                                   unlikely
    * needs       5.2 MB                                     5.2 MB
    * differs

    cut.iso
               cut-short: 10573248 of the declared 19573248 bytes are missing; the file ends within live/system.img
                 next: finish the download (10.6 MB to go), or start it again

    next: pyrotyp check IMAGE; -v shows each by itself with its tables
    ");
    insta::assert_snapshot!(bench.pyrotyp("inspect rescue.iso twin.iso"), @"
    exit 0
      image       rescue.iso                                 twin.iso
      processor   x86-64                                     x86-64
      label       WRENFIELD_RESCUE_3                         WRENFIELD_RESCUE_3
      kind        hybrid image (ISO 9660 and disk)           hybrid image (ISO 9660 and disk)
      made        2026-11-23 09:30                           2026-11-23 09:30
      size        5.2 MB, 5154816 bytes                      5.2 MB, 5154816 bytes
      verdict     ready                                      ready
      UEFI        yes, 64-bit                                yes, 64-bit
      BIOS        yes                                        yes
      Secure Boot unlikely                                   unlikely
      needs       5.2 MB                                     5.2 MB
    nothing here tells them apart; only their checksums can

    next: pyrotyp check IMAGE; -v shows each by itself with its tables
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
        "name": "Larkspur Linux 9.2 Desktop (64-bit), long-term release",
        "system": "Larkspur Linux",
        "version": "9.2",
        "edition": "Desktop",
        "architecture": "x86-64",
        "created": "2026-11-23 09:30",
        "whole": "no",
        "declared_bytes": 19573248,
        "verdict": "no",
        "findings": [
          {
            "id": "cut-short",
            "level": "stop",
            "text": "573248 of the declared 19573248 bytes are missing",
            "next": "finish the download (573 kB to go), or start it again"
          }
        ],
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
        "needs_bytes": 19573248,
        "way": "neither"
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
    // Extended descriptors behind the terminator in sector 18, where the sample has its path tables.
    let mut udf = recipe(Tables::None, true).build();
    for (sector, id) in [(19, b"BEA01"), (20, b"NSR02")] {
        udf[sector * 2048 + 1..][..5].copy_from_slice(id);
    }
    // A download that reserved its room and stopped.
    let mut stopped = DESKTOP.clone();
    stopped[9_000_000..].fill(0);
    let mut laid_out = recipe(Tables::None, true);
    laid_out.files.push(File { path: "EFI/BOOT/bootx64.efi".into(), bytes: pyrotyp_sample::efi_program("x") });
    let torrent = pyrotyp_sample::torrent(pyrotyp_sample::TorrentKind::First, "a.iso", &RESCUE, 1 << 20);
    let bench = Bench::new()
        .file("empty.iso", b"")
        .file("page.iso", b"\n<!DOCTYPE html><html><body>404 Not Found</body></html>")
        .file("text.iso", b"0123  some.iso\n")
        .file("list.iso", format!("{}  some.iso\n", "0".repeat(64)).as_bytes())
        .file("signature.iso", include_bytes!("../../../sample/signed/list.sig"))
        .file("torrent.iso", &torrent)
        .file("stopped.iso", &stopped)
        .file("tree.iso", &laid_out.build())
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
        .file("udf.iso", &udf)
        .file("still.iso.part", &RESCUE)
        .file("esp.img", &pyrotyp_sample::disk_image("A disk")[2048 * 512..]);
    let names = "empty page text list signature torrent zeros noise packed archive paper cut stopped damaged half neither \
                 optical tree data udf";
    let files: Vec<_> = names.split(' ').map(|name| format!("{name}.iso")).collect();
    let told = bench.pyrotyp(&format!("inspect {} esp.img still.iso.part nowhere.iso .", files.join(" ")));
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

    text.iso
      is       no image, 15 bytes
      verdict  no: it can't be written
               not-an-image: this is a text file
                 next: open it to see what was downloaded in place of the image

    list.iso
      is       no image, 75 bytes
      verdict  no: it can't be written
               not-an-image: this is a list of checksums, not the image they belong to
                 next: give the image; a list beside it is found, or named with --sums

    signature.iso
      is       no image, 119 bytes
      verdict  no: it can't be written
               not-an-image: this is a signature, not the image it belongs to
                 next: give the image; a signature beside it is found, or named with --signature

    torrent.iso
      is       no image, 176 bytes
      verdict  no: it can't be written
               not-an-image: this is a torrent file, which only says where the image can be had
                 next: open it with a torrent client to get the image; beside the image, its sums are checked too

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
      is       Larkspur Linux 9.2 Desktop (64-bit), long-term release
               LARKSPUR_92_DESKTOP, hybrid image (ISO 9660 and disk), 10.0 MB, made 2026-11-23 09:30
      verdict  no: it can't be written
               cut-short: 9573248 of the declared 19573248 bytes are missing; the file ends within live/system.img
                 next: finish the download (9.6 MB to go), or start it again
      whole    no

    stopped.iso
      is       Larkspur Linux 9.2 Desktop (64-bit), long-term release
               LARKSPUR_92_DESKTOP, hybrid image (ISO 9660 and disk), 19.6 MB, made 2026-11-23 09:30
      verdict  no: it may not be whole yet
               unfinished-download: from about byte 9290376 on its files hold nothing but zeros: the download probably stopped there
                 next: start the download again, or compare the checksum
               half-a-table: the backup GPT can't be used, and some firmware then starts nothing: no header at byte 19572736
                 next: check the image's checksum

    damaged.iso
      is       hybrid image (ISO 9660 and disk), 5.2 MB
      verdict  no: it can't be written
               damaged: the ISO 9660 volume descriptor is damaged: volume space size at offset 80 is 2516 in one byte order and 2517 in the other
                 next: download it again

    half.iso
      is       Larkspur Linux 9.2 Desktop (64-bit), long-term release
               LARKSPUR_92_DESKTOP, hybrid image (ISO 9660 and disk), 19.6 MB, made 2026-11-23 09:30
      verdict  caution: a stick made from it may not start every PC
               half-a-table: the primary GPT can't be used, and some firmware then starts nothing: the CRC of its fields is 7fae66f4 where 1a93fed6 is declared, in the header at byte 512
                 next: check the image's checksum
      way      raw, as it is (write)
      whole    no
      starts   UEFI 64-bit: yes; BIOS: yes; Secure Boot: unlikely; optical disc: yes
      needs    a drive of 19.6 MB or more
      next     pyrotyp check half.iso

    neither.iso
      is       Larkspur Linux 9.2 Desktop (64-bit), long-term release
               LARKSPUR_92_DESKTOP, hybrid image (ISO 9660 and disk), 19.6 MB, made 2026-11-23 09:30
      verdict  no: it can't be written
               damaged: neither copy of the GPT can be used: the CRC of its fields is 7fae66f4 where 1a93fed6 is declared, in the header at byte 512; the CRC of its fields is 22224ec0 where 471fd6e2 is declared, in the header at byte 19572736
                 next: download it again
      whole    no

    optical.iso
      is       TEST, optical disc image (ISO 9660), 354 kB, made 2026-11-23 09:30
      verdict  no: a stick made from it starts no PC
               optical-only: it starts from an optical disc only: there is no boot code and no EFI system partition for a stick
                 next: look for the hybrid or USB edition of this image
      way      neither raw nor unpacked: nothing of it starts a PC from a stick
      whole    yes, nothing is missing at the end

    tree.iso
      is       TEST, optical disc image (ISO 9660), 360 kB, made 2026-11-23 09:30
      verdict  no: a stick made from it starts no PC
               needs-laying-out: its program for UEFI (x86-64) lies in the optical volume alone, and no stick starts from that: its files must be laid out on a FAT stick
                 next: lay them out with `pyrotyp unpack`, or look for the hybrid or USB edition of this image
      way      its files laid out, so that UEFI starts them (unpack)
      whole    yes, nothing is missing at the end

    data.iso
      is       TEST, optical disc image (ISO 9660), 352 kB, made 2026-11-23 09:30
      verdict  no: a stick made from it starts no PC
               nothing-to-start: it holds data only: neither boot code for a BIOS nor a program for UEFI
                 next: check that this is the installer's image
      way      neither raw nor unpacked: nothing of it starts a PC from a stick
      whole    yes, nothing is missing at the end

    udf.iso
      is       TEST, optical disc image (ISO 9660), 354 kB, made 2026-11-23 09:30
      verdict  no: a stick made from it starts no PC
               needs-laying-out: its files are in a UDF volume for optical discs, and hardly any PC starts a stick from that: they must be laid out on a FAT stick
                 next: lay them out with `pyrotyp unpack`, or use the tool that its maker offers for sticks
      way      its files laid out, so that UEFI starts them (unpack)
      whole    yes, nothing is missing at the end

    esp.img
      is       START, file system image, 2.1 MB
      verdict  caution: a stick made from it may not start every PC
               no-partition-table: it has no partition table: some PCs start nothing from such a stick
      way      raw, as it is (write)
      whole    yes, nothing is missing at the end
      starts   UEFI 64-bit: yes; BIOS: no; Secure Boot: unlikely
      needs    a drive of 2.1 MB or more
      next     pyrotyp check esp.img

    still.iso.part
      is       WRENFIELD_RESCUE_3, hybrid image (ISO 9660 and disk), 5.2 MB, made 2026-11-23 09:30
      verdict  no: it may not be whole yet
               unfinished-download: its name ends in .part: a browser may still be downloading it
                 next: wait until the download has ended and the name is the image's own
      whole    yes, nothing is missing at the end
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

#[test]
fn an_entry_rounded_up_to_a_cylinder_is_no_cut() {
    let told = |sectors: u32, keep: usize| {
        let mut image = RESCUE[..keep].to_vec();
        image[446 + 12..446 + 16].copy_from_slice(&sectors.to_le_bytes()); // length of the entry that covers the volume
        Bench::new().file("rounded.iso", &image).pyrotyp("inspect rounded.iso --quiet")
    };
    let cylinder = 255 * 63;
    let rounded = told((RESCUE.len() as u32 / 512).next_multiple_of(cylinder), RESCUE.len());
    assert!(rounded.contains("ready") && rounded.contains("a drive of 5.2 MB"), "{rounded}");
    assert!(told(3 * cylinder, RESCUE.len()).contains("cut-short"), "more than a cylinder is missing");
    assert!(told(cylinder, RESCUE.len() - 2048).contains("cut-short"), "the volume itself is cut");
}

#[test]
fn what_firmware_looks_for_is_told_from_what_lies_there() {
    let mut optical = recipe(Tables::None, true);
    optical.esp = Esp::Inside;
    let program = |image: &[u8]| image.windows(2).rposition(|two| two == b"MZ").unwrap();
    let mut other = recipe(Tables::Mbr, true);
    other.esp = Esp::Inside;
    let mut other = other.build();
    let machine = program(&other) + 0x84;
    other[machine..machine + 2].copy_from_slice(&[0x64, 0xAA]); // for ARM, under a PC's name
    let mut data = pyrotyp_sample::disk_image("A stick");
    data[..440].fill(0);
    data[300..326].copy_from_slice(b"Missing operating system\r\n");
    let mut lost = DESKTOP.clone();
    let end = lost.len() - 512;
    for header in [512, end] {
        lost[header + 24] ^= 1;
    }
    lost[446 + 4] = 0x17; // an entry that a BIOS needs no GPT for
    let mut trailing = [&RESCUE[..], &pyrotyp_sample::noise(3_000_000, 9)].concat();
    let bench = Bench::new().file("junk.iso", &trailing);
    trailing.resize(40_000_000, 0);
    trailing[RESCUE.len()..].fill(0);
    let bench = bench
        .file("zeros.iso", &trailing)
        .file("optical.iso", &optical.build())
        .file("other.iso", &other)
        .file("data.img", &data)
        .file("lost.iso", &lost);
    let names = ["optical.iso", "other.iso", "data.img", "lost.iso", "junk.iso", "zeros.iso"];
    let told = names.map(|name| bench.pyrotyp(&format!("inspect {name} --quiet")));
    insta::assert_snapshot!(told.join("\n"), @"
    exit 0
    optical.iso
      is       TEST, optical disc image (ISO 9660), 2.5 MB, made 2026-11-23 09:30
      verdict  caution: a stick made from it may not start every PC
               optical-entry: its program for UEFI is found through the boot catalogue of optical discs alone; only some PCs look there on a stick
                 next: look for the hybrid or USB edition of this image
      way      raw, as it is (write)
      whole    yes, nothing is missing at the end
      starts   UEFI: some PCs, 64-bit; BIOS: no; Secure Boot: unlikely; optical disc: yes
      needs    a drive of 2.5 MB or more

    exit 0
    other.iso
      is       TEST, hybrid image (ISO 9660 and disk), 2.5 MB, made 2026-11-23 09:30
      verdict  caution: a stick made from it may not start every PC
               other-processor: BOOTX64.EFI is made for another processor (aarch64) than firmware that looks for this name has
      way      raw, as it is (write)
      whole    yes, nothing is missing at the end
      starts   UEFI: no; BIOS: yes; optical disc: yes
      needs    a drive of 2.5 MB or more

    exit 0
    data.img
      is       disk image, 3.1 MB
      verdict  ready: a stick made from it starts a PC
      way      raw, as it is (write)
      whole    yes, nothing is missing at the end
      starts   UEFI 64-bit: yes; BIOS: no; Secure Boot: unlikely
      needs    a drive of 3.1 MB or more

    exit 3
    lost.iso
      is       Larkspur Linux 9.2 Desktop (64-bit), long-term release
               LARKSPUR_92_DESKTOP, hybrid image (ISO 9660 and disk), 19.6 MB, made 2026-11-23 09:30
      verdict  no: its partition table is damaged
               no-sound-table: neither copy of the GPT can be used: the CRC of its fields is 7fae66f4 where 1a93fed6 is declared, in the header at byte 512; the CRC of its fields is 22224ec0 where 471fd6e2 is declared, in the header at byte 19572736; a BIOS may start it all the same
                 next: check the image's checksum
      whole    no

    exit 0
    junk.iso
      is       WRENFIELD_RESCUE_3, hybrid image (ISO 9660 and disk), 8.2 MB, made 2026-11-23 09:30
      verdict  ready: a stick made from it starts a PC
               padding: 3.0 MB follow the declared end that belong to no table or volume
                 next: compare its checksum with the published one
      way      raw, as it is (write)
      whole    yes, nothing is missing at the end
      starts   UEFI 64-bit: yes; BIOS: yes; Secure Boot: unlikely; optical disc: yes
      needs    a drive of 8.2 MB or more

    exit 0
    zeros.iso
      is       WRENFIELD_RESCUE_3, hybrid image (ISO 9660 and disk), 40.0 MB, made 2026-11-23 09:30
      verdict  ready: a stick made from it starts a PC
               padding: 34.8 MB of zeros follow the declared end: the drive needs room for them as well
                 next: compare its checksum with the published one
      way      raw, as it is (write)
      whole    yes, nothing is missing at the end
      starts   UEFI 64-bit: yes; BIOS: yes; Secure Boot: unlikely; optical disc: yes
      needs    a drive of 40.0 MB or more
    ");
}

#[test]
fn a_signed_program_makes_secure_boot_likely_and_os_release_names_the_image() {
    let mut signed = recipe(Tables::Mbr, true);
    signed.esp = Esp::Inside;
    signed.files.push(File::text("etc/os-release", "ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 9.2 Server\"\n"));
    let mut image = signed.build();
    // Size of the certificate table: the fifth data directory of the PE32+ header.
    let program = image.windows(2).rposition(|two| two == b"MZ").unwrap();
    image[program + 0x98 + 112 + 4 * 8 + 4] = 8;
    let bench = Bench::new().file("signed.iso", &image);
    insta::assert_snapshot!(bench.pyrotyp("inspect signed.iso --quiet"), @"
    exit 0
    signed.iso
      is       Larkspur Linux 9.2 Server
               TEST, hybrid image (ISO 9660 and disk), 2.5 MB, made 2026-11-23 09:30
      verdict  ready: a stick made from it starts a PC
      way      raw, as it is (write)
      whole    yes, nothing is missing at the end
      starts   UEFI 64-bit: yes; BIOS: yes; Secure Boot: likely; optical disc: yes
      needs    a drive of 2.5 MB or more
    ");
}
