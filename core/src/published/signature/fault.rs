//! How a signature came out: what holds, and why one proves nothing.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use crate::text::Shown;

/// How a signature is made.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Scheme {
    /// RFC 9580 and RFC 4880.
    OpenPgp,
    /// Ed25519 with a trusted comment, over the bytes or their BLAKE2b.
    Minisign,
    /// Ed25519 over the bytes.
    Signify,
}

/// A signature that holds, and the key that it was found with.
#[derive(Clone, Debug)]
pub struct Good<K> {
    /// The key that made it.
    pub key: K,
    /// When it says that it was made.
    pub made: Option<Timestamp>,
}

/// Why a signature proves nothing, each with a sentence of its own.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Fault {
    /// Nobody gave the key that made it.
    #[error("it was made by the key {made_by}, which is not known here")]
    UnknownKey {
        /// What the signature says of its key.
        made_by: String,
    },
    /// Keys were given, and it was made by none of them.
    #[error("it was made by the key {made_by}, and the key that was given is another one: {given}")]
    WrongKey {
        /// What the signature says of its key.
        made_by: String,
        /// Fingerprint of the key given.
        given: String,
    },
    /// The key is the right one, and what it signed was something else.
    #[error("it does not belong to these bytes: they, or the signature, were changed after signing")]
    Tampered,
    /// The key was good for a time that is over.
    #[error("the key {key} that made it expired on {on}")]
    Expired {
        /// Its fingerprint.
        key: String,
        /// Day.
        on: String,
    },
    /// Its owner took the key back.
    #[error("the key {key} that made it was revoked by its owner{}", reason.shown())]
    Revoked {
        /// Its fingerprint.
        key: String,
        /// What the owner says of it, behind a colon; or nothing.
        reason: String,
    },
    /// The signature itself was good for a time that is over.
    #[error("it was good until {on} only")]
    Over {
        /// Day.
        on: String,
    },
    /// It is dated earlier than its own key.
    #[error("it says that it was made on {on}, which can't be")]
    Misdated {
        /// Day.
        on: String,
    },
    /// It is dated later than this PC's clock has it.
    #[error("it was made on {on}, and this PC's clock says {clock}")]
    FromTheFuture {
        /// Day of the signature, or of the key that made it.
        on: String,
        /// Day of the clock.
        clock: String,
    },
    /// Its key is of a kind that nobody here can calculate with.
    #[error("it was made by a key of a kind that can't be checked here ({})", kind.shown())]
    ForeignKind {
        /// Name of the curve or algorithm.
        kind: String,
    },
    /// It rests on a hash that can be forged.
    #[error("it rests on {hash}, which can be forged")]
    Weak {
        /// The hash's name.
        hash: &'static str,
    },
    /// The key is its owner's, and not for signing files.
    #[error("the key {key} that made it is not meant for signing")]
    NotForSigning {
        /// Its fingerprint.
        key: String,
    },
    /// This owner or this system had another key until now.
    #[error("{} signed with another key until now: {known}, first used here on {since}; this one is {given}", who.shown())]
    ChangedKey {
        /// Owner or system.
        who: String,
        /// Fingerprint of the remembered key.
        known: String,
        /// Day on which it was remembered.
        since: String,
        /// Fingerprint of the key given.
        given: String,
        /// The file in which the old key is remembered.
        file: String,
    },
    /// Its kind needs all of the bytes in memory, and there are too many.
    #[error("it signs the bytes themselves and not their checksum, which can't be checked for a file of this size")]
    TooLong,
    /// What it signs can't be read.
    #[error("what it signs can't be read: {}", .0.shown())]
    Reading(String),
    /// The file is no signature that is known here.
    #[error("this is no signature of OpenPGP, minisign or signify")]
    NoSignature,
}

impl Fault {
    /// A word for programs.
    pub fn id(&self) -> &'static str {
        match self {
            Self::UnknownKey { .. } => "unknown-key",
            Self::WrongKey { .. } => "wrong-key",
            Self::Tampered => "tampered",
            Self::Expired { .. } => "expired-key",
            Self::Revoked { .. } => "revoked-key",
            Self::Over { .. } => "expired-signature",
            Self::Misdated { .. } | Self::FromTheFuture { .. } => "misdated",
            Self::ForeignKind { .. } => "foreign-key",
            Self::Weak { .. } => "weak-hash",
            Self::NotForSigning { .. } => "not-for-signing",
            Self::ChangedKey { .. } => "changed-key",
            Self::TooLong => "too-long",
            Self::Reading(_) => "unreadable",
            Self::NoSignature => "no-signature",
        }
    }

    /// What to do about it.
    pub fn next_step(&self) -> String {
        match self {
            Self::UnknownKey { .. } => "get the publisher's key from the publisher's own page, and give it with --key",
            Self::WrongKey { .. } => "get the key that the publisher names for this release, and give it with --key",
            Self::Tampered => {
                "download the list, its signature and the image again, from another mirror; do not use these"
            }
            Self::Expired { .. } | Self::Over { .. } => {
                "get the publisher's renewed key and give it with --key, or use a newer release"
            }
            Self::Revoked { .. } => "do not use it; look at the publisher's page for the new key and a new signature",
            Self::Misdated { .. } => "do not use it; ask the publisher",
            Self::FromTheFuture { .. } => {
                "is this PC's clock right? If it is, do not use the file; if not, set it and run the same command again"
            }
            Self::ForeignKind { .. } => {
                "check it with the publisher's own instructions, or use a list that is signed by another key"
            }
            Self::Weak { .. } | Self::TooLong => "look for a newer signature, or for a signed list of checksums",
            Self::NotForSigning { .. } => "do not use it; ask the publisher",
            Self::ChangedKey { file, .. } => {
                return format!(
                    "ask the publisher; only if they announced this new key, forget the old one: rm {file}"
                );
            }
            Self::Reading(_) => "check the disk and run the same command again",
            Self::NoSignature => "give the .asc, .sig, .sign, .gpg or .minisig file that was published with the image",
        }
        .to_owned()
    }
}

pub(crate) fn day(time: Timestamp) -> String {
    time.strftime("%Y-%m-%d").to_string()
}

/// Text from outside, fit to be shown in one line.
pub(super) fn one_line(text: &str) -> Option<String> {
    let line: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).take(120).collect();
    let line = line.trim();
    (!line.is_empty()).then(|| line.to_owned())
}
