//! How fast a drive was along its length.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// So much of a stage was done so long after it began.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(from = "(u64, f64)", into = "(u64, f64)")]
pub struct SpeedMark {
    /// Bytes.
    pub done: u64,
    /// Since the stage began.
    pub seconds: f64,
}

impl From<(u64, f64)> for SpeedMark {
    fn from(pair: (u64, f64)) -> Self {
        Self { done: pair.0, seconds: pair.1 }
    }
}

impl From<SpeedMark> for (u64, f64) {
    fn from(mark: SpeedMark) -> Self {
        (mark.done, mark.seconds)
    }
}

/// How fast the two long stages went, each from its beginning on; marks are few, and evenly spread in time.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Speeds {
    /// Writing.
    pub body: Vec<SpeedMark>,
    /// Reading back.
    pub read_back: Vec<SpeedMark>,
}

impl Speeds {
    /// Whether nothing was seen.
    pub fn is_empty(&self) -> bool {
        self.body.is_empty() && self.read_back.is_empty()
    }
}
