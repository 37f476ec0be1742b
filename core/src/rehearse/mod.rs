//! A trial start: what lies on a stick is started in an emulated PC, by BIOS or UEFI, and watched. The stick is only read.
//!
//! The emulator is QEMU, as the system has it. The stick is an open file to it, without a name; it has no network, and ends with
//! the thread that started it. Whatever comes out of it is as hostile as the image: bounded, and made harmless before it is shown.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod emulator;
mod error;
mod evidence;
mod firmware;
mod judge;
mod monitor;
mod order;
mod picture;
mod stick;
mod trial;
mod wording;

pub use error::RehearseError;
pub use order::{Runner, TrialOrder};
pub use picture::ScreenPicture;
pub use stick::TrialStick;
pub use trial::{Rehearsal, TrialNews, rehearse};
