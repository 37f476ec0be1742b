//! One image onto one drive or several: claim, blank, body, read back, seal, release.
//!
//! At no instant between blanking and sealing would a PC start from a drive: its first sectors are emptied first
//! and written last, after everything else has been read back and matched.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod before;
mod body;
mod compare;
mod conclusion;
mod crew;
mod diagnosis;
mod difference;
mod estimate;
mod fault;
mod feed;
mod gate;
pub mod journal;
mod lane;
mod layout;
mod pulse;
mod readback;
mod request;
mod seal;
mod supply;
mod watch;
mod window;

use std::path::PathBuf;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use serde::Serialize;

use crate::devices::{After, Platform, PlatformError};
use crate::guard::{Cleared, Plan};
use crate::image::Inspection;
use crate::stop::Cancel;
pub use compare::{Comparison, compare};
pub use conclusion::Conclusion;
pub use crew::Died;
use crew::{Shielded, contained};
pub use difference::{Cause, Difference, TOLD_MOST};
pub use estimate::Estimate;
pub use fault::{ImageFault, JobFault};
use gate::Gate;
use journal::SpentNotes;
use lane::{Lane, Shared};
pub use layout::{DoesNotFit, END_BYTES, Frame, HEAD_BYTES, OUTERMOST_BYTES};
use pulse::Pulse;
pub use supply::{Access, Checked, KeptImage, Prove, StreamedImage, Supply};
pub use watch::{Event, Stage, Watcher};
use window::{Verdict, Window};

/// What several threads share; one that panicked while it held it is told elsewhere.
fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// How a job, or its part on one drive, ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum JobResult {
    /// Written, and read from the drive equal byte for byte.
    Verified,
    /// Written; nobody read it back.
    Written,
    /// Not begun.
    Refused,
    /// The drive or the image failed.
    Failed,
    /// Written, but the drive holds something else.
    Differs,
    /// Stopped before the end.
    Stopped,
}

impl JobResult {
    /// The word for a job whose drives ended like this: the gravest.
    pub fn of_all(all: impl IntoIterator<Item = Self>) -> Self {
        let gravity = |result: &Self| match result {
            Self::Verified => 0,
            Self::Written => 1,
            Self::Stopped => 2,
            Self::Refused => 3,
            Self::Failed => 4,
            Self::Differs => 5,
        };
        all.into_iter().max_by_key(gravity).unwrap_or(Self::Refused)
    }
}

/// What the start of the drive holds when the job is over.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Head {
    /// What was there before.
    Untouched,
    /// Nothing that a PC starts from: zeros, and marks behind the first sectors if it was pulled out while it was read back.
    Blank,
    /// The image's head.
    Sealed,
    /// What was there before or a part of it, since the drive does not take what would empty it.
    Old,
    /// Nobody can tell: it can't be read any more.
    Unknown,
}

/// A stage that ended well.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct StageDone {
    /// Which.
    pub name: Stage,
    /// Bytes moved.
    pub bytes: u64,
    /// How long it took.
    pub seconds: f64,
}

/// Whether the body is read back before the seal.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ReadBack {
    /// As it should be.
    Whole,
    /// Not asked for: the result is then no more than [`JobResult::Written`].
    Skip,
}

/// What is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Writing {
    /// All of the image.
    Everything,
    /// Where the drive holds something else than the image; the rest is only read.
    OnlyChanged,
}

/// Whether a job goes on with what an earlier one has left on a drive.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Start {
    /// From the beginning.
    Over,
    /// From where the drive last confirmed that it keeps what it took.
    GoOn,
}

/// How patient a job is.
#[derive(Clone, Copy, Debug)]
pub struct Pacing {
    /// The drive is asked to keep what it took each time this has gone by: so much time an accident costs.
    pub flush_after: Duration,
    /// A drive that has not answered for so long is told of.
    pub stall_after: Duration,
}

impl Default for Pacing {
    fn default() -> Self {
        Self { flush_after: Duration::from_secs(2), stall_after: Duration::from_secs(20) }
    }
}

/// What is to be done.
pub struct Order<'a> {
    /// Where the image comes from.
    pub supply: &'a dyn Supply,
    /// What the guard has cleared the drives for.
    pub plan: &'a Plan,
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
    /// How patient it is.
    pub pacing: Pacing,
}

/// A drive of a job.
pub struct Target {
    /// The guard's proof, which is spent whatever happens.
    pub cleared: Cleared,
    /// Where notes are kept, so that the job can be gone on with: see [`journal::path_of`].
    pub journal: Option<PathBuf>,
    /// Whether it goes on with an earlier one.
    pub start: Start,
}

