//! Jobs beyond one image in a file onto one stick: several sticks, jobs that go on, sticks that are mended, images from a pipe.

use std::io::Write;

use pyrotyp_core::hash::{Algorithm, Hashers};

use super::bench::{Bench, DESKTOP, RESCUE, steady, tag_of};

fn sum(bytes: &[u8]) -> String {
    let mut hashers = Hashers::new([Algorithm::Sha256]);
    hashers.update(bytes);
    format!("sha256:{}", hashers.finish().remove(0).hex)
}

#[test]
fn several_sticks_are_asked_for_at_once_and_each_has_its_own_end() {
    let unplug = "[[drive.fault]]\nkind = \"unplug\"\nafter_bytes = 9000000\n";
    let bench = Bench::new().stick("a", "").stick("b", unplug).stick("c", "").file("desktop.iso", &DESKTOP);
    let [a, b, c] = ["a", "b", "c"].map(|name| tag_of(&bench, name));
    let mut told = Vec::new();
    let three = format!("write desktop.iso --to {a} --to {b} --to {c} --color never --quiet");
    // One tag for three drives confirms none of them.
    told.push(bench.at_terminal(&three, &format!("{a}\n")));
    assert!(["a", "b", "c"].iter().all(|name| !bench.was_touched(name)));
    told.push(bench.at_terminal(&three, &format!("{c} {} {b}\n", a.to_lowercase())));
    for name in ["a", "c"] {
        assert!(bench.drive(name).starts_with(&DESKTOP), "{name}");
    }
    assert!(bench.is_blank_at_its_ends("b"));
    told.push(bench.on_tray(&format!("write desktop.iso --to {a} --to tray:a --unattended")));
    steady().bind(|| insta::assert_snapshot!("several", told.join("\n")));
}

#[test]
fn twins_without_serial_numbers_are_told_by_their_places_alone() {
    let twin = |name: &str, fault: &str| {
        format!(
            "[[drive]]\nname = \"{name}\"\nvendor = \"Brell\"\nmodel = \"Giveaway\"\nbytes = 67108864\nbus = \"usb\"\n\
             removable = true\n{fault}\n"
        )
    };
    let slow = "[[drive.fault]]\nkind = \"slow\"\nbytes_per_second = 20000000\n";
    let gone = format!("{slow}[[drive.fault]]\nkind = \"unplug\"\nafter_bytes = 15000000\n");
    let bench = Bench::new().tray(&twin("left", slow)).tray(&twin("right", &gone)).file("desktop.iso", &DESKTOP);
    let tag = tag_of(&bench, "left");
    assert_eq!(tag, tag_of(&bench, "right"));
    let both = "write desktop.iso --to tray:left --to tray:right --color never";
    let mut told = vec![
        bench.on_tray(&format!("write desktop.iso --to {tag} --unattended")),
        // The tag tells them apart no more than it does anybody else.
        bench.at_terminal(both, &format!("{tag} {tag}\n")),
        bench.at_terminal(both, "left\n"),
        bench.at_terminal(both, "right tray:left\n"),
    ];
    assert!(bench.drive("left").starts_with(&DESKTOP) && bench.is_blank_at_its_ends("right"));
    // Whose notes they would have been, nobody can know.
    told.push(bench.at_terminal("write desktop.iso --to tray:left --resume --color never", "left\n"));
    told.push(bench.at_terminal("write desktop.iso --to tray:left --resume --color never", &format!("{tag}\n")));
    steady().bind(|| insta::assert_snapshot!("twins", told.join("\n")));
}

