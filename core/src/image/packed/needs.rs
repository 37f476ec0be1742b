//! How much memory a part of a packed file needs to be unpacked, by what its first bytes say.
//!
//! Sources: the .xz file format 1.2.0, §3.1 (block header) and §5.3.1 (LZMA2); RFC 8878, §3.1.1.1 (Zstandard frame header).
//! Promise: any bytes give an answer, never a panic.

use crate::bytes::field::take;
use crate::image::packed::format::Format;

/// Most memory that a codec may ask for, in bytes.
pub const CODEC_MEMORY_MOST: u64 = 256 << 20;
/// Memory that unpacking several blocks of an xz file at once may take, in bytes, and most threads for it.
pub(super) const XZ_THREADS_MEMORY_MOST: u64 = 160 << 20;
pub(super) const XZ_THREADS_MOST: usize = 4;
/// What the first bytes of a part tell must reach this far, in bytes: the longest block header, and what stands before it.
pub(super) const HEAD: usize = 12 + 1024;
/// What a codec needs beside the window, in bytes.
const BESIDE: u64 = 1 << 20;

/// More memory than is given, and how much it would take.
#[derive(Clone, Copy, Debug, thiserror::Error)]
#[error("it takes {0} bytes of memory to unpack")]
pub(super) struct TooMuch(pub u64);

/// Refuses a part that needs more than [`CODEC_MEMORY_MOST`].
pub(super) fn check(format: Format, head: &[u8]) -> Result<(), TooMuch> {
    let window = match format {
        Format::Xz => xz_dictionary(head),
        Format::Zst => zst_window(head).filter(|window| *window > CODEC_MEMORY_MOST),
        Format::Gz | Format::Bz2 | Format::Lz4 | Format::Zip => None,
    };
    let bytes = window.map(|window| window.saturating_add(BESIDE));
    match bytes.filter(|bytes| *bytes > CODEC_MEMORY_MOST) {
        Some(bytes) => Err(TooMuch(bytes)),
        None => Ok(()),
    }
}

/// The dictionary of a stream's first block.
fn xz_dictionary(head: &[u8]) -> Option<u64> {
    const STREAM_HEADER: usize = 12;
    const LZMA2: u64 = 0x21;
    let header = head.get(STREAM_HEADER..)?;
    let (flags, mut rest) = (*header.get(1)?, header.get(2..)?);
    for _ in 0..(flags >> 6).count_ones() {
        super::size::xz_number(&mut rest)?;
    }
    for _ in 0..=(flags & 3) {
        let (id, bytes) = (super::size::xz_number(&mut rest)?, super::size::xz_number(&mut rest)?);
        if id == LZMA2 {
            let bits = u32::from(*rest.first()? & 0x3F);
            return match bits {
                40 => Some(u64::from(u32::MAX)),
                bits => u64::from(2 | (bits & 1)).checked_shl((bits / 2).checked_add(11)?),
            };
        }
        rest = rest.get(usize::try_from(bytes).ok()?..)?;
    }
    None
}

/// The window of a frame; a frame that is one piece is its own window.
fn zst_window(head: &[u8]) -> Option<u64> {
    const SINGLE: u8 = 0x20;
    if take::<4>(head, 0)? != [0x28, 0xB5, 0x2F, 0xFD] {
        return None;
    }
    if head.get(4)? & SINGLE != 0 {
        return super::size::zst_frame(head)?.bytes;
    }
    let window = *head.get(5)?;
    let base = 1u64.checked_shl(u32::from(window >> 3).checked_add(10)?)?;
    base.checked_add((base / 8).checked_mul(u64::from(window & 7))?)
}
