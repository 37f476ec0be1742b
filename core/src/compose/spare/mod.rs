//! The room behind an image as partitions, in the image's own tables.

mod fault;
mod spared;
mod tables;

pub use fault::SpareFault;
pub use spared::{SpareDrive, SparePlace, SpareWish, Spared, kept_beside, patched, spared};

#[cfg(test)]
mod tests;
