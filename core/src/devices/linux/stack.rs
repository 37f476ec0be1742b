//! What the running system needs each disk for, through everything that may be stacked between.
//!
//! From every mount and swap area the way leads down: partition to disk, device mapper and md to their members,
//! loop to the file system that holds its file, overlay to its layers, btrfs to all of its devices. Devices are known by
//! their numbers; a name counts only where there is no number. What the kernel says is bytes, and what can't be
//! understood takes nothing away: it is an error, or any drive may be meant.
//!
//! Source: proc_pid_mountinfo(5), the kernel's Documentation/ABI/testing/sysfs-block (holders, slaves), and
//! Documentation/filesystems/sharedsubtree.rst (which mounts follow each other).

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::ffi::{OsStr, OsString};
use std::ops::Range;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::{fs, io};

use crate::devices::linux::processes;
use crate::devices::linux::sysfs::text;
use crate::devices::mount_point;
use crate::drive::Use;
use crate::text::Shown;

/// A mounted file system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Mount {
    /// `major:minor`, of no device for file systems such as overlay and btrfs.
    device: String,
    pub at: PathBuf,
    pub filesystem: String,
    source: PathBuf,
    mount_options: String,
    options: OsString,
    /// Groups of mounts that come and go together with this one.
    peers: BTreeSet<String>,
    /// Who has it mounted, where that is a process that sees other mounts than this one.
    elsewhere: Option<String>,
}

/// A volume that the desktop mounted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::devices) struct Removable {
    /// What it lies on, as whoever mounted it says.
    pub device: PathBuf,
    pub at: PathBuf,
    pub filesystem: String,
    /// Options of this mount, such as `rw,nosuid`, and of the file system.
    pub mount_options: String,
    pub options: OsString,
}

#[derive(Clone, Debug, Default)]
struct Device {
    name: String,
    /// The disk that a partition belongs to.
    disk: Option<String>,
    /// What it is made of.
    members: Vec<String>,
    /// What is made of it.
    holders: Vec<String>,
    backing_file: Option<PathBuf>,
    /// The part of the backing file that it shows, in bytes.
    backing_range: Range<u64>,
    mapped_name: Option<String>,
}

impl Device {
    /// Whether it is the disk called `name`, or a partition of it.
    fn is_of(&self, name: &str) -> bool {
        self.name == name || self.disk.as_deref() == Some(name)
    }
}

/// A device or file that a driver of the kernel offers to another computer.
#[derive(Clone, Debug)]
struct Export {
    path: PathBuf,
    /// The driver, in words.
    by: String,
}

/// All block devices with what lies above and below them, all mounts and all swap areas.
#[derive(Clone, Debug, Default)]
pub(super) struct Stack {
    /// By `major:minor`.
    devices: BTreeMap<String, Device>,
    mounts: Vec<Mount>,
    swaps: Vec<PathBuf>,
    /// Pools of ZFS that are imported: nothing says which drives they are made of.
    pools: Vec<String>,
    /// Devices of each btrfs file system, by `major:minor`.
    btrfs: Vec<Vec<String>>,
    /// What the kernel offers to others through a target or gadget driver.
    exports: Vec<Export>,
    /// File systems that need no device: what they are said to be mounted from is any text.
    deviceless: BTreeSet<String>,
    /// Whether nodes on this machine may be asked for their numbers.
    is_running: bool,
    /// Nodes that were asked already: for each drive, each mount is looked at.
    nodes: RefCell<BTreeMap<PathBuf, Option<String>>>,
}

