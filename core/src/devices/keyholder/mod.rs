//! Two processes in place of one that runs as root for a person.
//!
//! The keyholder keeps root's rights. It looks at the machine, opens whole drives, claims them, unmounts what the desktop mounted
//! on them and gives them back, and does nothing else. All that reads bytes from outside runs in the other process, as the person,
//! without capabilities and unable to gain any; open drives come to it over a socket pair. The keyholder works out by itself
//! what the guard forbids. Each ends with the other.
//!
//! Root itself, with nobody behind it, may name any file, and its records are its own. There the other process is root's by name and
//! keeps no right but to open files; which ones, a fence decides ([`crate::machine::fence`]).
//!
//! Source: unix(7) (`SCM_RIGHTS`), capabilities(7), prctl(2) (`PR_SET_NO_NEW_PRIVS`, `PR_SET_PDEATHSIG`, `PR_SET_DUMPABLE`),
//! signalfd(2).

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod asking;
mod division;
mod holder;
mod line;
#[cfg(test)]
mod tests;
mod wording;

pub use division::{DivisionError, Side, apart, divide, divide_root, is_apart};
pub use holder::{Keyholder, SystemDrives};
