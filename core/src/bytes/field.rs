//! Fixed-size fields out of raw bytes: where the readers of on-disk structures touch data.

/// The `N` bytes at offset `at`, if they are there.
pub(crate) fn take<const N: usize>(data: &[u8], at: usize) -> Option<[u8; N]> {
    data.get(at..).and_then(|rest| rest.first_chunk()).copied()
}

/// Puts `bytes` at offset `at`; those that reach beyond `data` are left out.
pub(crate) fn put(data: &mut [u8], at: usize, bytes: &[u8]) {
    data.iter_mut().skip(at).zip(bytes).for_each(|(into, from)| *into = *from);
}

/// Little-endian number of two bytes.
pub(crate) fn u16_le(data: &[u8], at: usize) -> Option<u16> {
    take(data, at).map(u16::from_le_bytes)
}

/// Little-endian number of four bytes.
pub(crate) fn u32_le(data: &[u8], at: usize) -> Option<u32> {
    take(data, at).map(u32::from_le_bytes)
}

/// Little-endian number of eight bytes.
pub(crate) fn u64_le(data: &[u8], at: usize) -> Option<u64> {
    take(data, at).map(u64::from_le_bytes)
}

/// A number that ECMA-119 stores twice, little-endian and then big-endian; `None` if the two differ.
pub(crate) fn both32(data: &[u8], at: usize) -> Option<u32> {
    let low = take(data, at).map(u32::from_le_bytes)?;
    let high = take(data, at.checked_add(4)?).map(u32::from_be_bytes)?;
    (low == high).then_some(low)
}

/// Text of fixed length without its padding (spaces or zeros); control characters become spaces.
pub(crate) fn text(data: &[u8], at: usize, len: usize) -> Option<String> {
    let raw = data.get(at..at.checked_add(len)?)?;
    let raw = raw.split(|byte| *byte == 0).next().unwrap_or_default();
    let text: String = String::from_utf8_lossy(raw).chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    let text = text.trim();
    (!text.is_empty()).then(|| text.to_owned())
}

/// UTF-16, big-endian, up to its first zero; `None` when nothing is left of it.
pub(crate) fn utf16_be(raw: &[u8]) -> Option<String> {
    utf16(raw.chunks_exact(2).filter_map(|pair| take(pair, 0).map(u16::from_be_bytes)))
}

/// UTF-16, little-endian, up to its first zero; `None` when nothing is left of it.
pub(crate) fn utf16_le(raw: &[u8]) -> Option<String> {
    utf16(raw.chunks_exact(2).filter_map(|pair| take(pair, 0).map(u16::from_le_bytes)))
}

fn utf16(units: impl Iterator<Item = u16>) -> Option<String> {
    let text: String = char::decode_utf16(units.take_while(|unit| *unit != 0))
        .map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER))
        .map(|c| if c.is_control() { ' ' } else { c })
        .collect();
    let text = text.trim();
    (!text.is_empty()).then(|| text.to_owned())
}