#[test]
fn a_job_that_was_cut_short_goes_on_and_a_stick_that_was_changed_is_mended() {
    // Slow enough that the drive has confirmed a part of it before it is pulled out, however late that is asked for.
    let faults = "[[drive.fault]]\nkind = \"slow\"\nbytes_per_second = 3000000\n\
                  [[drive.fault]]\nkind = \"unplug\"\nafter_bytes = 19000000\n";
    let bench = Bench::new().stick("a", faults).file("desktop.iso", &DESKTOP);
    let tag = tag_of(&bench, "a");
    let write =
        |more: &str| bench.on_tray(&format!("write desktop.iso --to {tag} --unattended --accept just-verified {more}"));
    // With nothing to go on with, it begins at the start and says so.
    let mut told = vec![write("--resume")];
    assert!(bench.was_touched("a"));
    let tray = std::fs::read_to_string(bench.path("tray/tray.toml")).unwrap();
    std::fs::write(bench.path("tray/tray.toml"), tray.split("[[drive.fault]]").next().unwrap()).unwrap();
    // Another image does not go on there, and takes nothing from the one that may.
    let before = bench.drive("a");
    told.push(bench.on_tray(&format!("write rescue.iso --to {tag} --unattended --resume --quiet")));
    assert!(bench.drive("a") == before, "nothing was written");
    told.push(write("--resume"));
    assert!(told[2].contains("going on: the drive has ") && bench.drive("a").starts_with(&DESKTOP), "{}", told[2]);
    bench.alter("a", 9_000_000, b"somebody's holiday pictures");
    told.push(write("--only-changed --quiet"));
    assert!(bench.drive("a").starts_with(&DESKTOP));
    told.push(write("--only-changed"));
    let mut settings = steady();
    // How far it had come when it was pulled out is not the same each time.
    settings.add_filter(r"the drive has [\d.]+ MB|the [\d.]+ MB that", "[AMOUNT]");
    settings.add_filter(r"write: [\d.]+ MB in \[TIME\], [\d.]+ MB were there", "write: [AMOUNT], [AMOUNT] were there");
    settings.bind(|| insta::assert_snapshot!("gone_on_with", told.join("\n")));
}

#[test]
fn a_job_whose_notes_can_not_be_kept_is_done_all_the_same_and_says_so() {
    let bench =
        Bench::new().stick("a", "[[drive.fault]]\nkind = \"read-error\"\nat = 3000000\nbytes = 10\ntimes = 1\n");
    std::fs::create_dir(bench.path("state")).unwrap();
    let bench = bench.file("state/under-way", b"in the way").file("state/jobs", b"as well");
    let write = || bench.on_tray(&format!("write rescue.iso --to {} --unattended --state state", tag_of(&bench, "a")));
    // What the records say of a drive can't be told then, and that is not nothing.
    let refused = write();
    assert!(refused.starts_with("exit 1") && refused.contains("can't look at the records below state"), "{refused}");
    assert!(!bench.was_touched("a"));
    std::fs::remove_file(bench.path("state/jobs")).unwrap();
    let told = write();
    assert!(bench.drive("a").starts_with(&RESCUE));
    steady().bind(|| insta::assert_snapshot!("without_notes", told));
}

#[test]
fn a_stick_of_false_capacity_is_told_although_its_image_came_through_a_pipe() {
    let told =
        ["kind = \"wrap\"\ntrue_bytes = 9000448", "kind = \"drop\"\nat = 13631488\nbytes = 99999999"].map(|fault| {
            let bench = Bench::new().stick("a", &format!("[[drive.fault]]\n{fault}\n"));
            std::fs::write(bench.path("tray/a.img"), vec![0; super::bench::DRIVE_BYTES as usize]).unwrap();
            let write = format!("write - --to {} --unattended --quiet --sum {}", tag_of(&bench, "a"), sum(&DESKTOP));
            let told = bench.fed(&write, &DESKTOP);
            assert_ne!(bench.drive("a")[..4096], DESKTOP[..4096]);
            told
        });
    steady().bind(|| insta::assert_snapshot!("fakes_behind_a_pipe", told.join("\n")));
}

