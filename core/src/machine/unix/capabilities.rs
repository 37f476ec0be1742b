//! What root's own process gives up.
//!
//! Source: capabilities(7).

use std::io;

use rustix::thread::{CapabilitySet, CapabilitySets, remove_capability_from_bounding_set, set_capabilities};

/// To open files whoever they belong to: an image may lie with anybody.
pub(crate) const FILES_ALONE: CapabilitySet = CapabilitySet::DAC_OVERRIDE.union(CapabilitySet::DAC_READ_SEARCH);

/// Gives up every capability but to open files; to be called while this process has one thread.
///
/// # Errors
/// When the system does not let it be.
pub fn keep_files_alone() -> io::Result<()> {
    for capability in CapabilitySet::all().difference(FILES_ALONE).iter() {
        // Some containers do not let it be, and older kernels know fewer.
        let _ = remove_capability_from_bounding_set(capability);
    }
    let sets = CapabilitySets { effective: FILES_ALONE, permitted: FILES_ALONE, inheritable: CapabilitySet::empty() };
    Ok(set_capabilities(None, sets)?)
}
