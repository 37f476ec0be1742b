//! The commands, one file each.

pub mod check;
pub mod compare;
pub mod contents;
pub mod demo;
pub mod drives;
pub mod fetch;
pub mod inspect;
pub mod shelf;
pub mod write;
