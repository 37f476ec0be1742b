//! Entries of an allocation table, of which a stretch is kept: chains mostly go on where they are.

use std::io;

use crate::bytes::ReadAt;
use crate::bytes::field::take;

/// How much is read at once, in bytes.
const WINDOW_BYTES: u64 = 16 << 10;
/// How often: chains that jump to and fro on purpose end here.
const LOADS_MOST: u32 = 16 << 10;
/// An entry that begins at the end of a window is read whole.
const ENTRY_BYTES: usize = 4;

/// What was read last.
#[derive(Default)]
pub(crate) struct TableWindow {
    at: u64,
    bytes: Vec<u8>,
    loads: u32,
}

impl TableWindow {
    /// The four bytes at a place of the volume, as a number; zeros lie behind its end, and where too much was read.
    pub(crate) fn entry(&mut self, volume: &dyn ReadAt, at: u64) -> io::Result<u32> {
        let inside = |window: &Self| usize::try_from(at.checked_sub(window.at)?).ok();
        let entry = |window: &Self| take::<ENTRY_BYTES>(&window.bytes, inside(window)?).map(u32::from_le_bytes);
        if let Some(entry) = entry(self) {
            return Ok(entry);
        }
        self.loads = self.loads.saturating_add(1);
        if self.loads > LOADS_MOST {
            return Ok(0);
        }
        self.at = at.saturating_sub(at % WINDOW_BYTES);
        self.bytes.clear();
        self.bytes.resize((WINDOW_BYTES as usize).saturating_add(ENTRY_BYTES), 0);
        let read = volume.fill_at(self.at, &mut self.bytes);
        if read.is_err() {
            self.bytes.clear();
        }
        read?;
        Ok(entry(self).unwrap_or_default())
    }
}
