//! One image onto one drive: claim, blank, body, read back, seal, release.
//!
//! At no instant between blanking and sealing would a PC start from the drive: its first sectors are emptied first
//! and written last, after everything else has been read back and matched.

mod body;
mod difference;
mod layout;
mod readback;
mod seal;
mod watch;

use std::io;
use std::time::Instant;

use serde::Serialize;

use crate::Cancel;
use crate::drive::{After, Claimed, DriveFault, DriveIo, Platform, PlatformError};
use crate::guard::Cleared;
use crate::image::{Inspection, ReadAt};
use difference::Differences;
pub use difference::{Cause, Difference, TOLD_MOST};
pub use layout::{BLOCK_BYTES, DoesNotFit, END_BYTES, HEAD_BYTES, LAST_WRITTEN_BYTES, Layout};
use readback::Against;
pub use watch::{Stage, Watcher};

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
    /// The drive failed or went away while it was written.
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

/// Why a job did not end well.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum JobFault {
    /// The drive could not be claimed.
    #[error(transparent)]
    Claim(#[from] PlatformError),
    /// The image does not fit.
    #[error(transparent)]
    DoesNotFit(#[from] DoesNotFit),
    /// The drive did not take data.
    #[error("the drive stopped taking data at byte {at}")]
    Write {
        /// Where.
        at: u64,
        /// Why.
        source: DriveFault,
    },
    /// The drive did not confirm that it kept the data.
    #[error("the drive did not confirm that it kept what was written")]
    Flush {
        /// Why.
        source: DriveFault,
    },
    /// The drive took data and kept something else, before the image was even begun.
    #[error("the drive does not keep what is written at byte {at}")]
    NotTaken {
        /// Where.
        at: u64,
    },
    /// The drive could not be read.
    #[error("the drive can't be read at byte {at}")]
    Read {
        /// Where.
        at: u64,
        /// Why.
        source: DriveFault,
    },
    /// The image could not be read.
    #[error("the image can't be read at byte {at}")]
    ImageRead {
        /// Where.
        at: u64,
        /// Why.
        source: io::Error,
    },
    /// The image became shorter.
    #[error("the image ended at byte {at}: something changed it meanwhile")]
    ImageShrunk {
        /// Where it ended.
        at: u64,
    },
    /// The image is not the one that was checked.
    #[error("the image changed after it was checked: SHA-256 was {checked}, now it is {written}")]
    ImageChanged {
        /// What was checked.
        checked: String,
        /// What was written.
        written: String,
    },
    /// The thread that reads the image ended early.
    #[error("reading the image ended early")]
    Reader,
    /// The drive holds something else than was written.
    #[error("the drive differs from the image")]
    Differs,
    /// The head does not read back.
    #[error("the head does not read back at byte {at}")]
    SealDiffers {
        /// Where.
        at: u64,
    },
    /// Told to stop.
    #[error("stopped during the {}", stage_words(*.stage))]
    Stopped {
        /// Where it was.
        stage: Stage,
    },
}

fn stage_words(stage: Stage) -> &'static str {
    match stage {
        Stage::Claim => "claim",
        Stage::Blank => "blanking",
        Stage::Body => "writing",
        Stage::ReadBack => "read-back",
        Stage::Seal => "sealing",
        Stage::Release => "release",
    }
}

impl JobFault {
    /// What to do about it.
    pub fn next_step(&self) -> &'static str {
        match self {
            Self::Claim(error) => error.next_step(),
            Self::DoesNotFit(_) => "choose a larger drive",
            Self::Write { source: DriveFault::Gone, .. }
            | Self::Flush { source: DriveFault::Gone }
            | Self::Read { source: DriveFault::Gone, .. } => {
                "plug it in again, into another port if it went by itself, and run the same command again"
            }
            Self::Write { .. } | Self::Flush { .. } | Self::Read { .. } => {
                "try another port and run the same command again; if it fails there too, discard the drive"
            }
            Self::NotTaken { .. } => "discard the drive: it can't be written any more",
            Self::ImageRead { .. } => "copy the image to another disk, or download it again",
            Self::ImageShrunk { .. } | Self::ImageChanged { .. } => {
                "make sure that nothing is writing to the image, then run the same command again"
            }
            Self::Reader => "run the same command again; if it comes back, report it",
            Self::Differs | Self::SealDiffers { .. } => {
                "write it once more into another port; if it differs again, discard the drive"
            }
            Self::Stopped { .. } => "run the same command again to start over",
        }
    }

    /// How a job that met this ended.
    fn result(&self) -> JobResult {
        match self {
            Self::Claim(_) | Self::DoesNotFit(_) => JobResult::Refused,
            Self::Differs | Self::SealDiffers { .. } | Self::NotTaken { .. } => JobResult::Differs,
            Self::Stopped { .. } => JobResult::Stopped,
            _ => JobResult::Failed,
        }
    }
}

