//! The one drive that was meant, and how it was named.

use crate::drive::Drive;
use serde::{Deserialize, Serialize};

/// How a drive was named.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum NamedBy {
    /// By its tag: proof of which one is meant.
    Tag,
    /// By a link that stays with it.
    StableLink,
    /// By where the kernel put it today, or by the port that it is in, which prove nothing.
    KernelName,
    /// By being plugged in after the question.
    Arriving,
}

/// What the name stands for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Choice {
    /// The drive.
    pub drive: Drive,
    /// How it was named.
    pub by: NamedBy,
    /// The partition's number, if the name was that of a partition.
    pub partition: Option<u32>,
}
