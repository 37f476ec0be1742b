//! Whether a drive can be trusted: told in one sentence, by the same guard and question as a job that writes.

use std::fs;
use std::process::Stdio;
use std::time::{Duration, Instant};

use super::bench::{Bench, DESKTOP, listed, steady_with_rates, tag_of};

fn stick(name: &str, faults: &str) -> String {
    format!(
        "[[drive]]\nname = \"{name}\"\nvendor = \"Trelo\"\nmodel = \"Turbo\"\nserial = \"TT-{name}\"\nbytes = 64000000\n\
         bus = \"usb\"\nlink_mbps = 480\nremovable = true\n{faults}"
    )
}

fn fault(kind: &str, more: &str) -> String {
    format!("[[drive.fault]]\nkind = \"{kind}\"\n{more}\n")
}

fn with_rates() -> insta::Settings {
    let mut settings = steady_with_rates();
    // One byte in 256 of a pattern is what was there before.
    settings.add_filter(r"from byte 20000001 on", "from byte 20000000 on");
    // Of what is over at once, no speeds are told.
    settings.add_filter(r"((writing|reading) \[RATE\](, |; ))+whole", "whole");
    settings.add_filter(r"\d{4}-\d\d-\d\d \d\d:\d\d", "[LOCAL]");
    settings
}

#[test]
fn a_drive_is_told_in_a_sentence_and_keeps_what_is_on_it() {
    let false_size = fault("wrap", "true_bytes = 39000064");
    let failing = fault("drop", "at = 20000000\nbytes = 9000000");
    let unreadable = fault("read-error", "at = 20000000\nbytes = 70000");
    let bench = Bench::new()
        .tray(&stick("good", ""))
        .tray(&stick("false", &false_size))
        .tray(&stick("failing", &failing))
        .tray(&stick("unreadable", &unreadable))
        .file("desktop.iso", &DESKTOP);
    let [good, lying, failing, unreadable] =
        ["good", "false", "failing", "unreadable"].map(|name| tag_of(&bench, name));
    let mut told = Vec::new();
    for tag in [&good, &lying] {
        assert!(
            bench.on_tray(&format!("write desktop.iso --to {tag} --unattended --state notes")).starts_with("exit 0")
        );
    }
    let before = ["good", "false"].map(|name| bench.drive(name));
    for words in [
        format!("gauge {good} --unattended --accept just-verified"),
        format!("gauge {lying} --unattended --accept just-verified"),
        format!("gauge {failing} --unattended --quiet"),
        format!("gauge {unreadable} --read"),
        format!("gauge {good} --read --quiet"),
    ] {
        told.push(format!("$ {words}\n{}", bench.on_tray(&format!("{words} --state notes"))));
    }
    for (name, before) in ["good", "false"].into_iter().zip(&before) {
        // Behind what was written, a backing file reads as zeros.
        let mut now = bench.drive(name);
        let rest = now.split_off(before.len());
        assert!(now == *before && rest.iter().all(|byte| *byte == 0), "{name}");
    }
    // What was on the stick is still known by its job, until all of it is tested.
    assert!(bench.on_tray(&format!("compare {good} --state notes")).starts_with("exit 0"));
    let document = bench.json(&format!("gauge {lying} --unattended --accept just-verified --tray tray --state notes"));
    assert_eq!((&document["verdict"], &document["true_bytes"]), (&"smaller".into(), &39_000_064.into()));
    assert_eq!(document["areas"], serde_json::json!([{"offset": 39_000_064, "bytes": 24_999_936, "state": "missing"}]));
    told.push(bench.pyrotyp("ledger show last --state notes"));
    assert!(bench.pyrotyp("ledger report last --into page.html --state notes").starts_with("exit 0"));
    let page = fs::read_to_string(bench.path("page.html")).unwrap();
    assert!(page.contains("Not to be trusted") && page.contains("<svg") && !page.contains("How to start it"), "{page}");
    for words in [
        format!("gauge {good} --whole --unattended --accept just-verified --quiet"),
        format!("compare {good}"),
        format!("gauge {lying} --whole --unattended --accept just-verified --quiet"),
        format!("reclaim {lying} --limit 39000064 --unattended --quiet"),
        format!("reclaim {lying} --limit 64000001 --unattended --quiet"),
        format!("gauge {failing} --whole --unattended --quiet"),
    ] {
        told.push(format!("$ {words}\n{}", bench.on_tray(&format!("{words} --state notes"))));
    }
    told.push(bench.pyrotyp(&format!("ledger drive {lying} --state notes --quiet")));
    assert_eq!(listed(&bench, "false")["partitions"][0]["bytes"], 36_902_912, "its volume keeps within the true size");
    with_rates().bind(|| insta::assert_snapshot!("gauged", told.join("\n")));
}

