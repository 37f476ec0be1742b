//! What was done: one record for each job, kept as a file of JSON that never changes once the job has ended, and an index that is made
//! from them.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod blocks;
mod history;
mod index;
mod records;

pub use blocks::{Blocks, blocks_of, keep_blocks};
pub use history::{Drives, LastJob};
pub use index::{Index, JobQuery, JobRow, RowDrive};
pub use records::{Begun, begin, keep_picture, picture, picture_path, put, read};
