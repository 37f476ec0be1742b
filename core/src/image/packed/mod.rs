//! Packed images: what is inside, how large it is, and its bytes without unpacking it to disk.
//!
//! Sources: RFC 1952 (gzip), the .xz file format 1.2.0, RFC 8878 (Zstandard), the LZ4 frame format 1.6.2,
//! PKWARE's APPNOTE 6.3 (zip). The codecs themselves are those of well-kept libraries.
//! Promise: any bytes give an answer or an error; memory is bounded by [`CODEC_MEMORY_MOST`], and whoever unpacks sets a limit.

mod fault;
mod format;
mod members;
mod needs;
mod seen;
mod shared_bytes;
mod size;
mod unpack;
mod zipped;

pub use fault::PackedFault;
pub use format::Format;
pub use needs::CODEC_MEMORY_MOST;
pub use seen::Seen;
pub use shared_bytes::SharedBytes;
pub use unpack::{HEAD_BYTES, Packed, Unpacked, unpacking};
pub use zipped::ENTRIES_MOST;
