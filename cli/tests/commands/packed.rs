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
