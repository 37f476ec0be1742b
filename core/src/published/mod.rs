//! What others say of an image: lists of checksums, torrents, sums inside the image, signatures, keys that are remembered.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod bencode;
mod check;
mod embedded;
mod inside;
mod sidecar;
pub mod signature;
mod sums;
mod torrent;
mod vouch;

pub use check::{CheckError, Checked, Claims, Expected, Proof, Purpose, Report, are_enough, check, compare};
pub use embedded::{Embedded, EmbeddedReport, embedded};
pub use inside::{FileList, file_list};
pub use sidecar::{Given, Over, Published, PublishedSignature, Unusable, is_list, published};
pub use sums::{Kind, Line, Lines, SUMS_BYTES_MOST, kind_in, kind_named, parse};
pub use torrent::{PiecesReport, Torrent, torrent};
pub use vouch::{Keys, Subject, Vouched, vouch};
