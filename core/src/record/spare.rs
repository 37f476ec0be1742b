//! What lies behind an image on a drive, and what its tables say of that.

use std::collections::BTreeMap;
use std::ops::Range;

use data_encoding::HEXLOWER;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Most bytes that are altered at one place: an entry or a header, in a sector of the larger size.
const ALTERED_MOST: usize = 4096;

/// A partition behind an image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SparePartition {
    /// As systems count it.
    pub number: u32,
    /// Where it begins on the drive, in bytes.
    pub offset: u64,
    /// Its length, in bytes.
    pub bytes: u64,
    /// `fat32`, `exfat` or `ext4`.
    pub filesystem: String,
    /// What it was called when it was made.
    pub label: String,
    /// Whether it was there before the job, which left it as it was.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub was_there: bool,
}

impl SparePartition {
    /// Where it lies, in bytes.
    pub fn range(&self) -> Range<u64> {
        self.offset..self.offset.saturating_add(self.bytes)
    }
}

/// Bytes that lie on a drive in place of an image's own.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct AlteredBytes {
    /// Where, in bytes.
    pub offset: u64,
    /// What lies there, in hexadecimal digits.
    pub hex: String,
}

impl AlteredBytes {
    /// Bytes at their places.
    pub fn all(bytes: &BTreeMap<u64, Vec<u8>>) -> Vec<Self> {
        bytes.iter().map(|(offset, bytes)| Self { offset: *offset, hex: HEXLOWER.encode(bytes) }).collect()
    }

    /// The bytes at their places; those that are no hexadecimal digits are left out.
    pub fn at_places(all: &[Self]) -> BTreeMap<u64, Vec<u8>> {
        let bytes = |hex: &str| HEXLOWER.decode(hex.as_bytes()).ok().filter(|bytes| bytes.len() <= ALTERED_MOST);
        all.iter().filter_map(|one| Some((one.offset, bytes(&one.hex)?))).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn altered_bytes_are_read_back_and_other_text_is_left_out() {
        let bytes = BTreeMap::from([(462, vec![0, 0xFE, 0x0C]), (512, b"EFI PART".to_vec())]);
        let mut kept = AlteredBytes::all(&bytes);
        assert_eq!((kept[0].offset, kept[0].hex.as_str()), (462, "00fe0c"));
        kept.extend(["f", "xy", "é0"].map(|hex| AlteredBytes { offset: 9, hex: hex.to_owned() }));
        kept.push(AlteredBytes { offset: 9, hex: "00".repeat(ALTERED_MOST + 1) });
        assert_eq!(AlteredBytes::at_places(&kept), bytes);
    }
}
