//! What is drawn at a terminal while a job runs, and what is asked there.

use std::io::{Read, Write};
use std::num::NonZero;
use std::process::{ChildStdin, Command, Stdio};
use std::thread;
use std::time::Duration;

use super::bench::{Bench, DESKTOP, RESCUE, tag_of};

/// A terminal that answers where its cursor is, as real ones do.
struct Terminal {
    screen: vt100::Parser,
    keys: ChildStdin,
    /// All that came, but for what moves the cursor.
    unseen: usize,
    bytes: Vec<u8>,
}

impl Terminal {
    fn take(&mut self, bytes: &[u8]) {
        self.screen.process(bytes);
        self.bytes.extend_from_slice(bytes);
        while let Some(at) = find(&self.bytes[self.unseen..], b"\x1b[6n") {
            self.unseen += at + 4;
            let (row, column) = self.screen.screen().cursor_position();
            write!(self.keys, "\x1b[{};{}R", row + 1, column + 1).unwrap();
        }
    }
}

fn find(all: &[u8], part: &[u8]) -> Option<usize> {
    all.windows(part.len()).position(|window| window == part)
}

/// Runs a command on a terminal of so many columns, with what comes before ` | ` on its standard input, and what comes after ` ; ` behind it. Each key is typed when the words before it are on the screen; the rest of what is
/// shown comes back with the exit status.
pub(crate) fn seen(bench: &Bench, words: &str, columns: u16, typed: &[(&str, &str)]) -> (i32, String) {
    let program = assert_cmd::cargo::cargo_bin!("pyrotyp").to_str().unwrap().to_owned();
    let (feed, words) = words.split_once(" | ").map_or(("", words), |(feed, words)| (feed, words));
    let (words, behind) = words.split_once(" ; ").unwrap_or((words, "exit $?"));
    let feed = if feed.is_empty() { String::new() } else { format!("{feed} |") };
    // The shell hears Ctrl-C as well.
    let command = format!("stty cols {columns} rows 40; trap : INT; {feed} {program} {words} --tray tray; {behind}");
    let mut child = Command::new("script")
        .args(["--quiet", "--return", "--command", &command, "/dev/null"])
        .current_dir(bench.path(""))
        .env_clear()
        .envs([("HOME", bench.path("").to_str().unwrap()), ("PATH", "/usr/bin:/bin"), ("TERM", "xterm")])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut output = child.stdout.take().unwrap();
    let keys = child.stdin.take().unwrap();
    let mut terminal = Terminal {
        screen: vt100::Parser::new(NonZero::new(40).unwrap(), NonZero::new(columns).unwrap(), 100),
        keys,
        unseen: 0,
        bytes: Vec::new(),
    };
    let mut typed = typed.iter().peekable();
    let mut piece = [0; 4096];
    loop {
        let count = output.read(&mut piece).unwrap_or(0);
        if count == 0 {
            break;
        }
        terminal.take(&piece[..count]);
        while let Some((_, keys)) = typed.next_if(|(words, _)| terminal.screen.screen().contents().contains(words)) {
            thread::sleep(Duration::from_millis(150));
            terminal.keys.write_all(keys.as_bytes()).unwrap();
        }
    }
    let left = typed.next();
    assert!(left.is_none(), "{left:?} was not shown: {}", terminal.screen.screen().contents());
    let rang = if terminal.bytes.contains(&7) { "\n[it rang]" } else { "" };
    (child.wait().unwrap().code().unwrap_or(-1), terminal.screen.screen().contents() + rang)
}

const SLOW: &str = "[[drive.fault]]\nkind = \"slow\"\nbytes_per_second = 4000000\n";

