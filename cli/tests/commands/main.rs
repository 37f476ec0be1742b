//! Every command through the built program: files in a temporary folder, a tray, an emptied environment.

// The paths of a test are its own.
#![allow(clippy::disallowed_methods)]

mod bench;
mod check;
mod compare;
mod demo;
mod disk_service;
mod drives;
mod fetch;
mod gauge;
mod handed_over;
mod hostile;
mod inspect;
mod jobs;
mod json;
mod keyholder;
mod ledger;
mod loop_device;
mod packed;
mod reclaim;
mod rehearse;
mod save;
mod schemas;
mod screen;
mod settings;
mod shelf;
mod signatures;
mod slips;
mod spare;
mod station;
mod unpack;
mod write;
