//! What was noticed about an image or a drive.

mod id;
mod value;

pub use id::{FindingId, UnknownId};
pub use value::{Finding, Level};
