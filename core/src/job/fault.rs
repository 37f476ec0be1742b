//! Why a job did not end well: sorted by whose fault it is, the image's or the drive's.

use std::io;
use std::path::PathBuf;
use std::sync::Arc;

use crate::devices::{DriveFault, PlatformError};
use crate::drive::Tag;
use crate::hash::Algorithm;
use crate::job::DoesNotFit;
use crate::job::workers::Died;
use crate::record::{JobResult, Stage};
use crate::text::Shown;

/// What is wrong with the image, for all drives of a job.
#[derive(Clone, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ImageFault {
    /// It could not be read.
    #[error("the image can't be read at byte {at}")]
    Read {
        /// Where.
        at: u64,
        /// Why.
        source: Arc<io::Error>,
    },
    /// It did not come any further.
    #[error("the image came as far as byte {at}")]
    Line {
        /// How far.
        at: u64,
        /// Why.
        source: Arc<io::Error>,
    },
    /// It became shorter.
    #[error("the image ended at byte {at}: something changed it meanwhile")]
    Shrunk {
        /// Where it ended.
        at: u64,
    },
    /// It is not the one that was checked.
    #[error("the image changed after it was checked, at byte {at} or behind it")]
    Changed {
        /// Where the block that is another one begins.
        at: u64,
    },
    /// It is not the one that was checked.
    #[error("the image changed after it was checked: SHA-256 was {checked}, now it is {read}")]
    ChangedSum {
        /// What was checked.
        checked: String,
        /// What was read.
        read: String,
    },
    /// It is not the one that was published.
    #[error("the {algorithm} of the image does not match\n   published   {published}\n   this image  {read}")]
    OtherSum {
        /// Which checksum.
        algorithm: Algorithm,
        /// What it should be.
        published: String,
        /// What it is.
        read: String,
    },
    /// It is not the one that was meant.
    #[error("{why}")]
    Unproven {
        /// Why.
        why: String,
    },
    /// It is not the one with which the job began.
    #[error("this is not the image with which the job began: it differs at byte {at} or behind it")]
    Other {
        /// Where the block that is another one begins.
        at: u64,
    },
    /// Told to stop.
    #[error("stopped while the image was read")]
    Stopped,
    /// The thread that reads it ended early.
    #[error("reading the image ended early")]
    Reader,
}

