//! On a real block device, as root: `cargo test -- --ignored`.

use std::fs::{self, File};
use std::io::Read;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};

use pyrotyp_core::hash::{Algorithm, Hashers};
use pyrotyp_sample::mirror::Mirror;

use super::bench::{Bench, DESKTOP};

/// A loop device over a file, taken away at the end.
pub(crate) struct Loop(pub(crate) String);

impl Loop {
    pub(crate) fn over(file: &Path) -> Self {
        let made = Command::new("losetup").args(["--find", "--show"]).arg(file).output().unwrap();
        assert!(made.status.success(), "losetup: {}", String::from_utf8_lossy(&made.stderr));
        Self(String::from_utf8(made.stdout).unwrap().trim().to_owned())
    }
}

impl Drop for Loop {
    fn drop(&mut self) {
        let _ = Command::new("losetup").args(["--detach", &self.0]).status();
    }
}

pub(crate) fn tag_of(bench: &Bench, path: &str) -> String {
    let listed = bench.command("drives --all --json").output().unwrap();
    let drives: serde_json::Value = serde_json::from_slice(&listed.stdout).unwrap();
    let drive = drives.as_array().unwrap().iter().find(|drive| drive["path"] == path).unwrap();
    assert_eq!(drive["role"], "virtual");
    drive["tag"].as_str().unwrap().to_owned()
}

#[test]
#[ignore = "needs root and a loop device"]
fn a_block_device_is_written_compared_and_guarded() {
    let bench = Bench::new().file("desktop.iso", &DESKTOP);
    let backing = bench.path("drive.img");
    // Old data everywhere, and a size that is no multiple of 4 MiB.
    fs::write(&backing, pyrotyp_sample::noise(30_000_128 / 512 * 512, 9)).unwrap();
    let device = Loop::over(&backing);
    let tag = tag_of(&bench, &device.0);
    let write = format!("write desktop.iso --to {tag} --unattended");

    let told = bench.pyrotyp(&write);
    assert!(told.starts_with("exit 5") && told.contains("virtual-drive"), "{told}");
    let told = bench.pyrotyp(&format!("write desktop.iso --to {} --unattended --accept virtual-drive", device.0));
    assert!(told.starts_with("exit 5") && told.contains("no-proof"), "{told}");
    let mut nobody = bench.command(&format!("{write} --accept virtual-drive"));
    let program = bench.path("pyrotyp");
    bench.copy_program("pyrotyp");
    for readable in [bench.path(""), program.clone(), bench.path("desktop.iso")] {
        use std::os::unix::fs::PermissionsExt;
        fs::set_permissions(readable, fs::Permissions::from_mode(0o755)).unwrap();
    }
    let mut unprivileged = Command::new(program);
    unprivileged.args(nobody.get_args()).current_dir(bench.path("")).env_clear().uid(65534).gid(65534);
    let told = bench.tell(&unprivileged.output().unwrap());
    assert!(
        told.starts_with("exit 5")
            && told.contains(&format!("pyrotyp {write} --accept virtual-drive\n"))
            && told.contains("next: sudo "),
        "{told}"
    );
    assert!(!fs::read(&backing).unwrap().starts_with(&DESKTOP[..512]), "a refused job wrote");

    // Held by another: an exclusive open, as a mount has it.
    let (told, accepted) = {
        use std::os::unix::fs::OpenOptionsExt;
        let exclusive = 0o200;
        let _held = File::options().read(true).custom_flags(exclusive).open(&device.0).unwrap();
        (
            bench.tell(&nobody.output().unwrap()),
            bench.pyrotyp(&format!("{write} --accept virtual-drive --accept held-open")),
        )
    };
    assert!(told.starts_with("exit 5") && told.contains("held-open: commands"), "{told}");
    assert!(accepted.starts_with("exit 5") && accepted.contains("is held by commands"), "{accepted}");

    let told = bench.tell(&nobody.output().unwrap());
    assert!(told.starts_with("exit 0\nverified"), "{told}");
    assert!(fs::read(&backing).unwrap().starts_with(&DESKTOP));
    let told = bench.pyrotyp(&format!("compare {tag} desktop.iso"));
    assert!(told.starts_with("exit 0\nverified"), "{told}");
    let told = bench.pyrotyp("drives --all");
    assert!(told.contains("\"LARKSPUR_92_DESKTOP\" (iso9660)"), "{told}");

    // Mapped into memory and closed, opened by one thread alone, and behind thousands of other files.
    let mapped = "f = os.open(device, os.O_RDWR); system.mmap.restype = ctypes.c_void_p; \
                  system.mmap(None, ctypes.c_size_t(4096), 3, 1, f, ctypes.c_long(0)); os.close(f); print(flush=True)";
    let by_thread = "threading.Thread(target=lambda: \
                     (system.unshare(0x400), os.open(device, 0), print(flush=True), time.sleep(600))).start()";
    let behind_many = "resource.setrlimit(resource.RLIMIT_NOFILE, (6000, 6000)); \
                       [os.open('/dev/null', 0) for _ in range(5000)]; os.open(device, 0); print(flush=True)";
    for holding in [mapped, by_thread, behind_many] {
        let script = format!(
            "import ctypes, os, resource, threading, time; system = ctypes.CDLL(None); device = {:?}; {holding}; time.sleep(600)",
            device.0
        );
        let mut holder = Command::new("python3").args(["-c", &script]).stdout(Stdio::piped()).spawn().unwrap();
        let mut said = [0];
        holder.stdout.take().unwrap().read_exact(&mut said).unwrap();
        let told = bench.pyrotyp(&format!("{write} --accept virtual-drive --accept just-verified"));
        let (_, _) = (holder.kill(), holder.wait());
        assert!(told.starts_with("exit 5") && told.contains("held-open: python3"), "{holding}: {told}");
    }

    // Read by another, and that is known to do no harm.
    let told = {
        let _read = File::open(&device.0).unwrap();
        bench.pyrotyp(&format!("{write} --accept virtual-drive --accept held-open --accept just-verified"))
    };
    assert!(told.starts_with("exit 0\nverified") && told.contains("still has the drive open"), "{told}");
}

