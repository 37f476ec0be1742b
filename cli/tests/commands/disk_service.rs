//! A disk service that behaves in every way, and an account that asks it: `cargo test -- --ignored`, as root.

use std::collections::HashMap;
use std::fs::{self, File, OpenOptions};
use std::io::PipeReader;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};

use zbus::blocking::{Connection, connection};
use zbus::zvariant::{ObjectPath, OwnedObjectPath, OwnedValue, Value};
use zbus::{DBusError, interface};

use super::bench::{Bench, DESKTOP, steady};
use super::loop_device::{Loop, tag_of};

const BLOCK: &str = "/org/freedesktop/UDisks2/block_devices/it";
const DRIVE: &str = "/org/freedesktop/UDisks2/drives/it";
/// A bus that lets everybody do everything.
const BUS: &str = r#"<busconfig><type>custom</type><listen>unix:path=@</listen><auth>EXTERNAL</auth><policy context="default">
<allow user="*"/><allow own="*"/><allow send_destination="*"/><allow receive_sender="*"/></policy></busconfig>"#;

/// How it behaves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Manner {
    Opens,
    NobodyToAsk,
    Dismisses,
    Forbids,
    KnowsNoRule,
    Fails,
    PassesOverFlags,
    HandsOverAnother,
    HandsOverAFile,
    HandsOverToRead,
    IsOld,
    KnowsNoCall,
}

#[derive(Debug, DBusError)]
#[zbus(prefix = "org.freedesktop.UDisks2.Error")]
enum Refusal {
    #[zbus(error)]
    Bus(zbus::Error),
    NotAuthorized(String),
    NotAuthorizedCanObtain(String),
    NotAuthorizedDismissed(String),
    Failed(String),
}

/// What all its objects know.
#[derive(Clone)]
struct Known {
    manner: Manner,
    device: String,
    another: String,
    file: PathBuf,
    calls: Arc<Mutex<Vec<String>>>,
    inhibited: Arc<Mutex<Option<PipeReader>>>,
}

impl Known {
    fn noted(&self, call: &str) {
        self.calls.lock().unwrap().push(call.to_owned());
    }
}

struct Manager(Known);
struct Block(Known);
struct OldBlock;
struct Drive(Known);
struct Rules(Known);
struct Login(Known);

type Options = HashMap<String, OwnedValue>;

#[interface(name = "org.freedesktop.UDisks2.Manager")]
impl Manager {
    #[zbus(property)]
    fn version(&self) -> &str {
        if self.0.manner == Manner::IsOld { "2.7.2" } else { "2.9.4" }
    }

    fn resolve_device(&self, which: Options, _options: Options) -> Vec<OwnedObjectPath> {
        let is_it = *which["path"] == Value::from(self.0.device.as_str());
        is_it.then(|| OwnedObjectPath::try_from(BLOCK).unwrap()).into_iter().collect()
    }
}

#[interface(name = "org.freedesktop.UDisks2.Block")]
impl Block {
    #[zbus(property)]
    fn hint_system(&self) -> bool {
        false
    }

    #[zbus(property)]
    fn drive(&self) -> ObjectPath<'_> {
        ObjectPath::try_from(DRIVE).unwrap()
    }

    fn open_device(&self, mode: &str, options: Options) -> Result<zbus::zvariant::OwnedFd, Refusal> {
        let said = "in its own words".to_owned();
        match self.0.manner {
            Manner::NobodyToAsk => return Err(Refusal::NotAuthorizedCanObtain(said)),
            Manner::Dismisses => return Err(Refusal::NotAuthorizedDismissed(said)),
            Manner::Forbids | Manner::KnowsNoRule => return Err(Refusal::NotAuthorized(said)),
            Manner::Fails => return Err(Refusal::Failed("it\u{1b}[2J is broken".to_owned())),
            _ => {}
        }
        let flags = options.get("flags").map_or(0, |flags| i32::try_from(flags).unwrap());
        self.0.noted(&format!("open {mode} {flags:#x}"));
        let place = match self.0.manner {
            Manner::HandsOverAnother => Path::new(&self.0.another),
            Manner::HandsOverAFile => &self.0.file,
            _ => Path::new(&self.0.device),
        };
        let is_read = self.0.manner == Manner::HandsOverToRead;
        let flags = if self.0.manner == Manner::PassesOverFlags { 0 } else { flags };
        let opened = OpenOptions::new().read(true).write(mode == "rw" && !is_read).custom_flags(flags).open(place);
        opened.map(|file| std::os::fd::OwnedFd::from(file).into()).map_err(|error| Refusal::Failed(error.to_string()))
    }

    fn rescan(&self, options: Options) {
        self.0.noted(&format!("rescan {:?}", options.keys().collect::<Vec<_>>()));
    }
}

