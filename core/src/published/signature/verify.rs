//! A signature read from a file, and checked with keys.

use jiff::Timestamp;

use crate::published::signature::fault::{Fault, Good, Scheme};
use crate::published::signature::key::{Key, KeyKind};
use crate::published::signature::signed::Signed;
use crate::published::signature::{ed25519, openpgp};

/// Longest signature that is read, in bytes, without the list that may be part of it.
pub const SIGNATURE_BYTES_MOST: u64 = 1 << 20;
/// A signature.
#[derive(Clone, Debug)]
pub struct Signature(Form);

#[derive(Clone, Debug)]
enum Form {
    OpenPgp(Vec<openpgp::Packet>),
    Ed25519(Box<ed25519::Ed25519Signature>),
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
        if let Some((signature, text)) = ed25519::Ed25519Signature::read(bytes) {
            return Some(Self { signature: Signature(Form::Ed25519(Box::new(signature))), text });
        }
        let (packets, text) = openpgp::signatures(bytes)?;
        Some(Self { signature: Signature(Form::OpenPgp(packets)), text })
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
) -> Result<Good<&'a Key>, Fault> {
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
) -> Result<Good<&'a Key>, Fault> {
    match &signature.0 {
        Form::OpenPgp(packets) => {
            let own = keys.iter().filter_map(|key| match &key.0 {
                KeyKind::OpenPgp(certificate) => Some((key, &**certificate)),
                KeyKind::Ed25519(_) => None,
            });
            openpgp::verify(packets, signed, &own.collect::<Vec<_>>(), now)
        }
        Form::Ed25519(signature) => {
            let own = keys.iter().filter_map(|key| match &key.0 {
                KeyKind::Ed25519(own) => Some((key, own)),
                KeyKind::OpenPgp(_) => None,
            });
            signature.verify(signed, &own.collect::<Vec<_>>())
        }
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::published::signature::Remembered;
    use crate::published::{Keys, Subject, vouch};
    use crate::stop::Cancel;

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
        let (list, now) = (LIST.to_vec(), "1999-01-01T00:00:00Z".parse().unwrap());
        let known = Keys { given: &keys, remembered: &remembered, is_given_only: false };
        let vouched = vouch(&published, Subject { image: &list, system: None }, known, now, &Cancel::new());
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
