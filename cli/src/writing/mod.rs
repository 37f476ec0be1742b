//! An image on its way to drives: chosen, confirmed, run and told, whether it comes from a file, a pipe or a line.

pub(crate) mod asking;
pub(crate) mod behind;
pub(crate) mod choosing;
pub(crate) mod confirming;
pub(crate) mod copying;
pub(crate) mod job;
pub(crate) mod line;
pub(crate) mod planning;
pub(crate) mod preparing;
pub(crate) mod proving;
pub(crate) mod reading;
pub(crate) mod saving;
pub(crate) mod sparing;
pub(crate) mod stream;
pub(crate) mod unchanged;
