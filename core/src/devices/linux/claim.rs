//! A block device that is open: for reading past the page cache, or for this process alone.

use std::ffi::CString;
use std::fs::File;
use std::io;
use std::os::fd::{AsRawFd, OwnedFd};
use std::os::unix::fs::{FileExt, MetadataExt};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use rustix::fs::{CWD, FlockOperation, Mode, OFlags, ResolveFlags, SeekFrom, flock, open, openat2, seek};
use rustix::io::Errno;
use rustix::mount::{MountFlags, UnmountFlags};

use crate::devices::linux::stack::Removable;
use crate::devices::linux::{calls, stack};
use crate::devices::{After, Claimed, DriveFault, DriveIo, DriveWrite, PlatformError};
use crate::drive::{Drive, Tag};
use crate::text::Shown;

/// For so long the device manager may go on with its look at a drive that came a moment ago.
const PROBED_WITHIN: Duration = Duration::from_secs(3);
const LOOK_AGAIN: Duration = Duration::from_millis(50);

/// A block device, opened with direct I/O.
pub(in crate::devices) struct BlockDevice {
    file: File,
    tag: Tag,
    bytes: u64,
    sector_bytes: u32,
    generation: Option<u64>,
    last_write: Mutex<Option<Instant>>,
}

/// After so long without a write, a reader's medium may have been exchanged by hand.
const EXCHANGED_AFTER: Duration = Duration::from_secs(1);

/// Why a device could not be opened, in our words.
pub(in crate::devices) fn opening(drive: &Drive, what: &'static str, source: io::Error) -> PlatformError {
    let (tag, path) = (drive.tag.clone(), drive.path.clone());
    match Errno::from_io_error(&source) {
        Some(Errno::ACCESS | Errno::PERM) => PlatformError::NoPermission { what, tag, path },
        Some(Errno::BUSY | Errno::AGAIN) => PlatformError::Held { tag, path, by: Vec::new() },
        Some(Errno::NOENT | Errno::NODEV | Errno::NXIO) => PlatformError::Gone { tag },
        _ => PlatformError::Open { tag, path, source },
    }
}

/// Who unmounts and opens for a claim.
pub(in crate::devices) trait Claiming {
    /// Whether the drive may be opened for writing at all; nothing is kept open, and nobody is asked.
    fn may_write(&self, drive: &Drive) -> Result<(), PlatformError>;

    /// Checks that a volume of the drive is neither busy nor frozen, as far as this account may ask.
    fn may_unmount(&self, drive: &Drive, volume: &Removable) -> Result<(), PlatformError>;

    /// Unmounts one volume of a drive.
    fn unmount(&self, drive: &Drive, volume: &Removable) -> Result<(), PlatformError>;

    /// Mounts a volume that [`Claiming::unmount`] unmounted, at the same place.
    fn mount_again(&self, volume: &Removable) -> io::Result<()>;

    /// Opens a drive for writing by this process alone.
    fn open_alone(&self, drive: &Drive) -> Result<BlockDevice, PlatformError>;
}

/// By this process's own rights.
pub(in crate::devices) struct OwnRights;

impl Claiming for OwnRights {
    fn may_write(&self, drive: &Drive) -> Result<(), PlatformError> {
        BlockDevice::with(drive, OFlags::RDWR).map(drop).map_err(|error| opening(drive, WRITE, error))
    }

    fn may_unmount(&self, drive: &Drive, volume: &Removable) -> Result<(), PlatformError> {
        // umount(2): the first call with MNT_EXPIRE only marks the mount as unused; it fails if the volume is busy.
        match rustix::mount::unmount(&volume.at, UnmountFlags::EXPIRE) {
            Err(error @ Errno::BUSY) => return Err(not_unmounted(drive, volume, error.into())),
            // Another program had marked it.
            Ok(()) => self.mount_again(volume).map_err(|error| not_unmounted(drive, volume, error))?,
            Err(_) => {}
        }
        // Opening the folder also clears the mark.
        let folder = open(&volume.at, OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty());
        if folder.is_ok_and(calls::is_frozen) {
            return Err(not_unmounted(drive, volume, io::Error::other("it is frozen (fsfreeze)")));
        }
        Ok(())
    }

    fn unmount(&self, drive: &Drive, volume: &Removable) -> Result<(), PlatformError> {
        rustix::mount::unmount(&volume.at, UnmountFlags::empty()).map_err(|error| match error {
            Errno::ACCESS | Errno::PERM => opening(drive, "unmount", error.into()),
            _ => not_unmounted(drive, volume, error.into()),
        })
    }

