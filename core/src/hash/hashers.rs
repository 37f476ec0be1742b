//! From bytes to checksums: the libraries behind each algorithm.

use md5::Digest as _;

use crate::hash::{Algorithm, Sum, Taker};

/// Several checksums of the same bytes, computed in one pass.
pub struct Hashers(Vec<(Algorithm, Hasher)>);

enum Hasher {
    Md5(Box<md5::Md5>),
    Sha224(Box<sha2::Sha224>),
    Blake2b(Box<blake2::Blake2b512>),
    Blake3(Box<blake3::Hasher>),
    Ring(Box<ring::digest::Context>),
}

impl Hasher {
    fn new(algorithm: Algorithm) -> Self {
        let ring = |algorithm| Self::Ring(Box::new(ring::digest::Context::new(algorithm)));
        match algorithm {
            Algorithm::Md5 => Self::Md5(Box::default()),
            Algorithm::Sha1 => ring(&ring::digest::SHA1_FOR_LEGACY_USE_ONLY),
            Algorithm::Sha224 => Self::Sha224(Box::default()),
            Algorithm::Sha256 => ring(&ring::digest::SHA256),
            Algorithm::Sha384 => ring(&ring::digest::SHA384),
            Algorithm::Sha512 => ring(&ring::digest::SHA512),
            Algorithm::Blake2b => Self::Blake2b(Box::default()),
            Algorithm::Blake3 => Self::Blake3(Box::default()),
        }
    }

    fn update(&mut self, bytes: &[u8]) {
        match self {
            Self::Md5(hasher) => hasher.update(bytes),
            Self::Sha224(hasher) => hasher.update(bytes),
            Self::Blake2b(hasher) => hasher.update(bytes),
            Self::Blake3(hasher) => {
                hasher.update(bytes);
            }
            Self::Ring(context) => context.update(bytes),
        }
    }

    fn finish(self) -> String {
        let hex = |bytes: &[u8]| data_encoding::HEXLOWER.encode(bytes);
        match self {
            Self::Md5(hasher) => hex(&hasher.finalize()),
            Self::Sha224(hasher) => hex(&hasher.finalize()),
            Self::Blake2b(hasher) => hex(&hasher.finalize()),
            Self::Blake3(hasher) => hex(hasher.finalize().as_bytes()),
            Self::Ring(context) => hex(context.finish().as_ref()),
        }
    }
}

impl Hashers {
    /// One for each algorithm named; naming one twice computes it once.
    pub fn new(algorithms: impl IntoIterator<Item = Algorithm>) -> Self {
        let mut wanted: Vec<_> = algorithms.into_iter().collect();
        wanted.sort();
        wanted.dedup();
        Self(wanted.into_iter().map(|algorithm| (algorithm, Hasher::new(algorithm))).collect())
    }

    /// Takes in the next bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.iter_mut().for_each(|(_, state)| state.update(bytes));
    }

    /// One [`Taker`] for each algorithm, so that they run side by side.
    pub fn takers(&mut self) -> impl Iterator<Item = Box<dyn Taker + '_>> {
        self.0.iter_mut().map(|(_, state)| Box::new(state) as Box<dyn Taker>)
    }

    /// The checksums of all the bytes taken in.
    pub fn finish(self) -> Vec<Sum> {
        self.0.into_iter().map(|(algorithm, state)| Sum { algorithm, hex: state.finish() }).collect()
    }
}

impl Taker for Hasher {
    fn take(&mut self, bytes: &[u8]) {
        self.update(bytes);
    }
}
