//! What is this file, is it whole, and would a stick made from it start a PC?
//!
//! Everything here works on bytes behind [`ReadAt`](crate::bytes::ReadAt): no file is opened, nothing is written.
//! Promise: any bytes at all give an [`Inspection`], in memory bounded whatever they say.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod architecture;
mod bios;
mod efi;
mod facts;
mod file_map;
mod gather;
mod housekeeping;
mod inspection;
mod judge;
mod naming;
mod open;
pub mod packed;
mod recognise;
mod unfinished;

pub use architecture::Architecture;
pub use facts::{EfiProgram, EspVolume};
pub use file_map::FileMap;
pub use inspection::{
    Boot, Container, Firmware, Inspection, Kind, Optical, Span, Summary, Tables, Verdict, Via, Way, Whole,
};
pub use naming::Naming;
pub use open::{Beginning, Opened, begin, inspect, inspect_on, open};
pub use packed::{Packed, PackedFault, SharedBytes, Unpacked};
pub use recognise::{Stranger, stranger};
pub use unfinished::unfinished;
