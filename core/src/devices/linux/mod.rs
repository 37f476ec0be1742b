//! Linux: drives from sysfs and procfs, without libudev, and the claim on a block device.
//!
//! docs/platform.md lists every file read and every system call made here, and why.

mod calls;
mod claim;
mod processes;
mod stack;
mod sysfs;
#[cfg(test)]
pub(super) mod tests;

use std::cell::Cell;
use std::fs::File;
use std::io;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};

use rustix::fs::{Access, Advice, access, fadvise};

use crate::bytes::ReadAt;
use crate::devices::{Claimed, DriveIo, Located, Opening, Platform, PlatformError};
use crate::drive::{Bus, Drive, Holds, Link, Openers, Partition, Tag, Volume, is_reader, share_uses};
use crate::guard::Cleared;
use crate::{contents, machine};
pub(crate) use calls::end_with_this_thread;
pub(super) use calls::{advise_large_pages, taken_over, unblock_signals};
pub(super) use claim::{BlockDevice, Claiming, Lender, Lent, OwnRights, WRITE, not_unmounted};
pub(super) use stack::Removable;
use stack::Stack;
use sysfs::Disk;

/// The running Linux system. The three roots are `/sys`, `/proc` and `/dev` but in tests.
pub struct Linux {
    sys: PathBuf,
    proc: PathBuf,
    dev: PathBuf,
    heads: Heads,
    /// The process that is this program as well: what it has open is nobody else's.
    beside: Option<u32>,
}

/// Opens a drive by its name, if it still has this size in bytes and this sequence number.
pub(super) type OpenHead = dyn Fn(&str, u64, Option<u64>) -> Option<File> + Send + Sync;

/// How it is looked what lies on drives.
enum Heads {
    /// By our own rights.
    Own,
    /// By somebody else's.
    By(Box<OpenHead>),
    /// Not at all.
    Unread,
}

/// What a drive's description takes from the rest of the system.
#[derive(Clone, Copy)]
struct Surroundings<'a> {
    stack: &'a Stack,
    links: &'a [(PathBuf, PathBuf)],
    heads: &'a Heads,
}

impl Default for Linux {
    fn default() -> Self {
        Self { sys: "/sys".into(), proc: "/proc".into(), dev: "/dev".into(), heads: Heads::Own, beside: None }
    }
}

impl Linux {
    /// The running system.
    pub fn new() -> Self {
        Self::default()
    }

    /// A system whose `/sys`, `/proc` and `/dev` lie below a folder, without a look at what lies on its drives.
    pub fn below(folder: &Path) -> Self {
        let [sys, proc, dev] = ["sys", "proc", "dev"].map(|name| folder.join(name));
        Self { sys, proc, dev, heads: Heads::Unread, beside: None }
    }

    /// The running system, where somebody else opens drives to be looked at.
    pub(super) fn reading_by(open: Box<OpenHead>) -> Self {
        Self { heads: Heads::By(open), ..Self::default() }
    }

    /// The running system without a look at what lies on drives; what the process `beside` has open is our own.
    pub(super) fn reading_nothing(beside: u32) -> Self {
        Self { heads: Heads::Unread, beside: Some(beside), ..Self::default() }
    }

    fn unreadable(what: &Path, source: io::Error) -> PlatformError {
        PlatformError::Unreadable { what: what.to_string_lossy().into_owned(), source }
    }

    fn disks(&self) -> Result<Vec<Disk>, PlatformError> {
        let folder = self.sys.join("block");
        let entries = std::fs::read_dir(&folder).map_err(|error| Self::unreadable(&folder, error))?;
        let mut disks = Vec::new();
        for entry in entries {
            let name = entry.map_err(|error| Self::unreadable(&folder, error))?.file_name();
            let name = name
                .into_string()
                .map_err(|name| Self::unreadable(&folder.join(name), io::Error::other("no device has such a name")))?;
            disks.extend(Disk::read(&self.sys, &name));
        }
        // `sdb` before `sdaa`: by length first.
        disks.sort_by(|a, b| (a.name.len(), &a.name).cmp(&(b.name.len(), &b.name)));
        Ok(disks)
    }

