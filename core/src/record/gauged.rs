//! What was found out about a drive itself: its true size, where it fails, how fast it is along its length.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::result::JobResult;

/// Whether a drive can be trusted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Trust {
    /// Nothing speaks against it.
    Sound,
    /// It has less room than it claims.
    Smaller,
    /// Parts of it do not keep what they are given, or can't be read.
    Failing,
    /// There is nothing to go by.
    Unknown,
}

impl Trust {
    /// How a job ended that found this.
    pub fn result(self) -> JobResult {
        match self {
            Self::Sound => JobResult::Verified,
            Self::Smaller | Self::Failing => JobResult::Differs,
            Self::Unknown => JobResult::Failed,
        }
    }
}

/// What is the matter with a part of a drive.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum AreaState {
    /// It can't be read, or does not keep what it is given.
    Failing,
    /// It takes far longer than the rest.
    Slow,
    /// It lies behind the drive's true end.
    Missing,
}

/// A part of a drive that is not as it should be.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Area {
    /// First byte.
    pub offset: u64,
    /// Length in bytes.
    pub bytes: u64,
    /// What is the matter with it.
    pub state: AreaState,
}

/// How fast a drive was at a place.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SpeedAt {
    /// Where, in bytes from its start.
    pub offset: u64,
    /// How fast.
    pub bytes_per_second: u64,
}

/// What a look at a drive has found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Gauged {
    /// Size that the drive tells, in bytes.
    pub claimed_bytes: u64,
    /// Bytes that it keeps, as far as was looked; `None` where there is nothing to go by.
    pub true_bytes: Option<u64>,
    /// Whether it can be trusted.
    pub verdict: Trust,
    /// What is not as it should be, in order.
    pub areas: Vec<Area>,
    /// How fast it was written, along its length.
    pub write: Vec<SpeedAt>,
    /// How fast it was read.
    pub read: Vec<SpeedAt>,
}
