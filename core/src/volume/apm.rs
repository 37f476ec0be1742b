//! The Apple partition map, which some hybrid images carry beside the others.
//!
//! Source: Inside Macintosh: Devices (1994), "SCSI Manager", driver descriptor and partition map entries; numbers are big-endian.
//! Promise: any bytes give an answer, never a panic; at most [`ENTRIES_MOST`] entries are read.

use std::io;

use serde::{Deserialize, Serialize};

use crate::bytes::field::{take, text};
use crate::bytes::{ReadAt, read_block};

const DRIVER_DESCRIPTOR: [u8; 2] = *b"ER";
const ENTRY: [u8; 2] = *b"PM";
const SMALLEST_BLOCK: u64 = 512;
/// Most entries read.
pub const ENTRIES_MOST: u32 = 64;

/// An entry that stands for something other than the map itself and free space.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ApmPartition {
    /// Place in the map, counted from 1.
    pub number: u32,
    /// First byte in the image.
    pub start: u64,
    /// Length in bytes.
    pub bytes: u64,
    /// Such as `Apple_HFS`.
    pub kind: String,
}

/// The partitions of a map; `None` if there is none.
///
/// # Errors
/// When the image can't be read.
pub fn read(image: &dyn ReadAt) -> io::Result<Option<Vec<ApmPartition>>> {
    let Some(descriptor) = read_block::<4>(image, 0)? else { return Ok(None) };
    if take(descriptor.as_slice(), 0) != Some(DRIVER_DESCRIPTOR) {
        return Ok(None);
    }
    let declared = take(descriptor.as_slice(), 2).map_or(0, u16::from_be_bytes);
    // Hybrid images declare blocks of 2048 bytes and keep a second map in blocks of 512.
    for block in [u64::from(declared), SMALLEST_BLOCK] {
        if matches!(block, 512 | 1024 | 2048 | 4096)
            && let Some(found) = map(image, block)?
        {
            return Ok(Some(found));
        }
    }
    Ok(None)
}

fn map(image: &dyn ReadAt, block: u64) -> io::Result<Option<Vec<ApmPartition>>> {
    let (mut found, mut count) = (Vec::new(), 1);
    let mut number = 1u32;
    while number <= count {
        let Some(raw) = read_block::<80>(image, u64::from(number).saturating_mul(block))? else { break };
        if take(raw.as_slice(), 0) != Some(ENTRY) {
            break;
        }
        let field = |at| take(raw.as_slice(), at).map_or(0, u32::from_be_bytes);
        count = field(4).min(ENTRIES_MOST);
        let kind = text(raw.as_slice(), 48, 32).unwrap_or_default();
        if !matches!(kind.as_str(), "Apple_partition_map" | "Apple_Free" | "Apple_Void" | "") {
            let (start, bytes) = (u64::from(field(8)), u64::from(field(12)));
            let (start, bytes) = (start.saturating_mul(block), bytes.saturating_mul(block));
            found.push(ApmPartition { number, start, bytes, kind });
        }
        number = number.saturating_add(1);
    }
    Ok((number > 1).then_some(found))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn partitions_are_told_without_the_map_itself() {
        let mut image = vec![0u8; 8 * 2048];
        image[..4].copy_from_slice(b"ER\x08\0"); // blocks of 2048 bytes
        for (number, start, kind) in [(1, 1, "Apple_partition_map"), (2, 5, "Apple_HFS")] {
            let at = number * 2048;
            image[at..at + 2].copy_from_slice(b"PM");
            image[at + 7] = 2;
            image[at + 11] = start;
            image[at + 15] = 3;
            image[at + 48..at + 48 + kind.len()].copy_from_slice(kind.as_bytes());
        }
        let found = read(&image).unwrap().unwrap();
        assert_eq!(found, [ApmPartition { number: 2, start: 5 * 2048, bytes: 3 * 2048, kind: "Apple_HFS".into() }]);
        image[2048 + 4] = 0xFF; // a map that claims billions of entries ends where they end
        assert_eq!(read(&image).unwrap().unwrap(), found);
    }
}
