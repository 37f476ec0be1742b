//! OpenPGP: which key made this signature, and may it have?
//!
//! The library parses packets and does the mathematics; what a signature needs to be believed is decided here.
//! Source: RFC 9580, §5.2.3 (subpackets), §10.1 (transferable public keys), §5.2.1 (types of signature).

use jiff::{SignedDuration, Timestamp};
use pgp::composed::{CleartextSignedMessage, Deserializable, DetachedSignature, SignedPublicKey, SignedPublicSubKey};
use pgp::crypto::hash::HashAlgorithm;
use pgp::packet::SignatureType;
use pgp::ser::Serialize as _;
use pgp::types::{KeyDetails, Tag, VerifyingKey};

use crate::published::signature::checking::{Checking, foreign_kind};
use crate::published::signature::fault::{Fault, Good, day, one_line};
use crate::published::signature::signed::Signed;

pub(super) use pgp::composed::SignedPublicKey as Certificate;
pub(super) use pgp::packet::Signature as Packet;

const CLEAR_SIGNED: &[u8] = b"-----BEGIN PGP SIGNED MESSAGE-----";
const ARMOUR: &[u8] = b"-----BEGIN PGP ";
/// Set in the first byte of every packet (RFC 9580, §4.2).
const PACKET_BIT: u8 = 0x80;
/// Most keys of a ring, and most signatures of a file, that are looked at.
const KEYS_MOST: usize = 1000;
const SIGNATURES_MOST: usize = 32;
/// How far a publisher's clock may be ahead of this PC's.
const CLOCKS_DIFFER: SignedDuration = SignedDuration::from_hours(24);

fn is_openpgp(bytes: &[u8]) -> bool {
    bytes.starts_with(ARMOUR) || bytes.first().is_some_and(|byte| byte & PACKET_BIT != 0)
}

/// All keys of a file.
pub(super) fn certificates(bytes: &[u8]) -> Result<Vec<SignedPublicKey>, String> {
    let bytes = bytes.trim_ascii_start();
    if !is_openpgp(bytes) {
        return Err("it is no public key of OpenPGP, minisign or signify".to_owned());
    }
    let (all, _) = SignedPublicKey::from_reader_many(bytes).map_err(|error| error.to_string())?;
    // A ring may hold keys of kinds that are not known here; the others still count.
    Ok(all.take(KEYS_MOST).flatten().collect())
}

/// The signatures in a file, and the text between them if it is clear-signed.
pub(super) fn signatures(bytes: &[u8]) -> Option<(Vec<Packet>, Option<Vec<u8>>)> {
    let bytes = bytes.trim_ascii_start();
    if bytes.starts_with(CLEAR_SIGNED) {
        let (message, _) = CleartextSignedMessage::from_string(std::str::from_utf8(bytes).ok()?).ok()?;
        let signatures: Vec<_> = message.signatures().iter().take(SIGNATURES_MOST).cloned().collect();
        return (!signatures.is_empty()).then(|| (signatures, Some(message.signed_text().into_bytes())));
    }
    if !is_openpgp(bytes) {
        return None;
    }
    let (all, _) = DetachedSignature::from_reader_many(bytes).ok()?;
    let signatures: Vec<_> = all.take(SIGNATURES_MOST).flatten().map(|detached| detached.signature).collect();
    (!signatures.is_empty()).then_some((signatures, None))
}

/// The primary key's fingerprint in groups of four digits, as publishers print it.
pub(super) fn fingerprint(key: &SignedPublicKey) -> String {
    grouped(&format!("{:X}", key.primary_key.fingerprint()))
}

fn grouped(hex: &str) -> String {
    let groups = hex.as_bytes().chunks(4).map(|group| String::from_utf8_lossy(group).into_owned());
    groups.collect::<Vec<_>>().join(" ")
}

/// The first name that the key itself has signed, the one marked as primary before others.
pub(super) fn owner(key: &SignedPublicKey) -> Option<String> {
    let certified = |user: &&pgp::types::SignedUser| {
        user.signatures
            .iter()
            .any(|packet| packet.verify_certification(&Checking(&key.primary_key), Tag::UserId, &user.id).is_ok())
    };
    let users = || key.details.users.iter().filter(certified);
    let user = users().find(|user| user.is_primary()).or_else(|| users().next())?;
    one_line(&String::from_utf8_lossy(user.id.id()))
}

/// The key with its signatures, as packets.
pub(super) fn to_bytes(key: &SignedPublicKey) -> Result<Vec<u8>, String> {
    key.to_bytes().map_err(|error| error.to_string())
}