impl Stack {
    /// Reads what the kernel says now.
    ///
    /// # Errors
    /// When the mounts or the swap areas can't be read or understood: without them nothing could be called safe.
    pub(super) fn read(sys: &Path, proc: &Path) -> io::Result<Self> {
        let mounts = mounts(&fs::read(proc.join("self/mountinfo"))?)?;
        let swaps = match fs::read(proc.join("swaps")) {
            // A kernel without swap has no such file.
            Err(error) if error.kind() == io::ErrorKind::NotFound => Vec::new(),
            read => read?,
        };
        let swap = |line: &[u8]| line.split(|byte| matches!(byte, b' ' | b'\t')).next().map(unescape);
        let swaps = swaps.split(|byte| *byte == b'\n').skip(1).filter(|line| !line.is_empty());
        let pools = proc.join("spl/kstat/zfs");
        let mut stack = Self {
            devices: BTreeMap::new(),
            mounts,
            swaps: swaps.filter_map(swap).collect(),
            pools: names_below(&pools)?.into_iter().filter(|name| pools.join(name).is_dir()).collect(),
            btrfs: Vec::new(),
            exports: exports(&sys.join("kernel/config"))?,
            deviceless: deviceless(&fs::read(proc.join("filesystems")).unwrap_or_default()),
            is_running: proc == Path::new("/proc"),
            nodes: RefCell::default(),
        };
        for name in names_below(&sys.join("block"))? {
            stack.add(&sys.join("block").join(&name), &name, None)?;
        }
        let groups = sys.join("fs/btrfs");
        for id in names_below(&groups)? {
            let folder = groups.join(id).join("devices");
            let number =
                |name: &String| text(&folder.join(name).join("dev")).or_else(|| stack.by_name(name).map(str::to_owned));
            let members = names_below(&folder)?.iter().filter_map(number).collect();
            stack.btrfs.push(members);
        }
        if stack.is_running {
            stack.look_elsewhere(proc)?;
        }
        Ok(stack)
    }

