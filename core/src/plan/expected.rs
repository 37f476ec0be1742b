//! How long a job will take: a first guess, before anything is known of the drive but its link.

use serde::{Deserialize, Serialize};

use crate::drive::{Bus, Drive};
use crate::job::ReadBack;

/// A link gives this many bytes a second for each megabit it has, after what the protocol takes.
const BYTES_PER_MEGABIT: u64 = 85_000;
/// No usual stick takes more than this, in bytes a second, whatever its link could do.
const STICK_BYTES_PER_SECOND: u64 = 60_000_000;

/// How long a job takes on a drive, at least.
#[derive(Clone, Copy, Debug, PartialEq, PartialOrd, Serialize, Deserialize)]
pub struct ExpectedTime {
    /// Writing and, where that is asked for, reading back.
    pub seconds: f64,
}

impl ExpectedTime {
    /// For so many bytes onto this drive; `None` where its link is not known.
    pub fn of(drive: &Drive, bytes: u64, read_back: ReadBack) -> Option<Self> {
        let link = u64::from(drive.link.mbps?).checked_mul(BYTES_PER_MEGABIT)?;
        let write = if drive.link.bus == Bus::Usb { link.min(STICK_BYTES_PER_SECOND) } else { link };
        let writing = bytes as f64 / write.max(1) as f64;
        let reading = if read_back == ReadBack::Whole { bytes as f64 / link.max(1) as f64 } else { 0.0 };
        Some(Self { seconds: writing + reading })
    }
}