/// What the owner says of taking the key back; `None` for a key that stands.
pub(super) fn revocation(key: &SignedPublicKey) -> Option<String> {
    let takes_back = |packet: &&Packet| packet.typ() == Some(SignatureType::KeyRevocation);
    let mut own = key.details.revocation_signatures.iter().filter(takes_back);
    own.find(|packet| packet.verify_key(&Checking(&key.primary_key)).is_ok()).map(reason)
}

/// Checks the signatures with `keys`, each with whose it is: one that holds is enough, since publishers sign a list with their old and new key.
pub(super) fn verify<K: Copy>(
    packets: &[Packet],
    signed: Signed<'_>,
    keys: &[(K, &Certificate)],
    now: Timestamp,
) -> Result<Good<K>, Fault> {
    let mut fault = None;
    for packet in packets {
        match verify_one(packet, signed, keys, now) {
            Ok(good) => return Ok(good),
            // What a known key says weighs more than that another one is unknown.
            Err(Fault::UnknownKey { .. }) if fault.is_some() => {}
            Err(other) => fault = Some(other),
        }
    }
    Err(fault.unwrap_or(Fault::NoSignature))
}

/// The key of a certificate that made a signature.
enum Maker<'a> {
    Primary,
    Sub(&'a SignedPublicSubKey),
}

fn verify_one<K: Copy>(
    packet: &Packet,
    signed: Signed<'_>,
    keys: &[(K, &Certificate)],
    now: Timestamp,
) -> Result<Good<K>, Fault> {
    let found = keys.iter().find_map(|&(key, certificate)| {
        if is_by(packet, &certificate.primary_key) {
            return Some((key, certificate, Maker::Primary));
        }
        let sub = certificate.public_subkeys.iter().find(|sub| is_by(packet, &sub.key))?;
        Some((key, certificate, Maker::Sub(sub)))
    });
    let Some((key, certificate, maker)) = found else { return Err(Fault::UnknownKey { made_by: made_by(packet) }) };
    if !matches!(packet.typ(), Some(SignatureType::Binary | SignatureType::Text)) {
        return Err(Fault::NoSignature);
    }
    let weak = match packet.hash_alg() {
        Some(HashAlgorithm::Md5) => Some("MD5"),
        Some(HashAlgorithm::Sha1) => Some("SHA-1"),
        Some(HashAlgorithm::Ripemd160) => Some("RIPEMD-160"),
        _ => None,
    };
    if let Some(hash) = weak {
        return Err(Fault::Weak { hash });
    }
    let own = match &maker {
        Maker::Primary => None,
        Maker::Sub(sub) => foreign_kind(&sub.key),
    };
    if let Some(kind) = own.or_else(|| foreign_kind(&certificate.primary_key)) {
        return Err(Fault::ForeignKind { kind });
    }
    let holds = match &maker {
        Maker::Primary => holds(packet, &certificate.primary_key, signed),
        Maker::Sub(sub) => holds(packet, &sub.key, signed),
    };
    holds?;
    let made = time(packet.created());
    believable(packet, certificate, &maker, made, now)?;
    Ok(Good { key, made })
}

fn holds(packet: &Packet, key: &impl VerifyingKey, signed: Signed<'_>) -> Result<(), Fault> {
    let mut reader = signed.reader();
    let mut trouble = None;
    let read = ReadOnce { reader: &mut *reader, trouble: &mut trouble };
    let result = packet.verify(&Checking(key), read);
    match (result, trouble) {
        (Ok(()), _) => Ok(()),
        (Err(_), Some(trouble)) => Err(Fault::Reading(trouble)),
        (Err(pgp::errors::Error::Unsupported { message, .. }), None) => Err(Fault::ForeignKind { kind: message }),
        (Err(_), None) => Err(Fault::Tampered),
    }
}

/// Keeps the reason when reading fails: the library's own error does not tell it from a wrong signature.
struct ReadOnce<'a> {
    reader: &'a mut dyn std::io::Read,
    trouble: &'a mut Option<String>,
}

impl std::io::Read for ReadOnce<'_> {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        self.reader.read(into).inspect_err(|error| *self.trouble = Some(error.to_string()))
    }
}

/// Whether the signature names this key as its maker.
fn is_by(packet: &Packet, key: &impl KeyDetails) -> bool {
    let (prints, ids) = (packet.issuer_fingerprint(), packet.issuer_key_id());
    if prints.is_empty() {
        return ids.iter().any(|id| **id == key.legacy_key_id());
    }
    prints.iter().any(|print| **print == key.fingerprint())
}

fn made_by(packet: &Packet) -> String {
    let print = packet.issuer_fingerprint().first().map(|print| format!("{print:X}"));
    let id = || packet.issuer_key_id().first().map(|id| format!("{id}").to_uppercase());
    print.or_else(id).map_or("that it does not name".to_owned(), |hex| grouped(&hex))
}

