//! This machine, for an account that may not open its drives: what the account may do itself it does, and for the rest it asks the
//! disk service.

use std::fs::File;
use std::io;
use std::path::Path;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use super::bus::{DiskService, OpenedFor, TakenOut};
use super::terminal_agent;
use crate::devices::linux::{BlockDevice, Claiming, Lender, Lent, Linux, OwnRights, Removable, WRITE, not_unmounted};
use crate::devices::{After, Claimed, DriveIo, Located, NotServed, Opening, Platform, PlatformError, Whom};
use crate::drive::{Drive, Openers, Tag};
use crate::guard::Cleared;

/// Where the device manager can be reached: it reads a table again when a drive is closed that was written.
const DEVICE_MANAGER: &str = "/run/udev/control";

/// Linux, as an account reaches it that is not root's.
pub(in crate::devices) struct Served {
    linux: Linux,
    asked: Arc<Asked>,
}

/// The disk service, once it is needed.
#[derive(Default)]
struct Asked {
    service: OnceLock<Result<DiskService, NotServed>>,
    /// One question at a time: an answer may hold for the next.
    one_by_one: Mutex<()>,
}

impl Asked {
    fn service(&self) -> Result<&DiskService, NotServed> {
        self.service.get_or_init(DiskService::connect).as_ref().map_err(NotServed::clone)
    }

    /// What may have somebody asked for a password.
    fn asking<T>(&self, ask: impl FnOnce(&DiskService) -> Result<T, NotServed>) -> Result<T, NotServed> {
        let service = self.service()?;
        let _one = self.one_by_one.lock().unwrap_or_else(PoisonError::into_inner);
        terminal_agent::wake();
        ask(service)
    }

    fn opened(&self, drive: &Drive, what: &'static str, opened_for: OpenedFor) -> Result<BlockDevice, PlatformError> {
        let opened = self.asking(|service| {
            service.open(&drive.path, opened_for).map_err(|refusal| match refusal {
                // The rules and a wrong password are told alike; by the rules it would never have asked.
                NotServed::Refused if service.whom(&drive.path).is_ok() => NotServed::Dismissed,
                other => other,
            })
        });
        match opened {
            Ok(file) => BlockDevice::handed_over(file, drive),
            Err(source) => Err(not_served(drive, what, source)),
        }
    }
}

fn not_served(drive: &Drive, what: &'static str, source: NotServed) -> PlatformError {
    PlatformError::NotServed { what, tag: drive.tag.clone(), path: drive.path.clone(), source }
}

/// What is not allowed by own rights is done by others.
fn or_else<T>(
    own: Result<T, PlatformError>,
    other: impl FnOnce() -> Result<T, PlatformError>,
) -> Result<T, PlatformError> {
    match own {
        Err(PlatformError::NoPermission { .. }) => other(),
        done => done,
    }
}

impl Claiming for Asked {
    fn may_write(&self, drive: &Drive) -> Result<(), PlatformError> {
        or_else(OwnRights.may_write(drive), || {
            self.service().map(drop).map_err(|source| not_served(drive, WRITE, source))
        })
    }

    fn unmount(&self, drive: &Drive, volume: &Removable) -> Result<(), PlatformError> {
        or_else(OwnRights.unmount(drive, volume), || {
            let unmounted = self.asking(|service| service.unmount(&volume.device.to_string_lossy()));
            unmounted.map_err(|source| match source {
                NotServed::Failed { said } => not_unmounted(drive, volume, io::Error::other(said)),
                source => not_served(drive, "unmount", source),
            })
        })
    }

    fn may_unmount(&self, drive: &Drive, volume: &Removable) -> Result<(), PlatformError> {
        OwnRights.may_unmount(drive, volume)
    }

    fn mount_again(&self, volume: &Removable) -> io::Result<()> {
        OwnRights.mount_again(volume).or_else(|_| {
            let mounted = self.asking(|service| service.mount(&volume.device.to_string_lossy()));
            mounted.map_err(io::Error::other)
        })
    }

    fn open_alone(&self, drive: &Drive) -> Result<BlockDevice, PlatformError> {
        or_else(OwnRights.open_alone(drive), || {
            self.opened(drive, WRITE, OpenedFor::WritingAlone).and_then(|device| device.locked(drive))
        })
    }
}

