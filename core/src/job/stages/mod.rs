//! What is done to one drive, stage by stage.

pub(super) mod body;
pub(super) mod readback;
pub(super) mod seal;
