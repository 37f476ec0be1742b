//! Which files this process may reach from here on, and all that it starts, whatever rights it has.
//!
//! Source: landlock(7).

use std::collections::BTreeSet;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};

use landlock::{
    ABI, Access, AccessFs, CompatLevel, Compatible, Ruleset, RulesetAttr, RulesetCreatedAttr, RulesetError,
    RulesetStatus, Scope, path_beneath_rules,
};

use rustix::fs::{Access as FileAccess, access, makedev};

use super::is_root;
use crate::machine::NamedPlaces;
use crate::text::Shown;

/// Where the system's own files are: programs and what they load, what it says of itself and of its drives.
const OF_THE_SYSTEM: [&str; 15] = [
    "/usr",
    "/bin",
    "/sbin",
    "/lib",
    "/lib32",
    "/lib64",
    "/libx32",
    "/nix",
    "/gnu",
    "/proc",
    "/sys",
    "/run/udev",
    "/run/systemd/resolve",
    "/run/resolvconf",
    "/var/lib/ca-certificates",
];
/// Its settings, for an account whose rights say which of them it may read; names are asked of whom a link there leads to.
const SETTINGS: [&str; 2] = ["/etc", "/etc/resolv.conf"];
/// Those that root needs, who may read them all.
const SETTINGS_OF_ROOT: [&str; 22] = [
    "/etc/passwd",
    "/etc/group",
    "/etc/nsswitch.conf",
    "/etc/hosts",
    "/etc/host.conf",
    "/etc/resolv.conf",
    "/etc/gai.conf",
    "/etc/hostname",
    "/etc/os-release",
    "/etc/localtime",
    "/etc/timezone",
    "/etc/ld.so.cache",
    "/etc/ld.so.preload",
    "/etc/ssl/certs",
    "/etc/ssl/cert.pem",
    "/etc/pki/tls/certs",
    "/etc/pki/ca-trust",
    "/etc/ca-certificates",
    "/etc/alternatives",
    "/etc/mke2fs.conf",
    "/etc/qemu",
    "/etc/terminfo",
];
/// All devices, and shared memory below them: for an account that may open drives by itself, since a drive may be attached at any time.
const ALL_DEVICES: [&str; 1] = ["/dev"];
/// Devices that every command needs. The keyholder or the disk service opens drives.
const DEVICES: [&str; 8] =
    ["/dev/tty", "/dev/null", "/dev/zero", "/dev/full", "/dev/random", "/dev/urandom", "/dev/kvm", "/dev/pts"];
/// What is asked for; an older kernel gives what it knows of it.
const KNOWN: ABI = ABI::V7;

static IS_FENCED: AtomicBool = AtomicBool::new(false);

/// Leaves this process what the system's own files and these places are; to be called while it has one thread.
///
/// # Errors
/// When this kernel can't do that: everything is as it was then.
pub fn fence(places: &NamedPlaces) -> io::Result<()> {
    let mut places = places.clone();
    let folders = shared_folders();
    let shared = |paths: &[PathBuf]| -> Vec<PathBuf> {
        // Where nothing is shared, nothing is looked for.
        if folders.is_empty() { Vec::new() } else { paths.iter().filter_map(|path| share_of(path, &folders)).collect() }
    };
    let (read, written) = (shared(&[&places.read[..], &places.listed].concat()), shared(&places.written));
    places.read.extend(read);
    places.written.extend(written);
    if let Some(lost) = lost(&places)? {
        return Err(io::Error::other(format!("where {} lies, no file stays the same for long", lost.shown())));
    }
    let places = &places;
    let status = restricted(places).map_err(io::Error::other)?;
    if status == RulesetStatus::NotEnforced {
        return Err(io::Error::new(io::ErrorKind::Unsupported, "this kernel has no Landlock"));
    }
    IS_FENCED.store(true, Ordering::Relaxed);
    Ok(())
}

/// What could be opened and can't be behind the fence, which is tried by a thread of its own.
fn lost(places: &NamedPlaces) -> io::Result<Option<PathBuf>> {
    let named = places.read.iter().chain(&places.listed).chain(&places.written);
    // Of the files of one folder, one stands for all.
    let mut folders = BTreeSet::new();
    let tried = named.filter(|path| can_be_opened(path) && (path.is_dir() || folders.insert(path.parent())));
    let tried: Vec<PathBuf> = tried.cloned().collect();
    let probe = || restricted(places).map(|_| tried.into_iter().find(|path| !can_be_opened(path)));
    let thread = std::thread::Builder::new().name("fence".to_owned());
    let probed = std::thread::scope(|scope| thread.spawn_scoped(scope, probe).map(|probing| probing.join()))?;
    probed.map_err(|_| io::Error::other("a thread broke off"))?.map_err(io::Error::other)
}

