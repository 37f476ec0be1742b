//! Signatures: who vouches for a list of checksums, or for an image itself?
//!
//! Promise: any bytes as signature, list or key give an answer, never a panic; nothing longer than the limits here is read.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

mod checking;
mod ed25519;
mod openpgp;
mod remembered;

use std::io::{self, Read};

use jiff::Timestamp;
use serde::Serialize;

use crate::bytes::ReadAt;
use crate::stop::Cancel;
use crate::text::Shown;
pub use remembered::{Remembered, RememberedError};

/// Longest file of keys that is read, in bytes; distributors hand out whole rings of them.
pub const KEYS_BYTES_MOST: u64 = 16 << 20;
/// Longest signature that is read, in bytes, without the list that may be part of it.
pub const SIGNATURE_BYTES_MOST: u64 = 1 << 20;
/// Most that is signed without being hashed first, in bytes: it has to be kept in memory.
const UNHASHED_BYTES_MOST: u64 = 64 << 20;

/// How a signature is made.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Scheme {
    /// RFC 9580 and RFC 4880.
    OpenPgp,
    /// Ed25519 with a trusted comment, over the bytes or their BLAKE2b.
    Minisign,
    /// Ed25519 over the bytes.
    Signify,
}

/// A public key.
#[derive(Clone, Debug)]
pub struct Key(Kind);

#[derive(Clone, Debug)]
enum Kind {
    OpenPgp(Box<openpgp::Certificate>),
    Ed25519(ed25519::Key),
}

impl Key {
    /// The keys in a file: an OpenPGP key or ring of keys, armoured or not, or a key of minisign or signify.
    ///
    /// # Errors
    /// In words, when there is none that can be read.
    pub fn read_all(bytes: &[u8]) -> Result<Vec<Self>, String> {
        let keys = match ed25519::Key::read(bytes) {
            Some(key) => vec![Self(Kind::Ed25519(key))],
            None => openpgp::certificates(bytes)?.into_iter().map(|key| Self(Kind::OpenPgp(Box::new(key)))).collect(),
        };
        if keys.is_empty() { Err("it holds no public key".to_owned()) } else { Ok(keys) }
    }

    /// What tells this key from all others: hexadecimal digits of OpenPGP, or the whole short key as its maker prints it.
    pub fn fingerprint(&self) -> String {
        match &self.0 {
            Kind::OpenPgp(key) => openpgp::fingerprint(key),
            Kind::Ed25519(key) => key.text(),
        }
    }

    /// Whom it says that it belongs to. Nothing proves that.
    pub fn owner(&self) -> Option<String> {
        match &self.0 {
            Kind::OpenPgp(key) => openpgp::owner(key),
            Kind::Ed25519(key) => key.owner(),
        }
    }

    /// Whether its owner took it back; keys of minisign and signify can't be.
    pub fn is_revoked(&self) -> bool {
        match &self.0 {
            Kind::OpenPgp(key) => openpgp::revocation(key).is_some(),
            Kind::Ed25519(_) => false,
        }
    }

    /// The key as bytes from which [`Self::read_all`] makes it again.
    fn to_bytes(&self) -> io::Result<Vec<u8>> {
        match &self.0 {
            Kind::OpenPgp(key) => openpgp::to_bytes(key).map_err(io::Error::other),
            Kind::Ed25519(key) => Ok(key.file()),
        }
    }
}

/// A signature.
#[derive(Clone, Debug)]
pub struct Signature(Form);

#[derive(Clone, Debug)]
enum Form {
    OpenPgp(Vec<openpgp::Packet>),
    Ed25519(Box<ed25519::Signature>),
}

/// What a file of signatures turned out to be.
#[derive(Clone, Debug)]
pub struct SignatureFile {
    /// The signature.
    pub signature: Signature,
    /// What it signs, if that is in the same file.
    pub text: Option<Vec<u8>>,
}

impl SignatureFile {
    /// Reads a detached signature, or a text with its signature in the same file; `None` for anything else.
    pub fn read(bytes: &[u8]) -> Option<Self> {
        if let Some((signature, text)) = ed25519::Signature::read(bytes) {
            return Some(Self { signature: Signature(Form::Ed25519(Box::new(signature))), text });
        }
        let (packets, text) = openpgp::signatures(bytes)?;
        Some(Self { signature: Signature(Form::OpenPgp(packets)), text })
    }
}

/// What a signature is for.
#[derive(Clone, Copy)]
pub enum Signed<'a> {
    /// Bytes in memory, such as a list.
    Bytes(&'a [u8]),
    /// A whole image.
    Image(&'a dyn ReadAt, &'a Cancel),
}

