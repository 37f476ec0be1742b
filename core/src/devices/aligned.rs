//! Memory that a drive can be read into and written from without a copy by the system.

use std::ops::{Deref, DerefMut};

/// Direct I/O needs memory, place and length in whole sectors; this is the largest sector in use, in bytes.
pub const ALIGNMENT: usize = 4096;

/// Size of a large page of memory; buffers of this many bytes or more begin at a multiple of it.
const LARGE_PAGE: usize = 2 << 20;

/// A buffer whose first byte lies at a multiple of [`ALIGNMENT`].
pub struct AlignedBuf {
    memory: Vec<u8>,
    start: usize,
    len: usize,
}

impl AlignedBuf {
    /// A buffer of `len` zero bytes.
    pub fn new(len: usize) -> Self {
        let alignment = if len >= LARGE_PAGE { LARGE_PAGE } else { ALIGNMENT };
        // One alignment more than asked for leaves room to begin where it fits; what is not used takes no memory.
        let memory = vec![0u8; len.saturating_add(alignment)];
        let start = memory.as_ptr().align_offset(alignment).min(alignment);
        let mut buffer = Self { memory, start, len };
        #[cfg(all(target_os = "linux", not(no_system)))]
        if alignment == LARGE_PAGE {
            crate::devices::linux::advise_large_pages(&mut buffer);
        }
        buffer.touch();
        buffer
    }

    /// Has the memory there before anybody waits for it.
    fn touch(&mut self) {
        self.iter_mut().step_by(ALIGNMENT).for_each(|byte| *byte = 0);
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