fn can_be_opened(path: &Path) -> bool {
    std::fs::metadata(path).is_ok_and(|found| found.is_dir() || found.is_file()) && std::fs::File::open(path).is_ok()
}

/// The root of the share in which a file lies, for a folder that an emulator shares (9p): its files are others each time they are looked
/// up, and only the root stays what it is.
fn share_of(path: &Path, shared: &BTreeSet<u64>) -> Option<PathBuf> {
    let path = path.canonicalize().ok()?;
    let device = |path: &Path| std::fs::metadata(path).map(|found| found.dev()).ok();
    let own = device(&path).filter(|device| shared.contains(device))?;
    path.ancestors().take_while(|path| device(path) == Some(own)).last().map(Path::to_owned)
}

/// Numbers of the mounts of that kind: proc_pid_mountinfo(5). What the file system says of itself is what lies behind it.
fn shared_folders() -> BTreeSet<u64> {
    let mounts = std::fs::read_to_string("/proc/self/mountinfo").unwrap_or_default();
    let number = |line: &str| {
        let (mount, file_system) = line.split_once(" - ")?;
        let (major, minor) = mount.split(' ').nth(2)?.split_once(':')?;
        let is_shared = file_system.split(' ').next() == Some("9p");
        is_shared.then_some(makedev(major.parse().ok()?, minor.parse().ok()?))
    };
    mounts.lines().filter_map(number).collect()
}

fn restricted(places: &NamedPlaces) -> Result<RulesetStatus, RulesetError> {
    let read = AccessFs::from_read(KNOWN);
    let devices =
        AccessFs::ReadFile | AccessFs::ReadDir | AccessFs::WriteFile | AccessFs::Truncate | AccessFs::IoctlDev;
    let settings: &[&str] = if is_root() { &SETTINGS_OF_ROOT } else { &SETTINGS };
    let nodes: &[&str] = if !is_root() && may_open_drives() { &ALL_DEVICES } else { &DEVICES };
    let own_program = std::env::current_exe().ok();
    let system = OF_THE_SYSTEM.iter().chain(settings).map(PathBuf::from).chain(own_program);
    let ruleset = Ruleset::default().set_compatibility(CompatLevel::BestEffort);
    let ruleset = ruleset.handle_access(AccessFs::from_all(KNOWN))?.scope(Scope::from_all(KNOWN))?;
    let ruleset = ruleset
        .create()?
        .add_rules(path_beneath_rules(system.chain(places.read.iter().cloned()), read))?
        .add_rules(path_beneath_rules(nodes, devices))?
        .add_rules(path_beneath_rules(ALL_DEVICES, AccessFs::ReadDir))?
        .add_rules(path_beneath_rules(&places.listed, AccessFs::ReadDir))?
        .add_rules(path_beneath_rules(&places.written, AccessFs::from_all(KNOWN)))?;
    Ok(ruleset.restrict_self()?.ruleset)
}

/// Returns true if this account may open any drive that is attached now.
fn may_open_drives() -> bool {
    let drives = std::fs::read_dir("/sys/block").into_iter().flatten().flatten();
    let mut nodes = drives.map(|drive| Path::new("/dev").join(drive.file_name()));
    nodes.any(|node| access(&node, FileAccess::READ_OK).is_ok())
}

/// Whether that holds for this process.
pub fn is_fenced() -> bool {
    IS_FENCED.load(Ordering::Relaxed)
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    #[test]
    fn what_was_not_named_is_out_of_reach() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        for name in ["named", "written", "other"] {
            fs::create_dir(at(name)).unwrap();
            fs::write(at(name).join("file"), name).unwrap();
        }
        let places = NamedPlaces {
            read: vec![at("named")],
            listed: vec![at("other")],
            written: vec![at("written")],
            ..NamedPlaces::default()
        };
        // It holds for the thread that asked for it.
        let tried = std::thread::spawn(move || {
            if restricted(&places).unwrap() == RulesetStatus::NotEnforced {
                return None;
            }
            let [named, written, other] =
                [&places.read, &places.written, &places.listed].map(|one| one[0].join("file"));
            assert_eq!((fs::read(&named).is_ok(), fs::read(&other).is_ok()), (true, false));
            assert_eq!((fs::read_dir(&places.listed[0]).is_ok(), fs::read_dir("/root").is_ok()), (true, false));
            let put = [&named, &written, &other].map(|file| fs::write(file, "new").is_ok());
            let renamed = fs::rename(&written, written.with_file_name("renamed")).is_ok();
            let gone = fs::remove_file(&other).is_ok();
            let system = fs::read("/etc/passwd").is_ok() && fs::write("/dev/null", "x").is_ok();
            Some((put, renamed, gone, system, fs::write("/etc/pyrotyp-fence", "x").is_ok()))
        });
        let came = tried.join().unwrap();
        assert!(came.is_none_or(|came| came == ([false, true, false], true, false, true, false)), "{came:?}");
    }
}