    fn add(&mut self, folder: &Path, name: &str, disk: Option<&str>) -> io::Result<()> {
        let Some(device) = text(&folder.join("dev")) else { return Ok(()) };
        let backing_file = match fs::read(folder.join("loop/backing_file")) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => None,
            read => Some(read?),
        };
        let backing_file = backing_file.map(|path| {
            let path = path.strip_suffix(b"\n").unwrap_or(&path);
            PathBuf::from(OsStr::from_bytes(path.strip_suffix(b" (deleted)").unwrap_or(path)))
        });
        self.devices.insert(
            device,
            Device {
                name: name.to_owned(),
                disk: disk.map(str::to_owned),
                members: names_below(&folder.join("slaves"))?,
                holders: names_below(&folder.join("holders"))?,
                backing_file,
                backing_range: backing_range(folder),
                mapped_name: text(&folder.join("dm/name")),
            },
        );
        if disk.is_none() {
            // The kernel calls partitions by their disk's name: nothing else below it need be asked.
            let is_part = |part: &&String| part.starts_with(name) && folder.join(part).join("partition").is_file();
            for part in names_below(folder)?.iter().filter(is_part) {
                self.add(&folder.join(part), part, Some(name))?;
            }
        }
        Ok(())
    }

    /// Takes in what processes have mounted that see other mounts than this one; of those that come and go with ours,
    /// ours tell enough.
    fn look_elsewhere(&mut self, proc: &Path) -> io::Result<()> {
        for (who, bytes) in processes::other_mounts(proc) {
            for mount in mounts(&bytes)? {
                let is_ours = |own: &Mount| own.device == mount.device && !own.peers.is_disjoint(&mount.peers);
                let is_on_device = self.devices.contains_key(&mount.device) || self.source_of(&mount).is_some();
                if is_on_device && !self.mounts.iter().any(is_ours) {
                    self.mounts.push(Mount { elsewhere: Some(who.clone()), ..mount });
                }
            }
        }
        Ok(())
    }

    /// What the system needs the disk called `name` for, each use once.
    pub(super) fn uses_of(&self, name: &str) -> Vec<Use> {
        let mut uses = Vec::new();
        let mut add = |use_: Use| {
            if !uses.contains(&use_) {
                uses.push(use_);
            }
        };
        let written = self.written_with(name);
        for mount in &self.mounts {
            if self.disks_under_mount(mount).contains(name) {
                add(use_of(mount, self.disks_of_mount(mount).len()));
            } else if self.overlap(&written, &self.direct_under_mount(mount)) {
                // It is another device's volume: the job must not unmount it.
                match use_of(mount, 1) {
                    Use::Removable { at } => add(Use::Mounted { at }),
                    use_ => add(use_),
                }
            }
        }
        for swap in &self.swaps {
            if swap.starts_with("/dev") && self.by_path(swap).is_none() {
                add(Use::Unknown { what: format!("the swap area {}", swap.shown()) });
            } else if self.is_under_path(name, &written, swap) {
                add(Use::System { what: "swap".to_owned() });
            }
        }
        for (id, device) in &self.devices {
            if device.is_of(name) || self.overlap(&written, &BTreeSet::from([id.clone()])) {
                device.holders.iter().for_each(|holder| add(Use::Held { by: self.words_for(holder) }));
            }
            if let Some(file) = &device.backing_file
                && device.name != name
                && (written.contains(id) || self.is_under_path(name, &written, file))
            {
                add(Use::Held { by: format!("{} ({})", device.name, file.shown()) });
            }
        }
        for Export { path, by } in &self.exports {
            if self.is_under_path(name, &written, path) {
                add(Use::Held { by: by.clone() });
            }
        }
        uses
    }

    /// Whether what lies at `path` is on the disk called `name`, or shares bytes with what is written with that disk.
    fn is_under_path(&self, name: &str, written: &BTreeSet<String>, path: &Path) -> bool {
        let mut direct = BTreeSet::new();
        match self.by_path(path) {
            Some(device) => self.add_direct(device, &mut direct),
            None => direct.extend(self.loops_over(path, &(0..u64::MAX)).map(|(id, _)| id.clone())),
        }
        self.disks_under_path(path).contains(name) || self.overlap(written, &direct)
    }

    /// Numbers of all devices whose bytes change when the disk called `name` is written: itself, what it is made of, the device that a
    /// loop device shows, and other loop devices over the same part of a file.
    fn written_with(&self, name: &str) -> BTreeSet<String> {
        let mut written = BTreeSet::new();
        let mut next: Vec<&str> = self.by_name(name).into_iter().collect();
        while let Some(id) = next.pop() {
            let Some(device) = self.devices.get(id).filter(|_| written.insert(id.to_owned())) else { continue };
            next.extend(device.members.iter().filter_map(|member| self.by_name(member)));
            if let Some(file) = &device.backing_file {
                next.extend(self.by_path(file));
                next.extend(self.loops_over(file, &device.backing_range).map(|(id, _)| id.as_str()));
            }
        }
        written
    }

    /// Loop devices over the same file, or the same device, that show a part of this range.
    fn loops_over<'a>(&'a self, file: &Path, range: &Range<u64>) -> impl Iterator<Item = (&'a String, &'a Device)> {
        let (file, range) = (self.file_identity(file), range.clone());
        self.devices.iter().filter(move |(_, other)| {
            let shows = other.backing_file.as_deref().is_some_and(|other| self.file_identity(other) == file);
            shows && other.backing_range.start < range.end && range.start < other.backing_range.end
        })
    }

    /// What tells a file from others whatever it is called: file system and number, or its path where it can't be asked.
    fn file_identity(&self, path: &Path) -> FileIdentity {
        let found = if self.is_running { fs::metadata(path).ok() } else { None };
        match found {
            Some(found) if found.file_type().is_block_device() => FileIdentity::Number(0, found.rdev()),
            Some(found) => FileIdentity::Number(found.dev(), found.ino()),
            None => FileIdentity::Path(path.to_owned()),
        }
    }

    /// Whether one of these devices is one of those, or a partition of it, or the disk that it is a partition of.
    fn overlap(&self, these: &BTreeSet<String>, those: &BTreeSet<String>) -> bool {
        let disk_of = |id: &String| self.devices.get(id)?.disk.as_deref().and_then(|disk| self.by_name(disk));
        let are_one =
            |a: &String, b: &String| a == b || disk_of(a) == Some(b.as_str()) || disk_of(b) == Some(a.as_str());
        these.iter().any(|a| those.iter().any(|b| are_one(a, b)))
    }

    /// Numbers of the devices that a mount reads and writes, down to those that are made of nothing else.
    fn direct_under_mount(&self, mount: &Mount) -> BTreeSet<String> {
        let mut direct = BTreeSet::new();
        if self.devices.contains_key(&mount.device) {
            self.add_direct(&mount.device, &mut direct);
        }
        if let Some(source) = self.source_of(mount) {
            self.add_direct(source, &mut direct);
        }
        direct
    }

    fn add_direct(&self, id: &str, direct: &mut BTreeSet<String>) {
        let Some(device) = self.devices.get(id).filter(|_| direct.insert(id.to_owned())) else { return };
        for member in device.members.iter().filter_map(|member| self.by_name(member)) {
            self.add_direct(member, direct);
        }
        if let Some(below) = device.backing_file.as_deref().and_then(|file| self.by_path(file)) {
            self.add_direct(below, direct);
        }
    }

    /// The device that a mount says it is mounted from; a file system that needs none may say anything.
    fn source_of(&self, mount: &Mount) -> Option<&str> {
        let kind = mount.filesystem.split('.').next().unwrap_or_default();
        if self.deviceless.contains(kind) { None } else { self.by_path(&mount.source) }
    }

    /// Whether another file system is mounted over this place, so that unmounting it would take that one.
    pub(super) fn is_covered(&self, volume: &Removable) -> bool {
        let last = self.own_mounts().rfind(|mount| mount.at == volume.at);
        last.is_none_or(|last| last.source != volume.device)
    }

    /// What a drive is needed for that holds a member of a ZFS pool: any pool that is imported may be made of it.
    pub(super) fn use_of_pool_member(&self) -> Option<Use> {
        let by = format!("a ZFS pool ({} imported)", self.pools.join(", "));
        (!self.pools.is_empty()).then_some(Use::Held { by })
    }

    /// What this process itself sees mounted.
    fn own_mounts(&self) -> impl DoubleEndedIterator<Item = &Mount> {
        self.mounts.iter().filter(|mount| mount.elsewhere.is_none())
    }

    /// The first mount of exactly this device.
    pub(super) fn mount_of(&self, device: &str) -> Option<&Mount> {
        self.own_mounts().find(|mount| mount.device == device || self.source_of(mount) == Some(device))
    }

    /// What the desktop mounted of the disk at `path` and where, the latest first.
    pub(super) fn removable_mounts_of(&self, path: &str, dev: &Path) -> Vec<Removable> {
        let Some(name) = Path::new(path).strip_prefix(dev).ok().and_then(Path::to_str) else { return Vec::new() };
        let on_disk = self.own_mounts().filter(|mount| self.disks_under_mount(mount).contains(name));
        let removable = on_disk.filter(|mount| matches!(use_of(mount, 1), Use::Removable { .. }));
        let volume = |mount: &Mount| Removable {
            device: mount.source.clone(),
            at: mount.at.clone(),
            filesystem: mount.filesystem.clone(),
            mount_options: mount.mount_options.clone(),
            options: mount.options.clone(),
        };
        removable.rev().map(volume).collect()
    }

    /// Overlays that may hold any volume, in words: a layer that is named from where the overlay was made can't be found.
    pub(super) fn overlays_of_unknown_layers(&self) -> Vec<String> {
        let unknown = self.mounts.iter().filter(|mount| layers(&mount.options).iter().any(|layer| layer.is_relative()));
        unknown.map(|mount| format!("perhaps the overlay at {}", mount.at.shown())).collect()
    }

    /// Whether `path` is the node of the disk called `name`, or of one of its partitions.
    pub(super) fn is_node_of(&self, path: &Path, name: &str) -> bool {
        self.by_path(path).and_then(|id| self.devices.get(id)).is_some_and(|device| device.is_of(name))
    }

    /// Numbers, `major:minor`, of the disk called `name` and of its partitions.
    pub(super) fn numbers_of(&self, name: &str) -> Vec<String> {
        self.devices.iter().filter(|(_, device)| device.is_of(name)).map(|(id, _)| id.clone()).collect()
    }

    /// Names of the disks that hold `file`, which lies on the file system `device`.
    pub(super) fn disks_under_file(&self, file: &Path, device: &str) -> BTreeSet<String> {
        let mut found = Found::default();
        if self.devices.contains_key(device) {
            self.descend(device, &mut found);
        } else {
            self.descend_path(file, &mut found);
        }
        found.disks
    }

    fn disks_under_mount(&self, mount: &Mount) -> BTreeSet<String> {
        let mut found = Found::default();
        self.descend_mount(mount, &mut found);
        found.disks
    }

    /// Without those that only hold the file of one that it lies on.
    fn disks_of_mount(&self, mount: &Mount) -> BTreeSet<String> {
        let mut found = Found { stays_above_files: true, ..Found::default() };
        self.descend_mount(mount, &mut found);
        found.disks
    }

    fn disks_under_path(&self, path: &Path) -> BTreeSet<String> {
        let mut found = Found::default();
        self.descend_path(path, &mut found);
        found.disks
    }

    /// Collects every whole disk below a device.
    fn descend(&self, device: &str, found: &mut Found) {
        if !found.seen.insert(device.into()) {
            return;
        }
        let Some(here) = self.devices.get(device) else { return };
        match &here.disk {
            Some(disk) => {
                if let Some(disk) = self.by_name(disk) {
                    self.descend(disk, found);
                }
            }
            None => {
                found.disks.insert(here.name.clone());
            }
        }
        for member in here.members.iter().filter_map(|member| self.by_name(member)) {
            self.descend(member, found);
        }
        if let Some(file) = here.backing_file.as_ref().filter(|_| !found.stays_above_files) {
            self.descend_path(file, found);
        }
    }

    fn descend_mount(&self, mount: &Mount, found: &mut Found) {
        if !found.seen.insert([OsStr::new(&mount.device), mount.at.as_os_str()].join(OsStr::new(" "))) {
            return;
        }
        self.descend(&mount.device, found);
        let source = self.source_of(mount);
        if let Some(device) = source {
            self.descend(device, found);
        }
        if mount.filesystem == "btrfs" {
            // A source that names no device may stand for any of them.
            let is_meant = |group: &&Vec<String>| source.is_none_or(|device| group.iter().any(|id| id == device));
            self.btrfs.iter().filter(is_meant).flatten().for_each(|member| self.descend(member, found));
        }
        for layer in layers(&mount.options).iter().filter(|layer| layer.is_absolute()) {
            self.descend_path(layer, found);
        }
    }

    /// A device node, or a file on whatever is mounted deepest above it.
    fn descend_path(&self, path: &Path, found: &mut Found) {
        if let Some(device) = self.by_path(path) {
            return self.descend(device, found);
        }
        let above = self.own_mounts().filter(|mount| path.starts_with(&mount.at));
        // Of several mounts at one place, the last one covers the others.
        if let Some(mount) = above.max_by_key(|mount| mount.at.as_os_str().len()) {
            self.descend_mount(mount, found);
        }
    }

    fn by_name(&self, name: &str) -> Option<&str> {
        self.devices.iter().find(|(_, device)| device.name == name).map(|(id, _)| id.as_str())
    }

    /// The device whose node lies at `path`.
    fn by_path(&self, path: &Path) -> Option<&str> {
        if self.is_running
            && let Some(number) = self.number_at(path)
        {
            return self.devices.get_key_value(&number).map(|(id, _)| id.as_str());
        }
        if let Ok(mapped) = path.strip_prefix("/dev/mapper") {
            let fits = |device: &Device| device.mapped_name.as_deref().map(Path::new) == Some(mapped);
            return self.devices.iter().find(|(_, device)| fits(device)).map(|(id, _)| id.as_str());
        }
        self.by_name(path.strip_prefix("/dev").ok()?.to_str()?)
    }

    /// The number of the node at `path`, which is asked once.
    fn number_at(&self, path: &Path) -> Option<String> {
        let mut nodes = self.nodes.borrow_mut();
        nodes.entry(path.to_owned()).or_insert_with(|| node_number(path)).clone()
    }

    fn words_for(&self, name: &str) -> String {
        let mapped = self.devices.values().find(|device| device.name == name).and_then(|d| d.mapped_name.clone());
        mapped.map_or(name.to_owned(), |mapped| format!("{name} ({mapped})"))
    }
}

