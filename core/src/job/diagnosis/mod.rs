//! A drive that differs from its image: where, of which kind, and what that says of the drive.

mod before;
mod case;
mod difference;

pub use before::Before;
pub use case::{Case, Written, kept_bytes};
pub use difference::{Differences, TOLD_MOST};
