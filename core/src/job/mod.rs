//! One image onto one drive or several: claim, blank, body, read back, seal, release.
//!
//! At no instant between blanking and sealing would a PC start from a drive: its first sectors are emptied first
//! and written last, after everything else has been read back and matched.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod block_queue;
mod compare;
mod diagnosis;
mod drive_worker;
mod estimate;
mod fault;
pub mod gauge;
mod half_made;
mod image_reader;
pub mod journal;
mod layout;
mod lock;
mod order;
mod outcome;
mod piece;
mod rendezvous;
mod request_size;
mod run;
pub mod save;
mod source;
mod speed_meter;
mod stages;
mod teller;
mod watch;
mod watchdog;
mod workers;

pub use compare::{Comparison, compare, compare_with_digests};
pub use diagnosis::TOLD_MOST;
pub use estimate::Estimate;
pub use fault::{ImageFault, JobFault};
pub use half_made::is_half_made;
pub use layout::{DoesNotFit, END_BYTES, Frame, HEAD_BYTES, OUTERMOST_BYTES};
pub use order::{ClaimCheck, JobMemory, Order, Pacing, ReadBack, Start, Target, Writing};
pub use outcome::Outcome;
pub use run::run;
pub use source::{Access, Checked, ComposedImage, KeptImage, Prove, Source, StreamedImage};
pub use watch::{Event, Watcher};
pub use workers::Died;
pub(crate) use workers::contained;
