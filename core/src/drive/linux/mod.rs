//! Linux: drives from sysfs and procfs, without libudev, and the claim on a block device.
//!
//! docs/platform.md lists every file read and every system call made here, and why.

mod calls;
mod claim;
mod processes;
mod stack;
mod sysfs;
#[cfg(test)]
mod tests;

use std::ffi::OsStr;
use std::fs::File;
use std::io;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};

use rustix::fs::{Access, access};

use super::{Claimed, Drive, DriveIo, Located, Partition, Platform, PlatformError, Tag, Volume, content};
use crate::guard::Cleared;
use crate::image::ReadAt;
pub(super) use calls::advise_large_pages;
use claim::BlockDevice;
use stack::Stack;
use sysfs::Disk;

/// The running Linux system. The three roots are `/sys`, `/proc` and `/dev` but in tests.
pub struct Linux {
    sys: PathBuf,
    proc: PathBuf,
    dev: PathBuf,
}

impl Default for Linux {
    fn default() -> Self {
        Self { sys: "/sys".into(), proc: "/proc".into(), dev: "/dev".into() }
    }
}

impl Linux {
    /// The running system.
    pub fn new() -> Self {
        Self::default()
    }

    fn unreadable(what: &Path, source: io::Error) -> PlatformError {
        PlatformError::Unreadable { what: what.display().to_string(), source }
    }

    fn disks(&self) -> Result<Vec<Disk>, PlatformError> {
        let folder = self.sys.join("block");
        let entries = std::fs::read_dir(&folder).map_err(|error| Self::unreadable(&folder, error))?;
        let names = entries.filter_map(|entry| entry.ok()?.file_name().into_string().ok());
        let mut disks: Vec<Disk> = names.filter_map(|name| Disk::read(&self.sys, &name)).collect();
        // `sdb` before `sdaa`: by length first.
        disks.sort_by(|a, b| (a.name.len(), &a.name).cmp(&(b.name.len(), &b.name)));
        Ok(disks)
    }

    fn stack(&self) -> Result<Stack, PlatformError> {
        Stack::read(&self.sys, &self.proc).map_err(|error| Self::unreadable(&self.proc, error))
    }

    fn describe(&self, disk: Disk, stack: &Stack, links: &[(PathBuf, PathBuf)]) -> Drive {
        let path = self.dev.join(&disk.name);
        let (mut partitions, mut whole) = self.content(&disk, &path);
        for partition in &mut partitions {
            let number = disk.partitions.iter().find(|known| known.number == partition.number);
            if let Some(known) = number {
                name_mount(&mut partition.volume, stack, &known.device);
            }
        }
        let mut volume = whole.take().unwrap_or(Volume { bytes: disk.bytes, ..Volume::default() });
        name_mount(&mut volume, stack, &disk.device);
        if volume.filesystem.is_some() || volume.mounted_at.is_some() {
            whole = Some(volume);
        }
        let links = links.iter().filter(|(_, target)| *target == path);
        let mut uses = stack.uses_of(&disk.name);
        let volumes = whole.iter().chain(partitions.iter().map(|partition| &partition.volume));
        let mut names = volumes.filter_map(|volume| volume.filesystem.as_deref());
        // The device manager's notes have another word for it.
        if names.any(|name| matches!(name, "zfs" | "zfs_member")) {
            uses.extend(stack.use_of_pool_member());
        }
        Drive {
            tag: Tag::of(disk.vendor.as_deref(), disk.model.as_deref(), disk.serial.as_deref(), disk.bytes),
            links: links.map(|(link, _)| link.display().to_string()).collect(),
            path: path.display().to_string(),
            uses,
            vendor: disk.vendor,
            model: disk.model,
            serial: disk.serial,
            bytes: disk.bytes,
            sector_bytes: disk.sector_bytes,
            bus: disk.bus,
            link_mbps: disk.link_mbps,
            could_be_faster: disk.could_be_faster,
            attached_seconds: seconds_since_made(Path::new(&path)),
            removable: disk.removable,
            write_protected: disk.write_protected,
            generation: disk.generation,
            partitions,
            whole,
        }
    }

    /// Partitions as the kernel has them, with what their first sectors say where these may be read.
    fn content(&self, disk: &Disk, path: &Path) -> (Vec<Partition>, Option<Volume>) {
        let head = DeviceHead::open(path, disk.bytes);
        let look = |start: u64, bytes: u64, device: &str| {
            let seen = head.as_ref().and_then(|head| content::volume(head, start, bytes).ok().flatten());
            seen.or_else(|| self.remembered(device, bytes))
        };
        let partitions = disk.partitions.iter().map(|known| {
            let empty = Volume { bytes: known.bytes, ..Volume::default() };
            Partition { number: known.number, volume: look(known.start, known.bytes, &known.device).unwrap_or(empty) }
        });
        (partitions.collect(), look(0, disk.bytes, &disk.device))
    }

    /// What the device manager noted about a device: a text file, readable by all.
    fn remembered(&self, device: &str, bytes: u64) -> Option<Volume> {
        if self.dev != Path::new("/dev") {
            return None;
        }
        let notes = std::fs::read_to_string(format!("/run/udev/data/b{device}")).ok()?;
        let value = |key: &str| {
            let found = notes.lines().find_map(|line| line.strip_prefix("E:")?.strip_prefix(key)?.strip_prefix('='));
            found.filter(|value| !value.is_empty()).map(str::to_owned)
        };
        Some(Volume { bytes, filesystem: Some(value("ID_FS_TYPE")?), label: value("ID_FS_LABEL"), mounted_at: None })
    }

