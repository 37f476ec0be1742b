//! What every command stands on: images, drives, settings, the shelf and the catalogue of this bench, as they were asked for.

pub(crate) mod attached;
pub(crate) mod catalogue;
pub(crate) mod claim;
mod context;
pub(crate) mod examining;
pub(crate) mod folders;
pub(crate) mod images;
pub(crate) mod judged;
pub(crate) mod log;
pub(crate) mod pending_restore;
pub(crate) mod preferences;
pub(crate) mod recognised;
pub(crate) mod refusal;
pub(crate) mod release;
pub(crate) mod settings;
pub(crate) mod settings_file;
pub(crate) mod shelf_words;

pub(crate) use context::Session;
