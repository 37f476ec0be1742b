//! What is to lie on a drive, put together from parts: partition tables and empty volumes. Same input, same bytes.
//!
//! Nothing is written here: a [`Composition`] is read like an image, and goes onto a drive as one does. One volume is not made here:
//! ext4 is what the system's own program writes into an empty file.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod composition;
mod exfat;
mod ext4;
mod fat;
mod gpt;
mod guid;
mod label;
mod mbr;
mod storage;
mod volume_kind;

pub use composition::Composition;
pub use label::LabelFault;
pub use storage::{ComposeError, Storage, TableForm, serial, storage};
pub use volume_kind::VolumeKind;