#[test]
fn an_image_from_a_pipe_is_sealed_only_when_its_checksum_is_right() {
    let bench = Bench::new().stick("a", "");
    let tag = tag_of(&bench, "a");
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packed.write_all(&DESKTOP).unwrap();
    let packed = packed.finish().unwrap();
    let write = |more: &str, input: &[u8]| {
        bench.fed(&format!("write - --to {tag} --unattended --quiet --accept just-verified {more}"), input)
    };
    let mut told = vec![
        write("", &DESKTOP),
        write(&format!("--sum {}", sum(b"other")), b""),
        write(&format!("--sum {}", sum(b"other")), b"<html>404</html>"),
        write(&format!("--sum {} --resume", sum(&DESKTOP)), &DESKTOP[..5000]),
    ];
    assert!(!bench.was_touched("a"));
    told.push(write(&format!("--sum {}", sum(&DESKTOP)), &DESKTOP));
    assert!(bench.drive("a").starts_with(&DESKTOP));
    for (expected, input) in
        [(sum(b"other"), &DESKTOP[..]), (sum(b"other"), &packed[..]), (sum(&packed), &packed[..700_000])]
    {
        let said = write(&format!("--sum {expected}"), input);
        assert!(!said.starts_with("exit 0") && bench.is_blank_at_its_ends("a"), "{said}");
        told.push(said);
    }
    told.push(write(&format!("--sum {}", sum(&packed)), &packed));
    assert!(bench.drive("a").starts_with(&DESKTOP));
    steady().bind(|| insta::assert_snapshot!("from_a_pipe", told.join("\n")));
}

#[test]
fn at_a_terminal_the_tag_is_asked_for_although_the_image_comes_through_a_pipe() {
    let bench = Bench::new().stick("a", "").file("desktop.iso", &DESKTOP);
    let write = format!("write - --to {} --color never --quiet --sum {}", tag_of(&bench, "a"), sum(&DESKTOP));
    let told = bench.at_terminal_fed("cat desktop.iso |", &write, "desktop\n");
    assert!(told.starts_with("exit 5") && !bench.was_touched("a"), "{told}");
    let told = bench.at_terminal_fed("cat desktop.iso |", &write, &format!("{}\n", tag_of(&bench, "a")));
    steady().bind(|| insta::assert_snapshot!("asked_beside_a_pipe", told));
    assert!(bench.drive("a").starts_with(&DESKTOP));
}

#[test]
fn a_job_that_is_killed_is_known_to_have_begun() {
    let slow = "[[drive.fault]]\nkind = \"slow\"\nbytes_per_second = 6000000\n";
    let bench = Bench::new().stick("a", slow).file("desktop.iso", &DESKTOP);
    let tag = tag_of(&bench, "a");
    let write = |image: &str, more: &str| format!("write {image} --to {tag} --unattended --quiet --tray tray {more}");
    assert!(bench.pyrotyp(&write("rescue.iso", "")).starts_with("exit 0"));
    let state = bench.path(".local/state/pyrotyp");
    let mut child = bench.command(&write("desktop.iso", "--accept just-verified")).spawn().unwrap();
    let notes = state.join(format!("under-way/{tag}.jsonl"));
    let confirmed = || std::fs::read_to_string(&notes).is_ok_and(|notes| notes.lines().count() > 2);
    while !confirmed() {
        assert_eq!(child.try_wait().unwrap(), None);
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    assert_eq!(bench.records(state.to_str().unwrap()), 2);
    let mut told = vec![
        bench.on_tray(&format!("contents {tag}")),
        bench.at_terminal(&format!("write rescue.iso --to {tag} --color never"), "\n"),
        // What was there before is not there any more, so that nothing finished is lost.
        bench.pyrotyp(&write("desktop.iso", "--resume")),
    ];
    assert!(bench.drive("a").starts_with(&DESKTOP) && !notes.exists());
    told.push(bench.on_tray(&format!("contents {tag}")));
    let mut settings = steady();
    settings.add_filter(r"on \d{4}-\d\d-\d\d", "on [DAY]");
    settings.add_filter(r"the [\d.]+ MB that were missing", "[SOME] that were missing");
    settings.bind(|| insta::assert_snapshot!("killed", told.join("\n")));
}
