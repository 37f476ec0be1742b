//! Checksums: which ones, and how bytes become one.

use std::fmt;
use std::str::FromStr;

use serde::Serialize;

/// A checksum algorithm.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Algorithm {
    /// RFC 1321; shows damage, proves no origin.
    Md5,
    /// FIPS 180-4, §6.1; shows damage, proves no origin.
    Sha1,
    /// FIPS 180-4, §6.3.
    Sha224,
    /// FIPS 180-4, §6.2.
    Sha256,
    /// FIPS 180-4, §6.5.
    Sha384,
    /// FIPS 180-4, §6.4.
    Sha512,
    /// RFC 7693, with 64 bytes.
    Blake2b,
    /// The BLAKE3 paper, with 32 bytes.
    Blake3,
}

impl Algorithm {
    /// All of them. Where two have the same length, the first is meant when nothing else is said.
    pub const ALL: [Self; 8] =
        [Self::Md5, Self::Sha1, Self::Sha224, Self::Sha256, Self::Sha384, Self::Sha512, Self::Blake2b, Self::Blake3];

    /// Usual name in small letters, such as `sha256`.
    pub fn name(self) -> &'static str {
        match self {
            Self::Md5 => "md5",
            Self::Sha1 => "sha1",
            Self::Sha224 => "sha224",
            Self::Sha256 => "sha256",
            Self::Sha384 => "sha384",
            Self::Sha512 => "sha512",
            Self::Blake2b => "blake2b",
            Self::Blake3 => "blake3",
        }
    }

    /// The algorithm with this name, however it is written: `SHA-256`, `sha256`, `BLAKE2b`.
    pub fn named(name: &str) -> Option<Self> {
        let plain: String = name.chars().filter(char::is_ascii_alphanumeric).collect::<String>().to_ascii_lowercase();
        Self::ALL.into_iter().find(|algorithm| algorithm.name() == plain)
    }

    /// All whose checksums are as long as this one's.
    pub fn of_same_length(self) -> impl Iterator<Item = Self> + Clone {
        Self::ALL.into_iter().filter(move |other| other.hex_digits() == self.hex_digits())
    }

    /// Length of its checksum in hexadecimal digits.
    pub fn hex_digits(self) -> usize {
        match self {
            Self::Md5 => 32,
            Self::Sha1 => 40,
            Self::Sha224 => 56,
            Self::Sha256 | Self::Blake3 => 64,
            Self::Sha384 => 96,
            Self::Sha512 | Self::Blake2b => 128,
        }
    }

    /// The algorithm whose checksums have this many hexadecimal digits.
    pub fn of_length(digits: usize) -> Option<Self> {
        Self::ALL.into_iter().find(|algorithm| algorithm.hex_digits() == digits)
    }

    /// Whether two files with the same checksum can be made on purpose.
    pub fn is_forgeable(self) -> bool {
        matches!(self, Self::Md5 | Self::Sha1)
    }
}

impl fmt::Display for Algorithm {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Md5 => "MD5",
            Self::Sha1 => "SHA-1",
            Self::Sha224 => "SHA-224",
            Self::Sha256 => "SHA-256",
            Self::Sha384 => "SHA-384",
            Self::Sha512 => "SHA-512",
            Self::Blake2b => "BLAKE2b",
            Self::Blake3 => "BLAKE3",
        })
    }
}

/// A checksum that a person or a file gives, with the algorithm that belongs to it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sum {
    /// Which algorithm.
    pub algorithm: Algorithm,
    /// Hexadecimal digits, small letters, as many as the algorithm has.
    pub hex: String,
}

/// Why a text is no checksum.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum SumError {
    /// An algorithm that is not known here.
    #[error(
        "`{name}` is no checksum algorithm known here (md5, sha1, sha224, sha256, sha384, sha512, blake2b, blake3)"
    )]
    Algorithm {
        /// As given.
        name: String,
    },
    /// The number of digits fits no algorithm, or not the one named.
    #[error("a checksum of {found} digits is given where {expected} are needed")]
    Length {
        /// How many digits there are.
        found: usize,
        /// How many there should be.
        expected: String,
    },
    /// Something other than 0-9 and a-f.
    #[error("`{found}` is no hexadecimal digit")]
    Digit {
        /// The first such character.
        found: char,
    },
}

