//! Packed images against the programs that pack them. They need xz-utils, zstd, lz4, bzip2 and gzip, so these tests are run by
//! name: `cargo test --test commands -- --ignored packed`.

use std::process::{Command, Stdio};

use super::bench::{Bench, RESCUE, tag_of};

/// What one of the system's programs does with `input`; `None` if it refuses.
fn by(program: &str, options: &[&str], input: &[u8]) -> Option<Vec<u8>> {
    let mut child = Command::new(program)
        .args(options)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap_or_else(|error| panic!("{program}: {error}"));
    let mut stdin = child.stdin.take().unwrap();
    let input = input.to_vec();
    // One that refuses does not read to the end.
    let feeding = std::thread::spawn(move || drop(std::io::Write::write_all(&mut stdin, &input)));
    let output = child.wait_with_output().unwrap();
    feeding.join().unwrap();
    output.status.success().then_some(output.stdout)
}

#[test]
#[ignore = "needs the programs that pack"]
fn what_is_written_is_what_the_formats_own_programs_unpack_or_it_is_refused() {
    let kinds: [(&str, &str, &[&str]); 8] = [
        ("gzip", "gz", &["-c"]),
        ("xz", "xz", &["-c", "-1"]),
        ("xz", "xz", &["-c", "-1", "--block-size=1MiB", "-T2"]),
        ("zstd", "zst", &["-c"]),
        ("zstd", "zst", &["-c", "--long=28", "--no-check"]),
        ("bzip2", "bz2", &["-c"]),
        ("lz4", "lz4", &["-c", "--content-size", "--no-frame-crc"]),
        ("lz4", "lz4", &["-c", "-BD", "-BX"]),
    ];
    for (program, ending, options) in kinds {
        let image = &RESCUE[..];
        let (first, second) = image.split_at(3_000_001);
        let pack = |bytes| by(program, options, bytes).unwrap();
        let two = [pack(first), pack(second)].concat();
        let (whole, last) = (pack(image), two.len() - 1);
        let files = [
            ("whole", whole.clone()),
            ("two parts", two.clone()),
            ("an empty part between", [pack(first), pack(b""), pack(second)].concat()),
            ("zeros behind it", [&whole[..], &[0; 512]].concat()),
            ("something behind it", [&whole[..], b"holiday"].concat()),
            ("cut by a byte", two[..last].to_vec()),
            ("cut by four", two[..two.len() - 4].to_vec()),
            ("cut by twelve", two[..two.len() - 12].to_vec()),
            ("cut in the middle", two[..two.len() / 2].to_vec()),
        ];
        for (what, packed) in files {
            let unpack: &[&str] = if program == "zstd" { &["-d", "-c", "--long=31"] } else { &["-d", "-c"] };
            let own = by(program, unpack, &packed);
            let name = format!("wrenfield.iso.{ending}");
            let bench = Bench::new().stick("a", "").file(&name, &packed);
            let told = bench.on_tray(&format!("write {name} --to {} --unattended --quiet", tag_of(&bench, "a")));
            let what = format!("{program} {options:?}, {what}: {told}");
            if told.starts_with("exit 0\nverified") {
                let own = own.unwrap_or_else(|| panic!("{what}: {program} refuses it"));
                assert!(bench.drive("a").starts_with(&own) && own.len() == RESCUE.len(), "{what}");
            } else {
                assert!(!bench.was_touched("a"), "{what}");
                // What is whole to everybody is not to be refused.
                assert!(!matches!(own, Some(own) if own == *RESCUE && !what.contains("something behind")), "{what}");
            }
        }
    }
}

#[test]
#[ignore = "needs the programs that pack"]
fn what_is_sound_and_unusual_is_read_or_told_with_what_to_do() {
    let image = &RESCUE[..];
    let skippable: &[u8] = &[0x50, 0x2A, 0x4D, 0x18, 5, 0, 0, 0, 1, 2, 3, 4, 5];
    let pack = |program: &str, options: &[&str]| by(program, options, image).unwrap();
    let xz = pack("xz", &["-c", "-1"]);
    let files: [(&str, Vec<u8>); 10] = [
        ("leading.zst", [skippable, &pack("zstd", &["-c"])].concat()),
        ("leading.lz4", [skippable, &pack("lz4", &["-c"])].concat()),
        ("padded.gz", [&pack("gzip", &["-c"])[..], &[0; 4096]].concat()),
        ("padded.xz", [&xz[..], &[0; 512]].concat()),
        ("dictionary.xz", pack("xz", &["-c", "--lzma2=dict=512MiB"])),
        ("window.zst", pack("zstd", &["-c", "--long=31"])),
        ("alone.lzma", pack("xz", &["-c", "--format=lzma"])),
        ("legacy.lz4", pack("lz4", &["-c", "-l"])),
        ("cut.xz", xz[..xz.len() - 4].to_vec()),
        ("cut.zst", pack("zstd", &["-c"])[..2_000_000].to_vec()),
    ];
    let bench = files.iter().fold(Bench::new(), |bench, (name, bytes)| bench.file(name, bytes));
    let told = files.iter().map(|(name, _)| {
        let doc: serde_json::Value = bench.json(&format!("inspect {name}"));
        let is = &doc[0];
        let finding = is["findings"].as_array().unwrap().iter().find(|finding| finding["level"] != "note");
        let words = finding.map_or(String::new(), |finding| format!("{}: {}", finding["id"], finding["text"]));
        let boots = is["boots"].as_array().unwrap().len();
        format!("{name}: whole {}, {} boots, {words}\n", is["whole"], boots)
    });
    insta::assert_snapshot!(told.collect::<String>(), @r#"
    leading.zst: whole "unknown", 4 boots, 
    leading.lz4: whole "unknown", 4 boots, 
    padded.gz: whole "unknown", 4 boots, 
    padded.xz: whole "yes", 4 boots, 
    dictionary.xz: whole "unknown", 0 boots, "needs-memory": "the xz file needs 538 MB of memory to unpack, and 268 MB are given here"
    window.zst: whole "unknown", 0 boots, "needs-memory": "the zst file needs 2.1 GB of memory to unpack, and 268 MB are given here"
    alone.lzma: whole "unknown", 0 boots, "not-an-image": "this is packed with lzma, which is not unpacked here"
    legacy.lz4: whole "unknown", 0 boots, "not-an-image": "this is packed in the old form of lz4, which is not unpacked here"
    cut.xz: whole "no", 4 boots, "cut-short": "the xz file ends before its own end: the rest of it is missing"
    cut.zst: whole "no", 2 boots, "cut-short": "the zst file ends before its own end: the rest of it is missing"
    "#);
}