/// How a job went on one drive.
#[derive(Debug)]
pub struct Outcome {
    /// In a word.
    pub result: JobResult,
    /// What the start of the drive holds now.
    pub head: Head,
    /// Stages that ended well.
    pub stages: Vec<StageDone>,
    /// Where the drive differs.
    pub differences: Vec<Difference>,
    /// How many more differences there are than are told.
    pub more_differences: u64,
    /// What the differences mean for the drive.
    pub conclusion: Option<Conclusion>,
    /// Length of the image, once all of it was read.
    pub image_bytes: Option<u64>,
    /// SHA-256 of the image as it was written.
    pub sha256: Option<String>,
    /// How much of the image an earlier job had brought to the drive.
    pub kept_bytes: u64,
    /// How much of the body was written; less than all of it where only what differs is.
    pub written_bytes: u64,
    /// Blocks that read right only the second time.
    pub read_again: u64,
    /// Why it did not end well.
    pub fault: Option<JobFault>,
    /// The image's file that lies where it failed.
    pub fault_file: Option<String>,
    /// The drive is written, but could not be given back as asked.
    pub release_fault: Option<PlatformError>,
    /// Notes that nobody goes on with any more, to be removed once the end is on record.
    pub spent_notes: Option<SpentNotes>,
}

/// Runs one job on all of its drives at once, and tells how it went on each, in their order.
///
/// The image is read once. Each drive goes at its own pace; one that fails or is far slower does not hinder the others.
pub fn run(
    order: &Order<'_>,
    platform: &dyn Platform,
    targets: Vec<Target>,
    cancel: &Cancel,
    watcher: &dyn Watcher,
) -> Vec<Outcome> {
    let watcher = &Shielded::new(watcher);
    let targets = noted_apart(targets, watcher);
    let drives = targets.len();
    let shared = Shared {
        order,
        cancel,
        watcher,
        gate: Gate::new(drives),
        window: Window::new(drives, lane::may_leave(order.supply)),
        verdict: Verdict::default(),
    };
    let pulses: Vec<Pulse> = targets.iter().map(|_| Pulse::new()).collect();
    pulse::watched(&pulses, order.pacing.stall_after, watcher, || {
        std::thread::scope(|scope| {
            let shared = &shared;
            let lanes = targets.into_iter().zip(&pulses).enumerate().map(|(number, (target, pulse))| {
                scope.spawn(move || Lane::new(shared, pulse, number).run(platform, target))
            });
            let lanes: Vec<_> = lanes.collect();
            // This thread is the image's reader.
            if let Some(arrival) = shared.gate.wait() {
                let reading = shared.reading(arrival.from, arrival.withheld_from);
                let verdict = contained(|| reading.run(&shared.window, arrival.from_drive, cancel));
                shared.verdict.tell(verdict.unwrap_or(Err(ImageFault::Reader)));
                shared.window.end();
            }
            let outcomes = lanes.into_iter().map(|lane| lane.join());
            outcomes.map(|ended| ended.unwrap_or_else(|_| Outcome::of_fault(ImageFault::Reader))).collect()
        })
    })
}

/// The same targets, without notes where two drives would share them: they would be about both.
fn noted_apart(mut targets: Vec<Target>, watcher: &dyn Watcher) -> Vec<Target> {
    let places: Vec<_> = targets.iter().map(|target| target.journal.clone()).collect();
    for (drive, target) in targets.iter_mut().enumerate() {
        let is_shared = places.iter().filter(|place| **place == target.journal).count() > 1;
        if is_shared && target.journal.take().is_some() {
            let why = "another drive of this job has the same tag".to_owned();
            watcher.heard(drive, &Event::Unnoted { why });
        }
    }
    targets
}

impl Outcome {
    /// Of a drive on which nothing more is known than that it ended badly.
    fn of_fault(fault: ImageFault) -> Self {
        let fault = JobFault::from(fault);
        Self {
            result: fault.result(),
            head: Head::Unknown,
            stages: Vec::new(),
            differences: Vec::new(),
            more_differences: 0,
            conclusion: None,
            image_bytes: None,
            sha256: None,
            kept_bytes: 0,
            written_bytes: 0,
            read_again: 0,
            fault: Some(fault),
            fault_file: None,
            release_fault: None,
            spent_notes: None,
        }
    }
}
