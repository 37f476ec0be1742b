//! A tray: a folder of simulated drives that behave as a machine's own do, faults included.
//!
//! The folder holds `tray.toml` (see [`Descriptor`]) and a sparse backing file for each drive that was ever written.
//! Behind the end of a backing file a drive reads as zeros.

mod descriptor;
mod medium;
mod sockets;

use std::fs::{File, OpenOptions, TryLockError};
use std::io;
use std::path::{Path, PathBuf};
use std::time::Instant;

pub use descriptor::{Descriptor, DriveSpec, FILE_NAME, PartitionSpec, SimulatedFault};
use medium::Medium;
use sockets::Sockets;

use crate::bytes::Part;
use crate::devices::{
    After, Claimed, DriveFault, DriveIo, DriveWrite, Located, Opening, Platform, PlatformError, mount_point,
};
use crate::drive::{
    Bus, Drive, Holds, Link, Openers, Partition, Saying, Surface, Tag, Use, Volume, is_reader, share_uses,
};
use crate::guard::Cleared;
use crate::machine::ImageFile;
use crate::text::Shown;
use crate::{contents, machine};

/// Longest descriptor that is read, in bytes.
const DESCRIPTOR_BYTES_MOST: u64 = 4 << 20;
/// What stands before a drive's name in its path.
const SCHEME: &str = "tray:";

/// A folder of simulated drives.
pub struct Tray {
    folder: PathBuf,
    descriptor: Descriptor,
    opened: Instant,
    sockets: Sockets,
}

impl Tray {
    /// Opens the tray in `folder`.
    ///
    /// # Errors
    /// When the descriptor is missing or wrong.
    pub fn open(folder: &Path) -> Result<Self, PlatformError> {
        let path = folder.join(FILE_NAME);
        let wrong = |reason: String| PlatformError::Tray { path: path.clone(), reason };
        let bytes = machine::read_regular(&path, DESCRIPTOR_BYTES_MOST)
            .map_err(|source| PlatformError::Unreadable { what: path.shown(), source })?;
        let text = String::from_utf8(bytes).map_err(|_| wrong("it is no text (UTF-8)".to_owned()))?;
        let descriptor = Descriptor::parse(&text).map_err(wrong)?;
        Ok(Self { folder: folder.to_owned(), descriptor, opened: Instant::now(), sockets: Sockets::default() })
    }

    /// Opens the file behind a drive: a regular file of this folder, since anything else may lead to a real drive.
    fn open_backing(&self, spec: &DriveSpec, options: &mut OpenOptions) -> io::Result<File> {
        machine::open_own(&self.backing(&spec.name), options)
    }

    /// The file behind the drive called `name`.
    pub fn backing(&self, name: &str) -> PathBuf {
        self.folder.join(format!("{name}.img"))
    }

    fn attached(&self) -> Vec<&DriveSpec> {
        self.sockets.plugged(&self.descriptor.drives, self.opened.elapsed())
    }

    fn describe(&self, spec: &DriveSpec) -> Drive {
        let blank = || Holds { partitions: delivered(spec), whole: None, surface: Surface::Empty };
        let holds = self.content(spec).unwrap_or_else(blank);
        let mounts = holds.partitions.iter().filter_map(|partition| partition.volume.mounted_at.as_deref());
        let mut uses: Vec<Use> = mounts.map(mount_point::use_of).collect();
        let slot = spec.slot.or_else(|| (spec.bus == Bus::Usb && is_reader(spec.model.as_deref())).then_some(0));
        uses.extend(spec.held_by.iter().map(|by| Use::Held { by: by.clone() }));
        let says = Saying {
            vendor: spec.vendor.clone(),
            model: spec.model.clone(),
            serial: spec.serial.clone(),
            removable: spec.removable,
        };
        Drive {
            tag: Tag::in_slot(&says, spec.bytes, slot),
            path: format!("{SCHEME}{}", spec.name),
            links: Vec::new(),
            says,
            bytes: spec.bytes,
            sector_bytes: spec.sector_bytes,
            link: Link {
                bus: spec.bus,
                slot,
                mbps: spec.link_mbps,
                could_be_faster: spec.could_be_faster,
                port: spec.port.clone(),
            },
            attached_seconds: None,
            write_protected: spec.write_protected,
            generation: None,
            holds,
            uses,
        }
    }

    /// What is on the backing file; `None` while nothing was ever written to it.
    fn content(&self, spec: &DriveSpec) -> Option<Holds> {
        let file = ImageFile::of(self.open_backing(spec, OpenOptions::new().read(true)).ok()?).ok()?;
        let written = crate::bytes::ReadAt::size(&file) > 0;
        let drive = Part { whole: &file, start: 0, bytes: spec.bytes };
        written.then(|| contents::read(&drive).ok()).flatten()
    }

    fn spec_of(&self, drive: &Drive) -> Result<&DriveSpec, PlatformError> {
        let found = self.attached().into_iter().find(|spec| drive.path.strip_prefix(SCHEME) == Some(&spec.name));
        found.ok_or_else(|| PlatformError::Gone { tag: drive.tag.clone() })
    }

    fn medium(&self, spec: &DriveSpec, file: Option<File>) -> Medium {
        Medium::new(spec.clone(), file, self.sockets.clone())
    }
}

/// The partitions that the descriptor gives.
fn delivered(spec: &DriveSpec) -> Vec<Partition> {
    let partition = |given: &PartitionSpec| Partition {
        number: given.number,
        volume: Volume {
            bytes: given.bytes,
            filesystem: given.filesystem.clone(),
            label: given.label.clone(),
            mounted_at: given.mounted_at.clone(),
            drives: given.drives,
            surface: Surface::Unread,
        },
    };
    spec.partitions.iter().map(partition).collect()
}

