//! What is on a drive now, and so what writing would destroy: read without mounting anything, and without writing a byte.
//!
//! Promise: any bytes give an answer, never a panic, in bounded memory and time.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod listing;
mod placed;

pub use listing::{Contents, Listed, TableKind, contents};
pub use placed::{Placed, holds_only, read, read_placed, surface, unknown, volume};
