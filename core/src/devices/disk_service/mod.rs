//! Drives that this account may not open are opened by the system's disk service, which asks a person as the system's rules have it:
//! in the desktop's dialog, or at the terminal.
//!
//! Nothing that it hands over is believed: an open drive is looked at through its own handle, as one that was opened here.
//!
//! Source: the UDisks2 D-Bus API (`org.freedesktop.UDisks2.Manager`, `.Block`, `.Filesystem`, `.Drive`), the polkit D-Bus API
//! (`org.freedesktop.PolicyKit1.Authority`), pkttyagent(1).

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod bus;
mod served;
mod terminal_agent;

pub(super) use served::Served;
pub use terminal_agent::prepare as prepare_questions;