fn opening(drive: &Drive, what: &'static str, source: io::Error) -> PlatformError {
    let (tag, path) = (drive.tag.clone(), drive.path.clone());
    match source.kind() {
        io::ErrorKind::PermissionDenied => PlatformError::NoPermission { what, tag, path },
        _ => PlatformError::Open { tag, path, source },
    }
}

impl Platform for Tray {
    fn drives(&self) -> Result<Vec<Drive>, PlatformError> {
        let mut drives: Vec<Drive> = self.attached().into_iter().map(|spec| self.describe(spec)).collect();
        share_uses(&mut drives);
        Ok(drives)
    }

    fn locate(&self, name: &str) -> Result<Option<Located>, PlatformError> {
        let name = name.strip_prefix(SCHEME).unwrap_or(name);
        for spec in self.attached() {
            let path = format!("{SCHEME}{}", spec.name);
            match name.strip_prefix(spec.name.as_str()) {
                Some("") => return Ok(Some(Located::Drive { path, stable: false })),
                Some(rest) => {
                    let number = rest.parse().ok();
                    if let Some(number) =
                        number.filter(|n| self.describe(spec).holds.partitions.iter().any(|p| p.number == *n))
                    {
                        return Ok(Some(Located::Partition { path, number }));
                    }
                }
                None => {}
            }
        }
        Ok(None)
    }

    fn drives_holding(&self, file: &Path) -> Result<Vec<String>, PlatformError> {
        let unreadable = |source| PlatformError::Unreadable { what: file.shown(), source };
        let file = file.canonicalize().map_err(unreadable)?;
        let drives = self.drives()?;
        let mounted = |drive: &Drive| {
            let depth = |at: &str| file.starts_with(at).then_some(at.len());
            drive.volumes().filter_map(|volume| depth(volume.mounted_at.as_deref()?)).max()
        };
        let deepest = drives.iter().max_by_key(|drive| mounted(drive)).filter(|drive| mounted(drive).is_some());
        Ok(deepest.map(|drive| drive.path.clone()).into_iter().collect())
    }

    fn openers(&self, drive: &Drive) -> Result<Openers, PlatformError> {
        Ok(Openers { programs: self.spec_of(drive)?.opened_by.iter().cloned().collect(), is_complete: true })
    }

    fn may_claim(&self, drive: &Drive) -> Result<Opening, PlatformError> {
        let spec = self.spec_of(drive)?;
        let opened = match std::fs::symlink_metadata(self.backing(&spec.name)) {
            Ok(_) => self.open_backing(spec, OpenOptions::new().write(true)).map(drop),
            Err(_) => tempfile::tempfile_in(&self.folder).map(drop),
        };
        opened.map(|()| Opening::Own).map_err(|source| opening(drive, "write to", source))
    }

    fn open(&self, drive: &Drive) -> Result<Box<dyn DriveIo>, PlatformError> {
        let spec = self.spec_of(drive)?;
        match self.open_backing(spec, OpenOptions::new().read(true)) {
            Ok(file) => Ok(Box::new(self.medium(spec, Some(file)))),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Box::new(self.medium(spec, None))),
            Err(error) => Err(opening(drive, "read", error)),
        }
    }

    fn open_shared(&self, drive: &Drive) -> Result<File, PlatformError> {
        let spec = self.spec_of(drive)?;
        let fail = |error| opening(drive, "read", error);
        let empty = || {
            let file = tempfile::NamedTempFile::new()?;
            file.as_file().set_len(spec.bytes)?;
            File::open(file.path())
        };
        match self.open_backing(spec, OpenOptions::new().read(true)) {
            Ok(file) if file.metadata().is_ok_and(|found| found.len() > 0) => Ok(file),
            Ok(_) => empty().map_err(fail),
            Err(error) if error.kind() == io::ErrorKind::NotFound => empty().map_err(fail),
            Err(error) => Err(fail(error)),
        }
    }

    fn claim(&self, cleared: Cleared) -> Result<Box<dyn Claimed>, PlatformError> {
        let drive = cleared.drive();
        let spec = self.spec_of(drive)?;
        let refused = |source| opening(drive, "write to", source);
        if spec.write_protected {
            return Err(refused(io::ErrorKind::ReadOnlyFilesystem.into()));
        }
        let mut options = OpenOptions::new();
        options.read(true).write(true).create(true).truncate(false);
        let file = self.open_backing(spec, &mut options).map_err(refused)?;
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                return Err(PlatformError::Held { tag: drive.tag.clone(), path: drive.path.clone(), by: Vec::new() });
            }
            Err(TryLockError::Error(error)) => return Err(refused(error)),
        }
        Ok(Box::new(self.medium(spec, Some(file))))
    }
}

impl DriveIo for Medium {
    fn bytes(&self) -> u64 {
        self.spec.bytes
    }

    fn sector_bytes(&self) -> u32 {
        self.spec.sector_bytes
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
        self.read(at, into)
    }
}

impl DriveWrite for Medium {
    fn write_at(&self, at: u64, from: &[u8]) -> Result<(), DriveFault> {
        self.write(at, from)
    }

    fn flush(&self) -> Result<(), DriveFault> {
        self.sync()
    }
}

impl Claimed for Medium {
    fn release(self: Box<Self>, after: After) -> Result<(), PlatformError> {
        if after == After::Eject {
            self.pull_out();
        }
        Ok(())
    }
}
