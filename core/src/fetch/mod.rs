//! Getting an image over the network: from the best mirror that answers, on from where it stopped, proven on the way.
//!
//! Promise: servers may answer anything at all; memory, room on the disk and time are bounded, and what was fetched stays
//! until it is known to be wrong. Nothing gets its own name before all of it is there.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod beside;
mod carry;
mod follow;
mod metalink;
mod onward;
mod part;
mod patience;
mod ranges;
mod transfer;
mod web;

use std::io;
use std::path::PathBuf;

pub use beside::{Beside, beside};
pub use metalink::{METALINK_BYTES_MOST, MetalinkError, metalink};
pub use onward::{Onward, Tell};
pub use part::PartFile;
pub use transfer::transfer;
pub use web::{Reach, Web};

use crate::hash::{Algorithm, Sum};
use crate::text::Shown;

/// Longest address that is kept, in characters.
const ADDRESS_MOST: usize = 4096;

/// An image to be fetched.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Wanted {
    /// Name of the file, without any folder.
    pub name: String,
    /// Where it can be had, the best first.
    pub mirrors: Vec<Mirror>,
    /// Its length in bytes, if that was published.
    pub bytes: Option<u64>,
    /// Checksums that it must have.
    pub sums: Vec<Sum>,
    /// Checksums of its pieces.
    pub pieces: Option<Pieces>,
    /// A detached signature of it.
    pub signature: Option<Vec<u8>>,
}

/// A server that has the image.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mirror {
    /// The image's address there.
    pub address: String,
    /// The smaller, the better.
    pub priority: u32,
    /// Country, in two small letters (ISO 3166-1).
    pub location: Option<String>,
}

/// Checksums of an image's pieces.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pieces {
    /// Of which kind they are.
    pub algorithm: Algorithm,
    /// Length of a piece in bytes; that of the last may be shorter.
    pub bytes: u64,
    /// One for each piece.
    pub sums: Vec<Sum>,
}

impl Pieces {
    /// Those that can't be forged come first, then the shorter ones.
    fn rank(&self) -> (bool, std::cmp::Reverse<u64>) {
        (!self.algorithm.is_forgeable(), std::cmp::Reverse(self.bytes))
    }
}

impl Wanted {
    /// The image at one address.
    ///
    /// # Errors
    /// When it is no http or https address, or names no file.
    pub fn at(address: &str) -> Result<Self, MirrorFault> {
        let fail = || MirrorFault::Address { text: address.chars().take(ADDRESS_MOST).collect() };
        let url = web::address(address)?;
        let last = url.path_segments().and_then(|mut parts| parts.next_back()).unwrap_or_default();
        let name = file_name(&percent_encoding::percent_decode_str(last).decode_utf8_lossy()).ok_or_else(fail)?;
        let mirror = Mirror { address: url.to_string(), priority: 1, location: None };
        Ok(Self { name, mirrors: vec![mirror], ..Self::default() })
    }

    /// Puts the mirrors of a country first; among them, and among the others, the order stays.
    pub fn prefer(&mut self, country: &str) {
        let country = country.to_ascii_lowercase();
        self.mirrors.sort_by_key(|mirror| mirror.location.as_ref() != Some(&country));
    }
}

/// The name itself of a file whose name somebody else chose; `None` if nothing fit for a file is left.
pub fn file_name(given: &str) -> Option<String> {
    let last = given.rsplit(['/', '\\']).next().unwrap_or_default().trim();
    let is_fit =
        !last.is_empty() && last.len() <= 200 && !last.starts_with('.') && crate::text::foreign::is_harmless(last);
    is_fit.then(|| last.to_owned())
}

/// What is wrong with a mirror, or with its answer.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum MirrorFault {
    /// No address that can be fetched.
    #[error("`{}` is no http or https address of a file", text.shown())]
    Address {
        /// As given.
        text: String,
    },
    /// An error status.
    #[error("the server answers with status {code}{}", status_words(*code))]
    Status {
        /// RFC 9110, §15.
        code: u16,
        /// After how many seconds to try again, if the server says.
        after: Option<u64>,
    },
    /// The server can't prove who it is.
    #[error("its certificate is not accepted: {}", why.shown())]
    Certificate {
        /// In words.
        why: String,
    },
    /// From an address that is protected to one that is not.
    #[error("it leads from https to an address without protection, {}", to.shown())]
    Downgrade {
        /// Where to.
        to: String,
    },
    /// One redirect after the other.
    #[error("it leads in circles")]
    Redirects,
    /// Root talks to this machine alone.
    #[error("nothing that talks to the network runs as root")]
    Rights,
    /// Nobody there.
    #[error("it can't be reached: {}", why.shown())]
    Unreachable {
        /// In words.
        why: String,
    },
    /// The connection ended too early.
    #[error("the connection broke off ({})", why.shown())]
    BrokeOff {
        /// In words.
        why: String,
    },
    /// No byte came for too long.
    #[error("it stays silent")]
    Silent,
    /// It is far slower than others may be.
    #[error("it is very slow")]
    Slow,
    /// An answer that breaks the rules of HTTP.
    #[error("its answer makes no sense")]
    Nonsense,
    /// A file of another length than published.
    #[error("it has a file of {said} bytes where {expected} are expected")]
    OtherLength {
        /// What the server says, or sends.
        said: u64,
        /// What it should be.
        expected: u64,
    },
    /// A web page, a text, a list.
    #[error("it sends {what}")]
    NotAnImage {
        /// With its article.
        what: String,
    },
    /// A piece whose checksum is wrong.
    #[error("its piece at byte {at} is damaged")]
    DamagedPiece {
        /// Where the piece begins.
        at: u64,
    },
    /// All of it had the wrong checksum.
    #[error("what it sends has another {algorithm} than published")]
    OtherSum {
        /// Which checksum.
        algorithm: Algorithm,
    },
    /// It sent all of the file where a part was asked for.
    #[error("it can't go on in the middle of a file")]
    NoParts,
    /// It has another version than before.
    #[error("it has another version of the file by now")]
    Changed,
    /// Told to stop.
    #[error("stopped before the end")]
    Stopped,
    /// More than there is room for.
    #[error("it sends more than the {limit} bytes for which there is room")]
    TooLong {
        /// The most that is taken.
        limit: u64,
    },
}

