//! What lies on a disk: partition tables and file systems, as their standards lay them out.
//!
//! Promise: any bytes at all give an answer or an error, in memory bounded whatever they say.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

pub mod apm;
pub mod bootcode;
pub mod counting;
pub mod eltorito;
pub mod exfat;
pub mod ext;
pub mod fat;
pub mod filesystem;
pub mod gpt;
pub mod iso9660;
mod item;
mod labels;
mod leaf;
pub mod mbr;
mod table_window;
pub mod udf;

pub use item::{ITEMS_MOST, Item};
pub use leaf::{Leaf, LeafKind};