#[test]
#[ignore = "needs root and a loop device"]
fn the_disk_of_the_running_system_is_refused_under_every_name() {
    let bench = Bench::new();
    let listed = bench.command("drives --all --json").output().unwrap();
    let drives: serde_json::Value = serde_json::from_slice(&listed.stdout).unwrap();
    let systems: Vec<_> = drives.as_array().unwrap().iter().filter(|drive| drive["role"] == "system").collect();
    assert!(!systems.is_empty(), "{drives}");
    for drive in systems {
        let links = drive["links"].as_array().unwrap().iter();
        let mut names: Vec<&str> = links.filter_map(|link| link.as_str()).collect();
        names.extend([drive["tag"].as_str().unwrap(), drive["path"].as_str().unwrap()]);
        names.push(names[names.len() - 1].trim_start_matches("/dev/"));
        for name in names {
            let told = bench.pyrotyp(&format!("write rescue.iso --to {name} --unattended --accept system-disk"));
            assert!(told.starts_with("exit 5") && told.contains("system-disk"), "{name}: {told}");
        }
    }
}

#[test]
#[ignore = "needs root and a loop device"]
fn a_volume_in_use_is_refused_with_the_name_of_who_uses_it_and_records_belong_to_the_person() {
    let bench = Bench::new().file("desktop.iso", &DESKTOP);
    let backing = bench.path("drive.img");
    File::create(&backing).unwrap().set_len(64 << 20).unwrap();
    assert!(Command::new("mkfs.ext4").args(["-q", "-F"]).arg(&backing).output().unwrap().status.success());
    let device = Loop::over(&backing);
    let tag = tag_of(&bench, &device.0);
    let at = Path::new("/media/pyrotyp-test-volume");
    fs::create_dir_all(at).unwrap();
    assert!(Command::new("mount").arg(&device.0).arg(at).status().unwrap().success());
    let mut busy = Command::new("sleep").arg("60").current_dir(at).spawn().unwrap();
    let write = format!("write desktop.iso --to {tag} --unattended --accept virtual-drive --state kept/here");
    let told = bench.pyrotyp(&write.replace("kept", "other"));
    busy.kill().unwrap();
    busy.wait().unwrap();
    std::os::unix::fs::chown(bench.path(""), Some(65534), Some(65534)).unwrap();
    let mut as_root_for = bench.command(&write);
    let done = bench.tell(&as_root_for.envs([("SUDO_UID", "65534"), ("SUDO_GID", "65534")]).output().unwrap());
    let _ = Command::new("umount").arg(at).output();
    fs::remove_dir(at).unwrap();
    assert!(told.starts_with("exit 5") && told.contains(&format!("sleep (process {})", busy.id())), "{told}");
    assert!(done.starts_with("exit 0\nverified"), "{done}");
    let record = fs::read_dir(bench.path("kept/here/jobs")).unwrap().next().unwrap().unwrap();
    for made in [record.path(), bench.path("kept/here/jobs"), bench.path("kept")] {
        use std::os::unix::fs::MetadataExt;
        assert_eq!(fs::metadata(&made).unwrap().uid(), 65534, "{}", made.display());
    }
}

