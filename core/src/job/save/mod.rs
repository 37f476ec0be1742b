//! A drive into a file: what counts of it is read once, hashed on the way, and written, packed if that is wanted.

mod drive_source;
mod map;
mod run;
mod seek_table;
mod target;

pub use drive_source::{DriveSource, Gaps};
pub use map::SaveMap;
pub use run::{Filling, SaveOrder, Saved, save};
pub use target::{Packing, map_path, part_path, sum_path};
