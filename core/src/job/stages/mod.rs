//! What is done to one drive, stage by stage.

pub mod body;
pub mod readback;
pub mod seal;
