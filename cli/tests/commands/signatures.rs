//! Signatures made by the publishers' own tools (OpenPGP, minisign, signify) over a small list and a small image.

use super::bench::{Bench, RESCUE, steady, tag_of};
use pyrotyp_sample::{TorrentKind, embed_sum, torrent};

macro_rules! signed {
    ($bench:expr, $($file:literal as $name:literal),+ $(,)?) => {
        $bench$(.file($name, include_bytes!(concat!("../../../sample/signed/", $file))))+
    };
}

/// A bench with the image and its list.
fn bench() -> Bench {
    signed!(Bench::new(), "larkspur.img" as "larkspur.img", "SHA256SUMS" as "SHA256SUMS", "releases.key" as "releases.key")
}

#[test]
fn a_key_given_once_is_remembered_and_a_changed_one_refused() {
    let bench = signed!(bench(), "list.asc" as "SHA256SUMS.asc");
    insta::assert_snapshot!(bench.pyrotyp("check larkspur.img"), @"
    exit 3
    larkspur.img
      signed   not checked: SHA256SUMS.asc signs SHA256SUMS
               it was made by the key 5D4A C983 1042 9AF3 FE9F F61B B47F B0C9 F10D 183F, which is not known here
      SHA-256  matches SHA256SUMS
               3e65ac311ba5262ded24e49b932064c742e9753d240403ae4debd3edb031abc2
      proven   the file is the one that the list names; who made the list is not proven
    -- standard error:
    pyrotyp: larkspur.img: this is a text file
       next: open it to see what was downloaded in place of the image
    ");
    insta::assert_snapshot!(bench.pyrotyp("check larkspur.img --key releases.key"), @"
    exit 3
    larkspur.img
      signed   good: SHA256SUMS.asc signs SHA256SUMS, made 2026-11-01
               by Larkspur Linux Releases <releases@larkspur.example>
               key F630 7DA0 EA3C 5B0F A59C B2AA F7BB 5A5F D72C D7A6
               first use of this key: compare it with the publisher's page; it is remembered from now on
      SHA-256  matches SHA256SUMS
               3e65ac311ba5262ded24e49b932064c742e9753d240403ae4debd3edb031abc2
      proven   the file is the one that Larkspur Linux Releases <releases@larkspur.example> signed
    -- standard error:
    pyrotyp: larkspur.img: this is a text file
       next: open it to see what was downloaded in place of the image
    ");
    assert!(!bench.pyrotyp("check larkspur.img --signature SHA256SUMS.asc").contains("first use"), "remembered");
    // Whoever gives a key asks about that one: another that is known does not stand in for it.
    let bench = signed!(bench, "impostor.key" as "impostor.key");
    let told = bench.pyrotyp("check larkspur.img --key impostor.key");
    assert!(told.starts_with("exit 4") && told.contains("the key that was given is another one"), "{told}");
    let bench = signed!(bench, "by-impostor.asc" as "SHA256SUMS.asc");
    steady().bind(|| {
        insta::assert_snapshot!(bench.pyrotyp("check larkspur.img --key impostor.key"), @"
        exit 4
        larkspur.img
          signed   not good: SHA256SUMS.asc signs SHA256SUMS
        -- standard error:
        pyrotyp: SHA256SUMS.asc is no good signature of SHA256SUMS: Larkspur Linux Releases <releases@larkspur.example> signed with another key until now: F630 7DA0 EA3C 5B0F A59C B2AA F7BB 5A5F D72C D7A6, first used here on [DAY]; this one is 1D3F C8BF 36E8 5BB1 1986 238D CC9D 27EF 7DAD 554C
           next: ask the publisher; only if they announced this new key, forget the old one: rm [DIR]/.local/state/pyrotyp/keys/F6307DA0EA3C5B0FA59CB2AAF7BB5A5FD72CD7A6.toml
        ");
    });
}

#[test]
fn a_signature_that_was_taken_away_is_missed() {
    let list = |bench: &Bench| bench.pyrotyp("check rescue.iso --sums SHA256SUMS");
    let text = "0d8ca679a4c957b5cfbf6b51d0ffa55624e211539ca12e0d54ff15d9c7b4d933  rescue.iso\n";
    let signed = pyrotyp_sample::sign(text.as_bytes());
    let bench = Bench::new()
        .stick("a", "")
        .file("SHA256SUMS", text.as_bytes())
        .file("SHA256SUMS.sig", signed.signature.as_bytes())
        .file("cafe.pub", signed.key.as_bytes());
    let card = |more: &str| {
        let shown = bench.at_terminal(&format!("write rescue.iso --to {} {more}", tag_of(&bench, "a")), "\n");
        shown.lines().find(|line| line.contains("checksum")).unwrap_or_default().to_owned()
    };
    // The card counts as the first use; from then on the key is known.
    insta::assert_snapshot!(card("--key cafe.pub"), @"  checksum  SHA-256 matches SHA256SUMS, signed by Larkspur Linux releases, first use of its key");
    insta::assert_snapshot!(card(""), @"  checksum  SHA-256 matches SHA256SUMS, signed by Larkspur Linux releases");
    assert!(list(&bench).contains("good: SHA256SUMS.sig signs SHA256SUMS"));
    std::fs::remove_file(bench.path("SHA256SUMS.sig")).unwrap();
    insta::assert_snapshot!(list(&bench), @"
    exit 0
    rescue.iso
      signed   no, although this system was until now, by Larkspur Linux releases
               key RWRIQVJCT1VSIdiB+gu6r5Jwb+vXKLrpql2M7kc+KHfdDuBVJUo2Ub4k
      SHA-256  matches SHA256SUMS
               0d8ca679a4c957b5cfbf6b51d0ffa55624e211539ca12e0d54ff15d9c7b4d933
      inside   md5sum.txt lies in it and names 2 files: all match
      proven   the file is the one that the list names; who made the list is not proven
      next     get the list and its signature from the publisher's own page
    ");
    insta::assert_snapshot!(card(""), @"  checksum  SHA-256 matches SHA256SUMS, not signed, although this system was until now");
}

#[test]
fn every_form_of_a_good_signature_is_good() {
    let bench = signed!(
        bench(),
        "list.asc" as "list.asc",
        "list.sig" as "list.sig",
        "clear-signed.asc" as "clear-signed.asc",
        "image.asc" as "image.asc",
        "minisign.pub" as "minisign.pub",
        "list.minisig" as "list.minisig",
        "list-unhashed.minisig" as "list-unhashed.minisig",
        "image.minisig" as "image.minisig",
        "signify.pub" as "signify.pub",
        "list.signify.sig" as "list.signify.sig",
        "signify-list.sig" as "signify-list.sig",
    );
    let forms = [
        ("list.asc", "releases.key"),
        ("list.sig", "releases.key"),
        ("clear-signed.asc", "releases.key"),
        ("image.asc", "releases.key"),
        ("list.minisig", "minisign.pub"),
        ("list-unhashed.minisig", "minisign.pub"),
        ("image.minisig", "minisign.pub"),
        ("list.signify.sig", "signify.pub"),
        ("signify-list.sig", "signify.pub"),
    ];
    for (signature, key) in forms {
        let told = bench.pyrotyp(&format!("check larkspur.img --signature {signature} --key {key}"));
        // What is signed is right, and a line of text all the same, which is no image.
        assert!(told.starts_with("exit 3") && told.contains("signed   good") && told.contains(" signed\n"), "{told}");
        // One changed byte in what is signed must be seen, whatever else is right.
        let image = signature.starts_with("image");
        let name = if image {
            "larkspur.img"
        } else if signature.starts_with("list") {
            "SHA256SUMS"
        } else {
            signature
        };
        let mut bytes = std::fs::read(bench.path(name)).unwrap();
        let whole = bytes.clone();
        let place = bytes.windows(4).position(|four| four == b"3e65" || four == b"cafe").unwrap();
        bytes[place] ^= 1;
        std::fs::write(bench.path(name), &bytes).unwrap();
        let told = bench.pyrotyp(&format!("check larkspur.img --signature {signature} --key {key}"));
        std::fs::write(bench.path(name), &whole).unwrap();
        assert!(told.starts_with("exit 4") && told.contains("changed after signing"), "{signature}: {told}");
    }
}

#[test]
fn each_reason_not_to_believe_a_signature_has_its_own_sentence() {
    let bench = signed!(
        bench(),
        "weak.asc" as "weak.asc",
        "over.asc" as "over.asc",
        "list.asc" as "list.asc",
        "image.asc" as "larkspur.img.asc",
        "by-expired.asc" as "by-expired.asc",
        "expired.key" as "expired.key",
        "by-revoked.asc" as "by-revoked.asc",
        "revoked.key" as "revoked.key",
    );
    std::fs::remove_file(bench.path("larkspur.img.asc")).unwrap();
    let tried = [
        "weak.asc --key releases.key",
        "over.asc --key releases.key",
        "by-expired.asc --key expired.key",
        "by-revoked.asc --key revoked.key",
        "list.asc --key expired.key",
        "list.asc",
        "releases.key --key releases.key",
        "list.asc --key larkspur.img",
        "",
    ];
    let told = tried.map(|words| {
        // Nothing at all is signed in the last case, and a key was given for it.
        let words = if words.is_empty() { "--key releases.key".to_owned() } else { format!("--signature {words}") };
        let told = bench.pyrotyp(&format!("check larkspur.img {words}"));
        assert!(told.starts_with("exit 4"), "{told}");
        format!("{words}\n  {}", told.split_once("pyrotyp: ").unwrap().1)
    });
    insta::assert_snapshot!(told.concat(), @"
    --signature weak.asc --key releases.key
      weak.asc is no good signature of SHA256SUMS: it rests on SHA-1, which can be forged
       next: look for a newer signature, or for a signed list of checksums

    --signature over.asc --key releases.key
      over.asc is no good signature of SHA256SUMS: it was good until 2026-11-08 only
       next: get the publisher's renewed key and give it with --key, or use a newer release

    --signature by-expired.asc --key expired.key
      by-expired.asc is no good signature of SHA256SUMS: the key 6EBB CF66 CD10 73FA 6B6A F066 299B A4F5 7008 5E9C that made it expired on 2026-06-01
       next: get the publisher's renewed key and give it with --key, or use a newer release

    --signature by-revoked.asc --key revoked.key
      by-revoked.asc is no good signature of SHA256SUMS: the key B5CF E21E 7C81 4765 D7D7 4563 E229 0137 D7EE D8AF that made it was revoked by its owner: the laptop was stolen
       next: do not use it; look at the publisher's page for the new key and a new signature

    --signature list.asc --key expired.key
      list.asc is no good signature of SHA256SUMS: it was made by the key 5D4A C983 1042 9AF3 FE9F F61B B47F B0C9 F10D 183F, and the key that was given is another one: 6EBB CF66 CD10 73FA 6B6A F066 299B A4F5 7008 5E9C
       next: get the key that the publisher names for this release, and give it with --key

    --signature list.asc
      list.asc is no good signature of SHA256SUMS: it was made by the key 5D4A C983 1042 9AF3 FE9F F61B B47F B0C9 F10D 183F, which is not known here
       next: get the publisher's key from the publisher's own page, and give it with --key

    --signature releases.key --key releases.key
      releases.key is no good signature of SHA256SUMS: this is no signature of OpenPGP, minisign or signify
       next: give the .asc, .sig, .sign, .gpg or .minisig file that was published with the image

    --signature list.asc --key larkspur.img
      can't use the key larkspur.img: it is no public key of OpenPGP, minisign or signify
       next: give the public key file that the publisher offers for checking signatures

    --key releases.key
      there is no signature that the key could check
       next: give the signature with --signature, or leave --key away
    ");
}

#[test]
fn write_refuses_what_check_refuses_and_touches_nothing() {
    let list = format!("{}  rescue.iso\n", "0".repeat(64));
    let bench = signed!(Bench::new().stick("a", ""), "list.asc" as "SHA256SUMS.asc", "releases.key" as "releases.key");
    let bench = bench.file("SHA256SUMS", list.as_bytes());
    let tag = tag_of(&bench, "a");
    let write = format!("write rescue.iso --to {tag} --unattended");
    insta::assert_snapshot!(bench.on_tray(&format!("{write} --key releases.key")), @"
    exit 4
    -- standard error:
    pyrotyp: SHA256SUMS.asc is no good signature of SHA256SUMS: it does not belong to these bytes: they, or the signature, were changed after signing
       next: download the list, its signature and the image again, from another mirror; do not use these
    ");
    std::fs::remove_file(bench.path("SHA256SUMS")).unwrap();
    let mut pieces = torrent(TorrentKind::Second, "rescue.iso", &RESCUE, 16 << 10);
    let place = pieces.windows(7).position(|seven| seven == b"layersd").unwrap();
    pieces[place + 1000] ^= 1;
    let bench = bench.file("rescue.torrent", &torrent(TorrentKind::First, "rescue.iso", &RESCUE[1..], 16 << 10));
    insta::assert_snapshot!(bench.on_tray(&write), @"
    exit 4
    -- standard error:
    pyrotyp: rescue.iso: rescue.torrent names a file of 5154815 bytes, which this is not
       next: download the image again; a torrent client fetches the damaged pieces alone
    ");
    // A torrent whose layer of sums does not belong to its root proves nothing, and is passed over.
    let bench = bench.file("rescue.torrent", &pieces);
    assert!(!bench.was_touched("a"));
    insta::assert_snapshot!(bench.on_tray(&write).lines().next().unwrap(), @"exit 0");
}

#[test]
fn torrents_and_embedded_sums_locate_damage() {
    let mut image = RESCUE.clone();
    embed_sum(&mut image);
    let torrents = [TorrentKind::First, TorrentKind::Second, TorrentKind::Hybrid];
    let mut bench = Bench::new().file("rescue.iso", &image);
    for (kind, name) in torrents.into_iter().zip(["first", "second", "both"]) {
        bench = bench.file(&format!("{name}.torrent"), &torrent(kind, "rescue.iso", &image, 64 << 10));
    }
    insta::assert_snapshot!(bench.pyrotyp("check rescue.iso"), @"
    exit 0
    rescue.iso
      pieces   both.torrent, 79 pieces: all match
      pieces   first.torrent, 79 pieces: all match
      pieces   second.torrent, 79 pieces: all match
      inside   the MD5 in its volume descriptor, over 5.1 MB: matches
      inside   md5sum.txt lies in it and names 2 files: all match
      SHA-256  8612a76132c2e1a0f1eeff8d2b794adf41fb02c78c547c3b8ae808721c8f11a2
      proven   not damaged; where it comes from is not proven
      next     compare by eye with the publisher's page, or give its value with --sum or its list with --sums
    ");
    for at in [3_000_000, 3_070_000, 5_152_767] {
        image[at] ^= 1;
    }
    let bench = bench.file("rescue.iso", &image);
    insta::assert_snapshot!(bench.pyrotyp("check rescue.iso"), @"
    exit 4
    rescue.iso
      pieces   both.torrent, 79 pieces: not all match
               damaged at byte 2949120, 131072 bytes
               damaged at byte 5111808, 43008 bytes
      pieces   first.torrent, 79 pieces: not all match
               damaged at byte 2949120, 131072 bytes
               damaged at byte 5111808, 43008 bytes
      pieces   second.torrent, 79 pieces: not all match
               damaged at byte 2949120, 131072 bytes
               damaged at byte 5111808, 43008 bytes
      inside   the MD5 in its volume descriptor, over 5.1 MB: does not match
               the first damage lies between byte 2981888 and byte 3211263
      inside   md5sum.txt lies in it and names 2 files: not all match
      SHA-256  bb4925b436a916169b46ce98c75dd20e82e2f63d54e1c31535ede3b6ac156c92
    -- standard error:
    pyrotyp: rescue.iso: damaged by the pieces of both.torrent: at byte 2949120, 131072 bytes, and one more place
       next: download the image again; a torrent client fetches the damaged pieces alone
    ");
}
