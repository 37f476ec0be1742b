//! A drive that differs from its image: where, of which kind, and what that says of the drive.

mod before;
mod case;
mod difference;

pub(super) use before::Before;
pub(super) use case::{Case, Written, kept_bytes};
pub(super) use difference::Differences;
pub use difference::TOLD_MOST;
