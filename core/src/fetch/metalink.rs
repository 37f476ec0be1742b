//! Metalink 4 files (RFC 5854): where an image can be had, and what its bytes must be.
//!
//! Promise: any bytes give an answer or an error, never a panic; nothing outside the document is looked up.

use crate::text::Shown;
use roxmltree::{Document, Node, ParsingOptions};

use crate::fetch::{Mirror, Pieces, Wanted};
use crate::hash::{Algorithm, Sum};

/// Longest file that is read, in bytes.
pub const METALINK_BYTES_MOST: u64 = 16 << 20;
/// Most nodes that are read.
const NODES_MOST: u32 = 2_000_000;
/// Namespace of the format (RFC 5854, §4).
const NAMESPACE: &str = "urn:ietf:params:xml:ns:metalink";
/// Most mirrors of one file that are kept.
const MIRRORS_MOST: usize = 200;
/// So much of a text that makes no sense is told, in characters.
const TEXT_TOLD: usize = 40;
/// Shortest and longest piece, in bytes.
const PIECE: std::ops::RangeInclusive<u64> = 1024..=1 << 30;

/// Why a file is no Metalink that can be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum MetalinkFault {
    /// It is no XML.
    #[error("it is no XML: {}", why.shown())]
    Xml {
        /// In words.
        why: String,
    },
    /// It is XML of another kind.
    #[error("it is no Metalink 4 file")]
    Other,
    /// A number in it can't be meant.
    #[error("what it says of {} makes no sense: {what} is `{}`", file.shown(), text.shown())]
    Number {
        /// Of which file.
        file: String,
        /// What the number is.
        what: &'static str,
        /// As it stands there.
        text: String,
    },
    /// The sums of a file's pieces are not those of a file of its length.
    #[error("what it says of {} makes no sense: {found} pieces are listed where {expected} are expected", file.shown())]
    Pieces {
        /// Of which file.
        file: String,
        /// How many are listed.
        found: u64,
        /// How many there would be.
        expected: u64,
    },
    /// It names no file with an address that can be used.
    #[error("it names no file with an http or https address")]
    Nothing,
}

/// Every file that the document names with at least one address.
///
/// # Errors
/// When it is no Metalink, or names nothing that could be fetched.
pub fn metalink(bytes: &[u8]) -> Result<Vec<Wanted>, MetalinkFault> {
    let xml = |why: String| MetalinkFault::Xml { why };
    let text = std::str::from_utf8(bytes).map_err(|error| xml(error.to_string()))?;
    let options = ParsingOptions { nodes_limit: NODES_MOST, ..ParsingOptions::default() };
    let document = Document::parse_with_options(text, options).map_err(|error| xml(error.to_string()))?;
    let root = document.root_element();
    if !root.has_tag_name((NAMESPACE, "metalink")) {
        return Err(MetalinkFault::Other);
    }
    let found: Vec<Option<Wanted>> = children(root, "file").map(file).collect::<Result<_, _>>()?;
    let found: Vec<Wanted> = found.into_iter().flatten().collect();
    if found.is_empty() { Err(MetalinkFault::Nothing) } else { Ok(found) }
}

fn children<'a>(node: Node<'a, 'a>, name: &'static str) -> impl Iterator<Item = Node<'a, 'a>> {
    node.children().filter(move |child| child.has_tag_name((NAMESPACE, name)))
}

fn text<'a>(node: Node<'a, 'a>) -> &'a str {
    node.text().unwrap_or_default().trim()
}

/// One `file` element (RFC 5854, §4.1.2).
fn file(node: Node<'_, '_>) -> Result<Option<Wanted>, MetalinkFault> {
    let Some(name) = node.attribute("name").and_then(super::file_name) else { return Ok(None) };
    let mut mirrors: Vec<Mirror> = children(node, "url").filter_map(mirror).take(MIRRORS_MOST).collect();
    // 1 is the best (RFC 5854, §4.2.16.1).
    mirrors.sort_by_key(|mirror| mirror.priority);
    let sums = children(node, "hash").filter_map(|hash| sum(hash.attribute("type")?, text(hash)));
    let size = children(node, "size").next().map(|size| number(text(size), &name, "its size", 1..=i64::MAX as u64));
    let bytes = size.transpose()?;
    let pieces = match bytes {
        Some(bytes) => {
            children(node, "pieces").map(|node| pieces(node, &name, bytes)).collect::<Result<Vec<_>, _>>()?
        }
        None => Vec::new(),
    };
    let wanted = Wanted {
        sums: sums.collect(),
        pieces: pieces.into_iter().flatten().max_by_key(Pieces::rank),
        signature: children(node, "signature")
            .find(|node| node.attribute("mediatype") == Some("application/pgp-signature"))
            .map(|node| node.text().unwrap_or_default().trim_start().as_bytes().to_vec()),
        name,
        mirrors,
        bytes,
    };
    Ok((!wanted.mirrors.is_empty()).then_some(wanted))
}

