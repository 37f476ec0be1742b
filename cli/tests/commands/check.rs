use super::bench::{Bench, RESCUE};
use pyrotyp_core::digest::{Algorithm, Hashers};

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
               418eca3dfa4e986fcaca9c6f0c2f5555bed36d43264469b69695bac3f2da1007
      proven   the file is the one that the list names
      next     pyrotyp drives
    ");
    std::fs::remove_file(bench.path("SHA256SUMS")).unwrap();
    let md5 = sum(Algorithm::Md5).to_uppercase();
    insta::assert_snapshot!(bench.pyrotyp(&format!("check rescue.iso --sum {md5}")), @"
    exit 0
    rescue.iso
      MD5      matches --sum
               b2ac39d0fa268da896c9afcbb97bb7cf
      proven   not damaged on the way; MD5 can be forged, so it says nothing about the origin
      next     pyrotyp drives
    ");
    insta::assert_snapshot!(bench.pyrotyp("check rescue.iso"), @"
    exit 0
    rescue.iso
      SHA-256  418eca3dfa4e986fcaca9c6f0c2f5555bed36d43264469b69695bac3f2da1007
      nothing was proven: no published checksum to compare with
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
               95b5241f263dd96968fa2862d73a4bdb7eb9ef08a37ccd9618d1fdd97b2a7494b72bf03cec23dea48c017fdc8dc7aa07fd6751f1539c253bbc0f5af2add1df63
    -- standard error:
    pyrotyp: rescue.iso: the SHA-512 does not match rescue.iso.sha512
       published  abababababababababababababababababababababababababababababababababababababababababababababababababababababababababababababababab
       this file  95b5241f263dd96968fa2862d73a4bdb7eb9ef08a37ccd9618d1fdd97b2a7494b72bf03cec23dea48c017fdc8dc7aa07fd6751f1539c253bbc0f5af2add1df63
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
          "hex": "9aa9373880ec23929eb221c05fcf25b4f6d1082d",
          "expected": "9aa9373880ec23929eb221c05fcf25b4f6d1082d",
          "source": "--sum",
          "matches": true
        },
        {
          "algorithm": "sha256",
          "hex": "418eca3dfa4e986fcaca9c6f0c2f5555bed36d43264469b69695bac3f2da1007",
          "expected": null,
          "source": null,
          "matches": null
        },
        {
          "algorithm": "sha512",
          "hex": "95b5241f263dd96968fa2862d73a4bdb7eb9ef08a37ccd9618d1fdd97b2a7494b72bf03cec23dea48c017fdc8dc7aa07fd6751f1539c253bbc0f5af2add1df63",
          "expected": "abababababababababababababababababababababababababababababababababababababababababababababababababababababababababababababababab",
          "source": "rescue.iso.sha512",
          "matches": false
        }
      ],
      "unlisted_in": [],
      "signature": null,
      "inside": [],
      "proven": false,
      "ok": false
    }
    -- standard error:
    pyrotyp: rescue.iso: the SHA-512 does not match rescue.iso.sha512
       published  abababababababababababababababababababababababababababababababababababababababababababababababababababababababababababababababab
       this file  95b5241f263dd96968fa2862d73a4bdb7eb9ef08a37ccd9618d1fdd97b2a7494b72bf03cec23dea48c017fdc8dc7aa07fd6751f1539c253bbc0f5af2add1df63
       next: download the image again; if it stays so, the list may be for another release
    "#);
}

#[test]
fn a_list_that_does_not_name_the_image_proves_nothing_and_fails_nothing() {
    let list = format!("{}  other.iso\n", sum(Algorithm::Sha256));
    let bench = Bench::new().file("list.txt", list.as_bytes()).file("words.txt", b"hello\n");
    insta::assert_snapshot!(bench.pyrotyp("check rescue.iso --sums list.txt"), @"
    exit 0
    rescue.iso
      list     unlisted: list.txt does not name this file
      SHA-256  418eca3dfa4e986fcaca9c6f0c2f5555bed36d43264469b69695bac3f2da1007
      nothing was proven: no published checksum to compare with
      next     compare by eye with the publisher's page, or give its value with --sum or its list with --sums
    ");
    insta::assert_snapshot!(bench.pyrotyp("check rescue.iso --sums words.txt"), @"
    exit 4
    -- standard error:
    pyrotyp: the sums file words.txt holds no checksum that can be read
       next: give the list of checksums that was published with the image
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
    error: invalid value 'sha256:12' for '--sum <[ALGO:]HEX>': a checksum of 2 digits is given where 64 are needed

    For more information, try '--help'.
    ");
}
