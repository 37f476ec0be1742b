//! What a job tells while it runs.

use serde::Serialize;

/// The steps of a job, in their order.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Stage {
    /// The drive is opened for this job alone.
    Claim,
    /// The head's place and the drive's last MiB are emptied.
    Blank,
    /// All but the head is written.
    Body,
    /// The body is read from the drive and compared.
    ReadBack,
    /// The head is written, flushed and read back.
    Seal,
    /// The drive is given back.
    Release,
}

/// Hears what a job does. A progress display, a log and a test are three of these.
pub trait Watcher {
    /// A stage begins, which will move `bytes` bytes.
    fn began(&mut self, stage: Stage, bytes: u64);
    /// The stage has moved `done` bytes so far.
    fn moved(&mut self, stage: Stage, done: u64);
    /// The stage ended well.
    fn ended(&mut self, stage: Stage);
}