impl Signed<'_> {
    fn reader(&self) -> Box<dyn Read + '_> {
        match *self {
            Self::Bytes(bytes) => Box::new(bytes),
            Self::Image(image, cancel) => Box::new(Reader { image, cancel, at: 0 }),
        }
    }

    /// All of it, where it is small enough.
    fn whole(&self) -> Result<Vec<u8>, Fault> {
        let mut bytes = Vec::new();
        let limit = UNHASHED_BYTES_MOST.saturating_add(1);
        self.reader().take(limit).read_to_end(&mut bytes).map_err(|error| Fault::Reading(error.to_string()))?;
        if bytes.len() as u64 > UNHASHED_BYTES_MOST { Err(Fault::TooLong) } else { Ok(bytes) }
    }
}

struct Reader<'a> {
    image: &'a dyn ReadAt,
    cancel: &'a Cancel,
    at: u64,
}

impl Read for Reader<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        if self.cancel.is_set() {
            return Err(io::Error::other("stopped"));
        }
        let count = self.image.read_at(self.at, into)?;
        self.at = self.at.saturating_add(count as u64);
        Ok(count)
    }
}

/// A signature that holds.
#[derive(Clone, Debug)]
pub struct Good<'a> {
    /// The key that made it.
    pub key: &'a Key,
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

/// Checks a signature with the keys that were given, else with those that are remembered.
///
/// # Errors
/// With the reason why nothing is proven.
pub fn verify<'a>(
    signature: &Signature,
    signed: Signed<'_>,
    given: &'a [Key],
    remembered: &'a [Key],
    now: Timestamp,
) -> Result<Good<'a>, Fault> {
    let outcome = verify_with(signature, signed, given, now);
    match outcome {
        // A key that is known already may go on being used, whatever else was given.
        Err(Fault::UnknownKey { made_by }) => match (verify_with(signature, signed, remembered, now), given.first()) {
            (Err(Fault::UnknownKey { .. }), Some(given)) => {
                Err(Fault::WrongKey { made_by, given: given.fingerprint() })
            }
            (outcome, _) => outcome,
        },
        outcome => outcome,
    }
}

fn verify_with<'a>(
    signature: &Signature,
    signed: Signed<'_>,
    keys: &'a [Key],
    now: Timestamp,
) -> Result<Good<'a>, Fault> {
    match &signature.0 {
        Form::OpenPgp(packets) => openpgp::verify(packets, signed, keys, now),
        Form::Ed25519(signature) => signature.verify(signed, keys),
    }
}

impl Signature {
    /// How it is made.
    pub fn scheme(&self) -> Scheme {
        match &self.0 {
            Form::OpenPgp(_) => Scheme::OpenPgp,
            Form::Ed25519(signature) => signature.scheme(),
        }
    }
}

pub(super) fn day(time: Timestamp) -> String {
    time.strftime("%Y-%m-%d").to_string()
}

