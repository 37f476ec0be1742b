//! What a parser could do that was taken over while the program runs as root for a person: run as root with `SUDO_UID`, it divides as
//! the program does, tries, and tells everything that it got. It must be nothing.
//!
//!     sudo target/debug/examples/attacker [DRIVE_IT_MAY_READ]

#![allow(clippy::print_stdout)]

use std::fs::{self, File, FileTimes};
use std::net::{TcpListener, UdpSocket};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::UnixDatagram;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};
use std::time::SystemTime;

use pyrotyp_core::devices::keyholder::{self, Side, SystemDrives};
use pyrotyp_core::devices::{Platform, PlatformError, this_machine};
use pyrotyp_core::drive::{Choice, Drive, NamedBy, Use};
use pyrotyp_core::guard::{self, Circumstances, Cleared, Confirmed, ImageNeeds};
use pyrotyp_core::machine::{self, DriveRights, Existing, NamedPlaces, Network};
use rustix::fs::{XattrFlags, fsetxattr};
use rustix::process::{
    PidfdFlags, PidfdGetfdFlags, Resource, Rlimit, Signal, getppid, kill_process, pidfd_getfd, pidfd_open, prlimit,
};
use rustix::thread::{Uid, set_thread_uid};

/// A drive that the guard on this side was talked into.
fn cleared(drive: &Drive) -> Cleared {
    let choice = Choice { drive: drive.clone(), by: NamedBy::Tag, partition: None };
    let needs = ImageNeeds { image: String::new(), bytes: 0, laid_out_for: None };
    let circumstances = Circumstances::unknown(Confirmed::ByPerson);
    let all: Vec<_> = guard::RULES.iter().map(|rule| rule.id).collect();
    guard::clear(&choice, &needs, &circumstances, &[], &all).expect("it is told that nothing speaks against it")
}

/// What this process is, by the kernel's own words.
fn tell_status() {
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    for line in status.lines() {
        if ["Uid:", "Gid:", "Groups:", "Cap", "NoNewPrivs:"].iter().any(|key| line.starts_with(key)) {
            println!("{line}");
        }
    }
}

fn got(what: &str, got: bool) {
    println!("{}: {what}", if got { "GOT" } else { "nothing" });
}

/// Tries to change what files are, by name and by handle.
fn try_attributes() {
    for path in ["/bin/sh", "/etc/passwd", "/dev/null"] {
        let mode = fs::Permissions::from_mode(0o4755);
        got(&format!("the mode of {path}"), fs::set_permissions(path, mode.clone()).is_ok());
        let Ok(open) = File::open(path) else { continue };
        got(&format!("the mode of {path} by a handle"), open.set_permissions(mode).is_ok());
        let times = FileTimes::new().set_modified(SystemTime::UNIX_EPOCH);
        got(&format!("the times of {path}"), open.set_times(times).is_ok());
        got(&format!("an attribute of {path}"), fsetxattr(&open, "user.a", b"b", XattrFlags::empty()).is_ok());
    }
}

/// Tries to reach other processes.
fn try_processes() {
    let none = Rlimit { current: Some(0), maximum: Some(0) };
    got("an end of the broker by its limits", prlimit(getppid(), Resource::Cpu, none).is_ok());
    let broker = getppid().and_then(|parent| pidfd_open(parent, PidfdFlags::empty()).ok());
    got(
        "a handle of the broker",
        broker.is_some_and(|broker| pidfd_getfd(broker, 3, PidfdGetfdFlags::empty()).is_ok()),
    );
}

/// Tries what a handle for reading permits besides reading: detach the file of a loop device, eject, discard, command the drive itself.
fn try_requests(open: &File) {
    const TRY: &str =
        "import fcntl, sys\ntry: fcntl.ioctl(0, int(sys.argv[1], 0))\nexcept OSError as e: sys.exit(e.errno)";
    for request in ["0x4C01", "0x5309", "0x1277", "0x2285", "0x5412"] {
        let handle = open.try_clone().expect("a handle can be doubled");
        let tried = Command::new("python3").args(["-c", TRY, request]).stdin(handle).status();
        // EPERM, and not an answer of the drive.
        got(&format!("request {request}"), tried.is_ok_and(|status| status.code() != Some(1)));
    }
}

/// Tries to reach one drive by every way there is.
fn try_drive(machine: &dyn Platform, drive: &Drive) {
    let path = &drive.path;
    got(&format!("{path} itself"), File::open(path).is_ok());
    got(&format!("{path} to be read"), machine.open(drive).is_ok());
    got(&format!("{path} to be read through the caches"), machine.open_shared(drive).is_ok());
    let innocent = Drive { uses: Vec::new(), ..drive.clone() };
    got(&format!("{path} to be written"), machine.claim(cleared(&innocent)).is_ok());
    for other in [format!("{path}1"), format!("{path}/../sda"), "/dev/../etc/shadow".to_owned(), "/dev/mem".to_owned()]
    {
        got(
            &format!("{other} by way of {path}"),
            machine.open(&Drive { path: other.clone(), ..drive.clone() }).is_ok(),
        );
    }
}

