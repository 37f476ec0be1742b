//! Memory that a drive can be read into and written from without a copy by the system.

use std::ops::{Deref, DerefMut};

/// Direct I/O needs memory, place and length in whole sectors; this is the largest sector in use, in bytes.
pub const ALIGNMENT: usize = 4096;

/// A buffer whose first byte lies at a multiple of [`ALIGNMENT`].
pub struct AlignedBuf {
    memory: Vec<u8>,
    start: usize,
    len: usize,
}

impl AlignedBuf {
    /// A buffer of `len` zero bytes.
    pub fn new(len: usize) -> Self {
        // One alignment more than asked for leaves room to begin where it fits.
        let memory = vec![0u8; len.saturating_add(ALIGNMENT)];
        let start = memory.as_ptr().align_offset(ALIGNMENT).min(ALIGNMENT);
        Self { memory, start, len }
    }
}

impl Deref for AlignedBuf {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        self.memory.get(self.start..self.start + self.len).unwrap_or_default()
    }
}

impl DerefMut for AlignedBuf {
    fn deref_mut(&mut self) -> &mut [u8] {
        self.memory.get_mut(self.start..self.start + self.len).unwrap_or_default()
    }
}
