//! Pyrotyp's library: recognises installer images, guards drives, writes, and proves what was written.
//!
//! It prints nothing, asks nothing and parses no arguments; a front does that. The way of a job:
//!
//! 1. [`image::inspect`] tells from the bytes what a file is and whether a stick made from it starts a PC.
//! 2. [`published::check`] compares its checksums with the published ones.
//! 3. [`devices::Platform::drives`] lists what is attached, and [`guard::findings`] says what speaks against a drive.
//! 4. [`guard::clear`] gives the proof without which no drive can be claimed for writing.
//! 5. [`job::run`] writes, reads back and seals.
//!
//! What is defended: images, sums files and descriptors may hold any bytes at all and give an answer or an
//! error, in bounded memory. What is not: another program with the same rights that writes to the drive meanwhile.

#![cfg_attr(not(test), deny(clippy::unwrap_used, clippy::expect_used, clippy::panic))]
#![cfg_attr(not(test), deny(clippy::too_many_lines, clippy::fn_params_excessive_bools))]

pub mod bytes;
pub mod catalogue;
pub mod compose;
pub mod contents;
pub mod devices;
pub mod drive;
pub mod examine;
pub mod fetch;
mod finding;
pub mod guard;
pub mod hash;
pub mod image;
pub mod job;
pub mod ledger;
pub mod machine;
pub mod plan;
pub mod published;
pub mod record;
pub mod rehearse;
pub mod shelf;
pub mod station;
pub mod stop;
pub mod store;
pub mod text;
pub mod volume;

pub use finding::{Finding, FindingId, Level, UnknownId};
