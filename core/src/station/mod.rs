//! Stick after stick by a plan: whatever is plugged in and qualifies is guarded, written, read back and tallied; all else is left alone.
//!
//! A plan is a text; a tally is the list of jobs that were begun for it, and what came of each is in the ledger: what was killed in between
//! counts for nothing that it did not do.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod qualify;
mod round;
mod station_plan;
mod stick_job;
mod tally;
mod watch;

pub use qualify::{Left, StickOffer, qualify};
pub use round::{RoundFault, Station, round};
pub use station_plan::{FilesRule, PlanFault, Qualifying, StationPlan};
pub use tally::{Tally, TallyFault, TallyFrom, Try, TryEnd};
pub use watch::{StationNews, StationWatcher};
