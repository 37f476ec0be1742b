//! An image on its way to drives: chosen, confirmed, run and told, whether it comes from a file, a pipe or a line.

pub mod job;
pub mod line;
pub mod stream;
