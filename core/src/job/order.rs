//! What a job is to do: with which image, on which drives, how.

use std::path::PathBuf;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::devices::{After, DriveIo};
use crate::guard::{Cleared, ImageNeeds};
use crate::image::Inspection;
use crate::job::source::{Checked, Source};
use crate::record::DriveIdentity;

/// Whether the body is read back before the seal.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum ReadBack {
    /// As it should be.
    Whole,
    /// Not asked for: the result is then no more than [`JobResult::Written`](crate::record::JobResult::Written).
    Skip,
}

/// What is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Writing {
    /// All of the image.
    Everything,
    /// Where the drive holds something else than the image; the rest is only read.
    OnlyChanged,
}

/// Whether a job goes on with what an earlier one has left on a drive.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Start {
    /// From the beginning.
    Over,
    /// From where the drive last confirmed that it keeps what it took.
    GoOn,
}

/// How patient a job is, and how much it takes.
#[derive(Clone, Copy, Debug)]
pub struct Pacing {
    /// The drive is asked to keep what it took each time this has gone by: so much time an accident costs.
    pub flush_after: Duration,
    /// A drive that has not answered for so long is told of.
    pub stall_after: Duration,
    /// How much memory it takes.
    pub memory: JobMemory,
}

/// How much memory a job takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum JobMemory {
    /// What makes it fastest.
    Whole,
    /// Less: others run beside it.
    Shared,
}

impl Default for Pacing {
    fn default() -> Self {
        Self { flush_after: Duration::from_secs(2), stall_after: Duration::from_secs(20), memory: JobMemory::Whole }
    }
}

/// What is to be done.
pub struct Order<'a> {
    /// Where the image comes from.
    pub source: &'a dyn Source,
    /// What the guard has cleared the drives for.
    pub needs: &'a ImageNeeds,
    /// What is known of it, to name files where a drive differs.
    pub inspection: Option<&'a Inspection>,
    /// What a check before has found; another image on the way is not sealed.
    pub checked: Checked,
    /// Whether the body is read back.
    pub read_back: ReadBack,
    /// What is written.
    pub writing: Writing,
    /// What becomes of the drives.
    pub after: After,
    /// How patient it is, and how much it takes.
    pub pacing: Pacing,
    /// Who decides about each drive once it is claimed, where nobody confirmed what it holds.
    pub claim_check: Option<&'a dyn ClaimCheck>,
}

/// Decides about a drive through the handle that is to write, before the first write.
pub trait ClaimCheck: Sync {
    /// Looks at the claimed drive, which has this identity.
    ///
    /// # Errors
    /// The reason why the job must not write to this drive.
    fn check(&self, identity: &DriveIdentity, drive: &dyn DriveIo) -> Result<(), String>;
}

/// A drive of a job.
pub struct Target {
    /// The guard's proof, which is spent whatever happens.
    pub cleared: Cleared,
    /// Where notes are kept, so that the job can be gone on with: see [`path_of`](super::journal::path_of).
    pub journal: Option<PathBuf>,
    /// The bench's state folder: backups of interrupted quick tests below it are restored before the job writes.
    pub state: Option<PathBuf>,
    /// Whether it goes on with an earlier one.
    pub start: Start,
    /// Bytes of it that are used at most, where it has less room than it claims.
    pub limit: Option<u64>,
}
