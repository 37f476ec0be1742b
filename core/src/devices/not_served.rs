//! Why the system's disk service opens no drive.

use crate::text::Shown;

/// Why the system's disk service did not do what it was asked.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum NotServed {
    /// None answers.
    #[error("this system has no disk service that could be asked")]
    NoService,
    /// It does not know the call, or passes over what makes it safe.
    #[error("the system's disk service is too old ({version}): it opens no drive for one program alone")]
    TooOld {
        /// As it says itself.
        version: String,
    },
    /// It wants a password, and no dialog and no terminal is there to ask for one.
    #[error("the system wants a password first, and has nobody here whom it could ask")]
    NobodyToAsk,
    /// The person said no, or did not say the password.
    #[error("the system asked for a password, and was not given the right one")]
    Dismissed,
    /// The system's rules say no, whoever is asked.
    #[error("the rules of this system do not allow it to this account")]
    Refused,
    /// No answer came.
    #[error("the system's disk service does not answer")]
    Silent,
    /// It failed at it.
    #[error("the system's disk service could not do it: {}", said.shown())]
    Failed {
        /// In its own words.
        said: String,
    },
}

impl NotServed {
    /// What to do about it.
    pub fn next_step(&self) -> &'static str {
        match self {
            Self::NoService | Self::TooOld { .. } => "run the same command with sudo",
            Self::NobodyToAsk => "run it in a terminal where the system can ask (`pkttyagent` of polkit), or with sudo",
            Self::Dismissed => "run the same command again and answer the system's question, or run it with sudo",
            Self::Refused => "ask whoever looks after this PC (docs/platform.md has a rule), or run it with sudo",
            Self::Silent => "run the same command again, or with sudo",
            Self::Failed { .. } => "plug the drive out and in, then run the same command again, or run it with sudo",
        }
    }
}
