//! What this process can't have more of, should a bound of a reader not hold.
//!
//! Source: getrlimit(2).

use std::io;

use nix::sys::resource::{Resource, getrlimit, setrlimit};
use nix::sys::signal::{SIGXFSZ, SigSet};

use crate::machine::Workload;

/// Most memory that is written to, in bytes: many times what any command needs, and less than brings a PC to a standstill.
const MEMORY_MOST: u64 = 4 << 30;
/// Longest that the processors may work for what is only looked at, in seconds.
const LOOKING_MOST: u64 = 3600;

/// Holds this process to that, and all that it starts.
///
/// # Errors
/// When the system does not let it be.
pub fn limit(workload: Workload) -> io::Result<()> {
    // A file that grows past its limit is an error of that write, and does not end this process: setrlimit(2).
    let mut too_large = SigSet::empty();
    too_large.add(SIGXFSZ);
    too_large.thread_block()?;
    // What is in memory is nobody else's.
    lower(Resource::RLIMIT_CORE, 0)?;
    match workload {
        // An emulated PC has the memory of one, and takes its time.
        Workload::Emulates => Ok(()),
        Workload::Works => lower(Resource::RLIMIT_DATA, MEMORY_MOST),
        Workload::Looks => {
            lower(Resource::RLIMIT_DATA, MEMORY_MOST)?;
            lower(Resource::RLIMIT_CPU, LOOKING_MOST)
        }
    }
}

fn lower(resource: Resource, most: u64) -> io::Result<()> {
    let (_, hard) = getrlimit(resource)?;
    let most = most.min(hard);
    Ok(setrlimit(resource, most, most)?)
}
