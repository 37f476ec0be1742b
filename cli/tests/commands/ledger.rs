//! What was done: kept, listed, asked for, and used to recognise a stick.

use std::fs;

use super::bench::{Bench, DESKTOP, RESCUE, steady, tag_of};

fn steady_rates() -> insta::Settings {
    let mut settings = steady();
    settings.add_filter(r" +\d[\d.]* [kMG]?B/s", " [RATE]");
    settings.add_filter(r"\d{4}-\d\d-\d\d \d\d:\d\d", "[LOCAL]");
    settings.add_filter(r"on \d{4}-\d\d-\d\d", "on [DAY]");
    settings.add_filter(r"by        .*", "by        [WHO]");
    settings.add_filter(r"at byte \d+, \d+ bytes?", "at byte [WHERE]");
    settings
}

#[test]
fn every_job_is_listed_shown_and_told_of_its_stick() {
    let unplug = "[[drive.fault]]\nkind = \"unplug\"\nafter_bytes = 9000000\n";
    let bench = Bench::new().stick("a", "").stick("b", unplug).file("desktop.iso", &DESKTOP);
    let [a, b] = ["a", "b"].map(|name| tag_of(&bench, name));
    let mut told = vec![bench.pyrotyp("ledger"), bench.pyrotyp("ledger show last")];
    let write = |image: &str, drives: &str| {
        bench.on_tray(&format!("write {image} {drives} --unattended --quiet --state notes"))
    };
    assert!(write("desktop.iso", &format!("--to {a} --to {b}")).starts_with("exit 6"));
    assert!(write("rescue.iso", &format!("--to {a} --accept just-verified")).starts_with("exit 0"));
    bench.alter("a", 3_000_000, b"a holiday");
    assert!(bench.on_tray(&format!("compare {a} rescue.iso --state notes")).starts_with("exit 7"));
    for words in [
        "ledger",
        "ledger wrenfield --result verified",
        &format!("ledger --drive {b}"),
        "ledger --since 2999-01-01",
        "ledger show last",
        "ledger show no-such-job",
        &format!("ledger show -- {b}"),
        &format!("ledger drive {a}"),
        "ledger drive 00000",
        "ledger --result verifed",
    ] {
        // Whose jobs are where the word for the folder stands.
        let words = words.replacen("ledger", "ledger --state notes", 1);
        told.push(format!("$ {words}\n{}", bench.pyrotyp(&words)));
    }
    let table = bench.pyrotyp("ledger export --state notes --most 2");
    let lines: Vec<&str> = table.lines().collect();
    assert!(lines[1].starts_with("job,started,ended,kind,result,") && lines.len() == 4, "{table}");
    let cells: Vec<&str> = lines[2].split(',').collect();
    assert_eq!(
        (cells.len(), cells[3], cells[4], cells[12], cells[20]),
        (21, "compare", "differs", a.as_str(), "changed-later")
    );
    let all = bench.json("ledger --state notes");
    let kinds: Vec<_> = all.as_array().unwrap().iter().map(|job| job["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["compare", "write", "write"]);
    assert_eq!(bench.json("ledger show last --state notes"), all[0]);
    steady_rates().bind(|| insta::assert_snapshot!("ledger", told.join("\n")));
}

#[test]
fn a_stick_is_recognised_by_its_tag_or_by_what_it_begins_with_and_proven_without_the_image() {
    let bench = Bench::new().stick("a", "").stick("b", "").stick("c", "").file("desktop.iso", &DESKTOP);
    let [a, b, c] = ["a", "b", "c"].map(|name| tag_of(&bench, name));
    assert!(bench.on_tray(&format!("write desktop.iso --to {a} --unattended")).starts_with("exit 0"));
    fs::remove_file(bench.path("desktop.iso")).unwrap();
    // A stick that this bench never wrote, made elsewhere from the same image; and one that begins like an image of the shelf.
    fs::copy(bench.path("tray/a.img"), bench.path("tray/b.img")).unwrap();
    bench.alter("c", 0, &RESCUE);
    assert!(bench.pyrotyp("shelf add rescue.iso").starts_with("exit 0"));
    let mut told = Vec::new();
    for tag in [&a, &b, &c] {
        told.push(bench.on_tray(&format!("compare {tag}")));
        told.push(bench.on_tray(&format!("contents {tag} --quiet")).lines().take(6).collect::<Vec<_>>().join("\n"));
    }
    bench.alter("b", 13_000_000, b"!");
    told.push(bench.on_tray(&format!("compare {b}")));
    assert_eq!(bench.json(&format!("compare {b} --tray tray"))["result"], "differs");
    // What was written last counts: a job that failed leaves nothing to compare with.
    bench.alter("c", 0, &[7; 1 << 20]);
    told.push(bench.on_tray(&format!("compare {c}")));
    let blocks = fs::read_dir(bench.path(".local/state/pyrotyp/jobs")).unwrap().map(|entry| entry.unwrap().path());
    let blocks = blocks.filter(|path| path.extension().is_some_and(|end| end == "blocks"));
    blocks.for_each(|path| fs::write(path, "pyrotyp blocks 1\n").unwrap());
    told.push(bench.on_tray(&format!("compare {a}")));
    steady_rates().bind(|| insta::assert_snapshot!("recognised", told.join("\n")));
}

#[test]
fn a_job_that_can_not_be_put_on_record_is_done_all_the_same() {
    let bench = Bench::new().stick("a", "");
    // No folder can be made there, by anybody.
    let told =
        bench.on_tray(&format!("write rescue.iso --to {} --unattended --state /proc/nowhere", tag_of(&bench, "a")));
    assert!(bench.drive("a").starts_with(&RESCUE), "{told}");
    assert!(told.starts_with("exit 0") && told.contains("the job is not on record"), "{told}");
}

#[test]
fn ten_thousand_records_are_listed_behind_the_fence() {
    let bench = Bench::new().stick("a", "");
    let a = tag_of(&bench, "a");
    assert!(
        bench.on_tray(&format!("write rescue.iso --to {a} --unattended --quiet --state notes")).starts_with("exit 0")
    );
    let jobs = bench.path("notes/jobs");
    let first = fs::read_dir(&jobs).unwrap().map(|entry| entry.unwrap().path());
    let first = first.into_iter().find(|path| path.extension().is_some_and(|ending| ending == "json")).unwrap();
    let mut record: serde_json::Value = serde_json::from_slice(&fs::read(first).unwrap()).unwrap();
    for number in 0..10_000u32 {
        let (day, tag) = (20_200_101 + number / 500, format!("{:05}", number % 300));
        let job = format!("{day}-{:06}-{tag}", number % 500);
        record["job"] = job.as_str().into();
        record["drives"][0]["tag"] = tag.into();
        fs::write(jobs.join(format!("{job}.json")), serde_json::to_vec(&record).unwrap()).unwrap();
    }
    for words in
        ["ledger --state notes --most 20000", "ledger drive 00042 --state notes", "drives --tray tray --state notes"]
    {
        let told = bench.pyrotyp(words);
        assert!(told.starts_with("exit 0"), "{words}: {}", told.lines().last().unwrap_or_default());
    }
    assert_eq!(bench.json("ledger --state notes --most 20000").as_array().unwrap().len(), 10_001);
}
