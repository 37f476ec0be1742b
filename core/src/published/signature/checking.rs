//! Keys as signatures are checked with them here: what the library refuses or does not know is told from what is wrong.

use std::io::Write;

use k256::ecdsa;
use pgp::crypto::hash::HashAlgorithm;
use pgp::crypto::public_key::PublicKeyAlgorithm;
use pgp::errors::Result;
use pgp::ser::Serialize;
use pgp::types::{
    EcdsaPublicParams, Fingerprint, KeyDetails, KeyId, KeyVersion, Mpi, PublicParams, SignatureBytes, Timestamp,
    VerifyingKey,
};

/// What kind of key this is, if no signature of its kind can be checked here.
pub(super) fn foreign_kind(key: &impl KeyDetails) -> Option<String> {
    match key.public_params() {
        PublicParams::ECDSA(EcdsaPublicParams::Unsupported { curve, .. }) => Some(curve.to_string()),
        PublicParams::Unknown { .. } => Some(format!("algorithm {}", u8::from(key.algorithm()))),
        _ => None,
    }
}

/// A key with which either half of a curve's signatures holds. OpenPGP allows both (RFC 9580, §5.2.3.2); the library takes only the lower
/// one of secp256k1.
#[derive(Debug)]
pub(super) struct Checking<'a, K>(pub &'a K);

/// The same signature with the lower of the two values of S, if it has the higher one.
fn lower(params: &PublicParams, signature: &SignatureBytes) -> Option<SignatureBytes> {
    let PublicParams::ECDSA(EcdsaPublicParams::Secp256k1 { .. }) = params else { return None };
    let SignatureBytes::Mpis(parts) = signature else { return None };
    let [r, s] = parts.as_slice() else { return None };
    let field = |part: &Mpi| {
        let mut field = [0u8; 32];
        let at = field.len().checked_sub(part.len())?;
        field.get_mut(at..)?.copy_from_slice(part.as_ref());
        Some(field)
    };
    let lower = ecdsa::Signature::from_scalars(field(r)?, field(s)?).ok()?.normalize_s()?;
    let (r, s) = lower.split_bytes();
    Some(SignatureBytes::Mpis(vec![Mpi::from_slice(&r), Mpi::from_slice(&s)]))
}

impl<K: VerifyingKey> VerifyingKey for Checking<'_, K> {
    fn verify(&self, hash: HashAlgorithm, data: &[u8], signature: &SignatureBytes) -> Result<()> {
        let lower = lower(self.0.public_params(), signature);
        self.0.verify(hash, data, lower.as_ref().unwrap_or(signature))
    }
}

impl<K: KeyDetails> KeyDetails for Checking<'_, K> {
    fn version(&self) -> KeyVersion {
        self.0.version()
    }

    fn legacy_key_id(&self) -> KeyId {
        self.0.legacy_key_id()
    }

    fn fingerprint(&self) -> Fingerprint {
        self.0.fingerprint()
    }

    fn algorithm(&self) -> PublicKeyAlgorithm {
        self.0.algorithm()
    }

    fn created_at(&self) -> Timestamp {
        self.0.created_at()
    }

    fn legacy_v3_expiration_days(&self) -> Option<u16> {
        self.0.legacy_v3_expiration_days()
    }

    fn public_params(&self) -> &PublicParams {
        self.0.public_params()
    }
}

impl<K: Serialize> Serialize for Checking<'_, K> {
    fn to_writer<W: Write>(&self, writer: &mut W) -> Result<()> {
        self.0.to_writer(writer)
    }

    fn write_len(&self) -> usize {
        self.0.write_len()
    }
}
