//! A bench of its own for each test: images, a tray, and the program.

use std::fmt::Write as _;
use std::fs::{self, File};
use std::io::{Read, Seek, SeekFrom, Write};
use std::path::PathBuf;
use std::process::{Command, Output, Stdio};
use std::sync::LazyLock;

use pyrotyp_sample::cafe;
use tempfile::TempDir;

use super::schemas;

/// A tray drive of the tests: 48 MiB.
pub(crate) const DRIVE_BYTES: u64 = 48 << 20;

pub(crate) static DESKTOP: LazyLock<Vec<u8>> = LazyLock::new(|| cafe::desktop().build());
pub(crate) static RESCUE: LazyLock<Vec<u8>> = LazyLock::new(|| cafe::rescue().build());
/// What a stick holds before: never zeros.
static OLD_DATA: LazyLock<Vec<u8>> = LazyLock::new(|| pyrotyp_sample::noise(DRIVE_BYTES as usize, 7));

pub(crate) struct Bench {
    folder: TempDir,
    descriptor: String,
}

impl Bench {
    /// An empty tray, and the rescue image as `rescue.iso`.
    pub(crate) fn new() -> Self {
        let bench = Self { folder: tempfile::tempdir().unwrap(), descriptor: String::new() };
        fs::create_dir(bench.path("tray")).unwrap();
        bench.file("tray/tray.toml", b"").file("rescue.iso", &RESCUE)
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub(crate) fn file(self, name: &str, bytes: &[u8]) -> Self {
        fs::write(self.path(name), bytes).unwrap();
        self
    }

    /// Adds drives by their descriptor.
    pub(crate) fn tray(mut self, drives: &str) -> Self {
        self.descriptor.push_str(drives);
        fs::write(self.path("tray/tray.toml"), &self.descriptor).unwrap();
        self
    }

    /// Adds a stick full of old data; `more` goes into its descriptor.
    pub(crate) fn stick(self, name: &str, more: &str) -> Self {
        let bench = self.tray(&format!(
            "[[drive]]\nname = \"{name}\"\nvendor = \"Kestrin\"\nmodel = \"Pocket\"\nserial = \"KP-{name}\"\n\
             bytes = {DRIVE_BYTES}\nbus = \"usb\"\nlink_mbps = 480\nremovable = true\n{more}\n"
        ));
        bench.file(&format!("tray/{name}.img"), &OLD_DATA)
    }

    /// The backing file of a drive as it is now.
    pub(crate) fn drive(&self, name: &str) -> Vec<u8> {
        fs::read(self.path(&format!("tray/{name}.img"))).unwrap()
    }

    pub(crate) fn was_touched(&self, name: &str) -> bool {
        self.drive(name) != *OLD_DATA
    }

    /// Whether no firmware finds anything at either end of the drive.
    pub(crate) fn is_blank_at_its_ends(&self, name: &str) -> bool {
        let drive = self.drive(name);
        let (head, end) = (&drive[..1 << 20], &drive[drive.len() - (1 << 20)..]);
        head.iter().chain(end).all(|byte| *byte == 0)
    }

    /// How many jobs are on record below this state folder.
    pub(crate) fn records(&self, state: &str) -> usize {
        let names = fs::read_dir(self.path(state).join("jobs")).unwrap().map(|entry| entry.unwrap().file_name());
        names.filter(|name| name.to_str().unwrap().ends_with(".json")).count()
    }

    /// Changes bytes of a drive behind the program's back.
    pub(crate) fn alter(&self, name: &str, at: u64, bytes: &[u8]) {
        self.alter_in(&format!("tray/{name}.img"), at, bytes);
    }

    /// The same, of any file.
    pub(crate) fn alter_in(&self, file: &str, at: u64, bytes: &[u8]) {
        let mut file = File::options().write(true).open(self.path(file)).unwrap();
        file.seek(SeekFrom::Start(at)).unwrap();
        file.write_all(bytes).unwrap();
    }

    /// The program with these words as its arguments, in an emptied environment.
    pub(crate) fn command(&self, words: &str) -> Command {
        let mut command = Command::new(assert_cmd::cargo::cargo_bin!("pyrotyp"));
        command.args(words.split_whitespace()).current_dir(self.folder.path());
        command.env_clear().env("HOME", self.folder.path()).stdin(Stdio::null());
        command
    }

    /// Exit status, standard output and standard error, as a person would read them.
    pub(crate) fn pyrotyp(&self, words: &str) -> String {
        let output = self.command(words).output().unwrap();
        schemas::hold(&words.split_whitespace().collect::<Vec<_>>(), &output.stdout);
        self.tell(&output)
    }

    /// The document that a command prints.
    pub(crate) fn json(&self, words: &str) -> serde_json::Value {
        self.json_of(&words.split_whitespace().collect::<Vec<_>>())
    }

    /// The same, of words that may hold blanks.
    pub(crate) fn json_of(&self, words: &[&str]) -> serde_json::Value {
        let output = self.command("--json").args(words).output().unwrap();
        schemas::hold(&[&["--json"], words].concat(), &output.stdout);
        serde_json::from_slice(&output.stdout)
            .unwrap_or_else(|error| panic!("{words:?}: {error}: {}", self.tell(&output)))
    }

    /// Like [`Self::pyrotyp`], on the tray.
    pub(crate) fn on_tray(&self, words: &str) -> String {
        self.pyrotyp(&format!("{words} --tray tray"))
    }

    /// Like [`Self::on_tray`], with `input` on standard input.
    pub(crate) fn fed(&self, words: &str, input: &[u8]) -> String {
        let mut command = self.command(&format!("{words} --tray tray"));
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        // A command that refuses does not read to the end.
        let _ = child.stdin.take().unwrap().write_all(input);
        self.tell(&child.wait_with_output().unwrap())
    }

    /// Puts a copy of the program there. Another process copies it: a file that this one has open for writing may be open in a child that
    /// another test starts at the same moment, and can't be run then.
    pub(crate) fn copy_program(&self, to: &str) {
        let program = assert_cmd::cargo::cargo_bin!("pyrotyp");
        assert!(Command::new("cp").arg(program).arg(self.path(to)).status().unwrap().success());
    }

    /// At a terminal on which `typed` is typed, on the tray. Both outputs come as one there.
    pub(crate) fn at_terminal(&self, words: &str, typed: &str) -> String {
        self.at_terminal_fed("", words, typed)
    }

    /// At a terminal, where `early` is typed before anything is shown and `typed` at the question.
    pub(crate) fn at_terminal_early(&self, early: &str, words: &str, typed: &str) -> String {
        self.at_terminal_with("", words, early, &|| typed.to_owned())
    }

    /// The same, with what `feed` gives on standard input, such as `cat FILE |`.
    pub(crate) fn at_terminal_fed(&self, feed: &str, words: &str, typed: &str) -> String {
        self.at_terminal_with(feed, words, "", &|| typed.to_owned())
    }

    /// Runs a command at a terminal. At the prompt, calls `answer` and types what it returns.
    pub(crate) fn at_terminal_answering(&self, words: &str, answer: &dyn Fn() -> String) -> String {
        self.at_terminal_with("", words, "", answer)
    }

    fn at_terminal_with(&self, feed: &str, words: &str, early: &str, answer: &dyn Fn() -> String) -> String {
        let program = assert_cmd::cargo::cargo_bin!("pyrotyp").display().to_string();
        let command = format!("{feed} exec {program} {words} --tray tray");
        let mut child = Command::new("script")
            .args(["--quiet", "--return", "--command", &command, "/dev/null"])
            .current_dir(self.folder.path())
            .env_clear()
            .envs([("HOME", self.folder.path().to_str().unwrap()), ("PATH", "/usr/bin:/bin"), ("TERM", "dumb")])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let (mut stdin, mut stdout) = (child.stdin.take().unwrap(), child.stdout.take().unwrap());
        stdin.write_all(early.as_bytes()).unwrap();
        let mut shown = Vec::new();
        let mut byte = [0; 1];
        // What is typed before the question would be echoed before it.
        while !shown.ends_with(b"it is: ") && !shown.ends_with(b"they are: ") && stdout.read(&mut byte).unwrap() == 1 {
            shown.push(byte[0]);
        }
        // A command that asks nothing has ended by now.
        let _ = stdin.write_all(answer().as_bytes());
        stdout.read_to_end(&mut shown).unwrap();
        let status = child.wait().unwrap();
        format!("exit {}\n{}", status.code().unwrap_or(-1), self.plain(&shown))
    }

    pub(crate) fn tell(&self, output: &Output) -> String {
        let mut text = String::new();
        match output.status.code() {
            Some(code) => writeln!(text, "exit {code}").unwrap(),
            None => writeln!(text, "ended by a signal").unwrap(),
        }
        text.push_str(&self.plain(&output.stdout));
        if !output.stderr.is_empty() {
            writeln!(text, "-- standard error:\n{}", self.plain(&output.stderr)).unwrap();
        }
        text
    }

    fn plain(&self, bytes: &[u8]) -> String {
        let folder = self.folder.path().canonicalize().unwrap();
        let text = String::from_utf8_lossy(bytes).replace('\r', "");
        let program = assert_cmd::cargo::cargo_bin!("pyrotyp").display().to_string();
        // Commands are told with the path by which the program was called.
        text.replace(&format!("{program} "), "pyrotyp ").replace(folder.to_str().unwrap(), "[DIR]")
    }
}

/// The tag of the stick called `name`, as `drives` shows it.
pub(crate) fn tag_of(bench: &Bench, name: &str) -> String {
    listed(bench, name)["tag"].as_str().unwrap().to_owned()
}

/// What `drives` tells of the tray's drive with this name.
pub(crate) fn listed(bench: &Bench, name: &str) -> serde_json::Value {
    let output = bench.command("drives --all --json --tray tray").output().unwrap();
    let drives: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    let path = format!("tray:{name}");
    let drive = drives.as_array().unwrap().iter().find(|drive| drive["path"] == path.as_str());
    drive.unwrap().clone()
}

/// Settings under which what varies from run to run is told in the same words.
pub(crate) fn steady() -> insta::Settings {
    let mut settings = insta::Settings::clone_current();
    // How often a job says how far it is depends on how long it takes.
    settings.add_filter(r"(?m)^.*: [\d.]+ [kMG]?B of [\d.]+ [kMG]?B .*\n", "");
    settings.add_filter(r"\b\d+\.\d s\b", "[TIME]");
    settings.add_filter(r"\d{8}-\d{6}-", "[WHEN]-");
    settings.add_filter(r"\d{4}-\d\d-\d\dT[\d:.]+Z", "[WHEN]");
    // Which of several requests in flight meets the end first is not the same each time.
    settings.add_filter(r"bytes \d+ to \d+: the drive is gone", "bytes [RANGE]: the drive is gone");
    settings.add_filter(r"127\.0\.0\.1:\d+", "[SERVER]");
    settings.add_filter(r"(checked|  )\s*\d{4}-\d\d-\d\d, ", "$1[DAY], ");
    settings.add_filter(r"(found|kept) on \d{4}-\d\d-\d\d", "$1 on [DAY]");
    settings.add_filter(r"what it was on \d{4}-\d\d-\d\d", "what it was on [DAY]");
    settings.add_filter(r"checksums of \d{4}-\d\d-\d\d", "checksums of [DAY]");
    settings.add_filter(r"first used here on \d{4}-\d\d-\d\d", "first used here on [DAY]");
    // Jobs of the same second have numbers.
    settings.add_filter(r"(\[WHEN\]-[0-9A-Z]{5})-\d\b", "$1");
    settings.add_filter(r"(\[WHEN\]-[0-9A-Z]{5}) +", "$1 ");
    settings.add_filter(r"\d{4}-\d\d-\d\d \d\d:\d\d  ", "[LOCAL]  ");
    settings.add_filter(r#""(person|bench)": ("[^"]*"|null)"#, r#""$1": "[WHO]""#);
    // Of a job that is over at once, no speed is seen.
    settings.add_filter(r#"(?s)\n +"speeds": \{.*?\n +\},"#, "");
    settings.add_filter(r#""seconds": [\d.e-]+"#, r#""seconds": "[TIME]""#);
    settings
}

/// The same where speeds and times of day are told.
pub(crate) fn steady_with_rates() -> insta::Settings {
    let mut settings = steady();
    settings.add_filter(r" +\d[\d.]* [kMG]?B/s( to)?", " [RATE]$1");
    settings.add_filter(r"\[RATE\] to +\[RATE\]", "[RATE]");
    settings.add_filter(r"\d{4}-\d\d-\d\d \d\d:\d\d", "[LOCAL]");
    settings.add_filter(r"  by +.* on .*", "  by        [WHO]");
    settings
}
