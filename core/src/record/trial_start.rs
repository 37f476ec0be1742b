//! A trial start on record: what a PC in an emulator made of a stick.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::result::JobResult;
use crate::image::Firmware;

/// Whether something started.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Started {
    /// What lies on the stick did.
    Yes,
    /// Nothing did.
    No,
    /// Nothing that was seen tells.
    Unknown,
}

impl Started {
    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Yes => "yes",
            Self::No => "no",
            Self::Unknown => "unknown",
        }
    }
}

/// One trial start.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TrialStart {
    /// By which firmware.
    pub firmware: Firmware,
    /// Whether the firmware started signed programs only.
    #[serde(default)]
    pub secure_boot: bool,
    /// Whether something started.
    pub started: Started,
    /// What tells so, in a sentence.
    pub reason: String,
    /// What the firmware said of the stick, a line each.
    #[serde(default)]
    pub firmware_said: Vec<String>,
    /// The text on the screen; empty where the screen showed a picture.
    #[serde(default)]
    pub screen: String,
    /// What came over the serial line, as text.
    #[serde(default)]
    pub serial: String,
    /// The picture of the screen: a file beside the record, or its path.
    pub picture: Option<String>,
    /// How long it was watched.
    pub seconds: f64,
    /// How much was read from the stick, in bytes.
    #[serde(default)]
    pub read_bytes: u64,
    /// Whether the machine's own processor ran it: at its own speed.
    #[serde(default)]
    pub accelerated: bool,
}

/// The result of a job that tried these starts: what starts by one firmware starts.
pub fn result_of_starts(starts: &[TrialStart]) -> JobResult {
    let any = |started| starts.iter().any(|one| one.started == started);
    match () {
        () if any(Started::Yes) => JobResult::Verified,
        () if any(Started::No) => JobResult::Failed,
        () => JobResult::Stopped,
    }
}