/// `major:minor` of the block device whose node lies at `path`; `None` if none does.
pub(super) fn node_number(path: &Path) -> Option<String> {
    // Only nodes and links to them: what lies on a file system that hangs is not touched.
    if !path.starts_with("/dev") {
        let own = fs::symlink_metadata(path).ok()?.file_type();
        own.is_block_device().then_some(())?;
    }
    let found = fs::metadata(path).ok().filter(|found| found.file_type().is_block_device())?;
    Some(number_of(found.rdev()))
}

/// A device's number as the kernel writes it, `major:minor`.
pub(super) fn number_of(device: u64) -> String {
    format!("{}:{}", rustix::fs::major(device), rustix::fs::minor(device))
}

/// What the disks below a mount are needed for, of which there are so many.
fn use_of(mount: &Mount, disks: usize) -> Use {
    let at = mount.at.to_string_lossy().into_owned();
    match (&mount.elsewhere, mount_point::use_of(&at)) {
        (Some(who), _) => Use::Taken { by: format!("{who}, which has it mounted at {at}") },
        // Unmounting would take it from drives that are not meant.
        (None, Use::Removable { at }) if disks > 1 => Use::Shared { at },
        (None, use_) => use_,
    }
}

/// What tells a file from others.
#[derive(PartialEq)]
enum FileIdentity {
    /// The file system's device and the inode; zero and the device's number for a device.
    Number(u64, u64),
    Path(PathBuf),
}