/// Tries to reach files beside an output file of the command, through the output writer and without it.
fn try_beside(own: &Path, output: &Path) {
    let put = |file: &Path| machine::put_file(file, b"new", Existing::Replaced).is_ok();
    got("a change in a file beside an output file", put(own) || machine::remove_own(own).is_ok());
    got(
        "another name for an output file",
        machine::rename_without_replacing(output, &own.with_extension("sh")).is_ok(),
    );
    got("a new file beside an output file", put(&own.with_file_name("new")));
    println!("{}: the output file", if put(output) { "written" } else { "refused" });
}

fn main() -> ExitCode {
    if machine::run_output_writer() {
        return ExitCode::SUCCESS;
    }
    match keyholder::divide() {
        Ok(Side::Whole) => {}
        Ok(Side::Keyholder { status }) => return ExitCode::from(status),
        Err(error) => {
            println!("{error}");
            return ExitCode::FAILURE;
        }
    }
    if machine::is_root() && !keyholder::is_apart() {
        return keyholder::divide_root(SystemDrives::Closed).map_or(ExitCode::FAILURE, ExitCode::from);
    }
    let own = std::env::args_os().nth(2).map(PathBuf::from);
    let output = own.as_deref().map(|own| own.with_file_name("page.html"));
    let mut places = NamedPlaces::default();
    output.iter().for_each(|output| places.add_output(output));
    machine::start_output_writer(&places.outputs).expect("a second process can be started");
    machine::fence(&places).expect("this kernel has fences");
    if machine::is_root() {
        machine::keep_files_alone().expect("rights can be given up");
    }
    machine::confine(Network::Unused, DriveRights::Lent).expect("this kernel has filters");
    tell_status();
    got("the system's bus", UnixDatagram::unbound().is_ok() && machine::is_root());
    got("shared memory", fs::write("/dev/shm/pyrotyp-attacked", b"").is_ok());
    if let Some((own, output)) = own.zip(output) {
        try_beside(&own, &output);
        got("a file of the person's own", fs::read(&own).is_ok());
        got("a change in a file of the person's own", fs::OpenOptions::new().append(true).open(&own).is_ok());
    }
    try_attributes();
    try_processes();
    got("a server", TcpListener::bind("127.0.0.1:0").is_ok());
    got("a way out", UdpSocket::bind("0.0.0.0:0").is_ok());
    got("/etc/shadow", fs::read("/etc/shadow").is_ok());
    got("a file in /etc", fs::write("/etc/pyrotyp-attacked", b"").is_ok());
    got("root's identity", !machine::is_root() && set_thread_uid(Uid::ROOT).is_ok());
    got("the keyholder's end", getppid().is_some_and(|parent| kill_process(parent, Signal::KILL).is_ok()));
    let memory = getppid().map(|parent| format!("/proc/{}/mem", parent.as_raw_nonzero()));
    got("the keyholder's memory", memory.is_some_and(|memory| File::open(memory).is_ok()));
    let attached = this_machine();
    let drives = attached.drives().expect("the keyholder answers");
    let systems = drives.iter().filter(|drive| drive.uses.iter().any(|one| matches!(one, Use::System { .. })));
    let systems: Vec<&Drive> = systems.collect();
    println!("{} drives that the system runs from", systems.len());
    systems.iter().for_each(|drive| try_drive(&*attached, drive));
    // Whoever asks without end gets the same answer without end.
    for drive in &systems {
        let refused = (0..5_000).all(|_| matches!(attached.open(drive), Err(PlatformError::Forbidden { .. })));
        got(&format!("{} after five thousand questions", drive.path), !refused);
    }
    if let Some(may) = std::env::args().nth(1) {
        let drive = drives.iter().find(|drive| drive.path == may).expect("the drive is there");
        let open = attached.open(drive);
        println!("{}: {may}, which may be read", if open.is_ok() { "open" } else { "closed" });
        if let Ok(open) = attached.open_shared(drive) {
            try_requests(&open);
        }
        got(
            "itself among those who have it open",
            attached.openers(drive).is_ok_and(|openers| !openers.programs.is_empty()),
        );
    }
    let endless = Drive { path: "/dev/".to_owned() + &"x".repeat(1 << 20), ..drives[0].clone() };
    got("an endless name", attached.open(&endless).is_ok());
    ExitCode::SUCCESS
}
