//! What goes wrong with a mirror, and with a fetch as a whole.

use std::io;
use std::path::PathBuf;

use crate::fetch::public_address::public_address;
use crate::hash::Algorithm;
use crate::text::Shown;

/// What is wrong with a mirror, or with its answer.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum MirrorFault {
    /// No address that can be fetched.
    #[error("`{}` is no http or https address of a file", public_address(text).shown())]
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
    #[error("it leads from https to an address without protection, {}", public_address(to).shown())]
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
    pub(super) fn is_lasting(&self) -> bool {
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
    #[error("{}: {fault}", public_address(address).shown())]
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
