//! What is to be tried, and how.

use std::time::Duration;

use super::stick::TrialStick;
use crate::image::Firmware;

/// What is to be tried, and how.
#[derive(Clone, Copy, Debug)]
pub struct TrialOrder<'a> {
    /// The stick.
    pub stick: &'a TrialStick,
    /// By which firmware.
    pub firmware: Firmware,
    /// Whether UEFI is to start signed programs only.
    pub secure_boot: bool,
    /// How long at most.
    pub wait: Duration,
    /// What the stick calls itself: a program that says this is the stick's.
    pub names: &'a [String],
    /// Whether the stick's bytes have what this firmware starts.
    pub has_start: bool,
    /// What runs the PC.
    pub runner: Runner,
}

/// What runs the emulated PC.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Runner {
    /// The machine's own processor where it can, and is quick at it.
    Processor,
    /// A program alone.
    Program,
}
