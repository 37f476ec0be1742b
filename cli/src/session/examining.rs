//! Examinations of images for this bench, and what goes wrong with them, in words.

use std::path::{Path, PathBuf};

use pyrotyp_core::examine::{Content, ContentFault, ExamineError, Examiner, Known, OpenedImage};
use pyrotyp_core::image::PackedFault;
use pyrotyp_core::published::Given;
use pyrotyp_core::text::Shown;

use super::folders::state_folder;
use crate::asked::Against;
use crate::exit::{Exit, Failure, chain};
use crate::live::check_progress::CheckProgress;
use crate::session::Session;

/// What an examiner of this bench works with.
pub(crate) struct Examining {
    state: Option<PathBuf>,
    pub(crate) checking: CheckProgress,
}

impl Examining {
    /// For a command of this session.
    pub(crate) fn of(session: &Session<'_>) -> Self {
        Self::shown_by(CheckProgress::new(session.common), session)
    }

    /// The same, shown in another way.
    pub(crate) fn shown_by(checking: CheckProgress, session: &Session<'_>) -> Self {
        Self { state: state_folder(session.common), checking }
    }

    /// The examiner.
    pub(crate) fn examiner<'a>(&'a self, session: &'a Session<'_>) -> Examiner<'a> {
        Examiner { state: self.state.as_deref(), cancel: session.cancel, watcher: &self.checking }
    }
}

impl Against {
    /// What a person gives to compare with, and no more.
    pub(crate) fn known(&self) -> Known<'_> {
        let given = Given { sums: &self.sum, list: self.sums.as_deref(), signature: self.signature.as_deref() };
        Known { given, key_files: &self.key, ..Known::NOTHING }
    }
}

impl From<ExamineError> for Failure {
    fn from(error: ExamineError) -> Self {
        match error {
            ExamineError::Check(error) => error.into(),
            other => Self::new(Exit::Checksum, chain(&other), other.next_step()),
        }
    }
}

/// Why what is inside an image can't be had.
pub(crate) fn of_content(path: &Path, fault: &ContentFault) -> Failure {
    let exit = match fault {
        ContentFault::Packed(PackedFault::Stopped) => Exit::Stopped,
        ContentFault::Packed(PackedFault::TooLong { .. }) => Exit::Refused,
        _ => Exit::Image,
    };
    let text = match fault {
        // What the codec says of damaged bytes tells nobody more, and `inspect` says it without.
        ContentFault::Packed(PackedFault::Damaged { source, .. }) if source.raw_os_error().is_none() => {
            fault.to_string()
        }
        _ => chain(fault),
    };
    Failure::new(exit, format!("{}: {text}", path.shown()), fault.next_step())
}

/// What goes onto a drive that has room for `room` bytes.
pub(crate) fn content(path: &Path, image: &OpenedImage, room: u64, session: &Session<'_>) -> Result<Content, Failure> {
    let checking = CheckProgress::new(session.common);
    image.content(room, session.cancel, &checking).map_err(|fault| of_content(path, &fault))
}
