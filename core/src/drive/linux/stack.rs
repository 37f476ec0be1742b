//! What the running system needs each disk for, through everything that may be stacked between.
//!
//! From every mount and swap area the way leads down: partition to disk, device mapper and md to their members,
//! loop to the file system that holds its file, overlay to its layers, btrfs to all of its devices.
//!
//! Source: proc_pid_mountinfo(5), the kernel's Documentation/ABI/testing/sysfs-block (holders, slaves).

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use super::sysfs::text;
use crate::drive::{Use, mount_point};

/// A mounted file system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mount {
    /// `major:minor`, of no device for file systems such as overlay and btrfs.
    device: String,
    pub at: String,
    pub filesystem: String,
    source: String,
    options: String,
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
    mapped_name: Option<String>,
}

/// All block devices with what lies above and below them, all mounts and all swap areas.
#[derive(Clone, Debug, Default)]
pub struct Stack {
    /// By `major:minor`.
    devices: BTreeMap<String, Device>,
    mounts: Vec<Mount>,
    swaps: Vec<String>,
    /// Pools of ZFS that are imported: nothing says which drives they are made of.
    pools: Vec<String>,
    /// Devices of each btrfs file system, by name.
    btrfs: Vec<Vec<String>>,
}

impl Stack {
    /// Reads what the kernel says now.
    ///
    /// # Errors
    /// When the mounts can't be read: without them nothing could be called safe.
    pub fn read(sys: &Path, proc: &Path) -> io::Result<Self> {
        let mounts = fs::read_to_string(proc.join("self/mountinfo"))?;
        // A kernel without swap has no such file.
        let swaps = fs::read_to_string(proc.join("swaps")).unwrap_or_default();
        let mut stack = Self {
            devices: BTreeMap::new(),
            mounts: mounts.lines().filter_map(mount).collect(),
            swaps: swaps.lines().skip(1).filter_map(|line| Some(unescape(line.split_whitespace().next()?))).collect(),
            pools: names_below(&proc.join("spl/kstat/zfs"))
                .filter(|name| proc.join("spl/kstat/zfs").join(name).is_dir())
                .collect(),
            btrfs: names_below(&sys.join("fs/btrfs"))
                .map(|id| names_below(&sys.join("fs/btrfs").join(id).join("devices")).collect())
                .collect(),
        };
        for name in names_below(&sys.join("block")) {
            stack.add(&sys.join("block").join(&name), &name, None);
        }
        Ok(stack)
    }

    fn add(&mut self, folder: &Path, name: &str, disk: Option<&str>) {
        let Some(device) = text(&folder.join("dev")) else { return };
        self.devices.insert(
            device,
            Device {
                name: name.to_owned(),
                disk: disk.map(str::to_owned),
                members: names_below(&folder.join("slaves")).collect(),
                holders: names_below(&folder.join("holders")).collect(),
                backing_file: fs::read_to_string(folder.join("loop/backing_file"))
                    .ok()
                    .map(|path| path.trim_end().into()),
                mapped_name: text(&folder.join("dm/name")),
            },
        );
        if disk.is_none() {
            for part in names_below(folder).filter(|part| folder.join(part).join("partition").is_file()) {
                self.add(&folder.join(&part), &part, Some(name));
            }
        }
    }

    /// What the system needs the disk called `name` for, each use once.
    pub fn uses_of(&self, name: &str) -> Vec<Use> {
        let mut uses = Vec::new();
        let mut add = |use_: Use| {
            if !uses.contains(&use_) {
                uses.push(use_);
            }
        };
        for mount in &self.mounts {
            if self.disks_under_mount(mount).contains(name) {
                add(mount_point::use_of(&mount.at));
            }
        }
        for swap in &self.swaps {
            if self.disks_under_path(Path::new(swap)).contains(name) {
                add(Use::System { what: "swap".to_owned() });
            }
        }
        for device in self.devices.values() {
            let is_part = device.name == name || device.disk.as_deref() == Some(name);
            if is_part {
                device.holders.iter().for_each(|holder| add(Use::Held { by: self.words_for(holder) }));
            }
            let backing = device.backing_file.as_deref().and_then(|file| self.by_path(file));
            let under = backing.and_then(|id| self.devices.get(id));
            if under.is_some_and(|under| under.name == name || under.disk.as_deref() == Some(name)) {
                add(Use::Held { by: device.name.clone() });
            }
        }
        uses
    }

    /// What a drive is needed for that holds a member of a ZFS pool: any pool that is imported may be made of it.
    pub fn use_of_pool_member(&self) -> Option<Use> {
        let by = format!("a ZFS pool ({} imported)", self.pools.join(", "));
        (!self.pools.is_empty()).then_some(Use::Held { by })
    }

    /// The first mount of exactly this device.
    pub fn mount_of(&self, device: &str) -> Option<&Mount> {
        self.mounts
            .iter()
            .find(|mount| mount.device == device || self.by_path(Path::new(&mount.source)) == Some(device))
    }

