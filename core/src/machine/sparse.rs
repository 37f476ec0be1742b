//! What a program of the system writes into an empty file.

use std::io;

/// A program of the system, and what it is told.
#[derive(Clone, Copy, Debug)]
pub struct ProgramRun<'a> {
    /// Its name.
    pub program: &'a str,
    /// Its words, before the file that it works on.
    pub words: &'a [String],
    /// What its environment holds beside the person's own.
    pub environment: &'a [(&'a str, &'a str)],
    /// A folder that it is told of.
    pub folder: Option<GivenFolder<'a>>,
}

/// A folder that a program is told of.
#[derive(Clone, Copy, Debug)]
pub struct GivenFolder<'a> {
    /// The word that comes before it.
    pub word: &'a str,
    /// What lies in it.
    pub files: &'a [GivenFile<'a>],
}

/// A file that is given to a program.
#[derive(Clone, Copy, Debug)]
pub struct GivenFile<'a> {
    /// Its name, without a folder.
    pub name: &'a str,
    /// What it holds.
    pub bytes: &'a [u8],
}

/// A stretch that was written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WrittenStretch {
    /// Where it begins, in bytes.
    pub at: u64,
    /// What lies there.
    pub bytes: Vec<u8>,
}

/// Why there is nothing.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ProgramError {
    /// The program is not there.
    #[error("this system has no {program}")]
    Missing {
        /// Which one.
        program: String,
    },
    /// It failed.
    #[error("{program} failed: {said}")]
    Failed {
        /// Which one.
        program: String,
        /// The last line of what it said.
        said: String,
    },
    /// It wrote more than can be held.
    #[error("{program} wrote more than {most} bytes")]
    Large {
        /// Which one.
        program: String,
        /// How much can be held.
        most: u64,
    },
    /// The file can't be made or read.
    #[error("a file in the folder for temporary ones can't be used")]
    File {
        /// Why.
        source: io::Error,
    },
}
