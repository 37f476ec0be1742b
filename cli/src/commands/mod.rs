//! The commands, one file each.

pub(crate) mod check;
pub(crate) mod compare;
pub(crate) mod contents;
#[cfg(feature = "demo")]
pub(crate) mod demo;
pub(crate) mod drives;
pub(crate) mod fetch;
pub(crate) mod gauge;
pub(crate) mod inspect;
pub(crate) mod ledger;
pub(crate) mod manual;
pub(crate) mod reclaim;
pub(crate) mod rehearse;
pub(crate) mod save;
pub(crate) mod settings;
pub(crate) mod shelf;
pub(crate) mod station;
pub(crate) mod unpack;
pub(crate) mod write;
