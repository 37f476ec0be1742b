//! An image file that was opened and looked into, and the bytes in it that go onto a drive.

use std::io;
use std::path::Path;
use std::sync::{Arc, OnceLock};

use crate::bytes::ReadAt;
use crate::examine::watch::{CheckEvent, CheckWatcher, Work};
use crate::image::{self, Inspection, Opened, Packed, PackedFault, SharedBytes, Unpacked};
use crate::machine::ImageFile;
use crate::stop::Cancel;
use crate::volume::iso9660;

/// An image file that was looked into.
pub struct OpenedImage {
    /// The file.
    pub file: Arc<ImageFile>,
    /// What it is; of what is inside, if it is packed.
    pub inspection: Inspection,
    packed: Option<Packed>,
    /// What is inside, once it was unpacked to nowhere.
    unpacked: OnceLock<Unpacked>,
}

/// The bytes that go onto a drive.
pub enum Content {
    /// The file's own.
    Plain(Arc<ImageFile>),
    /// What is inside the file.
    Unpacked(Unpacked),
}

impl Content {
    /// For reading.
    pub fn bytes(&self) -> &dyn ReadAt {
        match self {
            Self::Plain(file) => &**file,
            Self::Unpacked(unpacked) => unpacked,
        }
    }
}

/// Why what is inside can't be had.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ContentFault {
    /// It can't be unpacked.
    #[error(transparent)]
    Packed(#[from] PackedFault),
    /// What was packed was cut short already.
    #[error("{bytes} bytes of the image inside are missing at its end")]
    CutInside {
        /// So many.
        bytes: u64,
    },
}

impl ContentFault {
    /// What to do about it.
    pub fn next_step(&self) -> &'static str {
        match self {
            Self::Packed(fault) => fault.next_step(),
            Self::CutInside { .. } => "download it again; it was packed from an image cut short",
        }
    }
}

impl OpenedImage {
    /// Opens the file and looks into it.
    ///
    /// # Errors
    /// When it is no regular file, or can't be read.
    pub fn open(path: &Path) -> io::Result<Self> {
        let file = Arc::new(ImageFile::open(path)?);
        let source: SharedBytes = Arc::clone(&file) as SharedBytes;
        let Opened { inspection, packed } = image::open(&source)?;
        Ok(Self { file, inspection, packed, unpacked: OnceLock::new() })
    }

    /// Length of the file, in bytes.
    pub fn bytes(&self) -> u64 {
        self.file.size()
    }

    /// Whether the image lies packed in the file.
    pub fn is_packed(&self) -> bool {
        self.packed.is_some()
    }

    /// The optical volume of an image that is not packed.
    pub fn plain_volume(&self) -> Option<&iso9660::IsoVolume> {
        self.inspection.optical.volume.as_ref().filter(|_| self.inspection.container.is_none())
    }

    /// What goes onto a drive that has room for `room` bytes. A packed image is unpacked once, to nowhere, so
    /// that a damaged one is known before any drive is touched.
    ///
    /// # Errors
    /// When it can't be unpacked, does not fit, or `cancel` says stop.
    pub fn content(&self, room: u64, cancel: &Cancel, watcher: &dyn CheckWatcher) -> Result<Content, ContentFault> {
        let Some(packed) = self.packed.clone() else { return Ok(Content::Plain(Arc::clone(&self.file))) };
        if let Some(known) = self.unpacked.get().filter(|known| known.size() <= room) {
            return Ok(Content::Unpacked(known.clone()));
        }
        watcher.heard(&CheckEvent::Began { work: Work::Unpack, bytes: packed.unpacked_bytes });
        let measured = packed.measure(room, cancel, &mut |done| watcher.heard(&CheckEvent::Moved { done }));
        watcher.heard(&CheckEvent::Ended);
        let unpacked = measured?;
        let missing = self.inspection.span.declared_bytes.unwrap_or(0).saturating_sub(unpacked.size());
        if missing > 0 {
            return Err(ContentFault::CutInside { bytes: missing });
        }
        Ok(Content::Unpacked(self.unpacked.get_or_init(|| unpacked).clone()))
    }
}
