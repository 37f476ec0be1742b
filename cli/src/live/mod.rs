//! What is shown while something runs.

pub(crate) mod checking;
pub(crate) mod job_progress;
pub(crate) mod progress;