/// What is to be done.
pub struct Order<'a> {
    /// The image.
    pub image: &'a dyn ReadAt,
    /// What is known of it, to name files where the drive differs.
    pub inspection: &'a Inspection,
    /// SHA-256 that the image had when it was checked; another one on the way is not sealed.
    pub checked_sha256: Option<String>,
    /// Whether the body is read back.
    pub read_back: ReadBack,
    /// What becomes of the drive.
    pub after: After,
}

/// Whether the body is read back before the seal.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ReadBack {
    /// As it should be.
    Whole,
    /// Not asked for: the result is then no more than [`JobResult::Written`].
    Skip,
}

/// How a job went.
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
    /// SHA-256 of the image as it was written.
    pub sha256: Option<String>,
    /// Why it did not end well.
    pub fault: Option<JobFault>,
    /// The drive is written, but could not be given back as asked.
    pub release_fault: Option<PlatformError>,
}

/// Runs one job. The guard's proof is spent, whatever happens.
pub fn run(
    order: &Order<'_>,
    platform: &dyn Platform,
    cleared: Cleared,
    cancel: &Cancel,
    watcher: &mut dyn Watcher,
) -> Outcome {
    let mut job = Running {
        order,
        cancel,
        watcher,
        head: Head::Untouched,
        stages: Vec::new(),
        differences: Differences::default(),
        sha256: None,
    };
    let mut release_fault = None;
    let ended = match job.claim(platform, cleared) {
        Ok(drive) => {
            let ended = job.with(&*drive);
            let after = if ended.is_ok() { order.after } else { After::Keep };
            release_fault = job.release(drive, after).err();
            ended
        }
        Err(fault) => Err(fault),
    };
    let result = match &ended {
        Ok(()) if order.read_back == ReadBack::Whole => JobResult::Verified,
        Ok(()) => JobResult::Written,
        Err(fault) => fault.result(),
    };
    name_files(order.image, order.inspection, &mut job.differences);
    Outcome {
        result,
        head: job.head,
        stages: job.stages,
        differences: job.differences.told,
        more_differences: job.differences.more,
        sha256: job.sha256,
        fault: ended.err(),
        release_fault,
    }
}

struct Running<'a> {
    order: &'a Order<'a>,
    cancel: &'a Cancel,
    watcher: &'a mut dyn Watcher,
    head: Head,
    stages: Vec<StageDone>,
    differences: Differences,
    sha256: Option<String>,
}

