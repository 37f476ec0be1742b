//! A drive that differs from its image: where, of which kind, and what that says of the drive.

mod before;
mod case;
mod conclusion;
mod difference;

pub use before::Before;
pub use case::{Case, Written, kept_bytes};
pub use conclusion::Conclusion;
pub use difference::{Cause, Difference, Differences, TOLD_MOST};
