//! Keys and signatures of minisign and signify: two lines of text, of which the second is base64.
//!
//! Source: the two tools' manual pages, and minisign's "File formats" and signify's `crypto_api` notes. A key is `Ed`,
//! 8 bytes of key number, 32 bytes of key; a signature is `Ed` (over the bytes) or `ED` (over their BLAKE2b), the key
//! number and 64 bytes. minisign adds a trusted comment and a signature over both; signify may add the signed text itself.

use data_encoding::BASE64;
use jiff::Timestamp;
use minisign_verify::{PublicKey, Signature as Minisign};
use ring::signature::{ED25519, UnparsedPublicKey};

use crate::published::signature::fault::{Fault, Good, Scheme, one_line};
use crate::published::signature::signed::Signed;

const COMMENT: &str = "untrusted comment: ";
const TRUSTED: &str = "trusted comment: ";
const NUMBER_BYTES: usize = 8;
const KEY_BYTES: usize = 32;
const SIGNATURE_BYTES: usize = 64;

/// Splits two bytes of algorithm and eight of key number from the rest, which must be `N` bytes long.
fn fields<const N: usize>(base64: &str) -> Option<([u8; 2], [u8; NUMBER_BYTES], [u8; N])> {
    let raw = BASE64.decode(base64.trim().as_bytes()).ok()?;
    let (algorithm, rest) = raw.split_first_chunk()?;
    let (number, rest) = rest.split_first_chunk()?;
    Some((*algorithm, *number, rest.try_into().ok()?))
}

fn hex(number: [u8; NUMBER_BYTES]) -> String {
    // Both tools show the number as one integer, which is stored with its lowest byte first.
    format!("{:016X}", u64::from_le_bytes(number))
}

/// A public key.
#[derive(Clone, Debug)]
pub(super) struct Ed25519Key {
    comment: String,
    base64: String,
    number: [u8; NUMBER_BYTES],
    bytes: [u8; KEY_BYTES],
}

impl Ed25519Key {
    /// Reads a key file, or the one line that publishers print on their pages.
    pub(super) fn read(bytes: &[u8]) -> Option<Self> {
        let text = std::str::from_utf8(bytes).ok()?.trim();
        let (comment, base64) = match text.split_once('\n') {
            Some((first, second)) => (first.trim().strip_prefix(COMMENT)?, second.trim()),
            None => ("", text),
        };
        let (algorithm, number, bytes) = fields(base64)?;
        (algorithm == *b"Ed").then(|| Self { comment: comment.to_owned(), base64: base64.to_owned(), number, bytes })
    }

    /// The key as publishers print it.
    pub(super) fn text(&self) -> String {
        self.base64.clone()
    }

    /// What the comment says beyond what the tools put there by themselves.
    pub(super) fn owner(&self) -> Option<String> {
        let number = hex(self.number);
        let says_more = !self.comment.to_ascii_uppercase().contains(number.trim_start_matches('0'));
        let owner = self.comment.strip_suffix(" public key").unwrap_or(&self.comment);
        says_more.then(|| one_line(owner)).flatten()
    }

    /// The key file.
    pub(super) fn file(&self) -> Vec<u8> {
        format!("{COMMENT}{}\n{}\n", self.comment, self.base64).into_bytes()
    }
}

/// A signature.
#[derive(Clone, Debug)]
pub(super) struct Ed25519Signature {
    number: [u8; NUMBER_BYTES],
    bytes: [u8; SIGNATURE_BYTES],
    /// The whole file of a signature with a trusted comment, and whether the bytes are hashed first.
    minisign: Option<(String, bool)>,
}

impl Ed25519Signature {
    /// Reads a signature, and the text that it signs if that follows.
    pub(super) fn read(bytes: &[u8]) -> Option<(Self, Option<Vec<u8>>)> {
        let after_comment = bytes.strip_prefix(COMMENT.as_bytes())?;
        let mut lines = after_comment.splitn(3, |byte| *byte == b'\n');
        lines.next()?;
        let base64 = std::str::from_utf8(lines.next()?).ok()?;
        let rest = lines.next().unwrap_or_default();
        let (algorithm, number, signature) = fields(base64)?;
        let is_hashed = match &algorithm {
            b"Ed" => false,
            b"ED" => true,
            _ => return None,
        };
        if !rest.starts_with(TRUSTED.as_bytes()) {
            let text = (!rest.is_empty()).then(|| rest.to_vec());
            return (!is_hashed).then_some((Self { number, bytes: signature, minisign: None }, text));
        }
        let file = std::str::from_utf8(bytes).ok()?.trim_end().to_owned();
        Minisign::decode(&file).ok()?;
        Some((Self { number, bytes: signature, minisign: Some((file, is_hashed)) }, None))
    }

    /// Which of the two tools makes such signatures.
    pub(super) fn scheme(&self) -> Scheme {
        if self.minisign.is_some() { Scheme::Minisign } else { Scheme::Signify }
    }

    /// Checks it with that of `keys`, each with whose it is, whose number it names.
    pub(super) fn verify<K: Copy>(&self, signed: Signed<'_>, keys: &[(K, &Ed25519Key)]) -> Result<Good<K>, Fault> {
        let matching = keys.iter().find(|(_, own)| own.number == self.number);
        let Some(&(key, own)) = matching else { return Err(Fault::UnknownKey { made_by: hex(self.number) }) };
        let Some((file, is_hashed)) = &self.minisign else {
            let holds = UnparsedPublicKey::new(&ED25519, own.bytes).verify(&signed.whole()?, &self.bytes);
            return holds.map(|()| Good { key, made: None }).map_err(|_| Fault::Tampered);
        };
        let public = PublicKey::from_base64(&own.base64).map_err(|_| Fault::NoSignature)?;
        let minisign = Minisign::decode(file).map_err(|_| Fault::NoSignature)?;
        let holds = if *is_hashed {
            let mut stream = public.verify_stream(&minisign).map_err(|_| Fault::Tampered)?;
            let mut reader = signed.reader();
            let mut piece = vec![0u8; 1 << 20];
            loop {
                match reader.read(&mut piece).map_err(|error| Fault::Reading(error.to_string()))? {
                    0 => break,
                    count => stream.update(piece.get(..count).unwrap_or_default()),
                }
            }
            stream.finalize()
        } else {
            public.verify(&signed.whole()?, &minisign, true)
        };
        holds.map(|()| Good { key, made: made(minisign.trusted_comment()) }).map_err(|_| Fault::Tampered)
    }
}

/// The time in a trusted comment, which minisign writes as `timestamp:1633700835`.
fn made(comment: &str) -> Option<Timestamp> {
    let seconds = comment.split_whitespace().find_map(|word| word.strip_prefix("timestamp:"))?;
    Timestamp::from_second(seconds.parse().ok()?).ok()
}
