//! Root's rights and the rest, in two processes: `cargo test -- --ignored`, as root.

use std::fs::{self, File};
use std::io::Read;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};

use super::bench::{Bench, DESKTOP, tag_of};
use super::loop_device::Loop;

/// `nobody`, whom every system knows.
const PERSON: &str = "65534";

fn as_person(command: &mut Command) -> &mut Command {
    command.envs([("SUDO_UID", PERSON), ("SUDO_GID", PERSON)])
}

/// The only process that this one has started, once it has.
fn child_of(process: u32) -> u32 {
    let until = Instant::now() + Duration::from_secs(10);
    loop {
        let children = fs::read_to_string(format!("/proc/{process}/task/{process}/children")).unwrap_or_default();
        match children.split_whitespace().next() {
            Some(child) => return child.parse().unwrap(),
            None => assert!(Instant::now() < until, "it is divided"),
        }
        sleep(Duration::from_millis(10));
    }
}

/// Starts what goes on until it is told to end, and waits until it is at work.
fn watching(bench: &Bench) -> (Child, u32) {
    let mut keyholder =
        as_person(bench.command("drives --watch").stdout(Stdio::piped())).stderr(Stdio::null()).spawn().unwrap();
    let mut first = [0; 1];
    keyholder.stdout.as_mut().unwrap().read_exact(&mut first).unwrap();
    let worker = child_of(keyholder.id());
    (keyholder, worker)
}

fn is_gone(process: u32) -> bool {
    let until = Instant::now() + Duration::from_secs(5);
    while Path::new(&format!("/proc/{process}")).exists() {
        if Instant::now() > until {
            return false;
        }
        sleep(Duration::from_millis(10));
    }
    true
}

fn send(signal: &str, process: u32) {
    assert!(Command::new("kill").args([signal, &process.to_string()]).status().unwrap().success());
}

#[test]
#[ignore = "needs root, to give it up"]
fn what_parses_has_no_rights_and_each_side_ends_with_the_other() {
    let bench = Bench::new();
    let (mut keyholder, worker) = watching(&bench);
    let status = fs::read_to_string(format!("/proc/{worker}/status")).unwrap();
    let field = |key: &str| {
        let line = status.lines().find_map(|line| line.strip_prefix(key)?.strip_prefix(':'));
        line.unwrap_or_default().split_whitespace().collect::<Vec<_>>().join(" ")
    };
    let all = [PERSON; 4].join(" ");
    assert_eq!(field("Name"), "pyrotyp", "whoever has a drive open is told by this name");
    assert_eq!((field("Uid"), field("Gid"), field("Groups")), (all.clone(), all, PERSON.to_owned()), "{status}");
    for set in ["CapInh", "CapPrm", "CapEff", "CapAmb"] {
        assert_eq!(field(set), "0000000000000000", "{set}");
    }
    assert_eq!((field("NoNewPrivs"), field("Seccomp")), ("1".to_owned(), "2".to_owned()));
    let limits = fs::read_to_string(format!("/proc/{worker}/limits")).unwrap();
    let limit = |name: &str| limits.lines().find_map(|line| line.strip_prefix(name)).unwrap().split_whitespace().nth(1);
    assert_eq!((limit("Max data size"), limit("Max core file size")), (Some("4294967296"), Some("0")), "{limits}");
    // Nothing but SIGXFSZ, signal 25, is held back.
    assert_eq!(field("SigBlk"), "0000000001000000", "what the terminal sends is heard");
    // Told to stop, it stops, and the status is the other side's.
    send("-TERM", keyholder.id());
    assert_eq!(keyholder.wait().unwrap().code(), Some(0));
    let (mut keyholder, worker) = watching(&bench);
    send("-KILL", worker);
    assert_eq!(keyholder.wait().unwrap().code(), Some(128 + 9));
    let (mut keyholder, worker) = watching(&bench);
    send("-KILL", keyholder.id());
    keyholder.wait().unwrap();
    assert!(is_gone(worker));
    // Root itself has no person behind it: the same, but for its name and what its own files need.
    let mut keyholder = bench.command("drives --watch").stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    keyholder.stdout.as_mut().unwrap().read_exact(&mut [0]).unwrap();
    let status = fs::read_to_string(format!("/proc/{}/status", child_of(keyholder.id()))).unwrap();
    let line = |key: &str, value: &str| status.lines().any(|line| line.starts_with(key) && line.ends_with(value));
    let files_alone = "\t0000000000000006";
    assert!(line("CapEff", files_alone) && line("CapPrm", files_alone) && line("CapBnd", files_alone), "{status}");
    assert!(line("NoNewPrivs", "\t1") && line("Seccomp:", "\t2"), "{status}");
    send("-TERM", keyholder.id());
    assert_eq!(keyholder.wait().unwrap().code(), Some(0));
    let unknown = bench.tell(&bench.command("drives").env("SUDO_UID", "4040404").output().unwrap());
    assert!(unknown.starts_with("exit 5") && unknown.contains("but there is no such user"), "{unknown}");
}

