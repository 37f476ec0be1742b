//! Why an image could not be examined.

use std::path::PathBuf;

use crate::published::CheckError;
use crate::published::signature::RememberedError;
use crate::text::Shown;

/// Why an image could not be examined; what was found out of it is a [`Report`](crate::published::Report).
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ExamineError {
    /// It could not be compared.
    #[error(transparent)]
    Check(#[from] CheckError),
    /// A key was given, and nothing is signed.
    #[error("there is no signature that the key could check")]
    NothingSigned,
    /// A key file can't be used.
    #[error("can't use the key {}: {why}", path.shown())]
    Key {
        /// Which one.
        path: PathBuf,
        /// Why, in words.
        why: String,
    },
    /// What is remembered of keys can't be used.
    #[error(transparent)]
    Remembered(#[from] RememberedError),
}

impl ExamineError {
    /// What to do about it.
    pub fn next_step(&self) -> String {
        match self {
            Self::Check(error) => error.next_step().to_owned(),
            Self::NothingSigned => "give the signature with --signature, or leave --key away".to_owned(),
            Self::Key { .. } => "give the public key file that the publisher offers for checking signatures".to_owned(),
            Self::Remembered(error) => error.next_step(),
        }
    }
}