#[interface(name = "org.freedesktop.UDisks2.Block")]
impl OldBlock {
    #[zbus(property)]
    fn hint_system(&self) -> bool {
        false
    }
}

#[interface(name = "org.freedesktop.UDisks2.Drive")]
impl Drive {
    #[zbus(property)]
    fn ejectable(&self) -> bool {
        false
    }

    #[zbus(property)]
    fn can_power_off(&self) -> bool {
        true
    }

    fn power_off(&self, _options: Options) {
        self.0.noted("power off");
    }
}

type Action = (String, String, String, String, String, String, u32, u32, u32, HashMap<String, String>);

#[expect(clippy::too_many_arguments, reason = "the call has as many")]
#[interface(name = "org.freedesktop.PolicyKit1.Authority")]
impl Rules {
    fn check_authorization(
        &self,
        subject: (String, Options),
        action: &str,
        _details: HashMap<String, String>,
        flags: u32,
        _cancel: &str,
    ) -> (bool, bool, HashMap<String, String>) {
        self.0.noted(&format!("{} {action} {flags}", subject.0));
        (self.0.manner == Manner::Opens, self.0.manner != Manner::KnowsNoRule, HashMap::new())
    }

    fn enumerate_actions(&self, _locale: &str) -> Vec<Action> {
        Vec::new()
    }
}

#[interface(name = "org.freedesktop.login1.Manager")]
impl Login {
    fn inhibit(&self, what: &str, who: &str, _why: &str, mode: &str) -> zbus::zvariant::OwnedFd {
        self.0.noted(&format!("inhibit {what} {who} {mode}"));
        let (ours, theirs) = std::io::pipe().unwrap();
        *self.0.inhibited.lock().unwrap() = Some(ours);
        std::os::fd::OwnedFd::from(theirs).into()
    }
}

/// A bus of its own, as long as this lives.
struct Bus {
    daemon: Child,
    address: String,
}

impl Bus {
    fn begin(bench: &Bench) -> Self {
        let (place, config) = (bench.path("bus"), bench.path("bus.conf"));
        fs::write(&config, BUS.replace('@', place.to_str().unwrap())).unwrap();
        let daemon = Command::new("dbus-daemon").arg("--nofork").arg("--config-file").arg(config).spawn();
        let daemon = daemon.expect("dbus-daemon is there");
        while !place.exists() {
            std::thread::sleep(std::time::Duration::from_millis(10));
        }
        Self { daemon, address: format!("unix:path={}", place.display()) }
    }

    fn serve(&self, known: &Known) -> Connection {
        let known = || known.clone();
        let service = connection::Builder::address(self.address.as_str()).unwrap();
        let service = service.serve_at("/org/freedesktop/UDisks2/Manager", Manager(known())).unwrap();
        let service = match known().manner {
            Manner::KnowsNoCall => service.serve_at(BLOCK, OldBlock).unwrap(),
            _ => service.serve_at(BLOCK, Block(known())).unwrap(),
        };
        let service = service.serve_at(DRIVE, Drive(known())).unwrap();
        let service = service.serve_at("/org/freedesktop/PolicyKit1/Authority", Rules(known())).unwrap();
        let service = service.serve_at("/org/freedesktop/login1", Login(known())).unwrap();
        let names = ["org.freedesktop.UDisks2", "org.freedesktop.PolicyKit1", "org.freedesktop.login1"];
        names.iter().fold(service, |service, name| service.name(*name).unwrap()).build().unwrap()
    }
}

impl Drop for Bus {
    fn drop(&mut self) {
        let _ = self.daemon.kill();
        let _ = self.daemon.wait();
    }
}

/// A bench where the account `nobody` may read the image and run the program.
fn open_bench() -> Bench {
    let bench = Bench::new().file("desktop.iso", &DESKTOP);
    bench.copy_program("pyrotyp");
    for readable in ["", "pyrotyp", "desktop.iso"] {
        fs::set_permissions(bench.path(readable), fs::Permissions::from_mode(0o755)).unwrap();
    }
    fs::create_dir(bench.path("state")).unwrap();
    std::os::unix::fs::chown(bench.path("state"), Some(65534), Some(65534)).unwrap();
    bench
}