    fn stack(&self) -> Result<Stack, PlatformError> {
        Stack::read(&self.sys, &self.proc).map_err(|error| Self::unreadable(&self.proc, error))
    }

    /// The slot of a reader, which has several, or says that it is one.
    fn slot_of(disk: &Disk, all: &[Disk]) -> Option<u32> {
        let of_same = |other: &&Disk| other.unit.usb.is_some() && other.unit.usb == disk.unit.usb;
        let is_slot = all.iter().filter(of_same).count() > 1
            || disk.link.bus == Bus::Usb && is_reader(disk.says.model.as_deref());
        is_slot.then_some(disk.unit.number)
    }

    /// Describes every drive, and reads the bytes of those whose path `is_read`.
    fn list(&self, is_read: &dyn Fn(&str) -> bool) -> Result<Vec<Drive>, PlatformError> {
        let (stack, links) = (self.stack()?, self.links());
        let disks = self.disks()?;
        let describe = |disk: &Disk| {
            let reading =
                if is_read(&self.dev.join(&disk.name).to_string_lossy()) { &self.heads } else { &Heads::Unread };
            self.describe(
                disk,
                Self::slot_of(disk, &disks),
                Surroundings { stack: &stack, links: &links, heads: reading },
            )
        };
        let mut drives: Vec<Drive> = disks.iter().map(describe).collect();
        share_uses(&mut drives);
        Ok(drives)
    }

