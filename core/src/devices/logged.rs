//! A platform whose every question and answer goes to the log (`tracing`): what was asked of the system, how long it took, and what it said.

use std::fs::File;
use std::ops::Range;
use std::path::Path;
use std::time::Instant;

use tracing::{debug, trace};

use crate::devices::{After, Claimed, DriveFault, DriveIo, DriveWrite, Located, Opening, Platform, PlatformError};
use crate::drive::{Drive, Openers};
use crate::guard::Cleared;
use crate::text::chain;

/// Another platform, with a log.
pub struct Logged {
    platform: Box<dyn Platform>,
}

impl Logged {
    /// That platform, with a log.
    pub fn new(platform: Box<dyn Platform>) -> Self {
        Self { platform }
    }
}

fn milliseconds(since: Instant) -> f64 {
    since.elapsed().as_secs_f64() * 1e3
}

/// Logs one question about `what` and its answer, in words.
fn asked<T, E: std::error::Error>(
    question: &'static str,
    what: &str,
    ask: impl FnOnce() -> Result<T, E>,
    words: impl FnOnce(&T) -> String,
) -> Result<T, E> {
    let begun = Instant::now();
    let answer = ask();
    let ms = milliseconds(begun);
    match &answer {
        Ok(found) => debug!(question, what, ms, answer = words(found)),
        Err(error) => debug!(question, what, ms, error = chain(error)),
    }
    answer
}

fn attached(drives: &[Drive]) -> String {
    let one = |drive: &Drive| format!("{} at {}, {} bytes, {:?}", drive.tag, drive.path, drive.bytes, drive.role());
    drives.iter().map(one).collect::<Vec<_>>().join("; ")
}

fn located(found: &Option<Located>) -> String {
    match found {
        None => "nothing".to_owned(),
        Some(Located::Drive { path, stable }) => format!("{path}, stable: {stable}"),
        Some(Located::Partition { path, number }) => format!("partition {number} of {path}"),
    }
}

impl Platform for Logged {
    fn drives(&self) -> Result<Vec<Drive>, PlatformError> {
        asked("drives", "", || self.platform.drives(), |drives| attached(drives))
    }

    fn drives_without_reading(&self, paths: &[&str]) -> Result<Vec<Drive>, PlatformError> {
        asked("drives", "", || self.platform.drives_without_reading(paths), |drives| attached(drives))
    }

    fn locate(&self, name: &str) -> Result<Option<Located>, PlatformError> {
        asked("locate", name, || self.platform.locate(name), located)
    }

    fn drives_holding(&self, file: &Path) -> Result<Vec<String>, PlatformError> {
        asked(
            "drives holding",
            &file.to_string_lossy(),
            || self.platform.drives_holding(file),
            |found| found.join(", "),
        )
    }

    fn openers(&self, drive: &Drive) -> Result<Openers, PlatformError> {
        asked(
            "openers",
            &drive.path,
            || self.platform.openers(drive),
            |found| {
                let seen = if found.is_complete { "" } else { "; not all programs could be inspected" };
                format!("{}{seen}", found.programs.join(", "))
            },
        )
    }

    fn may_claim(&self, drive: &Drive) -> Result<Opening, PlatformError> {
        asked("may claim", &drive.path, || self.platform.may_claim(drive), |way| format!("{way:?}"))
    }

    fn open(&self, drive: &Drive) -> Result<Box<dyn DriveIo>, PlatformError> {
        let drive_io = asked("open", &drive.path, || self.platform.open(drive), |drive| opened(&**drive))?;
        Ok(Box::new(LoggedDrive { drive: drive_io, path: drive.path.clone() }))
    }

    fn open_shared(&self, drive: &Drive) -> Result<File, PlatformError> {
        asked("open shared", &drive.path, || self.platform.open_shared(drive), |_| "open".to_owned())
    }

    fn claim(&self, cleared: Cleared) -> Result<Box<dyn Claimed>, PlatformError> {
        let path = cleared.drive().path.clone();
        let drive =
            asked("claim", &path, || self.platform.claim(cleared), |claimed| format!("{} bytes", claimed.bytes()))?;
        Ok(Box::new(LoggedDrive { drive, path }))
    }
}

fn opened(drive: &dyn DriveIo) -> String {
    format!("{} bytes in sectors of {}", drive.bytes(), drive.sector_bytes())
}

/// An open drive, with a log.
struct LoggedDrive<D: ?Sized> {
    path: String,
    drive: Box<D>,
}

/// The bytes of a request.
fn range(at: u64, part: &[u8]) -> Range<u64> {
    at..at.saturating_add(part.len() as u64)
}

/// Logs one request; those that fail are never left out.
fn request(
    question: &'static str,
    what: &str,
    Range { start, end }: Range<u64>,
    go: impl FnOnce() -> Result<(), DriveFault>,
) -> Result<(), DriveFault> {
    let begun = Instant::now();
    let done = go();
    let ms = milliseconds(begun);
    match &done {
        Ok(()) => trace!(question, what, start, end, ms),
        Err(fault) => debug!(question, what, start, end, ms, error = chain(fault)),
    }
    done
}

impl<D: DriveIo + ?Sized> DriveIo for LoggedDrive<D> {
    fn bytes(&self) -> u64 {
        self.drive.bytes()
    }

    fn sector_bytes(&self) -> u32 {
        self.drive.sector_bytes()
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
        request("read", &self.path, range(at, into), || self.drive.read_at(at, into))
    }
}

impl<D: DriveWrite + ?Sized> DriveWrite for LoggedDrive<D> {
    fn write_at(&self, at: u64, from: &[u8]) -> Result<(), DriveFault> {
        request("write", &self.path, range(at, from), || self.drive.write_at(at, from))
    }

    fn check_medium(&self) -> Result<(), DriveFault> {
        self.drive.check_medium()
    }

    fn flush(&self) -> Result<(), DriveFault> {
        asked("flush", &self.path, || self.drive.flush(), |()| "done".to_owned())
    }
}

impl Claimed for LoggedDrive<dyn Claimed> {
    fn release(self: Box<Self>, after: After) -> Result<(), PlatformError> {
        let Self { path, drive } = *self;
        asked("release", &path, || drive.release(after), |()| format!("{after:?}"))
    }
}