/// The part of its file that a loop device shows: `loop/offset` and `loop/sizelimit`, in bytes; without a limit, all behind the offset.
fn backing_range(folder: &Path) -> Range<u64> {
    let number = |name: &str| text(&folder.join("loop").join(name)).and_then(|text| text.parse::<u64>().ok());
    let start = number("offset").unwrap_or(0);
    let end = number("sizelimit").filter(|limit| *limit > 0).map(|limit| start.saturating_add(limit));
    start..end.unwrap_or(u64::MAX)
}

/// What the kernel's drivers offer to others, as configfs has it: the kernel's nvmet (`device_path`), target_core (`udev_path`, and the file
/// of a fileio device in `info`) and f_mass_storage (`file`).
fn exports(config: &Path) -> io::Result<Vec<Export>> {
    let below = |folders: Vec<PathBuf>| -> io::Result<Vec<PathBuf>> {
        let mut found = Vec::new();
        for folder in folders {
            found.extend(names_below(&folder)?.into_iter().map(|name| folder.join(name)));
        }
        Ok(found)
    };
    let attribute = |folders: Vec<PathBuf>, name: &str, by: &str| -> Vec<Export> {
        let paths = folders.iter().filter_map(|folder| text(&folder.join(name))).filter(|path| path.starts_with('/'));
        paths.map(|path| Export { path: path.into(), by: by.to_owned() }).collect()
    };
    let namespaces = below(vec![config.join("nvmet/subsystems")])?.iter().map(|one| one.join("namespaces")).collect();
    let mut exports = attribute(below(namespaces)?, "device_path", "the kernel's NVMe target");
    let backends = below(below(vec![config.join("target/core")])?)?;
    for backend in &backends {
        let info = text(&backend.join("info")).unwrap_or_default();
        let files = info.split_once("File: ").and_then(|(_, rest)| rest.split_whitespace().next());
        let files = files.filter(|file| file.starts_with('/'));
        exports.extend(files.map(|file| Export { path: file.into(), by: "the kernel's SCSI target".to_owned() }));
    }
    exports.extend(attribute(backends, "udev_path", "the kernel's SCSI target"));
    let functions = below(vec![config.join("usb_gadget")])?.iter().map(|one| one.join("functions")).collect();
    exports.extend(attribute(below(below(functions)?)?, "file", "the kernel's USB gadget"));
    Ok(exports)
}

