//! Stick after stick by a plan: what qualifies is made, all else is left alone, and the tally is right whatever happened in between.

use std::collections::BTreeSet;
use std::fs;
use std::process::Stdio;
use std::thread::sleep;
use std::time::{Duration, Instant};

use super::bench::{Bench, RESCUE, steady_with_rates, tag_of};
use super::screen::seen;

const STICK_BYTES: u64 = 48 << 20;

/// A stick that comes when its port is free, and is pulled out when nothing is done with it.
fn stick(name: &str, serial: &str, port: u32, more: &str) -> String {
    format!(
        "[[drive]]\nname = \"{name}\"\nvendor = \"Kestrin\"\nmodel = \"Pocket\"\nserial = \"{serial}\"\nbytes = {STICK_BYTES}\n\
         bus = \"usb\"\nlink_mbps = 480\nremovable = true\nport = \"1-1.{port}\"\nappears_after_ms = 300\nqueues = true\n\
         leaves_after_ms = 1200\n{more}\n"
    )
}

fn fault(kind: &str, more: &str) -> String {
    format!("[[drive.fault]]\nkind = \"{kind}\"\n{more}\n")
}

#[test]
fn forty_sticks_are_made_by_a_plan_that_is_killed_twice_and_nothing_else_is_touched() {
    let bad = |number| match number {
        7 => fault("write-error", "at = 3000000\nbytes = 4096"),
        18 => fault("corrupt", "at = 2000000\nbytes = 4096"),
        29 => fault("wrap", "true_bytes = 3145728"),
        // Slow enough to be killed half-way.
        _ => fault("slow", "bytes_per_second = 60000000"),
    };
    // What failed is looked for a while: it must not have been pulled out yet.
    let stays = |text: String| text.replace("leaves_after_ms = 1200", "leaves_after_ms = 5000");
    let mut bench = Bench::new().file(
        "plan.toml",
        b"image = \"rescue.iso\"\nsticks = 37\nat-once = 4\nreport-into = \"report.html\"\nlabels-into = \"labels\"\n\
          [files]\nrule = \"refuse\"\nknown-labels = [\"OLD*\"]\n",
    );
    // One is attached before anything begins, one holds files, one is a disk, and one comes again.
    let before = stick("before", "KP-before", 9, "").replace("appears_after_ms = 300", "");
    bench = bench.tray(&before.replace("leaves_after_ms = 1200", ""));
    let holding = |label: &str| {
        format!("[[drive.partition]]\nnumber = 1\nbytes = 40000000\nfilesystem = \"fat32\"\nlabel = \"{label}\"\n")
    };
    bench = bench.tray(&stick("holiday", "KP-holiday", 1, &holding("HOLIDAY")));
    let disk = stick("odalen", "OV-1", 2, "").replace("removable = true", "removable = false");
    bench = bench.tray(&disk.replace(&STICK_BYTES.to_string(), "1000204886016"));
    for number in 0..40 {
        let more = if number == 3 { holding("OLD_ONE") } else { String::new() };
        let more = more + &bad(number);
        let one = stick(&format!("s{number}"), &format!("KP-{number}"), number % 4 + 1, &more);
        bench = bench.tray(&if [7, 18, 29].contains(&number) { stays(one) } else { one });
    }
    bench = bench.tray(&stick("again", "KP-5", 2, ""));
    let words = "station plan.toml --sticks 37 --tray tray --state notes --json --quiet";
    let begun_jobs = || fs::read_dir(bench.path("notes/jobs")).map_or(0, |names| names.count());
    // Runs a station. It is killed after this many jobs, or when it has begun none for a while.
    let run = |most_jobs: usize| {
        let mut station = bench.command(words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let (before, mut last_seen, mut changed) = (begun_jobs(), 0, Instant::now());
        loop {
            if let Some(status) = station.try_wait().unwrap() {
                return Some(status);
            }
            let count = begun_jobs();
            if count != last_seen {
                (last_seen, changed) = (count, Instant::now());
            }
            if count - before >= most_jobs || changed.elapsed() > Duration::from_secs(20) {
                station.kill().unwrap();
                station.wait().unwrap();
                return None;
            }
            sleep(Duration::from_millis(20));
        }
    };
    assert_eq!((run(12), run(12)), (None, None), "both are killed half-way");
    // A stick that left before a busy machine came to it is plugged in again for the next run.
    let mut kills = 2;
    let ended = loop {
        if let Some(status) = run(usize::MAX) {
            break status;
        }
        kills += 1;
        assert!(kills < 40, "it never comes to an end");
    };
    assert!(ended.success(), "{ended}");
    let ledger = bench.json("ledger --state notes --most 500");
    let jobs = ledger.as_array().unwrap();
    let tags = |result: &str| -> BTreeSet<&str> {
        let with = jobs.iter().filter(|job| job["result"] == result && !job["ended"].is_null());
        with.map(|job| job["drives"][0]["serial"].as_str().unwrap()).collect()
    };
    let verified = jobs.iter().filter(|job| job["result"] == "verified").count();
    let bad: BTreeSet<&str> = ["KP-7", "KP-18", "KP-29"].into();
    assert_eq!((verified, tags("verified").len()), (37, 37), "each stick is made once");
    assert_eq!(&(&tags("failed") | &tags("differs")) - &tags("verified"), bad);
    let unended = jobs.iter().filter(|job| job["ended"].is_null()).count();
    assert!(
        unended <= 4 * kills,
        "{kills} kills left {unended} jobs without an end: a kill interrupts four jobs at most"
    );
    for number in 0..40 {
        let holds = fs::read(bench.path(&format!("tray/s{number}.img"))).unwrap();
        let is_made = holds.get(..RESCUE.len()) == Some(&RESCUE[..]);
        assert_eq!(is_made, ![7, 18, 29].contains(&number), "stick {number}");
    }
    for untouched in ["before", "holiday", "odalen", "again"] {
        assert!(!bench.path(&format!("tray/{untouched}.img")).exists(), "{untouched} was written");
    }
    assert_eq!(fs::read_dir(bench.path("labels")).unwrap().count(), 37);
    let page = fs::read_to_string(bench.path("report.html")).unwrap();
    assert!(page.contains("37 of 37 sticks made") && page.contains("; 3 failed") && page.contains("KP-39"));
    // What is done is done: it is told, and nothing is asked.
    let told = bench.on_tray("station plan.toml --state notes");
    assert!(told.starts_with("exit 0") && told.contains("done: 37 of 37"), "{told}");
}

#[test]
fn a_station_tells_of_each_stick_and_of_what_it_leaves_alone() {
    let read_error = fault("read-error", "at = 2000000\nbytes = 4096");
    let bench = Bench::new()
        .file("plan.toml", b"image = \"rescue.iso\"\nsticks = 2\nat-once = 1\n[drives]\nports = [\"1-1.1\"]\n[files]\nrule = \"refuse\"\n")
        .tray(&stick("holiday", "KP-1", 1, "[[drive.partition]]\nnumber = 1\nbytes = 40000000\nfilesystem = \"fat32\"\nlabel = \"HOLIDAY\"\n"))
        .tray(&stick("elsewhere", "KP-2", 2, ""))
        .tray(&stick("failing", "KP-3", 1, &read_error).replace("leaves_after_ms = 1200", "leaves_after_ms = 5000"))
        .tray(&stick("good", "KP-4", 1, "").replace("leaves_after_ms = 1200", "leaves_after_ms = 4000"))
        .tray(&stick("better", "KP-5", 1, "").replace("leaves_after_ms = 1200", "leaves_after_ms = 4000"));
    let mut told = Vec::new();
    for words in [
        "station plan.toml --state notes",
        "station plan.toml --state notes --sticks 3",
        "station plan.toml --state notes --sticks 2",
        "station plan.toml --state notes --sticks 2",
    ] {
        told.push(format!("$ {words}\n{}", bench.on_tray(words)));
    }
    let doc = bench.json("ledger --state notes");
    assert_eq!(doc.as_array().unwrap().len(), 3);
    let bench =
        bench.file("other.iso", &super::bench::DESKTOP).file("plan.toml", b"image = \"other.iso\"\nsticks = 2\n");
    told.push(bench.on_tray("station plan.toml --state notes --sticks 2"));
    for plan in [
        "sticks = 2",
        "image = \"rescue.iso\"\nsticks = 0",
        "image = \"rescue.iso\"\nsticks = 2\nspeed = 9",
        "image = \"rescue.iso\"\nsticks = 2\n[drives]\nroles = [\"system\"]",
        "image = \"rescue.iso\"\nsticks = 2\n[drives]\nsmallest = \"big\"",
    ] {
        fs::write(bench.path("plan.toml"), plan).unwrap();
        told.push(bench.on_tray("station plan.toml --state notes --sticks 2"));
    }
    let mut settings = steady_with_rates();
    settings.add_filter(r"in \[TIME\], ", "in [TIME], ");
    settings.bind(|| insta::assert_snapshot!(told.join("\n")));
}

#[test]
fn stick_that_changes_while_it_waits_is_left_alone() {
    for rule in ["refuse", "take"] {
        let slow = fault("slow", "bytes_per_second = 2500000");
        let plan = format!("image = \"rescue.iso\"\nsticks = 2\nat-once = 1\n[files]\nrule = \"{rule}\"\n");
        let stays = |text: String| text.replace("leaves_after_ms = 1200", "").replace("queues = true", "");
        let bench = Bench::new()
            .file("plan.toml", plan.as_bytes())
            .tray(&stays(stick("first", "KP-1", 1, &slow)))
            .tray(&stays(stick("waiting", "KP-2", 2, "")))
            .tray(&stays(stick("last", "KP-3", 3, "")));
        let words = "station plan.toml --sticks 2 --tray tray --state notes";
        let station = bench.command(words).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let began = Instant::now();
        while !bench.path("tray/first.img").exists() {
            assert!(began.elapsed() < Duration::from_secs(60), "the first stick is begun");
            sleep(Duration::from_millis(20));
        }
        // Another station finishes it, or somebody formats it and copies files to it.
        let files = pyrotyp_sample::disk_image("Holiday");
        fs::write(bench.path("tray/waiting.img"), &files).unwrap();
        let told = bench.tell(&station.wait_with_output().unwrap());
        assert!(told.starts_with("exit 0") && told.contains("another program wrote to it while it waited"), "{told}");
        assert!(bench.drive("waiting") == files, "{rule}");
        assert!(bench.drive("last").starts_with(&RESCUE) && bench.drive("first").starts_with(&RESCUE));
    }
}

#[test]
fn at_a_terminal_the_number_is_typed_and_whoever_is_asked_about_by_what_stands_for_it() {
    let holiday = "[[drive.partition]]\nnumber = 1\nbytes = 40000000\nfilesystem = \"fat32\"\nlabel = \"HOLIDAY\"\n";
    let stays = |text: String| text.replace("leaves_after_ms = 1200", "");
    let before = stick("before", "KP-1", 3, "").replace("appears_after_ms = 300", "");
    let before = before.replace("leaves_after_ms = 1200", "leaves_after_ms = 4000");
    let slow = fault("slow", "bytes_per_second = 3000000");
    let bench = Bench::new()
        .file("plan.toml", b"image = \"rescue.iso\"\nsticks = 2\nat-once = 2\n")
        .file("more.toml", b"image = \"rescue.iso\"\nsticks = 3\nat-once = 1\n[drives]\nports = [\"1-1.4\"]\n")
        .tray(&before)
        .tray(&stays(stick("again", "KP-1", 3, "")))
        .tray(&stays(stick("holiday", "KP-2", 1, holiday)))
        .tray(&stays(stick("empty", "KP-3", 4, &slow)));
    let tag = |serial: &str| {
        let drives = bench.json("drives --all --tray tray");
        let drives = drives.as_array().unwrap().clone();
        drives
            .iter()
            .find(|one| one["serial"] == serial)
            .map_or(String::new(), |one| one["tag"].as_str().unwrap().to_owned())
    };
    let there = tag("KP-1");
    // It is no arrival when it comes again: a hub may have done that.
    let asked = format!("type {there} to have it written");
    let keys = [
        ("Type the number of sticks", "2\n"),
        (asked.as_str(), "nobody\n"),
        ("no stick that is asked about is `nobody`", &format!("{there}\n")),
    ];
    let (status, shown) = seen(&bench, "station plan.toml --state notes", 126, &keys);
    assert!(status == 0 && shown.contains("done: 2 of 2"), "{status} {shown}");
    assert!(
        shown.contains("was attached before, and has come again") && shown.contains("holds \"HOLIDAY\""),
        "{shown}"
    );
    let (status, shown) = seen(&bench, "station plan.toml --state other", 126, &[("Type the number of sticks", "3\n")]);
    assert!(status == 5 && shown.contains("the plan is for 2 sticks and not `3`"), "{status} {shown}");
    // Once: what is under way is brought to its end. Twice: it is stopped.
    for (state, keys, made) in [("once", "\x03", true), ("twice", "\x03\x03", false)] {
        // A round before may have left the image there.
        let _ = fs::remove_file(bench.path("tray/empty.img"));
        let keys =
            [("Type the number of sticks", "3\n"), ("MB/s", &keys[..1]), ("no further stick is begun", &keys[1..])];
        let (status, shown) = seen(&bench, &format!("station more.toml --state {state}"), 126, &keys);
        assert!(status == 8 && shown.contains(&format!("{} of 3 sticks made", u32::from(made))), "{status} {shown}");
        assert_eq!(bench.drive("empty").starts_with(&RESCUE), made, "{shown}");
    }
}

#[test]
fn ctrl_c_again_ends_at_once_whatever_a_drive_does_and_leaves_the_terminal_as_it_was() {
    let stalls = fault("stall", "after_bytes = 3000000\nmilliseconds = 90000");
    let comes = stick("a", "KP-1", 3, &stalls).replace("leaves_after_ms = 1200", "");
    let there = comes.replace("appears_after_ms = 300", "");
    let bench = |tray| Bench::new().file("plan.toml", b"image = \"rescue.iso\"\nsticks = 1\n").tray(tray);
    let (at_job, at_station) = (bench(&there), bench(&comes));
    let job = format!("write rescue.iso --to {} --unattended", tag_of(&at_job, "a"));
    let station = "station plan.toml --sticks 1 --state notes".to_owned();
    // The drive has answered nothing for a while, or takes no more.
    for (bench, words, told) in [
        (at_job, job, ["no answer", "n: stop now", "Ctrl-C: end at once"]),
        (at_station, station, [" of 4.1 MB", "no further stick is begun", "more ends at once"]),
    ] {
        let words = format!("{words} ; echo ended with $?; stty -a");
        let begun = Instant::now();
        let (_, shown) = seen(&bench, &words, 126, &told.map(|told| (told, "\x03")));
        assert!(shown.contains("\nended with 8") && shown.contains(" echo ") && shown.contains(" icanon "), "{shown}");
        assert!(begun.elapsed() < Duration::from_secs(80), "it waited for the drive: {shown}");
    }
}
