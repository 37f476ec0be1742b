//! What is shown while something runs.

pub(crate) mod awake;
pub(crate) mod check_progress;
mod drive_state;
mod job_draw;
pub(crate) mod job_progress;
pub(crate) mod job_screen;
pub(crate) mod progress;
pub(crate) mod station_view;
pub(crate) mod trial_progress;