#[test]
#[ignore = "needs root, to be another account"]
fn without_threads_or_files_that_grow_every_command_ends_with_an_error() {
    let bench = Bench::new().stick("a", "").file("desktop.iso", &DESKTOP);
    let tag = tag_of(&bench, "a");
    bench.copy_program("pyrotyp");
    assert!(Command::new("chown").args(["-R", "61000"]).arg(bench.path("")).status().unwrap().success());
    let commands = ["drives", "check desktop.iso", &format!("write desktop.iso --to {tag} --unattended --state notes")];
    // Files of this many blocks, then processes of this account.
    for limits in ["ulimit -f 0", "ulimit -u 1", "ulimit -u 2", "ulimit -u 3", "ulimit -u 5"] {
        for words in commands {
            let script = format!("{limits}; exec ./pyrotyp {words} --tray tray");
            let mut limited = Command::new("setpriv");
            limited.args(["--reuid", "61000", "--regid", "61000", "--clear-groups", "bash", "-c", &script]);
            let told = bench.tell(&limited.current_dir(bench.path("")).env("HOME", bench.path("")).output().unwrap());
            let is_error =
                ["exit 1\n", "exit 6\n"].iter().any(|exit| told.starts_with(exit)) && told.contains("next: ");
            assert!(is_error || told.starts_with("exit 0"), "{limits}: {words}: {told}");
            assert!(!(words.starts_with("write") && told.starts_with("exit 0")), "{limits}: {told}");
        }
    }
}

/// Tries again and again to look into every process that is root's or its own, and counts how often this program lets it in.
const SPY: &str = "
import os, sys, time
got = 0
until = time.monotonic() + 60
while time.monotonic() < until and not os.path.exists(sys.argv[1]):
    for process in filter(str.isdigit, os.listdir('/proc')):
        try:
            if process != str(os.getpid()) and os.stat(f'/proc/{process}').st_uid in (0, os.getuid()):
                got += os.readlink(f'/proc/{process}/exe').endswith('/pyrotyp')
        except OSError:
            pass
print(got)
";

#[test]
#[ignore = "needs root, to give it up"]
fn at_no_moment_another_process_of_the_person_gets_into_the_side_without_rights() {
    let bench = Bench::new();
    let mut spy = Command::new("python3");
    // What it waits for to end may be seen by anybody.
    fs::set_permissions(bench.path(""), fs::Permissions::from_mode(0o755)).unwrap();
    spy.args(["-c", SPY]).arg(bench.path("over")).uid(65534).gid(65534).stdout(Stdio::piped());
    let spies: Vec<Child> = (0..2).map(|_| spy.spawn().unwrap()).collect();
    for _ in 0..40 {
        assert!(as_person(&mut bench.command("settings")).output().unwrap().status.success());
    }
    fs::write(bench.path("over"), b"").unwrap();
    for spy in spies {
        let told = spy.wait_with_output().unwrap();
        assert_eq!(String::from_utf8(told.stdout).unwrap(), "0\n");
    }
}

#[test]
#[ignore = "needs root and a loop device"]
fn a_parser_that_was_taken_over_gets_nothing() {
    let built = Command::new(env!("CARGO"))
        .args(["build", "--quiet", "--locked", "--example", "attacker"])
        .current_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/.."))
        .status();
    assert!(built.unwrap().success());
    let bench = Bench::new();
    let backing = bench.path("drive.img");
    File::create(&backing).unwrap().set_len(16 << 20).unwrap();
    let device = Loop::over(&backing);
    let attacker = Path::new(bench.command("").get_program()).with_file_name("examples").join("attacker");
    // The person's own, and nothing that was asked for.
    let own = bench.path("own");
    fs::write(&own, "a key").unwrap();
    std::os::unix::fs::chown(&own, Some(65534), Some(65534)).unwrap();
    std::os::unix::fs::chown(bench.path(""), Some(65534), Some(65534)).unwrap();
    fs::set_permissions(bench.path(""), fs::Permissions::from_mode(0o755)).unwrap();
    let attack = || {
        let mut command = Command::new(&attacker);
        command.arg(&device.0).arg(&own);
        command
    };
    for is_for_person in [true, false] {
        let mut command = attack();
        if is_for_person {
            as_person(&mut command);
        }
        let done = command.output().unwrap();
        let told = String::from_utf8(done.stdout).unwrap();
        assert!(done.status.success(), "{told} {}", String::from_utf8_lossy(&done.stderr));
        assert!(!told.contains("GOT"), "{told}");
        assert!(told.contains("written: the output file"), "{told}");
        fs::remove_file(own.with_file_name("page.html")).unwrap();
        for tried in [
            "shared memory",
            "a new file beside an output file",
            "a way out",
            "/etc/shadow",
            "an endless name",
            "a change in a file of the person's own",
        ] {
            assert!(told.contains(&format!("nothing: {tried}")), "{told}");
        }
        assert!(!told.contains("\n0 drives that") && told.contains("to be written"), "{told}");
        assert!(told.contains(&format!("open: {}, which may be read", device.0)), "{told}");
    }
    assert_eq!(fs::read(&own).unwrap(), b"a key");
    assert!(!["/etc/pyrotyp-attacked", "/dev/shm/pyrotyp-attacked"].iter().any(|made| Path::new(made).exists()));
}
