use super::bench::{Bench, RESCUE, tag_of};
use pyrotyp_core::hash::{Algorithm, Hashers};
use pyrotyp_sample::{Esp, File, Recipe, Tables, TorrentKind, torrent};

fn sum(algorithm: Algorithm) -> String {
    let mut hashers = Hashers::new([algorithm]);
    hashers.update(&RESCUE);
    hashers.finish().remove(0).hex
}

#[test]
fn a_sum_that_matches_proves_as_much_as_its_kind_can() {
    let list = format!("{}  rescue.iso\n{}  other.iso\n", sum(Algorithm::Sha256), "0".repeat(64));
    let bench = Bench::new().file("SHA256SUMS", list.as_bytes());
    insta::assert_snapshot!(bench.pyrotyp("check rescue.iso"), @"
    exit 0
    rescue.iso
      SHA-256  matches SHA256SUMS
               0d8ca679a4c957b5cfbf6b51d0ffa55624e211539ca12e0d54ff15d9c7b4d933
      inside   md5sum.txt lies in it and names 2 files: all match
      proven   the file is the one that the list names
      next     pyrotyp drives
    ");
    std::fs::remove_file(bench.path("SHA256SUMS")).unwrap();
    let md5 = sum(Algorithm::Md5).to_uppercase();
    insta::assert_snapshot!(bench.pyrotyp(&format!("check rescue.iso --sum {md5}")), @"
    exit 0
    rescue.iso
      MD5      matches --sum
               b57dc4861819ec531bf05fb9c4683e81
      inside   md5sum.txt lies in it and names 2 files: all match
      proven   not damaged on the way; MD5 can be forged, so it says nothing about the origin
      next     pyrotyp drives
    ");
    insta::assert_snapshot!(bench.pyrotyp("check rescue.iso"), @"
    exit 0
    rescue.iso
      inside   md5sum.txt lies in it and names 2 files: all match
      SHA-256  0d8ca679a4c957b5cfbf6b51d0ffa55624e211539ca12e0d54ff15d9c7b4d933
      proven   its 2 listed files are not damaged; where it comes from is not proven
      next     compare by eye with the publisher's page, or give its value with --sum or its list with --sums
    ");
}

#[test]
fn a_sum_that_does_not_match_is_shown_beside_the_one_found() {
    let list = format!("{} *rescue.iso\n", "ab".repeat(64));
    let bench = Bench::new().file("rescue.iso.sha512", list.as_bytes());
    insta::assert_snapshot!(bench.pyrotyp("check rescue.iso"), @"
    exit 4
    rescue.iso
      SHA-512  does not match rescue.iso.sha512
               4454428c2feba7705cad17ec2391aa4f3f9a2e792426aa2b3c0a55f0c8eeed594831baeccd119252b17a3afe42073936e1d40c2f800931e390643c8a6d174b92
      inside   md5sum.txt lies in it and names 2 files: all match
    -- standard error:
    pyrotyp: rescue.iso: the SHA-512 does not match rescue.iso.sha512
       published  abababababababababababababababababababababababababababababababababababababababababababababababababababababababababababababababab
       this file  4454428c2feba7705cad17ec2391aa4f3f9a2e792426aa2b3c0a55f0c8eeed594831baeccd119252b17a3afe42073936e1d40c2f800931e390643c8a6d174b92
       next: download the image again; if it stays so, the list may be for another release
    ");
    let both = format!("check rescue.iso --sum sha1:{} --json", sum(Algorithm::Sha1));
    insta::assert_snapshot!(bench.pyrotyp(&both), @r#"
    exit 4
    {
      "file": "rescue.iso",
      "sums": [
        {
          "algorithm": "sha1",
          "hex": "baf847ea882111adfaac19548b39fc7cf2814e67",
          "expected": "baf847ea882111adfaac19548b39fc7cf2814e67",
          "source": "--sum",
          "matches": true
        },
        {
          "algorithm": "sha256",
          "hex": "0d8ca679a4c957b5cfbf6b51d0ffa55624e211539ca12e0d54ff15d9c7b4d933",
          "expected": null,
          "source": null,
          "matches": null
        },
        {
          "algorithm": "sha512",
          "hex": "4454428c2feba7705cad17ec2391aa4f3f9a2e792426aa2b3c0a55f0c8eeed594831baeccd119252b17a3afe42073936e1d40c2f800931e390643c8a6d174b92",
          "expected": "abababababababababababababababababababababababababababababababababababababababababababababababababababababababababababababababab",
          "source": "rescue.iso.sha512",
          "matches": false
        }
      ],
      "unlisted_in": [],
      "unusable": [],
      "signature": null,
      "signatures": [],
      "missed_key": null,
      "pieces": [],
      "inside": [
        {
          "kind": "list",
          "source": "md5sum.txt",
          "files": 2,
          "damaged": [],
          "missing": [],
          "ok": true
        }
      ],
      "proof": "refuted",
      "proven": false,
      "ok": false,
      "result": "refused",
      "fault": {
        "id": "checksum",
        "text": "rescue.iso: the SHA-512 does not match rescue.iso.sha512\n   published  abababababababababababababababababababababababababababababababababababababababababababababababababababababababababababababababab\n   this file  4454428c2feba7705cad17ec2391aa4f3f9a2e792426aa2b3c0a55f0c8eeed594831baeccd119252b17a3afe42073936e1d40c2f800931e390643c8a6d174b92",
        "next": "download the image again; if it stays so, the list may be for another release"
      }
    }
    -- standard error:
    pyrotyp: rescue.iso: the SHA-512 does not match rescue.iso.sha512
       published  abababababababababababababababababababababababababababababababababababababababababababababababababababababababababababababababab
       this file  4454428c2feba7705cad17ec2391aa4f3f9a2e792426aa2b3c0a55f0c8eeed594831baeccd119252b17a3afe42073936e1d40c2f800931e390643c8a6d174b92
       next: download the image again; if it stays so, the list may be for another release
    "#);
}

#[test]
fn a_checksum_without_a_name_counts_only_for_the_image_whose_name_it_bears() {
    let bench = Bench::new().file("sha256.txt", "0".repeat(64).as_bytes());
    assert!(
        bench.pyrotyp("check rescue.iso").starts_with("exit 0"),
        "another image's checksum was taken for this one's"
    );
    let bench = bench.file("rescue.iso.sha256", "0".repeat(64).as_bytes());
    assert!(bench.pyrotyp("check rescue.iso").starts_with("exit 4"));
}

#[test]
fn a_list_beside_the_image_that_does_not_name_it_fails_nothing() {
    let bench = Bench::new().file("SHA256SUMS", format!("{}  other.iso\n", sum(Algorithm::Sha256)).as_bytes());
    insta::assert_snapshot!(bench.pyrotyp("check rescue.iso"), @"
    exit 0
    rescue.iso
      list     unlisted: SHA256SUMS does not name this file
      inside   md5sum.txt lies in it and names 2 files: all match
      SHA-256  0d8ca679a4c957b5cfbf6b51d0ffa55624e211539ca12e0d54ff15d9c7b4d933
      proven   its 2 listed files are not damaged; where it comes from is not proven
      next     compare by eye with the publisher's page, or give its value with --sum or its list with --sums
    ");
}

#[test]
fn a_list_inside_that_names_no_file_proves_nothing() {
    let files = vec![File::text("md5sum.txt", "# no file\n"), File::filler("live/kernel.bin", 3000, 2)];
    let (name, label) = ("EMPTY_LIST".to_owned(), "EMPTY_LIST".to_owned());
    let image = Recipe { name, label, tables: Tables::None, esp: Esp::None, el_torito: false, files }.build();
    let told = Bench::new().file("list.iso", &image).pyrotyp("check list.iso");
    assert!(told.contains("proven   nothing") && !told.contains("inside"), "{told}");
}

#[test]
fn what_is_given_and_can_not_be_compared_is_refused() {
    let list = format!("{}  other.iso\n", sum(Algorithm::Sha256));
    let foreign = format!("Tiger (rescue.iso) = {}\n", "0".repeat(48));
    let other = torrent(TorrentKind::First, "other.iso", &RESCUE, 1 << 16);
    let bench = Bench::new()
        .stick("a", "")
        .file("list.txt", list.as_bytes())
        .file("foreign.txt", foreign.as_bytes())
        .file("other.torrent", &other)
        .file("words.txt", b"hello\n");
    let told = ["list.txt", "foreign.txt", "other.torrent"].map(|list| {
        let told = bench.pyrotyp(&format!("check rescue.iso --sums {list}"));
        // Whoever looks at nothing but the result is not told that all is well.
        let write = format!("write rescue.iso --to {} --unattended --quiet --sums {list}", tag_of(&bench, "a"));
        assert!(bench.on_tray(&write).starts_with("exit 4") && !bench.was_touched("a"), "{list}");
        told
    });
    insta::assert_snapshot!(told.join("\n"));
    insta::assert_snapshot!(bench.pyrotyp("check rescue.iso --sums words.txt"), @"
    exit 4
    -- standard error:
    pyrotyp: the sums file words.txt holds no checksum that can be read
       next: give the list that was published with --sums; one that lies there by mistake, move away
    ");
    insta::assert_snapshot!(bench.pyrotyp("check rescue.iso --sums none.txt"), @"
    exit 4
    -- standard error:
    pyrotyp: can't read the sums file none.txt: No such file or directory
       next: give a readable list with --sums, or a checksum with --sum
    ");
    insta::assert_snapshot!(bench.pyrotyp("check rescue.iso --sum sha256:12"), @"
    exit 2
    -- standard error:
    pyrotyp: `sha256:12` can't be given for --sum <[ALGO:]HEX>: a checksum of 2 digits is given where 64 are needed
       next: pyrotyp check --help
    ");
}

#[test]
fn an_image_without_a_published_sum_can_still_be_shown_damaged() {
    let mut damaged = RESCUE.clone();
    let place = damaged.windows(4).position(|four| four == b"look").unwrap();
    damaged[place] ^= 1;
    let bench = Bench::new().file("damaged.iso", &damaged).stick("a", "");
    insta::assert_snapshot!(bench.pyrotyp("check damaged.iso"), @"
    exit 4
    damaged.iso
      inside   md5sum.txt lies in it and names 2 files: not all match
      SHA-256  bcd22ad31d4b878f37e073f0c13ccabad62a9d6c54e0fbc0453028a37cf0b7cc
    -- standard error:
    pyrotyp: damaged.iso: damaged by its own list md5sum.txt: rescue/manual.txt
       next: download the image again
    ");
    let tag = super::bench::tag_of(&bench, "a");
    insta::assert_snapshot!(bench.on_tray(&format!("write damaged.iso --to {tag} --unattended")), @"
    exit 4
    -- standard error:
    pyrotyp: damaged.iso: damaged by its own list md5sum.txt: rescue/manual.txt
       next: download the image again
    ");
    assert!(!bench.was_touched("a"));
}

#[test]
fn a_published_value_is_used_or_told_and_never_taken_for_one_of_another_kind() {
    let (sha256, blake3, zeros) = (sum(Algorithm::Sha256), sum(Algorithm::Blake3), "0".repeat(64));
    let lists = [
        ("CHECKSUMS", format!("{blake3}  rescue.iso\n")),
        ("CHECKSUM", format!("{zeros}  rescue.iso\n")),
        ("B2SUMS", format!("{zeros}  rescue.iso\n")),
        ("SHA256SUMS", format!("SHA3-256 (rescue.iso) = {zeros}\nSHA2-256(rescue.iso)= {sha256}\n")),
        ("rescue.iso.sha3-256", format!("{zeros}\n")),
        ("sha256sum.txt", format!("{zeros}\n")),
        ("rescue.iso.metalink", "<?xml version=\"1.0\"?><metalink/>".to_owned()),
    ];
    let told = lists.map(|(name, text)| {
        let bench = Bench::new().file(name, text.as_bytes());
        let told = bench.pyrotyp("check rescue.iso --quiet");
        told.lines().filter(|line| !line.contains("inside")).fold(String::new(), |all, line| all + line + "\n")
    });
    insta::assert_snapshot!(told.join("\n"), @"
    exit 0
    rescue.iso
      BLAKE3   matches CHECKSUMS
               9de11fd5f9ea54f092206024c2033f9ccfb7e3a50a99212b2a0dd1243b8c5e44
      proven   the file is the one that the list names

    exit 4
    rescue.iso
      checksum matches none of the kinds that it may be of: CHECKSUM
    -- standard error:
    pyrotyp: rescue.iso: CHECKSUM does not say of which kind its checksum is, and it matches none
       published  0000000000000000000000000000000000000000000000000000000000000000
       SHA-256    0d8ca679a4c957b5cfbf6b51d0ffa55624e211539ca12e0d54ff15d9c7b4d933
       BLAKE3     9de11fd5f9ea54f092206024c2033f9ccfb7e3a50a99212b2a0dd1243b8c5e44
       next: download the image again; if it stays so, give the published SHA-256 with --sum


    exit 0
    rescue.iso
      unused   B2SUMS: it has checksums of a kind that can't be used here (BLAKE2b of 256 bits)
      SHA-256  0d8ca679a4c957b5cfbf6b51d0ffa55624e211539ca12e0d54ff15d9c7b4d933
      proven   its 2 listed files are not damaged; where it comes from is not proven

    exit 0
    rescue.iso
      SHA-256  matches SHA256SUMS
               0d8ca679a4c957b5cfbf6b51d0ffa55624e211539ca12e0d54ff15d9c7b4d933
      unused   SHA256SUMS: it has checksums of a kind that can't be used here (SHA3-256)
      proven   the file is the one that the list names

    exit 0
    rescue.iso
      unused   rescue.iso.sha3-256: it has checksums of a kind that can't be used here (sha3-256)
      SHA-256  0d8ca679a4c957b5cfbf6b51d0ffa55624e211539ca12e0d54ff15d9c7b4d933
      proven   its 2 listed files are not damaged; where it comes from is not proven

    exit 0
    rescue.iso
      unused   sha256sum.txt: it has a checksum without a name, perhaps of another file
      SHA-256  0d8ca679a4c957b5cfbf6b51d0ffa55624e211539ca12e0d54ff15d9c7b4d933
      proven   its 2 listed files are not damaged; where it comes from is not proven

    exit 0
    rescue.iso
      unused   rescue.iso.metalink: it is a Metalink file, which `pyrotyp fetch` uses
      SHA-256  0d8ca679a4c957b5cfbf6b51d0ffa55624e211539ca12e0d54ff15d9c7b4d933
      proven   its 2 listed files are not damaged; where it comes from is not proven
    ");
    // A header as `signify -z` writes it.
    let header = b"\x1F\x8B\x08\x10\0\0\0\0\0\x03untrusted comment: verify with larkspur.pub\n";
    let bench = Bench::new().file("signed.gz", header);
    assert!(bench.pyrotyp("check signed.gz").contains("a signature of signify lies in its gzip header"));
}

#[test]
fn a_list_beside_the_image_that_can_not_be_used_is_refused_or_said_and_nothing_is_waited_for() {
    let right = format!("{}  rescue.iso\n", sum(Algorithm::Sha256));
    let wrong = format!("{}  rescue.iso\n", "0".repeat(64));
    let padding = format!("# {}\n", "padding ".repeat(1000)).repeat(600);
    let bench = Bench::new().stick("a", "");
    let write = format!("write rescue.iso --to {} --unattended --quiet", tag_of(&bench, "a"));
    let both = |bench: &Bench| [bench.pyrotyp("check rescue.iso"), bench.on_tray(&write)];
    let told = |bench: &Bench, name: &str, bytes: &[u8]| {
        std::fs::write(bench.path(name), bytes).unwrap();
        let told = both(bench);
        std::fs::remove_file(bench.path(name)).unwrap();
        told
    };
    // Longer than any list: what refutes the image may stand at its end.
    for told in told(&bench, "SHA256SUMS", format!("{padding}{wrong}").as_bytes()) {
        assert!(told.starts_with("exit 4") && told.contains("SHA256SUMS"), "{told}");
    }
    // Not a list at all, under a list's name; and one that says nothing of this image.
    for told in told(&bench, "SHA256SUMS", b"<html>moved</html>\n") {
        assert!(told.starts_with("exit 4") && told.contains("holds no checksum"), "{told}");
    }
    assert!(!bench.was_touched("a"));
    // Of a kind that can't be used: said, on the card as well.
    let crc = format!("CRC32 (rescue.iso) = {}\n", "0".repeat(8));
    std::fs::write(bench.path("CHECKSUM"), crc).unwrap();
    let card = bench.at_terminal(&write.replace("--unattended", "--color never"), "\n");
    let [check, written] = both(&bench);
    for told in [&check, &card, &written] {
        assert!(told.contains("CHECKSUM") && told.contains("of a kind that can't be used"), "{told}");
    }
    assert!(check.starts_with("exit 0") && written.starts_with("exit 0\nverified"), "{check}{written}");
    std::fs::remove_file(bench.path("CHECKSUM")).unwrap();
    // A pipe that nobody writes to, in place of anything that is read.
    assert!(std::process::Command::new("mkfifo").arg(bench.path("pipe")).status().unwrap().success());
    std::fs::write(bench.path("right"), right).unwrap();
    for words in
        ["--sums pipe", "--sums right --signature pipe", "--sums right --key pipe", "--sums right --key /dev/zero"]
    {
        let told = bench.pyrotyp(&format!("check rescue.iso {words}"));
        assert!(told.starts_with("exit 4") && told.contains("this is no regular file"), "{words}: {told}");
    }
    // What another command writes is read.
    for pipe in ["--sums /dev/stdin", "--sums /dev/fd/0", "--sums /proc/self/fd/0"] {
        let told = bench.fed(&format!("check rescue.iso {pipe}"), &std::fs::read(bench.path("right")).unwrap());
        assert!(told.starts_with("exit 0") && told.contains("SHA-256  matches"), "{pipe}: {told}");
    }
    // A list that lies beside the image may be a link to where it was unpacked.
    std::fs::create_dir(bench.path("unpacked")).unwrap();
    std::fs::rename(bench.path("right"), bench.path("unpacked/list")).unwrap();
    std::os::unix::fs::symlink("unpacked/list", bench.path("SHA256SUMS")).unwrap();
    let told = bench.pyrotyp("check rescue.iso");
    assert!(told.starts_with("exit 0") && told.contains("matches SHA256SUMS"), "{told}");
    let told = bench.pyrotyp("inspect pipe");
    assert!(told.starts_with("exit 3"), "{told}");
    let told = bench.pyrotyp("fetch larkspur --catalogue pipe");
    assert!(told.starts_with("exit 2") && told.contains("this is no regular file"), "{told}");
}