/// Text from outside, fit to be shown in one line.
fn one_line(text: &str) -> Option<String> {
    let line: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).take(120).collect();
    let line = line.trim();
    (!line.is_empty()).then(|| line.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::published::vouch;

    const LIST: &[u8] = include_bytes!("../../../../sample/signed/SHA256SUMS");

    macro_rules! fixture {
        ($name:literal) => {
            include_bytes!(concat!("../../../../sample/signed/", $name)).as_slice()
        };
    }

    fn told(signature: &[u8], key: &[u8], signed: &[u8], day: &str) -> String {
        let now = format!("{day}T12:00:00Z").parse().unwrap();
        let read = SignatureFile::read(signature).unwrap();
        let keys = Key::read_all(key).unwrap();
        match verify(&read.signature, Signed::Bytes(signed), &keys, &[], now) {
            Ok(_) => "good".to_owned(),
            Err(fault) => fault.id().to_owned(),
        }
    }

    #[test]
    fn a_signature_is_believed_at_its_time_and_at_no_other() {
        let releases = fixture!("releases.key");
        let tried = [
            told(fixture!("list.asc"), releases, LIST, "2026-10-30"), // two days before it was made
            told(fixture!("list.asc"), releases, LIST, "2026-10-31"), // clocks differ by a day
            told(fixture!("list.asc"), releases, LIST, "2099-01-01"), // a key without an end
            told(fixture!("over.asc"), releases, LIST, "2026-11-07"),
            told(fixture!("over.asc"), releases, LIST, "2026-11-09"),
            told(fixture!("by-expired.asc"), fixture!("expired.key"), LIST, "2026-05-31"),
            told(fixture!("by-expired.asc"), fixture!("expired.key"), LIST, "2026-06-02"),
            // A revoked key is not believed for the time before either: who stole it can date as he likes.
            told(fixture!("by-revoked.asc"), fixture!("revoked.key"), LIST, "2026-02-02"),
        ];
        let expected = ["misdated", "good", "good", "good", "expired-signature", "good", "expired-key", "revoked-key"];
        assert_eq!(tried, expected);
    }

    #[test]
    fn either_half_of_a_curves_signatures_holds_and_a_kind_nobody_knows_is_not_called_changed() {
        let day = "2026-11-23";
        for signature in [fixture!("by-secp256k1-high.asc"), fixture!("by-secp256k1-low.asc")] {
            assert_eq!(told(signature, fixture!("secp256k1.key"), LIST, day), "good");
            assert_eq!(told(signature, fixture!("secp256k1.key"), b"another list", day), "tampered");
        }
        let brainpool = [fixture!("by-brainpool.asc"), fixture!("brainpool.key")];
        assert_eq!(told(brainpool[0], brainpool[1], LIST, day), "foreign-key");
        assert_eq!(
            Key::read_all(fixture!("secp256k1.key")).unwrap()[0].owner().unwrap(),
            "Larkspur secp256k1 <releases@larkspur.example>"
        );
    }

    #[test]
    fn a_clock_that_fell_back_asks_whether_it_is_right_and_calls_nothing_changed() {
        let published = crate::published::Published {
            signatures: vec![crate::published::PublishedSignature {
                file: "list.asc".into(),
                read: SignatureFile::read(fixture!("list.asc")),
                over: vec![crate::published::Over::List { path: "SHA256SUMS".into(), bytes: LIST.to_vec() }],
                is_asked: false,
            }],
            ..Default::default()
        };
        let keys = Key::read_all(fixture!("releases.key")).unwrap();
        let folder = tempfile::tempdir().unwrap();
        let remembered = Remembered::load(folder.path()).unwrap();
        let vouched = vouch(
            &published,
            &LIST.to_vec(),
            None,
            &keys,
            &remembered,
            "1999-01-01T00:00:00Z".parse().unwrap(),
            &Cancel::new(),
        );
        // Made before this program was built: nobody's clock matters for that.
        assert!(vouched[0].is_good(), "{:?}", vouched[0].fault);
        let fault = Fault::FromTheFuture { on: "2031-01-01".into(), clock: "1999-01-01".into() };
        insta::assert_snapshot!(format!("{fault}; next: {}", fault.next_step()), @"it was made on 2031-01-01, and this PC's clock says 1999-01-01; next: is this PC's clock right? If it is, do not use the file; if not, set it and run the same command again");
    }

    #[test]
    fn no_changed_byte_of_what_is_signed_is_believed() {
        let (releases, minisign, signify) =
            (fixture!("releases.key"), fixture!("minisign.pub"), fixture!("signify.pub"));
        let forms = [
            (fixture!("list.sig"), releases),
            (fixture!("list.minisig"), minisign),
            (fixture!("list-unhashed.minisig"), minisign),
            (fixture!("list.signify.sig"), signify),
        ];
        for (signature, key) in forms {
            assert_eq!(told(signature, key, LIST, "2026-11-23"), "good");
            for place in 0..LIST.len() {
                let mut changed = LIST.to_vec();
                changed[place] ^= 0x20;
                assert_eq!(told(signature, key, &changed, "2026-11-23"), "tampered", "byte {place}");
            }
            assert_eq!(told(signature, key, &[LIST, b"\n"].concat(), "2026-11-23"), "tampered", "something added");
            assert_eq!(told(signature, key, &LIST[1..], "2026-11-23"), "tampered", "something left away");
        }
    }

    #[test]
    fn a_ring_of_keys_is_searched_and_other_keys_are_no_ground_for_belief() {
        let ring = [fixture!("expired.key"), fixture!("impostor.key")];
        let binary: Vec<u8> =
            ring.iter().flat_map(|key| Key::read_all(key).unwrap().remove(0).to_bytes().unwrap()).collect();
        assert_eq!(Key::read_all(&binary).unwrap().len(), 2);
        assert_eq!(told(fixture!("list.asc"), &binary, LIST, "2026-11-23"), "wrong-key");
        assert_eq!(told(fixture!("by-impostor.asc"), &binary, LIST, "2026-11-23"), "good", "a name proves nothing");
        let binary = [binary, Key::read_all(fixture!("releases.key")).unwrap().remove(0).to_bytes().unwrap()].concat();
        assert_eq!(told(fixture!("list.asc"), &binary, LIST, "2026-11-23"), "good");
        // The trusted comment of minisign is signed as well.
        let text = String::from_utf8(fixture!("list.minisig").to_vec()).unwrap();
        let moved = text.replace("file:SHA256SUMS", "file:SHA512SUMS");
        assert_eq!(told(moved.as_bytes(), fixture!("minisign.pub"), LIST, "2026-11-23"), "tampered");
    }
}