    fn describe(&self, disk: &Disk, slot: Option<u32>, around: Surroundings<'_>) -> Drive {
        let Surroundings { stack, links, heads } = around;
        let mut disk = disk.clone();
        if slot.is_some() {
            // The USB device's number is the reader's; what it says of a slot may be the card's own.
            disk.says.serial = disk.unit.serial.take().or(disk.says.serial);
        }
        let path = self.dev.join(&disk.name);
        let Holds { mut partitions, mut whole, surface } = self.content(&disk, &path, heads);
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
            tag: Tag::in_slot(&disk.says, disk.bytes, slot),
            links: links.map(|(link, _)| link.to_string_lossy().into_owned()).collect(),
            path: path.to_string_lossy().into_owned(),
            uses,
            says: disk.says,
            bytes: disk.bytes,
            sector_bytes: disk.sector_bytes,
            link: Link { slot, ..disk.link },
            attached_seconds: disk.attached_seconds.or_else(|| self.seconds_since_noted(&disk.device)),
            write_protected: disk.write_protected,
            generation: disk.generation,
            holds: Holds { partitions, whole, surface },
        }
    }

    /// Partitions as the kernel has them, with what their first sectors say where these may be read.
    fn content(&self, disk: &Disk, path: &Path, heads: &Heads) -> Holds {
        let head = Self::head(disk, path, heads);
        let look = |start: u64, bytes: u64, device: &str| {
            let seen = head.as_ref().and_then(|head| contents::volume(head, start, bytes).ok().flatten());
            seen.or_else(|| self.remembered(device, bytes))
        };
        let partitions = disk.partitions.iter().map(|known| {
            let volume = look(known.start, known.bytes, &known.device).unwrap_or_else(|| {
                let unread = Volume { bytes: known.bytes, ..Volume::default() };
                head.as_ref().and_then(|head| contents::unknown(head, known.start, known.bytes).ok()).unwrap_or(unread)
            });
            Partition { number: known.number, volume }
        });
        let partitions: Vec<Partition> = partitions.collect();
        let whole = look(0, disk.bytes, &disk.device);
        let is_bare = partitions.is_empty() && whole.is_none();
        let bare = head.as_ref().filter(|_| is_bare).and_then(|head| contents::surface(head).ok());
        Holds { partitions, whole, surface: bare.unwrap_or_default() }
    }

    /// The drive, open to be looked at.
    fn head(disk: &Disk, path: &Path, heads: &Heads) -> Option<DeviceHead> {
        // An empty card reader waits for seconds when opened.
        let file = match heads {
            _ if disk.bytes == 0 => None,
            Heads::Own => File::open(path).ok(),
            Heads::By(open) => open(&disk.name, disk.bytes, disk.generation),
            Heads::Unread => None,
        }?;
        // Single places of it are read: what the system reads ahead of each would cost more than all of them.
        let _ = fadvise(&file, 0, None, Advice::Random);
        Some(DeviceHead { file, bytes: disk.bytes })
    }

    /// What the device manager noted about a device: a text file, readable by all.
    fn remembered(&self, device: &str, bytes: u64) -> Option<Volume> {
        if self.dev != Path::new("/dev") {
            return None;
        }
        let notes = notes_of(device)?;
        let value = |key: &str| {
            let found = notes.lines().find_map(|line| line.strip_prefix("E:")?.strip_prefix(key)?.strip_prefix('='));
            found.filter(|value| !value.is_empty()).map(str::to_owned)
        };
        Some(Volume { bytes, filesystem: Some(value("ID_FS_TYPE")?), label: value("ID_FS_LABEL"), ..Volume::default() })
    }

    /// How long ago the device manager heard of a device from the kernel: `I:`, microseconds since the system started.
    fn seconds_since_noted(&self, device: &str) -> Option<u64> {
        if self.dev != Path::new("/dev") {
            return None;
        }
        let notes = notes_of(device)?;
        let then: u64 = notes.lines().find_map(|line| line.strip_prefix("I:"))?.parse().ok()?;
        let now = rustix::time::clock_gettime(rustix::time::ClockId::Monotonic);
        u64::try_from(now.tv_sec).ok()?.checked_sub(then.checked_div(1_000_000)?)
    }

    /// Who has it open, and keeps it open.
    fn openers_of(&self, stack: &Stack, drive: &Drive) -> Openers {
        let name = Path::new(&drive.path).strip_prefix(&self.dev).ok().and_then(Path::to_str).unwrap_or_default();
        let numbers = stack.numbers_of(name);
        let is_complete = Cell::new(true);
        let look = || {
            let found = processes::holding_open(&self.proc, self.beside, &numbers);
            is_complete.set(is_complete.get() && found.is_complete);
            found.processes
        };
        let programs = found_each_time(look, || std::thread::sleep(LOOK_AGAIN));
        let programs = programs.into_iter().map(|process| process.display_name).collect();
        Openers { programs, is_complete: is_complete.get() }
    }

    /// Returns true if the worker has this device open for writing, or if that is unknown.
    pub(super) fn worker_can_write(&self, device: &BlockDevice) -> bool {
        let Some(worker) = self.beside else { return false };
        let Ok(number) = device.device_number() else { return true };
        let numbers = [number];
        processes::has_open_for_writing(&self.proc, worker, |file| processes::is_block_device(file, &numbers))
    }

    /// The same error, and who is in the way.
    fn with_users(&self, error: PlatformError, stack: &Stack, is_there: impl Fn(&Path) -> bool) -> PlatformError {
        let users = || {
            let found = processes::using(&self.proc, self.beside, is_there);
            if found.is_empty() { stack.overlays_of_unknown_layers() } else { found }
        };
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

/// How often it is looked who has a drive open, and how long is waited between: the device manager opens what is new for a moment,
/// and so does everybody who lists the drives.
const LOOKS: usize = 6;
const LOOK_AGAIN: std::time::Duration = std::time::Duration::from_millis(300);

/// What is found in every look; none follows once nothing is left.
fn found_each_time<T: PartialEq>(look: impl Fn() -> Vec<T>, pause: impl Fn()) -> Vec<T> {
    let mut found = look();
    for _ in 1..LOOKS {
        if found.is_empty() {
            break;
        }
        pause();
        let again = look();
        found.retain(|one| again.contains(one));
    }
    found
}

/// What the device manager noted about a device: a text file, readable by all.
fn notes_of(device: &str) -> Option<String> {
    const BYTES_MOST: u64 = 1 << 20;
    let notes = machine::read_regular(Path::new(&format!("/run/udev/data/b{device}")), BYTES_MOST).ok()?;
    Some(String::from_utf8_lossy(&notes).into_owned())
}

fn name_mount(volume: &mut Volume, stack: &Stack, device: &str) {
    if let Some(mount) = stack.mount_of(device) {
        volume.mounted_at = Some(mount.at.to_string_lossy().into_owned());
        volume.filesystem.get_or_insert_with(|| mount.filesystem.clone());
    }
}

/// A device's bytes through the page cache: good enough to say what is on it.
struct DeviceHead {
    file: File,
    bytes: u64,
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
        self.list(&|_| true)
    }

    fn drives_without_reading(&self, paths: &[&str]) -> Result<Vec<Drive>, PlatformError> {
        self.list(&|path| !paths.contains(&path))
    }

    fn locate(&self, name: &str) -> Result<Option<Located>, PlatformError> {
        let given = Path::new(name);
        let path = if given.components().count() > 1 { given.to_owned() } else { self.dev.join(given) };
        let Ok(found) = std::fs::metadata(&path) else { return Ok(None) };
        if !found.file_type().is_block_device() {
            return Ok(None);
        }
        // A node is what its number says, wherever it lies and whatever it is called.
        let number = stack::number_of(found.rdev());
        // Of the links below /dev/disk, those by path tell a port, and others a volume.
        let by_id = self.dev.join("disk/by-id").canonicalize().ok();
        let folder = path.parent().and_then(|folder| folder.canonicalize().ok());
        let stable = by_id.is_some() && folder == by_id && path.is_symlink();
        for disk in self.disks()? {
            let path = self.dev.join(&disk.name).to_string_lossy().into_owned();
            if disk.device == number {
                return Ok(Some(Located::Drive { path, stable }));
            }
            if let Some(partition) = disk.partitions.iter().find(|partition| partition.device == number) {
                return Ok(Some(Located::Partition { path, number: partition.number }));
            }
        }
        Ok(None)
    }

    fn openers(&self, drive: &Drive) -> Result<Openers, PlatformError> {
        Ok(self.openers_of(&self.stack()?, drive))
    }

    fn drives_holding(&self, file: &Path) -> Result<Vec<String>, PlatformError> {
        let unreadable = |error| Self::unreadable(file, error);
        let file = file.canonicalize().map_err(unreadable)?;
        let device = std::fs::metadata(&file).map_err(unreadable)?.dev();
        let device = stack::number_of(device);
        let disks = self.stack()?.disks_under_file(&file, &device);
        Ok(disks.into_iter().map(|name| self.dev.join(name).to_string_lossy().into_owned()).collect())
    }

    fn may_claim(&self, drive: &Drive) -> Result<Opening, PlatformError> {
        match access(&*drive.path, Access::READ_OK | Access::WRITE_OK) {
            // A write-protected drive is the guard's business.
            Ok(()) | Err(rustix::io::Errno::ROFS) => Ok(Opening::Own),
            Err(error) => Err(claim::opening(drive, WRITE, error.into())),
        }
    }

    fn open(&self, drive: &Drive) -> Result<Box<dyn DriveIo>, PlatformError> {
        Ok(Box::new(BlockDevice::open(drive)?))
    }

    fn open_shared(&self, drive: &Drive) -> Result<File, PlatformError> {
        BlockDevice::shared(drive).map(BlockDevice::into_file)
    }

    fn claim(&self, cleared: Cleared) -> Result<Box<dyn Claimed>, PlatformError> {
        Ok(Box::new(self.claim_device(&cleared, &OwnRights)?))
    }
}