fn status_words(code: u16) -> &'static str {
    match code {
        401 | 407 => ": it wants a name and a password",
        403 => ": it gives this file to nobody",
        404 | 410 => ": there is no such file",
        429 => ": too many are asking",
        500..=599 => ": it is in trouble itself",
        _ => "",
    }
}

impl MirrorFault {
    /// Whether the same mirror can't do better in a moment.
    fn is_lasting(&self) -> bool {
        match self {
            Self::Status { code, .. } => !matches!(code, 408 | 425 | 429 | 500..=599),
            Self::Unreachable { .. }
            | Self::BrokeOff { .. }
            | Self::Silent
            | Self::Slow
            | Self::DamagedPiece { .. } => false,
            _ => true,
        }
    }

    /// What to do about it.
    pub fn next_step(&self) -> &'static str {
        match self {
            Self::Address { .. } => {
                "give the address of the image itself, of its Metalink file, or a name in a catalogue"
            }
            Self::Certificate { .. } => "check this machine's clock and the address; somebody may sit in between",
            Self::Downgrade { .. } => "use another mirror; that address could send anything",
            Self::Rights => "run it as yourself, without sudo; only `write` needs root",
            Self::NotAnImage { .. } => "open the address in a browser: the image may have moved",
            Self::TooLong { .. } => "make room, or give the address of the image itself",
            Self::OtherSum { .. } | Self::OtherLength { .. } => {
                "use another mirror, and compare the publisher's own page"
            }
            Self::Status { code: 401 | 403 | 404 | 407 | 410, .. } => "look up the image's address again",
            _ => "check the line, then run the same command again: it goes on from there",
        }
    }
}

/// Why a fetch did not end well. What was fetched so far is kept.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum FetchError {
    /// The folder or the file under way can't be written.
    #[error("can't write {}", path.shown())]
    Folder {
        /// Which file.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// Another process is fetching the same.
    #[error("another fetch of this image is under way ({})", path.shown())]
    Busy {
        /// The file under way.
        path: PathBuf,
    },
    /// A file that is not from a fetch bears the name of the one under way.
    #[error("{} is there already, and is not from a fetch", path.shown())]
    Foreign {
        /// That file.
        path: PathBuf,
    },
    /// No mirror is left.
    #[error("{}: {fault}", address.shown())]
    NoMirror {
        /// The one that was given up last.
        address: String,
        /// Why.
        fault: MirrorFault,
    },
    /// Told to stop.
    #[error("stopped before the end")]
    Stopped,
}

impl FetchError {
    /// What to do about it.
    pub fn next_step(&self) -> &'static str {
        match self {
            Self::Folder { source, .. } => match source.kind() {
                io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => {
                    "make room, then run the same command again: it goes on from there"
                }
                io::ErrorKind::AlreadyExists => "move that file away, then run the same command again",
                _ => "name a folder that you may write to with --into",
            },
            Self::Busy { .. } => "wait for it, or stop it",
            Self::Foreign { .. } => {
                "a browser may be downloading it: move that file away, or name another folder with --into"
            }
            Self::NoMirror { fault, .. } => fault.next_step(),
            Self::Stopped => "run the same command again: it goes on from there",
        }
    }
}

/// What happens on the way.
#[derive(Debug)]
#[non_exhaustive]
pub enum News<'a> {
    /// A mirror is asked.
    Asking {
        /// Its address.
        address: &'a str,
    },
    /// It sends, from this byte on.
    Sending {
        /// Its address.
        address: &'a str,
        /// First byte.
        from: u64,
    },
    /// It will be asked again.
    Again {
        /// Its address.
        address: &'a str,
        /// What went wrong.
        fault: &'a MirrorFault,
        /// In so many seconds.
        seconds: f64,
    },
    /// It is asked no more.
    Dropped {
        /// Its address.
        address: &'a str,
        /// Why.
        fault: &'a MirrorFault,
    },
    /// Everything begins again.
    StartedOver {
        /// Why.
        why: &'a str,
    },
}

/// Who hears how it goes on.
pub trait Listener {
    /// So many bytes are there, of so many, if that is known.
    fn moved(&mut self, done: u64, total: Option<u64>);
    /// Something worth a word.
    fn told(&mut self, news: &News<'_>);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_from_outside_stay_in_their_folder() {
        let fit = ["larkspur.iso", "/srv/a b.iso", "..\\..\\x.iso"].map(file_name).map(Option::unwrap_or_default);
        assert_eq!(fit, ["larkspur.iso", "a b.iso", "x.iso"]);
        for unfit in ["", "a/", "..", ".bashrc", "a\n.iso", "a\u{202e}osi.exe", "a\u{200b}.iso"] {
            assert_eq!(file_name(unfit), None, "{unfit:?}");
        }
        assert_eq!(Wanted::at("https://a.example/x/lark%20spur.iso?y=1").unwrap().name, "lark spur.iso");
        assert!(Wanted::at("https://a.example/").is_err() && Wanted::at("https://a.example/%2e%2e").is_err());
    }
}