fn time(at: Option<pgp::types::Timestamp>) -> Option<Timestamp> {
    Timestamp::from_second(i64::from(at?.as_secs())).ok()
}

/// The end of a term that begins at `from`; `None` if it has none (RFC 9580, §5.2.3.13: zero means never).
fn end(from: Option<Timestamp>, term: Option<pgp::types::Duration>) -> Option<Timestamp> {
    let seconds = term.map(|term| i64::from(term.as_secs())).filter(|seconds| *seconds > 0)?;
    from?.checked_add(SignedDuration::from_secs(seconds)).ok()
}

/// Whether the key was its owner's, for signing, not taken back and not over.
fn believable(
    packet: &Packet,
    certificate: &SignedPublicKey,
    maker: &Maker<'_>,
    made: Option<Timestamp>,
    now: Timestamp,
) -> Result<(), Fault> {
    let primary = &certificate.primary_key;
    let key = fingerprint(certificate);
    if let Some(reason) = revocation(certificate) {
        return Err(Fault::Revoked { key, reason });
    }
    let of_users = certificate.details.users.iter().flat_map(|user| {
        user.signatures.iter().filter(|packet| {
            packet.typ() != Some(SignatureType::CertRevocation)
                && packet.verify_certification(&Checking(primary), Tag::UserId, &user.id).is_ok()
        })
    });
    let direct =
        certificate.details.direct_signatures.iter().filter(|packet| packet.verify_key(&Checking(primary)).is_ok());
    let newest = of_users.chain(direct).max_by_key(|packet| packet.created());
    let created = time(Some(primary.created_at()));
    let over = |on: Timestamp| on <= now;
    if let Some(on) = end(created, newest.and_then(Packet::key_expiration_time)).filter(|on| over(*on)) {
        return Err(Fault::Expired { key, on: day(on) });
    }
    match maker {
        Maker::Primary => {
            let flags = newest.map(Packet::key_flags).unwrap_or_default();
            // A key without any flags is an old one that may do everything.
            if flags != pgp::packet::KeyFlags::default() && !flags.sign() {
                return Err(Fault::NotForSigning { key });
            }
        }
        Maker::Sub(sub) => subkey(sub, certificate, &key, now)?,
    }
    let born = match maker {
        Maker::Primary => created,
        Maker::Sub(sub) => time(Some(sub.key.created_at())),
    };
    let Some(made) = made else { return Err(Fault::Misdated { on: "no day at all".to_owned() }) };
    if made > now.saturating_add(CLOCKS_DIFFER).unwrap_or(Timestamp::MAX) {
        return Err(Fault::FromTheFuture { on: day(made), clock: day(now) });
    }
    if born.is_some_and(|born| made < born) {
        return Err(Fault::Misdated { on: day(made) });
    }
    match end(Some(made), packet.signature_expiration_time()).filter(|on| over(*on)) {
        Some(on) => Err(Fault::Over { on: day(on) }),
        None => Ok(()),
    }
}

/// A subkey counts when the primary key says that it is its own and for signing, and the subkey says so too.
fn subkey(sub: &SignedPublicSubKey, certificate: &SignedPublicKey, key: &str, now: Timestamp) -> Result<(), Fault> {
    let primary = &certificate.primary_key;
    let valid =
        || sub.signatures.iter().filter(|packet| packet.verify_subkey_binding(&Checking(primary), &sub.key).is_ok());
    if let Some(revocation) = valid().find(|packet| packet.typ() == Some(SignatureType::SubkeyRevocation)) {
        return Err(Fault::Revoked { key: key.to_owned(), reason: reason(revocation) });
    }
    let bindings = valid().filter(|packet| packet.typ() == Some(SignatureType::SubkeyBinding));
    let newest = bindings.max_by_key(|packet| packet.created());
    let back = |packet: &Packet| {
        packet
            .embedded_signature()
            .is_some_and(|back| back.verify_primary_key_binding(&Checking(&sub.key), primary).is_ok())
    };
    let Some(binding) = newest.filter(|packet| packet.key_flags().sign() && back(packet)) else {
        return Err(Fault::NotForSigning { key: key.to_owned() });
    };
    match end(time(Some(sub.key.created_at())), binding.key_expiration_time()).filter(|on| *on <= now) {
        Some(on) => Err(Fault::Expired { key: key.to_owned(), on: day(on) }),
        None => Ok(()),
    }
}

fn reason(revocation: &Packet) -> String {
    let words = revocation.revocation_reason_string().and_then(|words| one_line(&String::from_utf8_lossy(words)));
    words.map(|words| format!(": {words}")).unwrap_or_default()
}