/// A number of a file, if it is one that can be meant.
fn number(
    text: &str,
    file: &str,
    what: &'static str,
    sense: std::ops::RangeInclusive<u64>,
) -> Result<u64, MetalinkFault> {
    let found = text.parse().ok().filter(|number| sense.contains(number));
    found.ok_or_else(|| MetalinkFault::Number {
        file: file.to_owned(),
        what,
        text: text.chars().take(TEXT_TOLD).collect(),
    })
}

fn mirror(node: Node<'_, '_>) -> Option<Mirror> {
    let address = super::address::address(text(node)).ok()?.to_string();
    let priority = node.attribute("priority").and_then(|text| text.parse().ok()).unwrap_or(999_999);
    let location = node.attribute("location").map(str::to_ascii_lowercase);
    Some(Mirror { address, priority, location })
}

/// Names of the IANA registry of hash functions, such as `sha-256` (RFC 5854, §4.2.4.1).
fn sum(algorithm: &str, hex: &str) -> Option<Sum> {
    format!("{}:{hex}", Algorithm::named(algorithm)?.name()).parse().ok()
}

/// The sums of the pieces of a file of `bytes` bytes; `None` if they are of a kind that is not known here.
fn pieces(node: Node<'_, '_>, file: &str, bytes: u64) -> Result<Option<Pieces>, MetalinkFault> {
    let length = number(node.attribute("length").unwrap_or_default(), file, "the length of its pieces", PIECE)?;
    let Some(algorithm) = node.attribute("type").and_then(Algorithm::named) else { return Ok(None) };
    let sums: Vec<Sum> = children(node, "hash").filter_map(|hash| sum(algorithm.name(), text(hash))).collect();
    let (found, expected) = (sums.len() as u64, bytes.div_ceil(length));
    if found != expected {
        return Err(MetalinkFault::Pieces { file: file.to_owned(), found, expected });
    }
    Ok(Some(Pieces { algorithm, bytes: length, sums }))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wrap(inside: &str) -> String {
        format!("<?xml version=\"1.0\"?><metalink xmlns=\"{NAMESPACE}\">{inside}</metalink>")
    }

    #[test]
    fn mirrors_sums_and_pieces_are_read_and_the_best_mirror_comes_first() {
        let zeros = |digits| "0".repeat(digits);
        let found = metalink(
            wrap(&format!(
                "<file name='../a/larkspur.iso'><size>2500</size><hash type='sha-256'>{}</hash><hash type='crc'>1</hash>
                <pieces length='1024' type='sha-1'><hash>{1}</hash><hash>{1}</hash><hash>{1}</hash></pieces>
                <pieces length='1024' type='of another kind'><hash>0</hash></pieces>
                <url priority='5' location='DE'>http://b.example/x</url><url>ftp://c.example/x</url>
                <url priority='1'> https://a.example/x </url></file><file name='empty'/>",
                zeros(64),
                zeros(40)
            ))
            .as_bytes(),
        )
        .unwrap();
        let [one] = &found[..] else { panic!("one file with addresses: {found:?}") };
        assert_eq!((one.name.as_str(), one.bytes, one.sums.len()), ("larkspur.iso", Some(2500), 1));
        let addresses: Vec<_> = one.mirrors.iter().map(|mirror| mirror.address.as_str()).collect();
        assert_eq!(addresses, ["https://a.example/x", "http://b.example/x"]);
        assert_eq!(one.mirrors[1].location.as_deref(), Some("de"));
        assert_eq!(one.pieces.as_ref().map(|pieces| (pieces.algorithm, pieces.sums.len())), Some((Algorithm::Sha1, 3)));
    }

    #[test]
    fn what_is_no_metalink_is_told_so() {
        assert!(matches!(metalink(b"\xFF\xFE"), Err(MetalinkFault::Xml { .. })));
        assert!(matches!(metalink(b"<a><b></a>"), Err(MetalinkFault::Xml { .. })));
        assert_eq!(metalink(b"<html/>"), Err(MetalinkFault::Other));
        assert_eq!(
            metalink(wrap("<file name='..'><url>http://a.example/</url></file>").as_bytes()),
            Err(MetalinkFault::Nothing)
        );
        let told = |inside: &str| {
            let text = wrap(&format!("<file name='a.iso'>{inside}<url>http://a.example/</url></file>"));
            metalink(text.as_bytes()).unwrap_err().to_string()
        };
        insta::assert_snapshot!(
            [
                told("<size>-5</size>"),
                told("<size>0</size>"),
                told("<size>9</size><pieces length='0' type='sha-1'/>"),
                told("<size>2048</size><pieces length='1024' type='sha-1'><hash>0</hash></pieces>"),
            ]
            .join("\n"),
            @"
        what it says of a.iso makes no sense: its size is `-5`
        what it says of a.iso makes no sense: its size is `0`
        what it says of a.iso makes no sense: the length of its pieces is `0`
        what it says of a.iso makes no sense: 0 pieces are listed where 2 are expected
        "
        );
        // Entities that blow up, and files of this machine, are never looked at.
        let bomb = "<!DOCTYPE x [<!ENTITY a SYSTEM 'file:///etc/passwd'>]><metalink>&a;</metalink>";
        assert!(matches!(metalink(bomb.as_bytes()), Err(MetalinkFault::Xml { .. })));
    }
}
