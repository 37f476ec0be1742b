//! Small documents of a bench, each by its name: whole or not at all, whoever else is at it.
//!
//! It is a folder now. Nothing but these verbs is asked of it, so that it can be a store of objects one day.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod folder;

pub use folder::{Kept, Lease, Put, Store, Version};