impl Running<'_> {
    /// Does one stage between its two announcements, unless somebody asked to stop.
    fn stage<T>(
        &mut self,
        name: Stage,
        bytes: u64,
        work: impl FnOnce(&mut Self) -> Result<T, JobFault>,
    ) -> Result<T, JobFault> {
        if self.cancel.is_set() && name != Stage::Release {
            return Err(JobFault::Stopped { stage: name });
        }
        self.watcher.began(name, bytes);
        let started = Instant::now();
        let done = work(self)?;
        self.stages.push(StageDone { name, bytes, seconds: started.elapsed().as_secs_f64() });
        self.watcher.ended(name);
        Ok(done)
    }

    fn claim(&mut self, platform: &dyn Platform, cleared: Cleared) -> Result<Box<dyn Claimed>, JobFault> {
        self.stage(Stage::Claim, 0, |_| Ok(platform.claim(cleared)?))
    }

    fn with(&mut self, drive: &dyn Claimed) -> Result<(), JobFault> {
        let layout = Layout::new(self.order.image.size(), drive.bytes(), drive.sector_bytes())?;
        let blanked = layout.blanks.iter().map(|range| range.end - range.start).sum();
        self.stage(Stage::Blank, blanked, |job| {
            job.head = Head::Unknown;
            seal::blank(drive, &layout)?;
            job.head = Head::Blank;
            Ok(())
        })?;
        let body_bytes = layout.body.end - layout.body.start;
        let body = self.stage(Stage::Body, body_bytes, |job| {
            body::write(job.order.image, &layout, drive, job.cancel, job.watcher)
        })?;
        self.sha256 = Some(body.sha256.clone());
        if let Some(checked) = self.order.checked_sha256.as_ref().filter(|checked| **checked != body.sha256) {
            return Err(JobFault::ImageChanged { checked: checked.clone(), written: body.sha256.clone() });
        }
        if self.order.read_back == ReadBack::Whole {
            let read_back = self.stage(Stage::ReadBack, body_bytes, |job| {
                seal::mark(drive, &layout)?;
                let against = Against::Digests(&body.digests);
                let range = layout.body.clone();
                job.differences = readback::compare(job.order.image, drive, range, &against, job.cancel, job.watcher)?;
                if job.differences.is_empty() { Ok(()) } else { Err(JobFault::Differs) }
            });
            if read_back.is_err() {
                // The marks start no PC, but a drive given back is to be blank; one that is gone keeps them.
                let _ = seal::blank(drive, &layout);
            }
            read_back?;
        }
        self.seal(drive, &layout, &body)
    }

    /// Seals the drive, or empties its head again.
    fn seal(&mut self, drive: &dyn Claimed, layout: &Layout, body: &body::BodyDone) -> Result<(), JobFault> {
        let bytes = (body.head.len() + body.end.len()) as u64;
        let sealed = self.stage(Stage::Seal, bytes, |job| {
            job.head = Head::Unknown;
            match seal::seal(drive, layout, body, job.watcher)? {
                None => Ok(()),
                Some(at) => Err(JobFault::SealDiffers { at }),
            }
        });
        self.head = match &sealed {
            Ok(()) => Head::Sealed,
            Err(_) if seal::blank(drive, layout).is_ok() => Head::Blank,
            Err(_) => Head::Unknown,
        };
        sealed
    }

    fn release(&mut self, drive: Box<dyn Claimed>, after: After) -> Result<(), PlatformError> {
        let mut fault = Ok(());
        // The stage itself can't fail: what the system says about ejecting does not change the result.
        let _ = self.stage(Stage::Release, 0, |_| {
            fault = drive.release(after);
            Ok(())
        });
        fault
    }
}

fn name_files(image: &dyn ReadAt, inspection: &Inspection, differences: &mut Differences) {
    for difference in &mut differences.told {
        // A name is a help; an image that can't be read any more has been told already.
        difference.file = inspection.file_at(image, difference.offset).unwrap_or_default();
    }
}

/// How a comparison went.
#[derive(Debug)]
pub struct Comparison {
    /// [`JobResult::Verified`] or [`JobResult::Differs`].
    pub result: JobResult,
    /// Bytes compared.
    pub bytes: u64,
    /// Where the drive differs.
    pub differences: Vec<Difference>,
    /// How many more differences there are than are told.
    pub more_differences: u64,
}

/// Reads the drive past every cache and compares it with the whole image. Writes nothing.
///
/// # Errors
/// When the drive is gone or gives up, the image can't be read, or `cancel` says stop.
pub fn compare(
    image: &dyn ReadAt,
    inspection: &Inspection,
    drive: &dyn DriveIo,
    cancel: &Cancel,
    watcher: &mut dyn Watcher,
) -> Result<Comparison, JobFault> {
    let sector = u64::from(drive.sector_bytes().max(1));
    let bytes = image.size().min(drive.bytes() / sector * sector);
    watcher.began(Stage::ReadBack, bytes);
    let mut differences = readback::compare(image, drive, 0..bytes, &Against::Image, cancel, watcher)?;
    watcher.ended(Stage::ReadBack);
    if bytes < image.size() {
        differences.add(bytes..image.size(), Cause::BeyondEnd);
    }
    name_files(image, inspection, &mut differences);
    let result = if differences.is_empty() { JobResult::Verified } else { JobResult::Differs };
    Ok(Comparison { result, bytes, differences: differences.told, more_differences: differences.more })
}