impl Linux {
    /// The claim, as [`Platform::claim`] has it, by whoever's rights.
    pub(super) fn claim_device(&self, cleared: &Cleared, by: &dyn Claiming) -> Result<BlockDevice, PlatformError> {
        let drive = cleared.drive();
        // What can be found out without unmounting anything comes first.
        self.is_still_there(drive)?;
        by.may_write(drive)?;
        let stack = self.stack()?;
        let mut held_by = self.openers_of(&stack, drive).programs;
        held_by.retain(|program| !cleared.opened_by().contains(program));
        if !held_by.is_empty() {
            return Err(PlatformError::Held { tag: drive.tag.clone(), path: drive.path.clone(), by: held_by });
        }
        let mut unmounted = Vec::new();
        let claimed = self.claim_unmounted(drive, &stack, by, &mut unmounted);
        claimed.map_err(|error| {
            // After an exchange, the device path may belong to another drive.
            let is_still_there = self.is_still_there(drive).is_ok();
            let stays_unmounted = |volume: &&Removable| !is_still_there || by.mount_again(volume).is_err();
            let left = unmounted.iter().rev().filter(stays_unmounted);
            let at: Vec<_> = left.map(|volume| volume.at.to_string_lossy().into_owned()).collect();
            if at.is_empty() { error } else { PlatformError::AfterUnmount { at, came_to: Box::new(error) } }
        })
    }

