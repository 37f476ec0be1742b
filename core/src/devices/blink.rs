//! A drive's own light as a pointer: it is read in a rhythm, and nothing is written.

use std::time::{Duration, Instant};

use crate::devices::{AlignedBuf, DriveFault, DriveIo};
use crate::stop::Cancel;

/// The light is on, then off, for so long each: slow enough that no flicker of its own looks like it.
const HALF: Duration = Duration::from_millis(600);
/// Read at once, in bytes; a multiple of every sector.
const REQUEST: usize = 64 << 10;

/// Reads in a rhythm until `cancel` says stop, or for so long.
///
/// # Errors
/// When the drive is gone, or can't be read.
pub fn blink(drive: &dyn DriveIo, how_long: Duration, cancel: &Cancel) -> Result<(), DriveFault> {
    let mut buffer = AlignedBuf::new(REQUEST);
    let (begun, step) = (Instant::now(), REQUEST as u64);
    let last = drive.bytes().checked_div(step).unwrap_or(0).saturating_sub(1).saturating_mul(step);
    let length = usize::try_from(drive.bytes()).unwrap_or(REQUEST).min(REQUEST);
    let mut at = 0u64;
    while !cancel.is_set() && begun.elapsed() < how_long {
        let on = Instant::now();
        while on.elapsed() < HALF && !cancel.is_set() {
            // Always another place, so that no cache answers for it.
            drive.read_at(at, buffer.get_mut(..length).unwrap_or_default())?;
            at = if at >= last { 0 } else { at.saturating_add(step) };
        }
        cancel.pause(HALF);
    }
    Ok(())
}
