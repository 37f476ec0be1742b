//! Why a packed image can't be unpacked, and what to do.

use std::io;

use crate::bytes::human_bytes;
use crate::image::packed::Format;
use crate::image::packed::needs::CODEC_MEMORY_MOST;
use crate::text::Shown;
use crate::text::foreign::all_shown;

/// Why a packed image can't be unpacked.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PackedFault {
    /// The packed bytes end too early or contradict themselves.
    #[error("the {format} file is damaged or cut short: unpacking stopped at byte {at} of what is inside")]
    Damaged {
        /// How it is packed.
        format: Format,
        /// How far unpacking came.
        at: u64,
        /// What the codec says.
        source: io::Error,
    },
    /// It ends before its own end.
    #[error("the {format} file ends before its own end: the rest of it is missing")]
    Cut {
        /// How it is packed.
        format: Format,
    },
    /// Its codec wants more memory than is given here.
    #[error("the {format} file needs {} of memory to unpack, and {} are given here", human_bytes(*bytes), human_bytes(CODEC_MEMORY_MOST))]
    NeedsMemory {
        /// How it is packed.
        format: Format,
        /// How much it takes, in bytes.
        bytes: u64,
    },
    /// More comes out than there is room for.
    #[error("what is inside the {format} file is longer than the {limit} bytes that there is room for")]
    TooLong {
        /// How it is packed.
        format: Format,
        /// The most that may come out.
        limit: u64,
    },
    /// The zip's directory can't be read.
    #[error("the zip file's directory can't be read")]
    Directory {
        /// What the library says.
        source: zip::result::ZipError,
    },
    /// The zip holds no image.
    #[error("the zip file holds no image among its {files} files")]
    NoImage {
        /// How many files it holds.
        files: usize,
    },
    /// The zip holds several images.
    #[error("the zip file holds {all} images: {}", all_shown(.names))]
    SeveralImages {
        /// The names of the first of them.
        names: Vec<String>,
        /// How many there are.
        all: usize,
    },
    /// The image in the zip is encrypted or packed in an unusual way.
    #[error("{} in the zip file is {how}", name.shown())]
    Unusual {
        /// Which file.
        name: String,
        /// What is unusual.
        how: String,
    },
    /// A zip comes from a pipe or a line.
    #[error("a zip file can't be unpacked while it comes: its directory lies at its end")]
    ZipOnTheWay,
    /// Told to stop.
    #[error("stopped while unpacking")]
    Stopped,
}

impl PackedFault {
    /// What to do about it.
    pub fn next_step(&self) -> &'static str {
        match self {
            Self::Damaged { .. } | Self::Directory { .. } => "download it again, and check its checksum",
            Self::Cut { .. } => "finish the download, or start it again",
            Self::NeedsMemory { .. } => "unpack it first with its own program, then give the image",
            Self::TooLong { .. } => "choose a larger drive",
            Self::NoImage { .. } => "unpack it and look at what is inside",
            Self::SeveralImages { .. } => "unpack it, then give the one that is meant",
            Self::ZipOnTheWay => "save it to a file, and give that",
            Self::Unusual { .. } => "unpack it, then give the image inside",
            Self::Stopped => "run the same command again",
        }
    }
}