    /// Whether the drive is still the one that was cleared.
    pub(super) fn is_still_there(&self, drive: &Drive) -> Result<(), PlatformError> {
        match self.list(&|_| false)?.into_iter().find(|now| now.path == drive.path) {
            Some(now) if now.is_still(drive) => Ok(()),
            Some(now) => Err(PlatformError::Swapped {
                tag: drive.tag.clone(),
                path: drive.path.clone(),
                found: format!("{} ({})", now.tag, now.name()),
            }),
            None => Err(PlatformError::Gone { tag: drive.tag.clone() }),
        }
    }

    fn claim_unmounted(
        &self,
        drive: &Drive,
        stack: &Stack,
        by: &dyn Claiming,
        unmounted: &mut Vec<Removable>,
    ) -> Result<BlockDevice, PlatformError> {
        let volumes = stack.removable_mounts_of(&drive.path, &self.dev);
        if let Some(covered) = volumes.iter().find(|volume| stack.is_covered(volume)) {
            let source = io::Error::other("another volume is mounted over it");
            return Err(not_unmounted(drive, covered, source));
        }
        let with_users = |error, volume: &Removable| self.with_users(error, stack, |path| path.starts_with(&volume.at));
        // A volume is busy while another volume is mounted in it.
        let holds_another =
            |volume: &&Removable| volumes.iter().any(|other| other.at != volume.at && other.at.starts_with(&volume.at));
        for volume in volumes.iter().filter(|volume| !holds_another(volume)) {
            by.may_unmount(drive, volume).map_err(|error| with_users(error, volume))?;
        }
        for volume in &volumes {
            by.unmount(drive, volume).map_err(|error| with_users(error, volume))?;
            unmounted.push(volume.clone());
        }
        let name = Path::new(&drive.path).file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let is_of_drive = |path: &Path| stack.is_node_of(path, name);
        let device = by.open_alone(drive).map_err(|error| self.with_users(error, stack, is_of_drive))?;
        self.is_still(&device, drive)?;
        Ok(device)
    }

    /// Whether what is open is the drive that was cleared, and that is still where it was.
    pub(super) fn is_still(&self, device: &BlockDevice, drive: &Drive) -> Result<(), PlatformError> {
        let name = Path::new(&drive.path).file_name().unwrap_or_default();
        let number = sysfs::text(&self.sys.join("block").join(name).join("dev"));
        self.is_still_there(drive)?;
        if device.is_generation(drive.generation)
            && number.is_some_and(|number| device.device_number().is_ok_and(|found| found == number))
        {
            Ok(())
        } else {
            Err(PlatformError::Gone { tag: drive.tag.clone() })
        }
    }
}
