//! What happens while an image is examined, for whoever shows it.

use std::io;
use std::path::Path;

/// A piece of work that takes its time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Work {
    /// The image is compared with what was published for it.
    Compare,
    /// Its files are compared with the list inside it.
    Files,
    /// It is unpacked to nowhere.
    Unpack,
}

/// Something that could not be kept for the next time; the examination goes on.
#[derive(Debug)]
pub enum Unkept {
    /// A key, since there is no folder for it.
    KeyHasNoPlace,
    /// A key.
    Key(io::Error),
    /// What the shelf knows of the image.
    Shelf(io::Error),
}

/// Something that happens. Lengths are bytes.
#[derive(Debug)]
pub enum CheckEvent<'a> {
    /// Work begins; how much it will read, where that is known.
    Began {
        /// Which.
        work: Work,
        /// How much.
        bytes: Option<u64>,
    },
    /// It has read so much so far.
    Moved {
        /// How much.
        done: u64,
    },
    /// It has ended, well or not.
    Ended,
    /// A signature of the whole image is checked, for which all of it is read.
    WholeSignature,
    /// Such a signature is passed over, since the image is not here yet.
    WholeSignatureLater,
    /// The image is not read: it is unchanged since its checksums were computed.
    Kept {
        /// On that day.
        day: &'a str,
    },
    /// Something could not be kept.
    Unkept(Unkept),
    /// What the shelf knows of the image could not be looked at.
    ShelfUnread {
        /// The bench's folder.
        state: &'a Path,
        /// Why.
        error: &'a io::Error,
    },
}

/// Hears what happens.
pub trait CheckWatcher: Sync {
    /// Something has.
    fn heard(&self, event: &CheckEvent<'_>);
}
