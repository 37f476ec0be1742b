//! Public keys, whatever the scheme.

use std::io;

use crate::published::signature::{ed25519, openpgp};

/// Longest file of keys that is read, in bytes; distributors hand out whole rings of them.
pub const KEYS_BYTES_MOST: u64 = 16 << 20;

/// A public key.
#[derive(Clone, Debug)]
pub struct Key(pub(super) KeyKind);

#[derive(Clone, Debug)]
pub(super) enum KeyKind {
    OpenPgp(Box<openpgp::Certificate>),
    Ed25519(ed25519::Ed25519Key),
}

impl Key {
    /// The keys in a file: an OpenPGP key or ring of keys, armoured or not, or a key of minisign or signify.
    ///
    /// # Errors
    /// In words, when there is none that can be read.
    pub fn read_all(bytes: &[u8]) -> Result<Vec<Self>, String> {
        let keys = match ed25519::Ed25519Key::read(bytes) {
            Some(key) => vec![Self(KeyKind::Ed25519(key))],
            None => {
                openpgp::certificates(bytes)?.into_iter().map(|key| Self(KeyKind::OpenPgp(Box::new(key)))).collect()
            }
        };
        if keys.is_empty() { Err("it holds no public key".to_owned()) } else { Ok(keys) }
    }

    /// What tells this key from all others: hexadecimal digits of OpenPGP, or the whole short key as its maker prints it.
    pub fn fingerprint(&self) -> String {
        match &self.0 {
            KeyKind::OpenPgp(key) => openpgp::fingerprint(key),
            KeyKind::Ed25519(key) => key.text(),
        }
    }

    /// Whom it says that it belongs to. Nothing proves that.
    pub fn owner(&self) -> Option<String> {
        match &self.0 {
            KeyKind::OpenPgp(key) => openpgp::owner(key),
            KeyKind::Ed25519(key) => key.owner(),
        }
    }

    /// Whether its owner took it back; keys of minisign and signify can't be.
    pub fn is_revoked(&self) -> bool {
        match &self.0 {
            KeyKind::OpenPgp(key) => openpgp::revocation(key).is_some(),
            KeyKind::Ed25519(_) => false,
        }
    }

    /// The key as bytes from which [`Self::read_all`] makes it again.
    pub(super) fn to_bytes(&self) -> io::Result<Vec<u8>> {
        match &self.0 {
            KeyKind::OpenPgp(key) => openpgp::to_bytes(key).map_err(io::Error::other),
            KeyKind::Ed25519(key) => Ok(key.file()),
        }
    }
}
