//! UDF: is there such a volume, what is it called, and which files does it hold?
//!
//! Source: ECMA-167, 3rd edition, 2/9.2 and 3/9.1 (recognition), 3/7.2 (tags), 3/10.1 and 3/10.2 (primary descriptor and anchor),
//! 3/10.6 (logical volume), 1/7.2.12 (strings), and what `leaves` names; OSTA UDF 2.60, §2.1.1 (compressed characters).
//! Promise: any bytes give an answer, never a panic; a tree has bounds in entries, folders and extents.

mod descriptors;
mod leaves;

pub use descriptors::{Udf, read};
pub use leaves::leaves;