/// Names of file systems behind `nodev`: proc_filesystems(5). Those that keep their devices' names elsewhere are known by them.
fn deviceless(filesystems: &[u8]) -> BTreeSet<String> {
    let text = String::from_utf8_lossy(filesystems);
    let names = text.lines().filter_map(|line| line.strip_prefix("nodev")).map(|name| name.trim().to_owned());
    names.collect()
}

#[derive(Default)]
struct Found {
    disks: BTreeSet<String>,
    seen: BTreeSet<OsString>,
    stays_above_files: bool,
}

/// Names in a folder of the kernel's, in order; a folder that is not there has none.
///
/// # Errors
/// When it can't be read, or a name in it is none that the kernel gives.
fn names_below(folder: &Path) -> io::Result<Vec<String>> {
    let entries = match fs::read_dir(folder) {
        Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => {
            return Ok(Vec::new());
        }
        entries => entries?,
    };
    let name = |entry: io::Result<fs::DirEntry>| {
        let strange = |name: OsString| io::Error::other(format!("{} is a strange name", name.shown()));
        entry?.file_name().into_string().map_err(strange)
    };
    let mut names = entries.map(name).collect::<io::Result<Vec<_>>>()?;
    names.sort();
    Ok(names)
}

/// All lines of mountinfo.
fn mounts(bytes: &[u8]) -> io::Result<Vec<Mount>> {
    let lines = bytes.split(|byte| *byte == b'\n').enumerate().filter(|(_, line)| !line.is_empty());
    let read = lines.map(|(number, line)| {
        let strange = || io::Error::other(format!("line {} of the mounts makes no sense", number.saturating_add(1)));
        mount(line).ok_or_else(strange)
    });
    read.collect()
}