    /// Where the desktop mounted volumes of the disk at `path`, the latest first.
    pub fn removable_mounts_of(&self, path: &str, dev: &Path) -> Vec<String> {
        let Some(name) = Path::new(path).strip_prefix(dev).ok().and_then(Path::to_str) else { return Vec::new() };
        let on_disk = self.mounts.iter().filter(|mount| self.disks_under_mount(mount).contains(name));
        let removable = on_disk.filter(|mount| matches!(mount_point::use_of(&mount.at), Use::Removable { .. }));
        removable.rev().map(|mount| mount.at.clone()).collect()
    }

    /// Names of the disks that hold `file`, which lies on the file system `device`.
    pub fn disks_under_file(&self, file: &Path, device: &str) -> BTreeSet<String> {
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

    fn disks_under_path(&self, path: &Path) -> BTreeSet<String> {
        let mut found = Found::default();
        self.descend_path(path, &mut found);
        found.disks
    }

    /// Collects every whole disk below a device.
    fn descend(&self, device: &str, found: &mut Found) {
        if !found.seen.insert(device.to_owned()) {
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
        if let Some(file) = &here.backing_file {
            self.descend_path(file, found);
        }
    }

    fn descend_mount(&self, mount: &Mount, found: &mut Found) {
        if !found.seen.insert(format!("{} {}", mount.device, mount.at)) {
            return;
        }
        self.descend(&mount.device, found);
        if let Some(device) = self.by_path(Path::new(&mount.source)) {
            self.descend(device, found);
            let name = self.devices.get(device).map(|device| device.name.as_str()).unwrap_or_default();
            let group = self.btrfs.iter().find(|group| group.iter().any(|member| member == name));
            for member in group.into_iter().flatten().filter_map(|member| self.by_name(member)) {
                self.descend(member, found);
            }
        }
        for layer in layers(&mount.options) {
            self.descend_path(Path::new(&layer), found);
        }
    }

    /// A device node, or a file on whatever is mounted deepest above it.
    fn descend_path(&self, path: &Path, found: &mut Found) {
        if let Some(device) = self.by_path(path) {
            return self.descend(device, found);
        }
        let above = self.mounts.iter().filter(|mount| path.starts_with(&mount.at));
        // Of several mounts at one place, the last one covers the others.
        if let Some(mount) = above.max_by_key(|mount| mount.at.len()) {
            self.descend_mount(mount, found);
        }
    }

    fn by_name(&self, name: &str) -> Option<&str> {
        self.devices.iter().find(|(_, device)| device.name == name).map(|(id, _)| id.as_str())
    }

    fn by_path(&self, path: &Path) -> Option<&str> {
        if let Ok(mapped) = path.strip_prefix("/dev/mapper") {
            let fits = |device: &Device| device.mapped_name.as_deref().map(Path::new) == Some(mapped);
            return self.devices.iter().find(|(_, device)| fits(device)).map(|(id, _)| id.as_str());
        }
        self.by_name(path.strip_prefix("/dev").ok()?.to_str()?)
    }

    fn words_for(&self, name: &str) -> String {
        let mapped = self.devices.values().find(|device| device.name == name).and_then(|d| d.mapped_name.clone());
        mapped.map_or(name.to_owned(), |mapped| format!("{name} ({mapped})"))
    }
}

#[derive(Default)]
struct Found {
    disks: BTreeSet<String>,
    seen: BTreeSet<String>,
}

fn names_below(folder: &Path) -> impl Iterator<Item = String> + use<> {
    let entries = fs::read_dir(folder).into_iter().flatten();
    let mut names: Vec<_> = entries.filter_map(|entry| entry.ok()?.file_name().into_string().ok()).collect();
    names.sort();
    names.into_iter()
}

/// One line of mountinfo: fields up to ` - ` are the mount's, those behind it the file system's.
fn mount(line: &str) -> Option<Mount> {
    let (first, second) = line.split_once(" - ")?;
    let mut first = first.split(' ').skip(2);
    let (device, _root, at) = (first.next()?, first.next()?, first.next()?);
    let mut second = second.splitn(3, ' ');
    let (filesystem, source) = (second.next()?, second.next()?);
    Some(Mount {
        device: device.to_owned(),
        at: unescape(at),
        filesystem: filesystem.to_owned(),
        source: unescape(source),
        options: second.next().unwrap_or_default().to_owned(),
    })
}

/// The folders that an overlay is made of.
fn layers(options: &str) -> Vec<String> {
    let named = options.split(',').filter_map(|option| {
        let (name, value) = option.split_once('=')?;
        matches!(name, "lowerdir" | "lowerdir+" | "upperdir" | "workdir" | "datadir+").then_some(value)
    });
    named.flat_map(|value| value.split(':')).filter(|path| path.starts_with('/')).map(unescape).collect()
}

/// Spaces and the like stand as a backslash and three octal digits.
fn unescape(text: &str) -> String {
    let mut out = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((first, after)) = rest.split_first() {
        let code = after
            .get(..3)
            .filter(|_| *first == b'\\')
            .and_then(|digits| u8::from_str_radix(std::str::from_utf8(digits).ok()?, 8).ok());
        out.push(code.unwrap_or(*first));
        rest = if code.is_some() { after.get(3..).unwrap_or_default() } else { after };
    }
    String::from_utf8_lossy(&out).into_owned()
}
