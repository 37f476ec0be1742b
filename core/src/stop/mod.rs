//! How what is under way is stopped from outside.

mod cancel;
mod hearing;

pub use cancel::Cancel;
pub use hearing::Hearing;
