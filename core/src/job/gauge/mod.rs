//! Can a drive be trusted? A quick look that leaves everything as it was, a reading of all of it, and a test that fills all of it.

mod kept;
mod marks;
mod pattern;
mod places;
mod put_back;
mod quick;
mod surface;
mod whole;

pub use kept::{KeptPlaces, kept_path};
pub use marks::Marker;
pub use pattern::Pattern;
pub use places::marked_bytes;
pub use put_back::{PutBack, put_back};
pub use quick::{QuickLook, quick_look};
pub use surface::surface;
pub use whole::of_filled;