impl Served {
    pub(in crate::devices) fn new() -> Self {
        Self { linux: Linux::new(), asked: Arc::default() }
    }

    /// Through the handle it is made sure that this is the drive that was meant.
    fn read(&self, drive: &Drive, opened_for: OpenedFor) -> Result<BlockDevice, PlatformError> {
        let device = self.asked.opened(drive, "read", opened_for)?;
        self.linux.is_still(&device, drive)?;
        Ok(device)
    }
}

impl Platform for Served {
    fn drives(&self) -> Result<Vec<Drive>, PlatformError> {
        self.linux.drives()
    }

    fn drives_without_reading(&self, paths: &[&str]) -> Result<Vec<Drive>, PlatformError> {
        self.linux.drives_without_reading(paths)
    }

    fn locate(&self, name: &str) -> Result<Option<Located>, PlatformError> {
        self.linux.locate(name)
    }

    fn drives_holding(&self, file: &Path) -> Result<Vec<String>, PlatformError> {
        self.linux.drives_holding(file)
    }

    fn openers(&self, drive: &Drive) -> Result<Openers, PlatformError> {
        self.linux.openers(drive)
    }

    fn may_claim(&self, drive: &Drive) -> Result<Opening, PlatformError> {
        or_else(self.linux.may_claim(drive), || {
            let whom: Result<Whom, NotServed> = self.asked.service().and_then(|service| service.whom(&drive.path));
            whom.map(Opening::Service).map_err(|source| not_served(drive, WRITE, source))
        })
    }

    fn open(&self, drive: &Drive) -> Result<Box<dyn DriveIo>, PlatformError> {
        or_else(self.linux.open(drive), || Ok(Box::new(self.read(drive, OpenedFor::ReadingDirect)?)))
    }

    fn open_shared(&self, drive: &Drive) -> Result<File, PlatformError> {
        or_else(self.linux.open_shared(drive), || {
            self.read(drive, OpenedFor::ReadingCached).map(BlockDevice::into_file)
        })
    }

    fn claim(&self, cleared: Cleared) -> Result<Box<dyn Claimed>, PlatformError> {
        let device = self.linux.claim_device(&cleared, &*self.asked)?;
        let drive = cleared.drive();
        let lender = GivenBack { asked: Arc::clone(&self.asked), tag: drive.tag.clone(), path: drive.path.clone() };
        Ok(Box::new(Lent { device, lender }))
    }
}

/// What is needed to give a drive back.
struct GivenBack {
    asked: Arc<Asked>,
    tag: Tag,
    path: String,
}

impl GivenBack {
    fn not_ejected(&self, source: NotServed) -> PlatformError {
        PlatformError::Eject { tag: self.tag.clone(), source: io::Error::other(source) }
    }

    fn take_out(&self, way: TakenOut) -> Result<(), NotServed> {
        self.asked.asking(|service| service.take_out(&self.path, way))
    }

    /// The service tells the desktop; where there is none, the drive is told through the handle that is there.
    fn eject(&self, device: BlockDevice) -> Result<(), PlatformError> {
        let way = self.asked.service().and_then(|service| service.way_out(&self.path));
        if way == Ok(TakenOut::PoweredOff) {
            drop(device);
            return self.take_out(TakenOut::PoweredOff).map_err(|source| self.not_ejected(source));
        }
        if way.is_ok() && self.take_out(TakenOut::Ejected).is_ok() {
            return Ok(());
        }
        Box::new(device).release(After::Eject)
    }

    /// The table is read again by whoever may have that done.
    fn keep(&self, device: BlockDevice) -> Result<(), PlatformError> {
        let error = match Box::new(device).release(After::Keep) {
            Err(PlatformError::Table { source, .. }) if source.kind() == io::ErrorKind::PermissionDenied => source,
            done => return done,
        };
        let rescanned = self.asked.service().and_then(|service| service.rescan(&self.path));
        if rescanned.is_ok() || Path::new(DEVICE_MANAGER).exists() {
            return Ok(());
        }
        Err(PlatformError::Table { tag: self.tag.clone(), source: error })
    }
}

impl Lender for GivenBack {
    fn take_back(self, device: BlockDevice, after: After) -> Result<(), PlatformError> {
        match after {
            After::Keep => self.keep(device),
            After::Eject => self.eject(device),
        }
    }
}