/// Why a job did not end well on a drive.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum JobFault {
    /// The drive could not be claimed.
    #[error(transparent)]
    Claim(#[from] PlatformError),
    /// The guard let another image onto the drive.
    #[error("drive {tag} was not cleared for this image")]
    NotCleared {
        /// Which drive.
        tag: Tag,
    },
    /// The claimed drive does not hold what it held when the job was planned.
    #[error("the drive does not hold what it held when the job was planned: {}", why.shown())]
    NotAsPlanned {
        /// The difference, in words.
        why: String,
    },
    /// The image does not fit.
    #[error(transparent)]
    DoesNotFit(#[from] DoesNotFit),
    /// The image is not fit.
    #[error(transparent)]
    Image(Arc<ImageFault>),
    /// The notes that were to be gone on with are about something else.
    #[error("there is nothing to go on with: {}", what.shown())]
    OtherJob {
        /// About what.
        what: String,
    },
    /// The drive did not take data.
    #[error("the drive does not take bytes {at} to {}", at.saturating_add(*bytes).saturating_sub(1))]
    Write {
        /// Where.
        at: u64,
        /// How much.
        bytes: u64,
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
    /// The drive does not hold any more what an earlier job wrote to it.
    #[error("the drive does not hold any more what was written to it at byte {at}")]
    NotKept {
        /// Where.
        at: u64,
    },
    /// The drive could not be read.
    #[error("the drive can't read bytes {at} to {}", at.saturating_add(*bytes).saturating_sub(1))]
    Read {
        /// Where.
        at: u64,
        /// How much was to be read there.
        bytes: u64,
        /// Why.
        source: DriveFault,
    },
    /// Another medium is in the reader than the one that was claimed.
    #[error("the card in the reader was exchanged while the job ran")]
    MediumExchanged,
    /// The drive holds something else than was written.
    #[error("the drive differs from the image")]
    Differs,
    /// What was written last does not read back, or has taken the place of something else.
    #[error("what was sealed does not read back: byte {at} is another one")]
    SealDiffers {
        /// Where.
        at: u64,
    },
    /// The original bytes of the sectors under test can't be backed up, or the backup can't be read.
    #[error("can't back up the tested sectors to the state folder, or read their backup")]
    BackupFailed {
        /// Why.
        source: io::Error,
    },
    /// An interrupted quick test left marks on the drive, and they can't be replaced.
    #[error("test data of an interrupted quick test is still on the drive; the original bytes are in {}", file.shown())]
    RestorePending {
        /// The backup.
        file: PathBuf,
    },
    /// The file into which a drive is saved can't be written or read.
    #[error("the file can't be written, or what is there of it can't be used")]
    File {
        /// Why.
        source: io::Error,
    },
    /// A part of a file is there that is about something else.
    #[error("{} is there already, and is about another drive, or another part of it", file.shown())]
    OtherPart {
        /// Which.
        file: PathBuf,
    },
    /// The original bytes of a sector under test could not be restored.
    #[error("can't restore the original bytes at byte {at}; their backup is in the state folder")]
    RestoreFailed {
        /// First byte on the drive that is not restored.
        at: u64,
        /// Whether marks of the test were seen on this drive.
        has_marks: bool,
    },
    /// This program failed.
    #[error(transparent)]
    Died(#[from] Died),
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
        Stage::Probe => "look",
        Stage::Surface => "reading",
        Stage::Save => "saving",
        Stage::Release => "release",
    }
}

impl From<Arc<ImageFault>> for JobFault {
    fn from(fault: Arc<ImageFault>) -> Self {
        match *fault {
            ImageFault::Stopped => Self::Stopped { stage: Stage::Body },
            _ => Self::Image(fault),
        }
    }
}

impl From<ImageFault> for JobFault {
    fn from(fault: ImageFault) -> Self {
        Arc::new(fault).into()
    }
}

impl ImageFault {
    fn next_step(&self) -> &'static str {
        match self {
            Self::Read { .. } => "copy the image to another disk, or download it again",
            Self::Line { .. } => "check the line, then run the same command with --resume: it goes on from there",
            Self::Shrunk { .. } | Self::Changed { .. } | Self::ChangedSum { .. } => {
                "make sure that nothing is writing to the image, then run the same command again"
            }
            Self::OtherSum { .. } | Self::Unproven { .. } => "get the image again, and compare the published checksum",
            Self::Other { .. } => "give the same image, or leave --resume away to start over",
            Self::Stopped | Self::Reader => "run the same command again; if it comes back, report it",
        }
    }
}

impl JobFault {
    /// What to do about it.
    pub fn next_step(&self) -> &'static str {
        match self {
            Self::Claim(error) => error.next_step(),
            Self::NotCleared { .. } => "run the same command again; if it comes back, report it",
            Self::NotAsPlanned { .. } => "see what is on it now with pyrotyp contents, then decide again",
            Self::DoesNotFit(_) => "choose a larger drive",
            Self::Image(fault) => fault.next_step(),
            Self::OtherJob { .. } | Self::NotKept { .. } => "run the same command without --resume to start over",
            Self::Write { source: DriveFault::Gone, .. }
            | Self::Flush { source: DriveFault::Gone }
            | Self::Read { source: DriveFault::Gone, .. } => {
                "plug it in again, into another port if it went by itself, and run the same command with --resume"
            }
            Self::Write { .. } | Self::Flush { .. } | Self::Read { .. } => {
                "try another port and run the same command with --resume; if it fails there too, discard the drive"
            }
            Self::MediumExchanged => "put the first card back in, then run the same command with --resume",
            Self::NotTaken { .. } => "discard the drive: it can't be written any more",
            Self::Differs | Self::SealDiffers { .. } => {
                "write it once more into another port; if it differs again, discard the drive"
            }
            Self::BackupFailed { .. } => {
                "make room there, or name another folder with --state, then run the same command again"
            }
            Self::File { .. } => "make room or choose another name, then run the same command again",
            Self::OtherPart { .. } => "remove it, or choose another name",
            Self::RestorePending { .. } | Self::RestoreFailed { .. } => {
                "plug the drive into another port and run the same command again"
            }
            Self::Died(_) => "report what is said above; the same command with --resume goes on from there",
            Self::Stopped { .. } => "to go on from there, run the same command with --resume",
        }
    }

    /// Whether the drive is not attached any more.
    pub fn is_gone(&self) -> bool {
        match self {
            Self::Write { source, .. } | Self::Flush { source } | Self::Read { source, .. } => {
                matches!(source, DriveFault::Gone)
            }
            Self::MediumExchanged => true,
            _ => false,
        }
    }

    /// Where on the drive it failed, in bytes.
    pub fn place(&self) -> Option<u64> {
        match self {
            Self::Write { at, source: DriveFault::Failed(_), .. }
            | Self::Read { at, source: DriveFault::Failed(_), .. }
            | Self::NotTaken { at }
            | Self::SealDiffers { at } => Some(*at),
            _ => None,
        }
    }

    /// Whether what the drive has confirmed is no use to a later job: the drive, or the image, proved wrong.
    pub(super) fn leaves_nothing(&self) -> bool {
        use ImageFault::{Changed, ChangedSum, OtherSum, Unproven};
        match self {
            Self::Differs | Self::SealDiffers { .. } => true,
            Self::Image(fault) => {
                matches!(**fault, OtherSum { .. } | Unproven { .. } | Changed { .. } | ChangedSum { .. })
            }
            _ => false,
        }
    }

    /// How a drive that met this ended.
    pub fn result(&self) -> JobResult {
        match self {
            Self::Claim(_)
            | Self::NotCleared { .. }
            | Self::NotAsPlanned { .. }
            | Self::DoesNotFit(_)
            | Self::OtherJob { .. }
            | Self::OtherPart { .. }
            | Self::RestorePending { .. } => JobResult::Refused,
            Self::Image(fault) if matches!(**fault, ImageFault::Other { .. }) => JobResult::Refused,
            Self::Differs | Self::SealDiffers { .. } | Self::NotTaken { .. } | Self::NotKept { .. } => {
                JobResult::Differs
            }
            Self::Stopped { .. } => JobResult::Stopped,
            _ => JobResult::Failed,
        }
    }
}