#[test]
fn only_the_typed_tag_lets_a_look_write_and_the_guard_holds() {
    let vault = "[[drive]]\nname = \"vault\"\nvendor = \"Odalen\"\nmodel = \"Vault\"\nserial = \"OV-1\"\nbytes = 1000204886016\nbus = \"usb\"\n";
    let tiny = "[[drive]]\nname = \"tiny\"\nmodel = \"Old\"\nserial = \"OLD-2201\"\nbytes = 1048576\nbus = \"usb\"\nremovable = true\n";
    let bench = Bench::new().stick("a", "").tray(vault).tray(tiny).tray(&stick("empty", ""));
    let [a, vault, tiny, empty] = ["a", "vault", "tiny", "empty"].map(|name| tag_of(&bench, name));
    let mut told =
        vec![bench.at_terminal(&format!("gauge {a}"), "\n"), bench.at_terminal(&format!("gauge {a} --whole"), "\n")];
    for words in [
        format!("gauge {a}"),
        format!("gauge {vault} --unattended"),
        "gauge tray:a --unattended".to_owned(),
        "gauge arriving --unattended --whole".to_owned(),
        format!("gauge {a} --read --whole"),
    ] {
        told.push(format!("$ {words}\n{}", bench.on_tray(&words)));
    }
    assert!(!bench.was_touched("a"));
    told.push(bench.on_tray(&format!("gauge {tiny} --unattended --quiet")));
    // Where nothing is on it and all stays as it is, nobody needs to say yes.
    let done = bench.on_tray(&format!("gauge {empty}"));
    assert!(done.starts_with("exit 0") && done.contains("sound: "), "{done}");
    assert!(bench.on_tray(&format!("gauge {empty} --whole")).starts_with("exit 5"));
    let done = bench.at_terminal(&format!("gauge {a}"), &format!("{a}\n"));
    assert!(done.starts_with("exit 0") && done.contains("sound: "), "{done}");
    with_rates().bind(|| insta::assert_snapshot!("not_gauged", told.join("\n")));
}

#[test]
fn killed_quick_test_is_listed_and_restored_on_request() {
    let slow = fault("slow", "bytes_per_second = 1500000");
    let bench = Bench::new().tray(&stick("a", &slow));
    let tag = tag_of(&bench, "a");
    let content = pyrotyp_sample::noise(64_000_000, 11);
    fs::write(bench.path("tray/a.img"), &content).unwrap();
    let mut look = bench.command(&format!("gauge {tag} --unattended --quiet --tray tray --state notes"));
    let mut child = look.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let began = Instant::now();
    while bench.drive("a") == content {
        assert!(began.elapsed() < Duration::from_secs(30), "nothing was ever marked");
        std::thread::sleep(Duration::from_millis(20));
    }
    // While it goes on, others leave its marks alone.
    let meanwhile = bench.on_tray("drives --state notes --quiet");
    assert!(meanwhile.starts_with("exit 0") && !meanwhile.contains("interrupted"), "{meanwhile}");
    child.kill().unwrap();
    child.wait().unwrap();
    assert!(bench.drive("a") != content);
    let marked = bench.drive("a");
    let told = bench.on_tray("drives --state notes");
    assert!(
        told.contains("an interrupted quick test may have left test data on it")
            && told.contains(&format!("{tag} --restore")),
        "{told}"
    );
    let told = bench.on_tray(&format!("contents {tag} --state notes"));
    assert!(told.contains("an interrupted quick test may have left test data on it"), "{told}");
    assert!(bench.drive("a") == marked, "a command that lists changes nothing");
    // Another stick with the same identity: not a byte of it is written, and the backup stays for the first one.
    let twin = pyrotyp_sample::noise(64_000_000, 12);
    fs::write(bench.path("tray/a.img"), &twin).unwrap();
    let none = bench.on_tray(&format!("gauge {tag} --restore --state notes"));
    assert!(none.starts_with("exit 0") && none.contains("nothing to restore"), "{none}");
    let done = bench.on_tray(&format!("gauge {tag} --unattended --quiet --state notes"));
    assert!(done.contains("sound: ") && bench.drive("a") == twin, "{done}");
    fs::write(bench.path("tray/a.img"), &marked).unwrap();
    let document = bench.json(&format!("gauge {tag} --restore --tray tray --state notes"));
    assert!(document["restored_bytes"].as_u64().unwrap() > 0 && bench.drive("a") == content, "{document}");
    let again = bench.on_tray("drives --state notes");
    assert!(!again.contains("interrupted"), "{again}");
}
