//! Can a drive be trusted? A quick look that leaves everything as it was, a reading of all of it, and a test that fills all of it.

mod backup;
mod marks;
mod pattern;
mod places;
mod quick;
mod restore;
mod surface;
mod whole;

pub use backup::ProbeBackup;
pub use marks::Marker;
pub use pattern::Pattern;
pub use places::marked_bytes;
pub use quick::{QuickLook, quick_look};
pub use restore::{RestoreOutcome, has_marks, is_restore_pending, restore_all, restore_backup};
pub use surface::surface;
pub use whole::of_filled;
