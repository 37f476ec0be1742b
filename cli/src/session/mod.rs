//! What every command stands on: images, drives, settings, the shelf and the catalogue of this bench, as they were asked for.

pub mod attached;
pub mod catalogue;
pub mod examine;
pub mod folders;
pub mod images;
pub mod judged;
pub mod keys;
pub mod refusal;
pub mod release;
pub mod settings;
pub mod shelf_notes;
