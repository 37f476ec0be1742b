//! The steps of a job on a drive.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The steps of a job on a drive, in their order.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
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
    /// Places along the drive are marked, read, and put back as they were.
    Probe,
    /// All of the drive is read.
    Surface,
    /// What counts of the drive is read into a file.
    Save,
    /// The drive is given back.
    Release,
}

/// A stage that ended well.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct StageDone {
    /// Which.
    pub name: Stage,
    /// Bytes moved.
    pub bytes: u64,
    /// How long it took.
    pub seconds: f64,
}
