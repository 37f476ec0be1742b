//! What is to lie on a drive, put together from parts: partition tables and volumes, empty or with files. Same input, same bytes.
//!
//! Nothing is written here: a [`Composition`] is read like an image, and goes onto a drive as one does. One volume is not made here:
//! ext4 is what the system's own program writes into an empty file.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod chains;
mod composition;
mod error;
mod exfat;
mod ext4;
mod fat;
mod gpt;
mod guid;
mod label;
mod letter_case;
mod mbr;
mod placing;
mod spare;
mod stamp;
mod storage;
mod tree;
mod unpacked;
mod volume;
mod volume_kind;

pub use composition::{Composition, OnDrive};
pub use error::ComposeError;
pub use label::LabelFault;
pub use spare::{SpareDrive, SpareFault, SparePlace, SpareWish, Spared, kept_beside, patched, spared};
pub use storage::{Storage, TableForm, serial, storage, storage_with};
pub use tree::{FileBytes, TREE_ITEMS_MOST, Tree, TreeFault};
pub use unpacked::{LeftOut, UnpackFault, UnpackedTree, unpacked};
pub use volume_kind::VolumeKind;

#[cfg(test)]
mod tree_tests;
