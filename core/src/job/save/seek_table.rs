//! The table behind the frames of a packed file, by which one of them is found without unpacking those before it.
//!
//! Source: Zstandard Seekable Format, version 0.1.0: a skippable frame (RFC 8878, section 3.1.2) of the kind 0xE at the file's end, with
//! an entry for each frame and a footer.

/// Magic number of the skippable frame.
const SKIPPABLE: u32 = 0x184D_2A5E;
/// Magic number that ends the footer.
const SEEKABLE: u32 = 0x8F92_EAB1;
const ENTRY_BYTES: u32 = 8;
const FOOTER_BYTES: u32 = 9;

/// A frame: its length in the file, and how much comes out of it, both in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct SeekEntry {
    pub packed: u32,
    pub unpacked: u32,
}

/// The table of these frames, without checksums.
pub(super) fn seek_table(frames: &[SeekEntry]) -> Vec<u8> {
    let count = u32::try_from(frames.len()).unwrap_or(u32::MAX);
    let bytes = count.saturating_mul(ENTRY_BYTES).saturating_add(FOOTER_BYTES);
    let mut table = [SKIPPABLE.to_le_bytes(), bytes.to_le_bytes()].concat();
    for frame in frames {
        table.extend(frame.packed.to_le_bytes());
        table.extend(frame.unpacked.to_le_bytes());
    }
    table.extend(count.to_le_bytes());
    // Descriptor: no checksums.
    table.push(0);
    table.extend(SEEKABLE.to_le_bytes());
    table
}