/// One line of mountinfo: fields up to ` - ` are the mount's, those behind it the file system's.
fn mount(line: &[u8]) -> Option<Mount> {
    let fields: Vec<&[u8]> = line.split(|byte| *byte == b' ').collect();
    let dash = fields.iter().skip(6).position(|field| *field == b"-")?.checked_add(6)?;
    let text = |field: &[u8]| String::from_utf8_lossy(field).into_owned();
    let [filesystem, source] = [1, 2].map(|after| fields.get(dash.saturating_add(after)).copied());
    let peer = |field: &&[u8]| {
        let field = text(field);
        field.strip_prefix("shared:").or(field.strip_prefix("master:")).map(str::to_owned)
    };
    Some(Mount {
        device: text(fields.get(2)?),
        at: unescape(fields.get(4)?),
        filesystem: text(filesystem?),
        source: unescape(source?),
        mount_options: text(fields.get(5)?),
        options: OsString::from_vec(fields.get(dash.saturating_add(3)..).unwrap_or_default().join(&b' ')),
        peers: fields.get(6..dash)?.iter().filter_map(peer).collect(),
        elsewhere: None,
    })
}

/// The folders that an overlay is made of, as they were named when it was made.
fn layers(options: &OsStr) -> Vec<PathBuf> {
    let named = options.as_bytes().split(|byte| *byte == b',').filter_map(|option| {
        let at = option.iter().position(|byte| *byte == b'=')?;
        let (name, value) = option.split_at_checked(at)?;
        let names = [&b"lowerdir"[..], b"lowerdir+", b"upperdir", b"workdir", b"datadir+"];
        names.contains(&name).then(|| value.get(1..).unwrap_or_default())
    });
    let paths = named.flat_map(|value| value.split(|byte| *byte == b':'));
    paths.filter(|path| !path.is_empty()).map(unescape).collect()
}

/// Spaces and the like stand as a backslash and three octal digits.
fn unescape(text: &[u8]) -> PathBuf {
    let mut out = Vec::with_capacity(text.len());
    let mut rest = text;
    while let Some((first, after)) = rest.split_first() {
        let code = after
            .get(..3)
            .filter(|_| *first == b'\\')
            .and_then(|digits| u8::from_str_radix(std::str::from_utf8(digits).ok()?, 8).ok());
        out.push(code.unwrap_or(*first));
        rest = if code.is_some() { after.get(3..).unwrap_or_default() } else { after };
    }
    PathBuf::from(OsString::from_vec(out))
}
