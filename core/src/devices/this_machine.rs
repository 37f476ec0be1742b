//! The machine that this runs on, by whichever way this process reaches its drives.

use super::disk_service::Served;
use super::{Platform, keyholder};
use crate::devices::linux::Linux;
use crate::machine;

/// By the keyholder behind `sudo`, by root's own rights, or else by those of the account and the system's disk service.
pub fn this_machine() -> Box<dyn Platform> {
    if let Some(apart) = keyholder::apart() {
        return apart;
    }
    if machine::is_root() { Box::new(Linux::new()) } else { Box::new(Served::new()) }
}
