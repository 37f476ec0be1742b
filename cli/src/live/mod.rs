//! What is shown while something runs.

pub mod job_progress;
pub mod progress;
