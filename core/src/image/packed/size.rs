//! How large is what is inside, where the container tells it?
//!
//! Promise: any bytes give an answer, never a panic; a few MiB of an index and the heads of 65536 blocks are read at most.

use std::io;

use crate::image::field::{take, u32_le};
use crate::image::read_at::{ReadAt, read_block};

/// Sum of the sizes in the index of a file with one stream (.xz format §2.1.2, §4); `None` for anything else.
pub fn of_xz(source: &dyn ReadAt) -> io::Result<Option<u64>> {
    const FOOTER: u64 = 12;
    const INDEX_MOST: u64 = 4 << 20;
    let Some(footer_at) = source.size().checked_sub(FOOTER) else { return Ok(None) };
    let Some(footer) = read_block::<12>(source, footer_at)? else { return Ok(None) };
    if take(footer.as_slice(), 10) != Some(*b"YZ") {
        return Ok(None);
    }
    let stored = u64::from(u32_le(footer.as_slice(), 4).unwrap_or_default());
    let index_bytes = stored.saturating_add(1).saturating_mul(4);
    let Some(index_at) = footer_at.checked_sub(index_bytes).filter(|_| index_bytes <= INDEX_MOST) else {
        return Ok(None);
    };
    let mut index = vec![0u8; usize::try_from(index_bytes).unwrap_or_default()];
    source.fill_at(index_at, &mut index)?;
    Ok(xz_index(&index).filter(|(_, blocks)| blocks.checked_add(FOOTER) == Some(index_at)).map(|(bytes, _)| bytes))
}

/// Size of what is inside, and of the blocks with their padding.
fn xz_index(index: &[u8]) -> Option<(u64, u64)> {
    let (0, mut rest) = index.split_first().map(|(first, rest)| (*first, rest))? else { return None };
    let records = xz_number(&mut rest)?;
    let (mut bytes, mut blocks) = (0u64, 0u64);
    for _ in 0..records.min(index.len() as u64) {
        let unpadded = xz_number(&mut rest)?;
        blocks = blocks.checked_add(unpadded.checked_next_multiple_of(4)?)?;
        bytes = bytes.checked_add(xz_number(&mut rest)?)?;
    }
    Some((bytes, blocks))
}

/// A number of up to 63 bits, seven in each byte, the lowest first (§1.2).
fn xz_number(rest: &mut &[u8]) -> Option<u64> {
    let mut value = 0u64;
    for shift in (0..63).step_by(7) {
        let (byte, after) = rest.split_first()?;
        *rest = after;
        value |= u64::from(byte & 0x7F).checked_shl(shift)?;
        if byte & 0x80 == 0 {
            return Some(value);
        }
    }
    None
}

/// Content size of a file with one frame (RFC 8878 §3.1.1), found by following the blocks to the end of the file.
pub fn of_zst(source: &dyn ReadAt) -> io::Result<Option<u64>> {
    const BLOCKS_MOST: u32 = 1 << 16;
    let mut head = [0u8; 18];
    source.fill_at(0, &mut head)?;
    let Some((size, header_bytes, has_checksum)) = zst_frame(&head) else { return Ok(None) };
    let mut at = header_bytes;
    for _ in 0..BLOCKS_MOST {
        let Some(raw) = read_block::<3>(source, at)? else { return Ok(None) };
        let word = raw.iter().rev().fold(0u64, |word, byte| word.saturating_mul(256).saturating_add(u64::from(*byte)));
        let body = if (word >> 1) & 3 == 1 { 1 } else { word >> 3 };
        at = at.saturating_add(3).saturating_add(body);
        if word & 1 == 1 {
            let end = at.saturating_add(if has_checksum { 4 } else { 0 });
            return Ok((end == source.size()).then_some(size));
        }
    }
    Ok(None)
}

/// Content size, length of the header, and whether a checksum ends the frame.
fn zst_frame(head: &[u8]) -> Option<(u64, u64, bool)> {
    let descriptor = *head.get(4)?;
    let single = descriptor & 0x20 != 0;
    let window = if single { 0 } else { 1u64 };
    let dictionary = [0u64, 1, 2, 4].get(usize::from(descriptor & 3)).copied()?;
    let field = match (descriptor >> 6, single) {
        (0, false) => return None,
        (0, true) => 1u64,
        (1, _) => 2,
        (2, _) => 4,
        _ => 8,
    };
    let at = 5u64.checked_add(window)?.checked_add(dictionary)?;
    let raw = head.get(usize::try_from(at).ok()?..)?.get(..usize::try_from(field).ok()?)?;
    let value = raw.iter().rev().fold(0u64, |value, byte| (value << 8) | u64::from(*byte));
    let size = if field == 2 { value.checked_add(256)? } else { value };
    Some((size, at.checked_add(field)?, descriptor & 4 != 0))
}

/// Content size of a file with one frame, where its flag says that there is one (LZ4 frame format, "Frame Descriptor"), found by
/// following the blocks to the end of the file.
pub fn of_lz4(source: &dyn ReadAt) -> io::Result<Option<u64>> {
    const BLOCKS_MOST: u32 = 1 << 16;
    const HAS_SIZE: u8 = 0x08;
    const HAS_CHECKSUM: u8 = 0x04;
    const BLOCKS_HAVE_CHECKSUMS: u8 = 0x10;
    let Some(head) = read_block::<14>(source, 0)? else { return Ok(None) };
    let flags = head.get(4).copied().unwrap_or_default();
    let Some(size) = take(head.as_slice(), 6).map(u64::from_le_bytes).filter(|_| flags & HAS_SIZE != 0) else {
        return Ok(None);
    };
    let checksum = |flag| if flags & flag != 0 { 4u64 } else { 0 };
    let (per_block, at_end) = (checksum(BLOCKS_HAVE_CHECKSUMS), checksum(HAS_CHECKSUM));
    // Magic, flags, size and the header's own checksum; a number of a dictionary would come before that.
    let mut at = 15u64;
    for _ in 0..BLOCKS_MOST {
        let Some(raw) = read_block::<4>(source, at)? else { return Ok(None) };
        let block = u64::from(u32_le(raw.as_slice(), 0).unwrap_or_default() & 0x7FFF_FFFF);
        at = at.saturating_add(4);
        if block == 0 {
            return Ok((at.saturating_add(at_end) == source.size()).then_some(size));
        }
        at = at.saturating_add(block).saturating_add(per_block);
    }
    Ok(None)
}
