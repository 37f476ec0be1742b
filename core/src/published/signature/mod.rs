//! Signatures: who vouches for a list of checksums, or for an image itself?
//!
//! Promise: any bytes as signature, list or key give an answer, never a panic; nothing longer than the limits here is read.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod checking;
mod ed25519;
mod fault;
mod key;
mod openpgp;
mod remembered;
mod signed;
mod verify;

pub(super) use fault::day;
pub use fault::{Fault, Good, Scheme};
pub use key::{KEYS_BYTES_MOST, Key};
pub use remembered::{Remembered, RememberedError};
pub use signed::Signed;
pub use verify::{SIGNATURE_BYTES_MOST, Signature, SignatureFile, verify};
