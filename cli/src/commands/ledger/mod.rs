//! `pyrotyp ledger`: what was done, what is on which stick, and what is handed over with it.

mod found;
mod handing_over;
mod listing;

pub(crate) use listing::run;