#[test]
fn a_job_is_drawn_and_ctrl_c_asks_how_to_stop_while_it_goes_on() {
    let bench = Bench::new().stick("a", SLOW).file("desktop.iso", &DESKTOP);
    let tag = tag_of(&bench, "a");
    let write = format!("write desktop.iso --to {tag} --unattended --accept just-verified");
    // Going on: it ends as if nothing had been.
    let asked = ("n: stop now", "g");
    let keys = [("MB/s", "\x03"), asked, ("read back", "")];
    let (status, shown) = seen(&bench, &format!("{write} --bell"), 80, &keys);
    assert!(status == 0 && shown.contains("verified: ") && !shown.contains("stop now"), "{shown}");
    assert!(shown.ends_with("[it rang]"), "{shown}");
    assert!(bench.drive("a").starts_with(&DESKTOP));
    // After the stage: all of it is written, nothing is sealed, and it can be gone on with.
    let (status, shown) = seen(&bench, &write, 80, &[("MB/s", "\x03"), ("after this stage", "s")]);
    assert!(status == 8 && shown.contains("write: 18.5 MB in") && !shown.contains("read back: "), "{shown}");
    assert!(!shown.contains("[it rang]"), "{shown}");
    assert!(shown.contains("no PC starts from it") && bench.is_blank_at_its_ends("a"), "{shown}");
    let (status, shown) = seen(&bench, &format!("{write} --resume"), 58, &[]);
    assert!(status == 0 && shown.contains("18.5 MB") && bench.drive("a").starts_with(&DESKTOP), "{shown}");
    // Now: by its key, and by Ctrl-C once more.
    for now in ["n", "\x03"] {
        let (status, shown) = seen(&bench, &write, 126, &[("MB/s", "\x03"), ("n: stop now", now)]);
        assert!(
            status == 8 && shown.contains("stopped during the") && bench.is_blank_at_its_ends("a"),
            "{status} {shown}"
        );
    }
}

#[test]
fn ctrl_c_twice_stops_at_once_though_nothing_comes_through_the_pipe() {
    let bench = Bench::new().stick("a", "").file("desktop.iso", &DESKTOP);
    let tag = tag_of(&bench, "a");
    let sum = format!("sha256:{:064}", 0);
    // Six megabytes, and then silence.
    let feed = "(trap '' INT; head -c 6000000 desktop.iso; sleep 9)";
    let write = format!("{feed} | write - --sum {sum} --to {tag} --unattended --state notes");
    let (_, shown) = seen(&bench, &write, 80, &[("  write", "\x03"), ("stop now", "\x03")]);
    assert!(shown.contains("stopped") && bench.is_blank_at_its_ends("a"), "{shown}");
}

#[test]
fn what_is_left_away_at_a_terminal_is_offered_there() {
    let system = "[[drive]]\nname = \"system\"\nmodel = \"NV2\"\nserial = \"M-1\"\nbytes = 99999744\nbus = \"nvme\"\n\
                  [[drive.partition]]\nnumber = 1\nbytes = 9999872\nfilesystem = \"ext4\"\nmounted_at = \"/\"\n";
    let vault = "[[drive]]\nname = \"vault\"\nvendor = \"Odalen\"\nmodel = \"Vault\"\nserial = \"OV-1\"\nbytes = 1000204886016\nbus = \"usb\"\n";
    let bench = Bench::new().stick("a", "").stick("b", "").tray(system).tray(vault).file("notes.iso", &[7; 1 << 20]);
    let [a, b, vault] = ["a", "b", "vault"].map(|name| tag_of(&bench, name));
    assert!(bench.pyrotyp("shelf add rescue.iso").starts_with("exit 0"));
    let (status, shown) = seen(&bench, "write", 126, &[("Which image?", "\x1b")]);
    assert!(status == 5 && shown.contains("1 more is no image"), "{shown}");
    assert!(shown.contains("nothing was chosen, and nothing was changed"), "{shown}");
    let keys = [
        ("on the shelf, never checked: rescue", "\x1b[B\r"),
        ("Onto which drives?", "\x1b[B \r"),
        ("type its tag", &format!("{b}\n")),
    ];
    let (status, shown) = seen(&bench, "write", 126, &keys);
    assert!(status == 0 && shown.contains("rescue.iso") && shown.contains("2 more can't be chosen:"), "{shown}");
    assert!(shown.contains(&format!("{vault}  Odalen Vault: ")) && shown.contains("only with --accept"), "{shown}");
    assert!(bench.drive("b").starts_with(&RESCUE) && !bench.was_touched("a"));
    // Nothing ticked is nothing meant, and a tag that was not chosen is no answer to the question.
    let (status, shown) = seen(&bench, "write rescue", 80, &[("Onto which drives?", "\r")]);
    assert!(status == 5 && shown.contains("no drive was ticked"), "{shown}");
    let keys = [("Onto which drives?", " \r"), ("type its tag", &format!("{b}\n"))];
    let (status, shown) = seen(&bench, "write rescue", 80, &keys);
    assert!(status == 5 && !bench.was_touched("a") && shown.contains(&a), "{shown}");
}