impl FromStr for Sum {
    type Err = SumError;

    /// Reads `HEX` or `ALGORITHM:HEX`; without a name, the length decides.
    fn from_str(text: &str) -> Result<Self, SumError> {
        let (named, hex) = match text.trim().split_once(':') {
            Some((name, hex)) => {
                let known = Algorithm::named(name);
                (Some(known.ok_or_else(|| SumError::Algorithm { name: name.to_owned() })?), hex)
            }
            None => (None, text.trim()),
        };
        if let Some(found) = hex.chars().find(|c| !c.is_ascii_hexdigit()) {
            return Err(SumError::Digit { found });
        }
        let algorithm = named.or_else(|| Algorithm::of_length(hex.len()));
        match algorithm.filter(|algorithm| algorithm.hex_digits() == hex.len()) {
            Some(algorithm) => Ok(Self { algorithm, hex: hex.to_ascii_lowercase() }),
            None => Err(SumError::Length {
                found: hex.len(),
                expected: named
                    .map_or("32, 40, 56, 64, 96 or 128".into(), |algorithm| algorithm.hex_digits().to_string()),
            }),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::hash::Hashers;

    #[test]
    fn the_standards_own_examples_come_out() {
        // RFC 1321 §A.5, FIPS 180-4, RFC 7693 §A and BLAKE3's own: the message "abc", here in two parts.
        let known = [
            "md5:900150983cd24fb0d6963f7d28e17f72",
            "sha1:a9993e364706816aba3e25717850c26c9cd0d89d",
            "sha224:23097d223405d8228642a477bda255b32aadbce4bda0b3f7e36c9da7",
            "sha256:ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad",
            "sha384:cb00753f45a35e8bb5a03d699ac65007272c32ab0eded1631a8b605a43ff5bed8086072ba1e7cc2358baeca134c825a7",
            "sha512:ddaf35a193617abacc417349ae20413112e6fa4e89a97ea20a9eeee64b55d39a\
             2192992a274fc1a836ba3c23a3feebbd454d4423643ce80e2a9ac94fa54ca49f",
            "blake2b:ba80a53f981c4d0d6a2797b69f12f6e94c212f14685ac4b74b12bb6fdbffa2d1\
             7d87c5392aab792dc252d5de4533cc9518d38aa8dbf1925ab92386edd4009923",
            "blake3:6437b3ac38465133ffb63b75273a8db548c558465d79db03fd359c6cd5bd9d85",
        ];
        // Named twice or in another order, each is computed once.
        let asked = known.iter().rev().chain(&known).map(|text| text.parse::<Sum>().unwrap().algorithm);
        let mut hashers = Hashers::new(asked);
        hashers.update(b"a");
        hashers.update(b"bc");
        let sums: Vec<_> =
            hashers.finish().into_iter().map(|sum| format!("{}:{}", sum.algorithm.name(), sum.hex)).collect();
        assert_eq!(sums, known);
    }

    #[test]
    fn a_typed_sum_is_read_or_told_what_is_wrong_with_it() {
        let typed = "SHA-1:A9993E364706816ABA3E25717850C26C9CD0D89D".parse::<Sum>().unwrap();
        assert_eq!((typed.algorithm, &typed.hex[..4]), (Algorithm::Sha1, "a999"));
        let wrong: Vec<_> =
            ["crc:00", "md5:00", "12", "sha256:xy"].map(|text| text.parse::<Sum>().unwrap_err().to_string()).to_vec();
        insta::assert_snapshot!(wrong.join("\n"), @"
        `crc` is no checksum algorithm known here (md5, sha1, sha224, sha256, sha384, sha512, blake2b, blake3)
        a checksum of 2 digits is given where 32 are needed
        a checksum of 2 digits is given where 32, 40, 56, 64, 96 or 128 are needed
        `x` is no hexadecimal digit
        ");
    }
}