    /// The same error, and who is in the way.
    fn with_users(&self, error: PlatformError, is_there: impl Fn(&Path) -> bool) -> PlatformError {
        let users = || processes::using(&self.proc, is_there);
        match error {
            PlatformError::Held { tag, path, .. } => PlatformError::Held { tag, path, by: users() },
            PlatformError::Unmount { tag, at, source, .. } => PlatformError::Unmount { tag, at, source, by: users() },
            other => other,
        }
    }

    /// Links below `/dev/disk` that stay with a drive, and where they lead.
    fn links(&self) -> Vec<(PathBuf, PathBuf)> {
        let mut links = Vec::new();
        for kind in ["by-id", "by-path"] {
            let Ok(entries) = std::fs::read_dir(self.dev.join("disk").join(kind)) else { continue };
            let paths = entries.flatten().map(|entry| entry.path());
            links.extend(paths.filter_map(|link| Some((link.clone(), link.canonicalize().ok()?))));
        }
        links.sort();
        links
    }
}

/// How long ago the device's node was made, which is when the drive was plugged in.
fn seconds_since_made(node: &Path) -> Option<u64> {
    let made = std::fs::metadata(node).ok()?.modified().ok()?;
    Some(made.elapsed().ok()?.as_secs())
}

fn name_mount(volume: &mut Volume, stack: &Stack, device: &str) {
    if let Some(mount) = stack.mount_of(device) {
        volume.mounted_at = Some(mount.at.clone());
        volume.filesystem.get_or_insert_with(|| mount.filesystem.clone());
    }
}

/// A device's bytes through the page cache: good enough to say what is on it.
struct DeviceHead {
    file: File,
    bytes: u64,
}

impl DeviceHead {
    fn open(path: &Path, bytes: u64) -> Option<Self> {
        // An empty card reader waits for seconds when opened.
        let file = (bytes > 0).then(|| File::open(path).ok()).flatten()?;
        Some(Self { file, bytes })
    }
}

impl ReadAt for DeviceHead {
    fn size(&self) -> u64 {
        self.bytes
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        std::os::unix::fs::FileExt::read_at(&self.file, into, at)
    }
}

impl Platform for Linux {
    fn drives(&self) -> Result<Vec<Drive>, PlatformError> {
        let (stack, links) = (self.stack()?, self.links());
        Ok(self.disks()?.into_iter().map(|disk| self.describe(disk, &stack, &links)).collect())
    }

    fn locate(&self, name: &str) -> Result<Option<Located>, PlatformError> {
        let given = Path::new(name);
        let path = if given.components().count() > 1 { given.to_owned() } else { self.dev.join(given) };
        let Ok(target) = path.canonicalize() else { return Ok(None) };
        if !std::fs::metadata(&target).is_ok_and(|kind| kind.file_type().is_block_device()) {
            return Ok(None);
        }
        let stable = path.starts_with(self.dev.join("disk")) && path != target;
        let Some(node) = target.file_name().and_then(OsStr::to_str) else { return Ok(None) };
        for disk in self.disks()? {
            let path = self.dev.join(&disk.name).display().to_string();
            if disk.name == node {
                return Ok(Some(Located::Drive { path, stable }));
            }
            if let Some(partition) = disk.partitions.iter().find(|partition| partition.name == node) {
                return Ok(Some(Located::Partition { path, number: partition.number }));
            }
        }
        Ok(None)
    }

    fn drives_holding(&self, file: &Path) -> Result<Vec<String>, PlatformError> {
        let unreadable = |error| Self::unreadable(file, error);
        let file = file.canonicalize().map_err(unreadable)?;
        let device = std::fs::metadata(&file).map_err(unreadable)?.dev();
        let device = format!("{}:{}", rustix::fs::major(device), rustix::fs::minor(device));
        let disks = self.stack()?.disks_under_file(&file, &device);
        Ok(disks.into_iter().map(|name| self.dev.join(name).display().to_string()).collect())
    }

    fn may_claim(&self, drive: &Drive) -> Result<(), PlatformError> {
        match access(&*drive.path, Access::READ_OK | Access::WRITE_OK) {
            // A write-protected drive is the guard's business.
            Ok(()) | Err(rustix::io::Errno::ROFS) => Ok(()),
            Err(error) => Err(claim::opening(drive, "write to", error.into())),
        }
    }

    fn open(&self, drive: &Drive) -> Result<Box<dyn DriveIo>, PlatformError> {
        Ok(Box::new(BlockDevice::open(drive)?))
    }

    fn claim(&self, cleared: Cleared) -> Result<Box<dyn Claimed>, PlatformError> {
        let drive = cleared.drive();
        let stack = self.stack()?;
        for at in stack.removable_mounts_of(&drive.path, &self.dev) {
            claim::unmount(drive, &at).map_err(|error| self.with_users(error, |path| path.starts_with(&at)))?;
        }
        let is_of_drive = |path: &Path| path.to_str().is_some_and(|path| path.starts_with(&drive.path));
        let device = BlockDevice::claim(drive).map_err(|error| self.with_users(error, is_of_drive))?;
        let now = self.drives()?.into_iter().find(|now| now.path == drive.path);
        match now {
            Some(now) if now.is_still(drive) && device.is_generation(drive.generation) => Ok(Box::new(device)),
            Some(now) => Err(PlatformError::Swapped {
                tag: drive.tag.clone(),
                path: drive.path.clone(),
                found: format!("{} ({})", now.tag, now.name()),
            }),
            None => Err(PlatformError::Gone { tag: drive.tag.clone() }),
        }
    }
}