fn as_nobody(bench: &Bench, bus: &str, words: &str) -> String {
    let mut command = Command::new(bench.path("pyrotyp"));
    command.args(words.split_whitespace()).args(["--state", "state", "-v"]);
    command.current_dir(bench.path("")).env_clear().env("DBUS_SYSTEM_BUS_ADDRESS", bus).stdin(Stdio::null());
    bench.tell(&command.uid(65534).gid(65534).output().unwrap())
}

#[test]
#[ignore = "needs root, a loop device and dbus-daemon"]
fn whatever_the_disk_service_says_the_drive_is_the_one_that_was_meant() {
    let bench = open_bench();
    let old = pyrotyp_sample::noise(32 << 20, 9);
    let backings = ["drive.img", "another.img", "file.img"].map(|name| bench.path(name));
    backings.iter().for_each(|backing| fs::write(backing, &old).unwrap());
    let [device, another] = [0, 1].map(|number| Loop::over(&backings[number]));
    fs::set_permissions(&device.0, fs::Permissions::from_mode(0o600)).unwrap();
    let tag = tag_of(&bench, &device.0);
    let write = format!("write desktop.iso --to {tag} --unattended --accept virtual-drive");
    let bus = Bus::begin(&bench);
    let known = |manner| Known {
        manner,
        device: device.0.clone(),
        another: another.0.clone(),
        file: backings[2].clone(),
        calls: Arc::default(),
        inhibited: Arc::default(),
    };
    let mut told = String::from("no bus: ");
    told.push_str(&as_nobody(&bench, "unix:path=/nowhere", &write));
    told.push_str("\nno service: ");
    told.push_str(&as_nobody(&bench, &bus.address, &write));
    for manner in [
        Manner::NobodyToAsk,
        Manner::Dismisses,
        Manner::Forbids,
        Manner::KnowsNoRule,
        Manner::Fails,
        Manner::PassesOverFlags,
        Manner::HandsOverAnother,
        Manner::HandsOverAFile,
        Manner::HandsOverToRead,
        Manner::IsOld,
        Manner::KnowsNoCall,
    ] {
        let service = bus.serve(&known(manner));
        told.push_str(&format!("\n{manner:?}: {}", as_nobody(&bench, &bus.address, &write)));
        if matches!(manner, Manner::HandsOverAnother | Manner::HandsOverAFile | Manner::PassesOverFlags) {
            let read = as_nobody(&bench, &bus.address, &format!("contents {tag}"));
            assert!(read.starts_with("exit 5"), "{manner:?}: {read}");
        }
        service.close().unwrap();
        for backing in &backings {
            assert!(fs::read(backing).unwrap() == old, "{manner:?}: {} is as it was", backing.display());
        }
    }
    steady().bind(|| {
        let told = told.replace(&device.0, "/dev/loopN").replace(&tag, "TAG00");
        let told: Vec<&str> = told.lines().filter(|line| !line.contains("asked not to sleep")).collect();
        insta::assert_snapshot!("refusals_of_the_disk_service", told.join("\n"));
    });

    let known = known(Manner::Opens);
    let _service = bus.serve(&known);
    let read = as_nobody(&bench, &bus.address, &format!("contents {tag}"));
    assert!(read.starts_with("exit 0"), "{read}");
    known.calls.lock().unwrap().clear();
    let told = as_nobody(&bench, &bus.address, &format!("{write} --eject"));
    assert!(told.starts_with("exit 0") && told.contains("does not sleep or shut down by itself"), "{told}");
    assert!(fs::read(&backings[0]).unwrap().starts_with(&DESKTOP));
    let calls = known.calls.lock().unwrap().join("; ");
    assert_eq!(
        calls,
        "system-bus-name org.freedesktop.udisks2.open-device 0; inhibit sleep:shutdown:idle Pyrotyp block; \
         open rw 0x4080; power off"
    );
    // Its other end was closed when the job was over.
    let mut held = known.inhibited.lock().unwrap().take().unwrap();
    assert_eq!(std::io::Read::read(&mut held, &mut [0]).unwrap(), 0);
    drop(File::open(&device.0).unwrap());
}
