//! An image held against all that is known of it: what was published, what it carries inside, what this bench keeps.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod candidate;
mod examiner;
mod fault;
mod opened;
mod shelf_notes;
mod watch;

pub use candidate::{Candidate, Check, Proven, Refusal, checks, is_damage};
pub use examiner::{Depth, Examiner, Known, given_keys};
pub use fault::ExamineError;
pub use opened::{Content, ContentFault, OpenedImage};
pub use watch::{CheckEvent, CheckWatcher, Unkept, Work};
