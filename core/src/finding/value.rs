//! One thing noticed about an image or a drive.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::finding::id::FindingId;

/// How much a [`Finding`] weighs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Level {
    /// Worth knowing; stands in nobody's way.
    Note,
    /// Stands in the way until the technician names its id.
    Ask,
    /// Stands in the way whatever is named.
    Stop,
}

/// One thing noticed about an image or a drive: an id, a level, a sentence and a next step.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Finding {
    /// What `--accept` names, such as `external-disk`.
    pub id: FindingId,
    /// How much it weighs.
    pub level: Level,
    /// What was noticed, as a sentence without a capital or full stop.
    pub text: String,
    /// What to do next; empty where nothing needs doing.
    pub next: String,
}

impl Finding {
    /// A finding that nothing lifts.
    pub fn stop(id: FindingId, text: impl Into<String>, next: impl Into<String>) -> Self {
        Self { id, level: Level::Stop, text: text.into(), next: next.into() }
    }

    /// A finding that is lifted by naming it.
    pub fn ask(id: FindingId, text: impl Into<String>, next: impl Into<String>) -> Self {
        Self { id, level: Level::Ask, text: text.into(), next: next.into() }
    }

    /// A finding that only informs.
    pub fn note(id: FindingId, text: impl Into<String>) -> Self {
        Self { id, level: Level::Note, text: text.into(), next: String::new() }
    }
}