    fn mount_again(&self, volume: &Removable) -> io::Result<()> {
        let Removable { device, at, filesystem, mount_options, options } = volume;
        // The device manager may have removed the folder.
        let _ = std::fs::create_dir(at);
        let (how, resolve) = (OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, ResolveFlags::NO_SYMLINKS);
        let folder = openat2(CWD, at, how, Mode::empty(), resolve)?;
        let place = format!("/proc/self/fd/{}", folder.as_raw_fd());
        let options = options.to_string_lossy();
        let all = || mount_options.split(',').chain(options.split(','));
        let flags = all().filter_map(mount_flag).fold(MountFlags::empty(), MountFlags::union);
        let data: Vec<&str> = options.split(',').filter(|one| *one != "rw" && mount_flag(one).is_none()).collect();
        let data = CString::new(data.join(","))?;
        Ok(rustix::mount::mount(device, &*place, filesystem, flags, &*data)?)
    }

    fn open_alone(&self, drive: &Drive) -> Result<BlockDevice, PlatformError> {
        // On a block device EXCL keeps out mounts and others that ask for the same.
        let device = BlockDevice::with(drive, OFlags::RDWR | OFlags::EXCL);
        device.map_err(|error| opening(drive, WRITE, error))?.locked(drive)
    }
}

/// Returns the flag of mount(2) for an option of mount(8).
fn mount_flag(option: &str) -> Option<MountFlags> {
    Some(match option {
        "ro" => MountFlags::RDONLY,
        "nosuid" => MountFlags::NOSUID,
        "nodev" => MountFlags::NODEV,
        "noexec" => MountFlags::NOEXEC,
        "sync" => MountFlags::SYNCHRONOUS,
        "dirsync" => MountFlags::DIRSYNC,
        "noatime" => MountFlags::NOATIME,
        "nodiratime" => MountFlags::NODIRATIME,
        "relatime" => MountFlags::RELATIME,
        _ => return None,
    })
}

/// What a claim is for, as errors have it.
pub(in crate::devices) const WRITE: &str = "write to";

/// A volume stays mounted.
pub(in crate::devices) fn not_unmounted(drive: &Drive, volume: &Removable, source: io::Error) -> PlatformError {
    PlatformError::Unmount { tag: drive.tag.clone(), at: volume.at.shown(), source, by: Vec::new() }
}

impl BlockDevice {
    /// Opens a drive for reading.
    pub(in crate::devices) fn open(drive: &Drive) -> Result<Self, PlatformError> {
        Self::with(drive, OFlags::RDONLY).map_err(|error| opening(drive, "read", error))
    }

    /// Locked, which keeps the device manager from probing and mounting meanwhile.
    pub(in crate::devices) fn locked(self, drive: &Drive) -> Result<Self, PlatformError> {
        let until = Instant::now() + PROBED_WITHIN;
        loop {
            match flock(&self.file, FlockOperation::NonBlockingLockExclusive) {
                Ok(()) => return Ok(self),
                Err(Errno::AGAIN | Errno::INTR) if Instant::now() < until => std::thread::sleep(LOOK_AGAIN),
                Err(error) => return Err(opening(drive, WRITE, error.into())),
            }
        }
    }

    /// Returns the device number, `major:minor`.
    pub(super) fn device_number(&self) -> io::Result<String> {
        Ok(stack::number_of(self.file.metadata()?.rdev()))
    }

    /// Opens a drive for reading through the system's caches.
    pub(in crate::devices) fn shared(drive: &Drive) -> Result<Self, PlatformError> {
        Self::opened(drive, OFlags::RDONLY).map_err(|error| opening(drive, "read", error))
    }

    /// The drive that somebody else opened.
    pub(in crate::devices) fn handed_over(file: File, drive: &Drive) -> Result<Self, PlatformError> {
        Self::over(file, drive).map_err(|error| opening(drive, "open", error))
    }

    /// What is open.
    pub(in crate::devices) fn into_file(self) -> File {
        self.file
    }

    /// What is open, once more: whoever has it has the claim as well, until both are gone.
    pub(in crate::devices) fn handle(&self) -> io::Result<OwnedFd> {
        Ok(self.file.try_clone()?.into())
    }

    fn with(drive: &Drive, how: OFlags) -> io::Result<Self> {
        Self::opened(drive, how | OFlags::DIRECT)
    }

    fn opened(drive: &Drive, how: OFlags) -> io::Result<Self> {
        Self::over(File::from(open(&*drive.path, how | OFlags::CLOEXEC, Mode::empty())?), drive)
    }

