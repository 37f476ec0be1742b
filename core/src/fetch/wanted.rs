//! What is to be fetched, and where it can be had.

use crate::fetch::fault::MirrorFault;
use crate::hash::{Algorithm, Sum};

/// Longest address that is kept, in characters.
const ADDRESS_MOST: usize = 4096;

/// An image to be fetched.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Wanted {
    /// Name of the file, without any folder.
    pub name: String,
    /// Where it can be had, the best first.
    pub mirrors: Vec<Mirror>,
    /// Its length in bytes, if that was published.
    pub bytes: Option<u64>,
    /// Checksums that it must have.
    pub sums: Vec<Sum>,
    /// Checksums of its pieces.
    pub pieces: Option<Pieces>,
    /// A detached signature of it.
    pub signature: Option<Vec<u8>>,
}

/// A server that has the image.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mirror {
    /// The image's address there.
    pub address: String,
    /// The smaller, the better.
    pub priority: u32,
    /// Country, in two small letters (ISO 3166-1).
    pub location: Option<String>,
}

/// Checksums of an image's pieces.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pieces {
    /// Of which kind they are.
    pub algorithm: Algorithm,
    /// Length of a piece in bytes; that of the last may be shorter.
    pub bytes: u64,
    /// One for each piece.
    pub sums: Vec<Sum>,
}

/// How much pieces are worth: the greater, the more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Rank {
    is_safe: bool,
    bytes: std::cmp::Reverse<u64>,
}

impl Pieces {
    /// Those that can't be forged come first, then the shorter ones.
    pub(super) fn rank(&self) -> Rank {
        Rank { is_safe: !self.algorithm.is_forgeable(), bytes: std::cmp::Reverse(self.bytes) }
    }
}

impl Wanted {
    /// The image at one address.
    ///
    /// # Errors
    /// When it is no http or https address, or names no file.
    pub fn at(address: &str) -> Result<Self, MirrorFault> {
        let fail = || MirrorFault::Address { text: address.chars().take(ADDRESS_MOST).collect() };
        let url = super::address::address(address)?;
        let last = url.path_segments().and_then(|mut parts| parts.next_back()).unwrap_or_default();
        let name = file_name(&percent_encoding::percent_decode_str(last).decode_utf8_lossy()).ok_or_else(fail)?;
        let mirror = Mirror { address: url.to_string(), priority: 1, location: None };
        Ok(Self { name, mirrors: vec![mirror], ..Self::default() })
    }

    /// Puts the mirrors of a country first; among them, and among the others, the order stays.
    pub fn prefer(&mut self, country: &str) {
        let country = country.to_ascii_lowercase();
        self.mirrors.sort_by_key(|mirror| mirror.location.as_ref() != Some(&country));
    }
}

/// The name itself of a file whose name somebody else chose; `None` if nothing fit for a file is left.
pub fn file_name(given: &str) -> Option<String> {
    let last = given.rsplit(['/', '\\']).next().unwrap_or_default().trim();
    let is_fit =
        !last.is_empty() && last.len() <= 200 && !last.starts_with('.') && crate::text::foreign::is_harmless(last);
    is_fit.then(|| last.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_from_outside_stay_in_their_folder() {
        let fit = ["larkspur.iso", "/srv/a b.iso", "..\\..\\x.iso"].map(file_name).map(Option::unwrap_or_default);
        assert_eq!(fit, ["larkspur.iso", "a b.iso", "x.iso"]);
        for unfit in ["", "a/", "..", ".bashrc", "a\n.iso", "a\u{202e}osi.exe", "a\u{200b}.iso"] {
            assert_eq!(file_name(unfit), None, "{unfit:?}");
        }
        assert_eq!(Wanted::at("https://a.example/x/lark%20spur.iso?y=1").unwrap().name, "lark spur.iso");
        assert!(Wanted::at("https://a.example/").is_err() && Wanted::at("https://a.example/%2e%2e").is_err());
    }
}
