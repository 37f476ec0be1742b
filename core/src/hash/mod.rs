//! From bytes to checksums: which ones there are, several in one reading, and digests of blocks.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod algorithm;
mod blocks;
mod hashers;
mod pass;

pub use algorithm::{Algorithm, Sum, SumError};
pub use blocks::{BLOCK_BYTES, BlockDigest, BlockDigests, BlockHasher, first_block, hole_digest};
pub use hashers::Hashers;
pub use pass::{Taker, pass, show};
