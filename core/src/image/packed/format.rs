//! How a file is packed, told by its first bytes.

use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::bytes::field::{take, u32_le};

/// How an image is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Format {
    /// gzip, one or several members.
    Gz,
    /// xz, one or several streams.
    Xz,
    /// Zstandard.
    Zst,
    /// bzip2.
    Bz2,
    /// LZ4 frames.
    Lz4,
    /// zip with one image in it.
    Zip,
}

/// Magic numbers at the start of the file.
const MAGIC: [(&[u8], Format); 6] = [
    (b"\x1F\x8B", Format::Gz),
    (b"\xFD7zXZ\0", Format::Xz),
    (b"\x28\xB5\x2F\xFD", Format::Zst),
    (b"BZh", Format::Bz2),
    (b"\x04\x22\x4D\x18", Format::Lz4),
    (b"PK\x03\x04", Format::Zip),
];

/// Magic number of LZ4 frames, in the order of the file.
pub(super) const LZ4_MAGIC: [u8; 4] = [0x04, 0x22, 0x4D, 0x18];

/// Whether these four bytes begin a skippable frame, which Zstandard and LZ4 share (RFC 8878 §3.1.2).
pub(super) fn is_skippable(magic: [u8; 4]) -> bool {
    matches!(magic, [0x50..=0x5F, 0x2A, 0x4D, 0x18])
}

/// Most frames for others that may stand before the first one.
pub(super) const SKIPPABLE_MOST: usize = 16;

impl Format {
    /// The format of a file that begins with `head`; frames that are for others may come first.
    pub fn of(head: &[u8]) -> Option<Self> {
        let mut rest = head;
        for _ in 0..SKIPPABLE_MOST {
            let (Some(magic), Some(size)) = (take::<4>(rest, 0), u32_le(rest, 4)) else { break };
            if !is_skippable(magic) {
                break;
            }
            let next = usize::try_from(size).ok().and_then(|size| rest.get(size.checked_add(8)?..));
            // Both formats have such frames; where the next one can't be seen, it is the one that makes them by itself.
            let Some(next) = next.filter(|next| next.len() >= 4) else { return Some(Self::Zst) };
            rest = next;
        }
        Self::by_magic(rest)
    }

    /// The format whose magic number `head` begins with.
    pub fn by_magic(head: &[u8]) -> Option<Self> {
        MAGIC.iter().find(|(magic, _)| head.starts_with(magic)).map(|(_, format)| *format)
    }

    /// Its usual file ending.
    pub fn name(self) -> &'static str {
        match self {
            Self::Gz => "gz",
            Self::Xz => "xz",
            Self::Zst => "zst",
            Self::Bz2 => "bz2",
            Self::Lz4 => "lz4",
            Self::Zip => "zip",
        }
    }
}

impl fmt::Display for Format {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}
