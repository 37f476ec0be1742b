//! What is settled once and for all, what goes to the system, and what a shell completes.

use std::fs;
use std::process::Command;

use serde_json::Value;

use super::bench::{Bench, RESCUE, tag_of};

fn settle(bench: &Bench, text: &str) {
    fs::create_dir_all(bench.path(".config/pyrotyp")).unwrap();
    fs::write(bench.path(".config/pyrotyp/settings.toml"), text).unwrap();
}

/// Key, value and origin, a line each.
fn held(document: &Value) -> String {
    let rows = document.as_array().unwrap().iter();
    rows.map(|row| format!("{} = {}, {}\n", row["key"], row["value"], row["from"])).collect()
}

#[test]
fn what_holds_is_shown_with_where_it_came_from() {
    let bench = Bench::new();
    let nothing = held(&bench.json("settings --state notes"));
    settle(&bench, "protect = [\"AGCHS\"]\ncolor = \"never\"\nnear = \"de\"\neject = true\nbell = true\n");
    let file = bench.json("settings");
    let mut command = bench.command("settings --json --color always --bell=no");
    let output = command.env("NO_COLOR", "1").env("XDG_STATE_HOME", "/srv/state").output().unwrap();
    let options: Value = serde_json::from_slice(&output.stdout).unwrap();
    let variable = bench.command("settings --json").env("NO_COLOR", "1").output().unwrap();
    assert_eq!(serde_json::from_slice::<Value>(&variable.stdout).unwrap()[1]["from"], "environment");
    insta::assert_snapshot!([nothing, held(&file).replace(bench.path("").to_str().unwrap(), "[BENCH]/"), held(&options)].join("\n"), @r#"
    "protect" = [], "default"
    "color" = "auto", "default"
    "near" = null, "default"
    "eject" = false, "default"
    "bell" = false, "default"
    "confined" = true, "default"
    "fenced" = true, "default"
    "state" = "notes", "option"

    "protect" = ["AGCHS"], "file"
    "color" = "never", "file"
    "near" = "de", "file"
    "eject" = true, "file"
    "bell" = true, "file"
    "confined" = true, "default"
    "fenced" = true, "default"
    "state" = "[BENCH]/.local/state/pyrotyp", "default"

    "protect" = ["AGCHS"], "file"
    "color" = "always", "option"
    "near" = "de", "file"
    "eject" = true, "file"
    "bell" = false, "option"
    "confined" = true, "default"
    "fenced" = true, "default"
    "state" = "/srv/state/pyrotyp", "environment"
    "#);
    // Each key is documented, and nothing else is one.
    let page = include_str!("../../../docs/settings.md");
    for row in file
        .as_array()
        .unwrap()
        .iter()
        .filter(|row| !["state", "confined", "fenced"].contains(&row["key"].as_str().unwrap()))
    {
        assert!(page.contains(&format!("| `{}` |", row["key"].as_str().unwrap())), "{row}");
    }
    assert_eq!(page.matches("\n| `").count(), 5);
    settle(&bench, "ejct = true\n");
    insta::assert_snapshot!(bench.pyrotyp("settings").replace(bench.path("").to_str().unwrap(), "[BENCH]/"), @r#"
    exit 2
    -- standard error:
    pyrotyp: can't use the settings in [DIR]/.config/pyrotyp/settings.toml: unknown field `ejct`, expected one of `protect`, `color`, `near`, `eject`, `bell`
       next: correct the file, for example: protect = ["AGCHS"]; docs/settings.md has every key
    "#);
}

#[test]
fn a_drive_is_ejected_as_the_settings_or_this_call_say() {
    let bench = Bench::new().stick("a", "");
    let tag = tag_of(&bench, "a");
    settle(&bench, "eject = true\n");
    let ejects = |more: &str| {
        let told =
            bench.on_tray(&format!("write rescue.iso --to {tag} --unattended --accept just-verified --log log {more}"));
        assert!(told.starts_with("exit 0"), "{told}");
        let log = fs::read_to_string(bench.path("log")).unwrap();
        let lines: Vec<Value> = log.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        lines.iter().find(|line| line["question"] == "release").unwrap()["answer"] == "Eject"
    };
    assert!(ejects("") && !ejects("--eject=no"));
    settle(&bench, "");
    assert!(!ejects("") && ejects("--eject") && ejects("--eject=yes"));
}

#[test]
fn the_log_has_what_was_asked_of_the_system() {
    let fault = "[[drive.fault]]\nkind = \"write-error\"\nat = 2097152\nbytes = 512\ntimes = 99\n";
    let bench = Bench::new().stick("a", "").stick("b", fault);
    let [a, b] = ["a", "b"].map(|name| tag_of(&bench, name));
    let log = |words: &str| {
        bench.on_tray(words);
        let text = fs::read_to_string(bench.path("log")).unwrap();
        text.lines().map(|line| serde_json::from_str(line).unwrap()).collect::<Vec<Value>>()
    };
    let all = log(&format!("write rescue.iso --to {a} --unattended --log log -v"));
    let written = |line: &&Value| line["question"] == "write";
    let bytes = |line: &Value| line["end"].as_u64().unwrap() - line["start"].as_u64().unwrap();
    let bytes: u64 = all.iter().filter(written).map(bytes).sum();
    assert!(bytes >= RESCUE.len() as u64, "{bytes}");
    let questions = |all: &[Value]| {
        let mut questions: Vec<String> = all.iter().map(|line| line["question"].to_string()).collect();
        questions.dedup();
        questions
    };
    for question in ["drives", "openers", "claim", "flush", "read", "release"] {
        assert!(questions(&all).contains(&format!("\"{question}\"")), "{question}");
    }
    // Without -v, pieces that went well are left out, and those that failed are not.
    let failed = log(&format!("write rescue.iso --to {b} --unattended --log log"));
    let pieces: Vec<&Value> = failed.iter().filter(written).collect();
    assert!(!pieces.is_empty() && pieces.iter().all(|line| !line["error"].is_null()), "{pieces:?}");
}

#[test]
fn the_manual_has_a_page_for_each_command_and_each_shell_is_answered() {
    let bench = Bench::new().stick("a", "").stick("b", "");
    assert!(bench.pyrotyp("manual --into share").starts_with("exit 0"));
    let again = bench.pyrotyp("manual --into share --quiet");
    let pages = fs::read_dir(bench.path("share/man/man1")).unwrap().count();
    assert_eq!(again, format!("exit 0\n{pages} man pages and completions for bash, zsh and fish are in share\n"));
    let page = fs::read_to_string(bench.path("share/man/man1/pyrotyp-ledger-report.1")).unwrap();
    assert!(page.contains(".TH pyrotyp-ledger-report 1") && page.contains("to print and hand over"), "{page}");
    for (file, names) in [
        ("bash-completion/completions/pyrotyp", "complete -o"),
        ("zsh/site-functions/_pyrotyp", "#compdef pyrotyp"),
        ("fish/vendor_completions.d/pyrotyp.fish", "complete --"),
    ] {
        assert!(fs::read_to_string(bench.path("share").join(file)).unwrap().contains(names), "{file}");
    }
    let [a, b] = ["a", "b"].map(|name| tag_of(&bench, name));
    assert!(bench.on_tray(&format!("write rescue.iso --to {a} --unattended")).starts_with("exit 0"));
    assert!(bench.pyrotyp("shelf add rescue.iso").starts_with("exit 0"));
    let completed = |words: &[&str]| {
        let mut command = Command::new(assert_cmd::cargo::cargo_bin!("pyrotyp"));
        command.env_clear().env("HOME", bench.path("")).env("PYROTYP_COMPLETE", "fish").current_dir(bench.path(""));
        let output = command.args(["--", "pyrotyp"]).args(words).output().unwrap();
        let words = String::from_utf8(output.stdout).unwrap();
        words.lines().map(|line| line.split('\t').next().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(completed(&["write", "--tray", "tray", "--to", ""])[..2], [a.clone(), b]);
    assert_eq!(completed(&["write", "--accept", "ext"]), ["external-disk"]);
    assert_eq!(completed(&["shelf", "remove", "re"]), ["rescue"]);
    assert_eq!(completed(&["ledger", "drive", ""])[0], a);
    assert!(completed(&["ledger", "show", ""]).iter().any(|job| job.ends_with(&format!("-{a}"))));
    assert!(completed(&["ledger", "re"]).contains(&"report".to_owned()));
}
