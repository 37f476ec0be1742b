//! What is shown while something runs.

pub(crate) mod check_progress;
pub(crate) mod job_progress;
pub(crate) mod progress;