/// Returns the mount options of this mount point, if any.
fn mount_options(place: &str) -> Option<String> {
    let mounts = fs::read_to_string("/proc/self/mounts").unwrap();
    let fields = mounts.lines().map(|line| line.split(' ').collect::<Vec<_>>());
    fields.into_iter().find(|fields| fields[1] == place).map(|fields| fields[3].to_owned())
}

fn is_mounted(place: &str) -> bool {
    mount_options(place).is_some()
}

/// Unmounts what a test mounted, however it ends.
struct Mounted(&'static str);

impl Mounted {
    fn at(place: &'static str, words: &[&str]) -> Self {
        fs::create_dir_all(place).unwrap();
        let done = Command::new("mount").args(words).arg(place).status().unwrap();
        assert!(done.success(), "mount {words:?} {place}");
        Self(place)
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg(self.0).output();
        let _ = fs::remove_dir(self.0);
    }
}

#[test]
#[ignore = "needs root and a loop device"]
fn what_uses_a_volume_is_named_where_no_process_is_in_the_way() {
    let bench = Bench::new();
    let backing = bench.path("drive.img");
    File::create(&backing).unwrap().set_len(64 << 20).unwrap();
    assert!(Command::new("mkfs.ext4").args(["-q", "-F"]).arg(&backing).output().unwrap().status.success());
    let device = Loop::over(&backing);
    let write = format!("write rescue.iso --to {} --unattended --accept virtual-drive", tag_of(&bench, &device.0));
    let place = "/media/pyrotyp-test-layers";
    let volume = Mounted::at(place, &["-o", "nosuid,nodev", &device.0]);
    let mut told = Vec::new();

    // A file on it is a drive of its own.
    fs::write(format!("{place}/backup.img"), [0; 1 << 20]).unwrap();
    let file = Loop::over(Path::new(&format!("{place}/backup.img")));
    told.push((bench.pyrotyp(&write), format!("in-use: it is part of {} ({place}/backup.img)", &file.0[5..])));
    drop(file);

    // An overlay that names its layers from where it was made.
    for layer in ["upper", "lower"] {
        fs::create_dir(format!("{place}/{layer}")).unwrap();
    }
    let merged = "/run/pyrotyp-test-merged";
    fs::create_dir_all(merged).unwrap();
    let words = ["-i", "-t", "overlay", "overlay", "-o", "lowerdir=upper:lower", merged];
    assert!(Command::new("mount").args(words).current_dir(place).status().unwrap().success());
    told.push((bench.pyrotyp(&write), format!("perhaps the overlay at {merged}")));
    // It had to be unmounted to find that out, and is mounted again as it was.
    let options = mount_options(place);
    assert!(options.as_deref().is_some_and(|options| options.contains("nosuid,nodev")), "{options:?}");
    drop(Mounted(merged));
    drop(volume);

    // Mounted where only another process sees it.
    let inner = format!("mount {} /mnt && echo there && exec sleep 60", device.0);
    let mut other = Command::new("unshare");
    other.args(["--mount", "--propagation", "private", "sh", "-c", &inner]).stdout(std::process::Stdio::piped());
    let mut other = other.spawn().unwrap();
    std::io::Read::read_exact(other.stdout.as_mut().unwrap(), &mut [0; 6]).unwrap();
    told.push((bench.pyrotyp(&write), format!("sleep (process {}), which has it mounted at /mnt", other.id())));
    other.kill().unwrap();
    other.wait().unwrap();

    // Mounted twice by the desktop, and one of them busy: both stay, and the cause is told once.
    let (busy, idle) = ("/media/pyrotyp-test-busy", "/media/pyrotyp-test-idle");
    let mounted = [busy, idle].map(|place| Mounted::at(place, &[&device.0]));
    let mut sleep = Command::new("sleep").arg("60").current_dir(busy).spawn().unwrap();
    // The second attempt finds what the first one marked.
    let [_, after] = [(); 2].map(|()| bench.pyrotyp(&write));
    sleep.kill().unwrap();
    sleep.wait().unwrap();
    assert_eq!(after.matches("and can't be unmounted").count(), 1, "{after}");
    assert!(!after.contains("until then") && is_mounted(busy) && is_mounted(idle), "{after}");
    told.push((after, format!("sleep (process {})", sleep.id())));
    drop(mounted);

    // Frozen: it could not be unmounted, nor mounted again.
    let frozen = "/media/pyrotyp-test-frozen";
    let mounted = Mounted::at(frozen, &[&device.0]);
    let fsfreeze = |how: &str| Command::new("fsfreeze").args([how, frozen]).status().unwrap().success();
    assert!(fsfreeze("--freeze"));
    let after = bench.pyrotyp(&write);
    assert!(fsfreeze("--unfreeze") && is_mounted(frozen), "{after}");
    told.push((after, "it is frozen".to_owned()));
    drop(mounted);

    for (told, expected) in told {
        assert!(told.starts_with("exit 5") && told.contains(&expected), "{expected}: {told}");
    }
    let told = bench.pyrotyp(&write);
    assert!(told.starts_with("exit 0\nverified"), "{told}");
}

#[test]
#[ignore = "needs root and a loop device"]
fn straight_from_the_line_a_block_device_starts_only_with_the_right_image() {
    let bench = Bench::new().file("served", b"");
    fs::remove_file(bench.path("served")).unwrap();
    fs::create_dir(bench.path("served")).unwrap();
    let bench = bench.file("served/desktop.iso", &DESKTOP);
    let mut hashers = Hashers::new([Algorithm::Sha256]);
    hashers.update(&DESKTOP);
    let sum = format!("sha256:{}", hashers.finish().remove(0).hex);
    let server = Mirror::new(&bench.path("served"));
    let base = format!("http://{}", server.start().unwrap());
    let backing = bench.path("drive.img");
    fs::write(&backing, pyrotyp_sample::noise(30_000_128 / 512 * 512, 9)).unwrap();
    let device = Loop::over(&backing);
    let tag = tag_of(&bench, &device.0);
    let straight = |manner: &str, sum: &str| {
        bench.pyrotyp(&format!(
            "fetch {base}/{manner}/desktop.iso --straight-to {tag} --sum {sum} --unattended --quiet --wait 1 \
             --accept virtual-drive --accept just-verified"
        ))
    };
    let could_start = || fs::read(&backing).unwrap()[..4096].iter().any(|byte| *byte != 0);
    // A line that breaks every five million bytes gets there, and what came is the image.
    let told = straight("breaks-5000000", &sum);
    assert!(told.starts_with("exit 0") && fs::read(&backing).unwrap().starts_with(&DESKTOP), "{told}");
    for (manner, sum, status) in
        [("steady", &*"0".repeat(64), 4), ("wrong-9000000", sum.as_str(), 4), ("breaks-1", sum.as_str(), 8)]
    {
        let told = straight(manner, sum);
        assert!(told.starts_with(&format!("exit {status}")), "{manner}: {told}");
        // A line that never gave anything leaves the drive as it was.
        assert!(manner == "breaks-1" || !could_start(), "{manner} left a drive that starts");
    }
    let told = straight("steady", &sum);
    assert!(told.starts_with("exit 0") && fs::read(&backing).unwrap().starts_with(&DESKTOP), "{told}");
}
