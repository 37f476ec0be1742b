//! Getting an image over the network: from the best mirror that answers, on from where it stopped, proven on the way.
//!
//! Promise: servers may answer anything at all; memory, room on the disk and time are bounded, and what was fetched stays
//! until it is known to be wrong. Nothing gets its own name before all of it is there.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod address;
mod fault;
mod incremental_hash;
mod metalink;
mod news;
mod onward;
mod part;
mod patience;
mod public_address;
mod range_download;
mod ranges;
mod sidecar;
mod transfer;
mod wanted;
mod web;

pub use fault::{FetchError, MirrorFault};
pub use metalink::{METALINK_BYTES_MOST, MetalinkFault, metalink};
pub use news::{Listener, News};
pub use onward::{Onward, Tell};
pub use part::PartFile;
pub use public_address::public_address;
pub use sidecar::{Beside, beside};
pub use transfer::{Landing, transfer};
pub use wanted::{Mirror, Pieces, Wanted, file_name};
pub use web::{Reach, Web};
