//! How a job ended, and what the start of its drive holds then.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How a job, or its part on one drive, ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
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

impl JobResult {
    /// All of them.
    pub const ALL: [Self; 6] =
        [Self::Verified, Self::Written, Self::Refused, Self::Failed, Self::Differs, Self::Stopped];

    /// The word that records, programs and people have for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Verified => "verified",
            Self::Written => "written",
            Self::Refused => "refused",
            Self::Failed => "failed",
            Self::Differs => "differs",
            Self::Stopped => "stopped",
        }
    }

    /// The word for a job whose drives ended like this: the gravest.
    pub fn of_all(all: impl IntoIterator<Item = Self>) -> Self {
        let gravity = |result: &Self| match result {
            Self::Verified => 0,
            Self::Written => 1,
            Self::Stopped => 2,
            Self::Refused => 3,
            Self::Failed => 4,
            Self::Differs => 5,
        };
        all.into_iter().max_by_key(gravity).unwrap_or(Self::Refused)
    }
}

/// What the start of the drive holds when the job is over.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Head {
    /// What was there before.
    Untouched,
    /// Nothing that a PC starts from: zeros, and marks behind the first sectors if it was pulled out while it was read back.
    Blank,
    /// The image's head.
    Sealed,
    /// What was there before or a part of it, since the drive does not take what would empty it.
    Old,
    #[default]
    /// Nobody can tell: it can't be read any more.
    Unknown,
}
