//! How large is what is inside, where the container tells it?
//!
//! Promise: any bytes give an answer, never a panic; a few MiB of an index and the heads of 65536 blocks are read at most.

use std::io;

use crate::bytes::field::{take, u32_le};
use crate::bytes::{ReadAt, read_block};
use crate::image::packed::format::{Format, LZ4_MAGIC, SKIPPABLE_MOST, is_skippable};

/// What a container tells of the size of what is inside.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Told {
    /// So many bytes.
    Bytes(u64),
    /// Nothing, or nothing that is read here.
    Nothing,
    /// The file ends before its own end.
    Cut,
}

/// Of a file that is packed like this.
///
/// # Errors
/// When the file can't be read.
pub(super) fn of(format: Format, source: &dyn ReadAt) -> io::Result<Told> {
    match format {
        Format::Xz => of_xz(source),
        Format::Zst => of_zst(source),
        Format::Lz4 => of_lz4(source),
        Format::Gz | Format::Bz2 | Format::Zip => Ok(Told::Nothing),
    }
}

/// Sum of the sizes in the index of a file with one stream (.xz format §2.1.2, §4). A file without a footer is cut: zeros may follow it,
/// in fours (§2.2).
fn of_xz(source: &dyn ReadAt) -> io::Result<Told> {
    const FOOTER: u64 = 12;
    const INDEX_MOST: u64 = 4 << 20;
    const PADDING_MOST: usize = 64 << 10;
    let mut tail = vec![0u8; PADDING_MOST];
    let tail_at = source.size().saturating_sub(PADDING_MOST as u64);
    let count = source.fill_at(tail_at, &mut tail)?;
    tail.truncate(count);
    let padding = tail.iter().rev().take_while(|byte| **byte == 0).count();
    if padding == tail.len() {
        return Ok(Told::Nothing);
    }
    if !padding.is_multiple_of(4) {
        return Ok(Told::Cut);
    }
    let Some(footer_at) = source.size().checked_sub(padding as u64).and_then(|end| end.checked_sub(FOOTER)) else {
        return Ok(Told::Cut);
    };
    let Some(footer) = read_block::<12>(source, footer_at)? else { return Ok(Told::Nothing) };
    if take(footer.as_slice(), 10) != Some(*b"YZ") {
        return Ok(Told::Cut);
    }
    let stored = u64::from(u32_le(footer.as_slice(), 4).unwrap_or_default());
    let index_bytes = stored.saturating_add(1).saturating_mul(4);
    let Some(index_at) = footer_at.checked_sub(index_bytes).filter(|_| index_bytes <= INDEX_MOST) else {
        return Ok(Told::Nothing);
    };
    let mut index = vec![0u8; usize::try_from(index_bytes).unwrap_or_default()];
    source.fill_at(index_at, &mut index)?;
    let sizes = xz_index(&index).filter(|(_, blocks)| blocks.checked_add(FOOTER) == Some(index_at));
    Ok(sizes.map_or(Told::Nothing, |(bytes, _)| Told::Bytes(bytes)))
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
pub(super) fn xz_number(rest: &mut &[u8]) -> Option<u64> {
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

/// Content size of a file with one frame (RFC 8878 §3.1.1) behind any number of skippable ones, found by following the blocks to the end
/// of the file.
fn of_zst(source: &dyn ReadAt) -> io::Result<Told> {
    const BLOCKS_MOST: u32 = 1 << 16;
    let (mut at, mut skipped) = (0u64, 0);
    let frame = loop {
        let mut head = [0u8; 18];
        let count = source.fill_at(at, &mut head)?;
        let head = head.get(..count).unwrap_or_default();
        match head.first_chunk().copied().filter(|magic| is_skippable(*magic)).and_then(|_| u32_le(head, 4)) {
            Some(_) if skipped == SKIPPABLE_MOST => return Ok(Told::Nothing),
            Some(bytes) => {
                skipped = skipped.saturating_add(1);
                at = at.saturating_add(8).saturating_add(u64::from(bytes));
            }
            None => match zst_frame(head) {
                Some(frame) => break frame,
                None => return Ok(Told::Nothing),
            },
        }
    };
    at = at.saturating_add(frame.header_bytes);
    for _ in 0..BLOCKS_MOST {
        let Some(raw) = read_block::<3>(source, at)? else { return Ok(Told::Cut) };
        let word = raw.iter().rev().fold(0u64, |word, byte| word.saturating_mul(256).saturating_add(u64::from(*byte)));
        let body = if (word >> 1) & 3 == 1 { 1 } else { word >> 3 };
        at = at.saturating_add(3).saturating_add(body);
        if word & 1 == 1 {
            let end = at.saturating_add(if frame.has_checksum { 4 } else { 0 });
            return Ok(told(end, source.size(), frame.bytes));
        }
    }
    Ok(Told::Nothing)
}

/// What is told by a frame that ends here, in a file of that size.
fn told(end: u64, size: u64, bytes: Option<u64>) -> Told {
    match bytes {
        _ if end > size => Told::Cut,
        Some(bytes) if end == size => Told::Bytes(bytes),
        _ => Told::Nothing,
    }
}

/// A frame's header.
pub(super) struct ZstFrame {
    /// Size of what is inside, where it says it.
    pub bytes: Option<u64>,
    header_bytes: u64,
    has_checksum: bool,
}

/// Decodes a frame's header; `None` for anything else.
pub(super) fn zst_frame(head: &[u8]) -> Option<ZstFrame> {
    if take(head, 0)? != [0x28u8, 0xB5, 0x2F, 0xFD] {
        return None;
    }
    let descriptor = *head.get(4)?;
    let single = descriptor & 0x20 != 0;
    let window = if single { 0 } else { 1u64 };
    let dictionary = [0u64, 1, 2, 4].get(usize::from(descriptor & 3)).copied()?;
    let field = match (descriptor >> 6, single) {
        (0, false) => 0u64,
        (0, true) => 1,
        (1, _) => 2,
        (2, _) => 4,
        _ => 8,
    };
    let at = 5u64.checked_add(window)?.checked_add(dictionary)?;
    let raw = head.get(usize::try_from(at).ok()?..)?.get(..usize::try_from(field).ok()?)?;
    let value = raw.iter().rev().fold(0u64, |value, byte| (value << 8) | u64::from(*byte));
    let bytes = if field == 2 { value.checked_add(256)? } else { value };
    Some(ZstFrame {
        bytes: (field > 0).then_some(bytes),
        header_bytes: at.checked_add(field)?,
        has_checksum: descriptor & 4 != 0,
    })
}

/// Content size of a file with one frame, where its flag says that there is one (LZ4 frame format, "Frame Descriptor"), found by
/// following the blocks to the end of the file.
fn of_lz4(source: &dyn ReadAt) -> io::Result<Told> {
    const BLOCKS_MOST: u32 = 1 << 16;
    const HAS_SIZE: u8 = 0x08;
    const HAS_CHECKSUM: u8 = 0x04;
    const BLOCKS_HAVE_CHECKSUMS: u8 = 0x10;
    const HAS_DICTIONARY: u8 = 0x01;
    let Some(head) = read_block::<14>(source, 0)? else { return Ok(Told::Cut) };
    let flags = head.get(4).copied().unwrap_or_default();
    if take(head.as_slice(), 0) != Some(LZ4_MAGIC) || flags & HAS_DICTIONARY != 0 {
        return Ok(Told::Nothing);
    }
    let size = take(head.as_slice(), 6).map(u64::from_le_bytes).filter(|_| flags & HAS_SIZE != 0);
    let checksum = |flag| if flags & flag != 0 { 4u64 } else { 0 };
    let (per_block, at_end) = (checksum(BLOCKS_HAVE_CHECKSUMS), checksum(HAS_CHECKSUM));
    // Magic, flags, size if there is one, and the header's own checksum.
    let mut at = if size.is_some() { 15u64 } else { 7 };
    for _ in 0..BLOCKS_MOST {
        let Some(raw) = read_block::<4>(source, at)? else { return Ok(Told::Cut) };
        let block = u64::from(u32_le(raw.as_slice(), 0).unwrap_or_default() & 0x7FFF_FFFF);
        at = at.saturating_add(4);
        if block == 0 {
            return Ok(told(at.saturating_add(at_end), source.size(), size));
        }
        at = at.saturating_add(block).saturating_add(per_block);
    }
    Ok(Told::Nothing)
}
