//! ISO 9660: is this an optical image, how long should it be, and which file lies where?
//!
//! Source: ECMA-119, 2nd edition, §8 (descriptors) and §9 (directory records). It counts byte positions (BP)
//! from 1; offsets here count from 0. Joliet: Joliet specification (1995), §"Escape sequences".
//! Promise: any bytes give an answer or an error, never a panic, in memory bounded by [`FOLDERS_MOST`] and [`FOLDER_BYTES_MOST`].

mod descriptors;
mod layout;
mod leaves;
mod rock_ridge;
mod tree;
mod volume;

pub use descriptors::read;
pub use layout::SECTOR;
pub use tree::{FOLDER_BYTES_MOST, FOLDERS_MOST};
pub use volume::{Extent, IsoVolume, VolumeFault};
