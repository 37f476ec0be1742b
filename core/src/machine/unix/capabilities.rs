//! What root's own process gives up.
//!
//! Source: capabilities(7).

use std::io;

use rustix::io::Errno;
use rustix::thread::{CapabilitySet, CapabilitySets, remove_capability_from_bounding_set, set_capabilities};

/// To open files whoever they belong to: an image may lie with anybody.
const FILES_ALONE: CapabilitySet = CapabilitySet::DAC_OVERRIDE.union(CapabilitySet::DAC_READ_SEARCH);

/// Gives up every capability but to open files; to be called while this process has one thread.
///
/// # Errors
/// When the system does not let it be.
pub fn keep_files_alone() -> io::Result<()> {
    limit_capabilities(FILES_ALONE)?;
    let sets = CapabilitySets { effective: FILES_ALONE, permitted: FILES_ALONE, inheritable: CapabilitySet::empty() };
    Ok(set_capabilities(None, sets)?)
}

/// Makes every capability but these unattainable for this process and all that it starts.
fn limit_capabilities(kept: CapabilitySet) -> io::Result<()> {
    for capability in CapabilitySet::all().difference(kept).iter() {
        match remove_capability_from_bounding_set(capability) {
            // Some containers do not let it be, and older kernels know fewer.
            Ok(()) | Err(Errno::PERM | Errno::INVAL) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(())
}

/// Makes every capability unattainable: for a process that stops being root.
///
/// # Errors
/// When the system does not let it be.
pub(crate) fn forbid_capabilities() -> io::Result<()> {
    limit_capabilities(CapabilitySet::empty())
}
