//! Bytes: read at any place, in order, a field at a time; and how their number is told.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

pub(crate) mod field;
mod rate;
mod read_at;
mod size;

pub use rate::Rate;
pub(crate) use read_at::clipped;
pub use read_at::{Cursor, Part, ReadAt, WithGaps, read_block};
pub use size::{MIB, bytes_in_words, human_bytes};
