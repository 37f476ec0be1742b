//! How the program ends: exit statuses, and failures with their next step.

use std::fmt;

use serde_json::Value;

use pyrotyp_core::Finding;
use pyrotyp_core::devices::{ChooseError, PlatformError};
use pyrotyp_core::job::{ImageFault, JobFault};
use pyrotyp_core::published::CheckError;
use pyrotyp_core::record::JobResult;
pub(crate) use pyrotyp_core::text::{chain, plain};

/// Exit statuses, as the documentation lists them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    /// Done.
    Done = 0,
    /// Something that should not happen.
    Unexpected = 1,
    /// The command line makes no sense.
    Usage = 2,
    /// The image is not fit.
    Image = 3,
    /// A checksum does not match.
    Checksum = 4,
    /// Refused by the guard, or not confirmed.
    Refused = 5,
    /// The drive failed while writing.
    Drive = 6,
    /// Read-back differs.
    Differs = 7,
    /// Stopped before the end.
    Stopped = 8,
}

impl Exit {
    /// All of them.
    const ALL: [Self; 9] = [
        Self::Done,
        Self::Unexpected,
        Self::Usage,
        Self::Image,
        Self::Checksum,
        Self::Refused,
        Self::Drive,
        Self::Differs,
        Self::Stopped,
    ];

    /// The one that programs know by this word.
    pub(crate) fn of_id(id: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|exit| exit.id() == id)
    }

    /// A word for programs.
    pub(crate) fn id(self) -> &'static str {
        match self {
            Self::Done => "done",
            Self::Unexpected => "unexpected",
            Self::Usage => "usage",
            Self::Image => "image",
            Self::Checksum => "checksum",
            Self::Refused => "refused",
            Self::Drive => "drive",
            Self::Differs => "differs",
            Self::Stopped => "stopped",
        }
    }

    /// The result of a command that ended like this, and has no other.
    pub(crate) fn result(self) -> JobResult {
        match self {
            // What is done has not failed; nothing else is left for it here.
            Self::Done | Self::Unexpected | Self::Drive => JobResult::Failed,
            Self::Usage | Self::Image | Self::Checksum | Self::Refused => JobResult::Refused,
            Self::Differs => JobResult::Differs,
            Self::Stopped => JobResult::Stopped,
        }
    }
}

/// Why a command did not end well: what happened, and what to do next.
#[derive(Debug)]
pub(crate) struct Failure {
    /// Exit status.
    pub exit: Exit,
    /// One line or a few: what, and where.
    pub text: String,
    /// What to do next.
    pub next: String,
    /// What stands in the way, where the guard refused.
    pub findings: Vec<Finding>,
    /// What the command's document holds all the same.
    pub document: Option<Box<Value>>,
}

impl Failure {
    /// A failure in words.
    pub(crate) fn new(exit: Exit, text: impl Into<String>, next: impl Into<String>) -> Self {
        Self { exit, text: text.into(), next: next.into(), findings: Vec::new(), document: None }
    }

    /// With the document of the command that failed.
    pub(crate) fn with_document(self, document: Value) -> Self {
        Self { document: Some(Box::new(document)), ..self }
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl From<CheckError> for Failure {
    fn from(error: CheckError) -> Self {
        let exit = match error {
            CheckError::Stopped => Exit::Stopped,
            CheckError::Image { .. } | CheckError::Shrunk { .. } => Exit::Image,
            _ => Exit::Checksum,
        };
        Self::new(exit, chain(&error), error.next_step())
    }
}

impl From<ChooseError> for Failure {
    fn from(error: ChooseError) -> Self {
        match error {
            ChooseError::Platform(error) => error.into(),
            other => Self::new(Exit::Refused, chain(&other), other.next_step()),
        }
    }
}

impl From<PlatformError> for Failure {
    fn from(error: PlatformError) -> Self {
        let exit = match error {
            PlatformError::Tray { .. } => Exit::Usage,
            PlatformError::Unreadable { .. } => Exit::Unexpected,
            _ => Exit::Refused,
        };
        Self::new(exit, chain(&error), error.next_step())
    }
}

/// The exit status of a job that ended like this on a drive.
pub(crate) fn of_job(result: JobResult, fault: Option<&JobFault>) -> Exit {
    match (result, fault) {
        (JobResult::Verified | JobResult::Written, _) => Exit::Done,
        (JobResult::Refused, _) => Exit::Refused,
        (JobResult::Differs, _) => Exit::Differs,
        (JobResult::Stopped, _) => Exit::Stopped,
        (JobResult::Failed, Some(JobFault::Image(fault))) => of_image(fault),
        (JobResult::Failed, Some(JobFault::Died(_))) => Exit::Unexpected,
        (JobResult::Failed, _) => Exit::Drive,
    }
}

/// The exit status of a job whose image was at fault.
pub(crate) fn of_image(fault: &ImageFault) -> Exit {
    match fault {
        ImageFault::Changed { .. }
        | ImageFault::ChangedSum { .. }
        | ImageFault::OtherSum { .. }
        | ImageFault::Unproven { .. } => Exit::Checksum,
        ImageFault::Other { .. } => Exit::Refused,
        ImageFault::Stopped | ImageFault::Line { .. } => Exit::Stopped,
        ImageFault::Read { .. } | ImageFault::Shrunk { .. } => Exit::Image,
        _ => Exit::Unexpected,
    }
}
