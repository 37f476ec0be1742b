//! The descriptors of a UDF volume: that it is there, and what it is called.
//!
//! Source: ECMA-167, 3rd edition, 2/9.2 and 3/9.1 (recognition), 3/7.2 (tags), 3/10.1 and 3/10.2 (primary descriptor and anchor),
//! 3/10.6 (logical volume), 1/7.2.12 (strings); OSTA UDF 2.60, §2.1.1 (compressed characters).
//! Promise: any bytes give an answer, never a panic, in memory bounded by one sector.

use std::io;
use std::ops::Range;

use serde::{Deserialize, Serialize};

use crate::bytes::field::{take, u16_le, u32_le, utf16_be};
use crate::bytes::{ReadAt, read_block};

/// Size of a structure of the recognition sequence, in bytes; and the sizes that sectors have, most usual first.
const STRUCTURE: u64 = 2048;
const SECTORS: [u64; 3] = [2048, 512, 4096];
/// Recognition begins at byte 32,768 (2/8.3.1).
const FIRST_STRUCTURE: u64 = 16;
const STRUCTURES_MOST: u64 = 32;
const ANCHOR_SECTOR: u64 = 256;
const DESCRIPTORS_MOST: u64 = 32;

const TAG_PRIMARY: u16 = 1;
const TAG_ANCHOR: u16 = 2;
pub(super) const TAG_LOGICAL: u16 = 6;
pub(super) const TAG_END: u16 = 8;
const PRIMARY_NAME: Range<usize> = 24..56;
const LOGICAL_NAME: Range<usize> = 84..212;

/// A UDF volume.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Udf {
    /// Its name.
    pub label: Option<String>,
}

/// The UDF volume of an image; `None` if it does not say that it has one.
///
/// # Errors
/// When the image can't be read.
pub fn read(image: &dyn ReadAt) -> io::Result<Option<Udf>> {
    if !is_announced(image)? {
        return Ok(None);
    }
    let label = descriptors(image)?.and_then(|found| label(&found.all));
    Ok(Some(Udf { label }))
}

/// The descriptors to which an anchor leads.
pub(super) struct Descriptors {
    /// Size of a sector, in bytes.
    pub sector: u64,
    pub all: Vec<Vec<u8>>,
}

/// They; `None` if there is no anchor.
pub(super) fn descriptors(image: &dyn ReadAt) -> io::Result<Option<Descriptors>> {
    for sector in SECTORS {
        let anchor = descriptor(image, ANCHOR_SECTOR.saturating_mul(sector))?;
        let Some(anchor) = anchor.filter(|raw| tag(raw.as_slice()) == Some(TAG_ANCHOR)) else { continue };
        let bytes = u64::from(u32_le(anchor.as_slice(), 16).unwrap_or(0));
        let first = u64::from(u32_le(anchor.as_slice(), 20).unwrap_or(0));
        let mut found = Vec::new();
        for index in 0..bytes.div_ceil(sector).min(DESCRIPTORS_MOST) {
            let Some(at) = first.saturating_add(index).checked_mul(sector) else { break };
            let Some(raw) = descriptor(image, at)? else { break };
            found.push(raw.to_vec());
        }
        return Ok(Some(Descriptors { sector, all: found }));
    }
    Ok(None)
}

/// The name that they give.
fn label(descriptors: &[Vec<u8>]) -> Option<String> {
    let (mut volume, mut volume_set) = (None, None);
    for raw in descriptors {
        match tag(raw) {
            Some(TAG_PRIMARY) => volume_set = name(raw, PRIMARY_NAME),
            Some(TAG_LOGICAL) => volume = name(raw, LOGICAL_NAME),
            Some(TAG_END) => break,
            _ => {}
        }
    }
    volume.or(volume_set)
}

/// Whether the recognition sequence names UDF; that of ISO 9660 may come before it.
fn is_announced(image: &dyn ReadAt) -> io::Result<bool> {
    for index in 0..STRUCTURES_MOST {
        let at = FIRST_STRUCTURE.saturating_add(index).saturating_mul(STRUCTURE);
        let Some(raw) = read_block::<8>(image, at)? else { break };
        match &take::<5>(raw.as_slice(), 1) {
            Some(id) if id == b"NSR02" || id == b"NSR03" => return Ok(true),
            Some(id) if id == b"CD001" || id == b"BEA01" => {}
            _ => break,
        }
    }
    Ok(false)
}

/// All descriptors used here are 512 bytes long (3/7.1).
fn descriptor(image: &dyn ReadAt, at: u64) -> io::Result<Option<Box<[u8; 512]>>> {
    read_block::<512>(image, at)
}

/// The identifier of a descriptor whose tag adds up: byte 4 is the sum of the other fifteen.
pub(super) fn tag(raw: &[u8]) -> Option<u16> {
    let tag: [u8; 16] = take(raw, 0)?;
    let others = tag.iter().enumerate().filter(|(place, _)| *place != 4);
    let sum = others.fold(0u8, |sum, (_, byte)| sum.wrapping_add(*byte));
    (raw.get(4) == Some(&sum)).then(|| u16_le(raw, 0)).flatten()
}

/// A string of fixed length: the last byte tells how much of it is used.
fn name(raw: &[u8], place: Range<usize>) -> Option<String> {
    let field = raw.get(place)?;
    let used = usize::from(*field.last()?);
    characters(field.get(..used)?)
}

/// Characters of a string: the first byte tells how wide they are (OSTA UDF 2.60, §2.1.1).
pub(super) fn characters(raw: &[u8]) -> Option<String> {
    let (width, text) = raw.split_first()?;
    match width {
        8 => utf16_be(&text.iter().flat_map(|byte| [0, *byte]).collect::<Vec<_>>()),
        16 => utf16_be(text),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn descriptor(id: u8, at: usize, bytes: &[u8]) -> Vec<u8> {
        let mut raw = vec![0u8; 2048];
        raw[0] = id;
        raw[4] = id;
        raw[at..at + bytes.len()].copy_from_slice(bytes);
        raw
    }

    #[test]
    fn the_logical_volumes_name_is_told_and_a_broken_tag_is_passed_over() {
        let mut image = vec![0u8; 300 * 2048];
        for (sector, id) in [(16, b"BEA01"), (17, b"NSR02")] {
            image[sector * 2048 + 1..][..5].copy_from_slice(id);
        }
        assert_eq!(read(&image).unwrap(), Some(Udf { label: None }));
        let mut put = |sector: usize, raw: Vec<u8>| image[sector * 2048..(sector + 1) * 2048].copy_from_slice(&raw);
        put(256, descriptor(2, 16, &[0, 16, 0, 0, 0x10, 1, 0, 0])); // two sectors at 272
        put(272, descriptor(1, 24, b"\x08the set"));
        let mut logical = descriptor(6, 84, b"\x10\0G\0r\0\xFC\0n");
        logical[84 + 127] = 9;
        put(273, logical);
        assert_eq!(read(&image).unwrap().unwrap().label.as_deref(), Some("Grün"));
        image[273 * 2048 + 4] ^= 1;
        assert_eq!(read(&image).unwrap().unwrap().label, None);
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_panic(raw in proptest::collection::vec(any::<u8>(), 512), at in 0usize..500) {
            let _ = (tag(&raw), name(&raw, at..at.saturating_add(32)));
        }
    }
}