    fn over(file: File, drive: &Drive) -> io::Result<Self> {
        let bytes = seek(&file, SeekFrom::End(0))?;
        if bytes != drive.bytes {
            return Err(io::Error::other(format!("its size is {bytes} bytes now, not {}", drive.bytes)));
        }
        Ok(Self {
            file,
            tag: drive.tag.clone(),
            bytes,
            sector_bytes: drive.sector_bytes,
            generation: drive.generation,
            last_write: Mutex::new(None),
        })
    }

    /// Whether the open device has this sequence number; kernels before 5.15 do not count.
    pub(in crate::devices) fn is_generation(&self, expected: Option<u64>) -> bool {
        expected.is_none_or(|expected| calls::disk_sequence(&self.file).is_ok_and(|found| found == expected))
    }

    /// Tells a drive that failed from one that is not there any more: the latter has no size left.
    fn fault(&self, error: io::Error) -> DriveFault {
        let code = Errno::from_io_error(&error);
        let left = seek(&self.file, SeekFrom::End(0)).unwrap_or(0);
        if left == 0 || matches!(code, Some(Errno::NODEV | Errno::NXIO)) { DriveFault::Gone } else { error.into() }
    }
}

impl DriveIo for BlockDevice {
    fn bytes(&self) -> u64 {
        self.bytes
    }

    fn sector_bytes(&self) -> u32 {
        self.sector_bytes
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
        self.file.read_exact_at(into, at).map_err(|error| self.fault(error))
    }
}

impl DriveWrite for BlockDevice {
    fn write_at(&self, at: u64, from: &[u8]) -> Result<(), DriveFault> {
        let mut last = self.last_write.lock().unwrap_or_else(PoisonError::into_inner);
        if last.is_none_or(|last| last.elapsed() >= EXCHANGED_AFTER) {
            self.check_medium()?;
        }
        *last = Some(Instant::now());
        drop(last);
        self.file.write_all_at(from, at).map_err(|error| self.fault(error))
    }

    fn check_medium(&self) -> Result<(), DriveFault> {
        if self.is_generation(self.generation) { Ok(()) } else { Err(DriveFault::Gone) }
    }

    fn flush(&self) -> Result<(), DriveFault> {
        self.file.sync_all().map_err(|error| self.fault(error))
    }
}

impl Claimed for BlockDevice {
    fn release(self: Box<Self>, after: After) -> Result<(), PlatformError> {
        let read = calls::read_table(&self.file);
        match after {
            After::Keep => match read {
                // A loop device made without partitions has no table to read again.
                Err(error) if Errno::from_io_error(&error) != Some(Errno::INVAL) => {
                    Err(PlatformError::Table { tag: self.tag.clone(), source: error })
                }
                _ => Ok(()),
            },
            After::Eject => {
                calls::eject(&self.file).map_err(|source| PlatformError::Eject { tag: self.tag.clone(), source })
            }
        }
    }
}

/// A drive that somebody else opened, and takes back.
pub(in crate::devices) struct Lent<L> {
    pub device: BlockDevice,
    pub lender: L,
}

/// Who takes back a drive that was lent for writing.
pub(in crate::devices) trait Lender: Send + Sync {
    fn take_back(self, device: BlockDevice, after: After) -> Result<(), PlatformError>;
}

impl<L: Lender> DriveIo for Lent<L> {
    fn bytes(&self) -> u64 {
        self.device.bytes()
    }

    fn sector_bytes(&self) -> u32 {
        self.device.sector_bytes()
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
        self.device.read_at(at, into)
    }
}

impl<L: Lender> DriveWrite for Lent<L> {
    fn write_at(&self, at: u64, from: &[u8]) -> Result<(), DriveFault> {
        self.device.write_at(at, from)
    }

    fn check_medium(&self) -> Result<(), DriveFault> {
        self.device.check_medium()
    }

    fn flush(&self) -> Result<(), DriveFault> {
        self.device.flush()
    }
}

impl<L: Lender> Claimed for Lent<L> {
    fn release(self: Box<Self>, after: After) -> Result<(), PlatformError> {
        self.lender.take_back(self.device, after)
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    #[test]
    fn medium_that_was_exchanged_is_not_written() {
        let mut file = tempfile::tempfile().unwrap();
        file.write_all(&[7; 4096]).unwrap();
        // A file has no sequence number of a medium: it is another one than any that was claimed.
        let written = |generation: Option<u64>| {
            let drive = Drive { bytes: 4096, generation, ..Drive::sample("DBR7J") };
            BlockDevice::over(file.try_clone().unwrap(), &drive).unwrap().write_at(0, &[9; 512])
        };
        assert!(matches!(written(Some(3)), Err(DriveFault::Gone)));
        let mut start = [0; 512];
        file.read_exact_at(&mut start, 0).unwrap();
        assert_eq!(start, [7; 512]);
        assert!(written(None).is_ok());
    }
}
