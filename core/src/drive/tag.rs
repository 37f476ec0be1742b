//! Five characters that name a physical drive, the same on every port and PC.

use std::fmt;
use std::str::FromStr;
use std::sync::LazyLock;

use data_encoding::{Encoding, Specification};
use serde::{Deserialize, Serialize};

use crate::drive::saying::Saying;

/// Crockford base 32: no I, L, O or U, so that nothing is misread.
const ALPHABET: &str = "0123456789ABCDEFGHJKMNPQRSTVWXYZ";
const LENGTH: usize = 5;

static CROCKFORD: LazyLock<Option<Encoding>> = LazyLock::new(|| {
    let mut specification = Specification::new();
    specification.symbols.push_str(ALPHABET);
    specification.encoding().ok()
});

/// A drive's tag. One that ends in `?` comes from a drive without a usable serial number: others may have the same.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Tag(String);

impl Tag {
    /// The tag of a drive with these properties; `bytes` is its size.
    ///
    /// The digest covers each text with its length before it, so that no two properties can run together.
    pub fn of(vendor: Option<&str>, model: Option<&str>, serial: Option<&str>, bytes: u64) -> Self {
        let [vendor, model, serial] = [vendor, model, serial].map(|text| text.map(str::to_owned));
        Self::in_slot(&Saying { vendor, model, serial, removable: true }, bytes, None)
    }

    /// The tag of a medium in a slot of a card reader. What is said there tells of the reader: the tag is never a sure one.
    pub fn in_slot(says: &Saying, bytes: u64, slot: Option<u32>) -> Self {
        let [vendor, model, serial] = [&says.vendor, &says.model, &says.serial].map(Option::as_deref);
        let serial = serial.filter(|serial| is_usable(serial));
        let mut hasher = blake3::Hasher::new();
        hasher.update(b"pyrotyp drive tag 1");
        for text in [vendor, model, serial] {
            let text = text.unwrap_or_default().trim();
            hasher.update(&(text.len() as u64).to_le_bytes());
            hasher.update(text.as_bytes());
        }
        hasher.update(&bytes.to_le_bytes());
        if let Some(slot) = slot {
            hasher.update(b"slot").update(&slot.to_le_bytes());
        }
        let encoding = CROCKFORD.as_ref();
        let mut text = encoding.map(|encoding| encoding.encode(hasher.finalize().as_bytes())).unwrap_or_default();
        text.truncate(LENGTH);
        if serial.is_none() || slot.is_some() {
            text.truncate(LENGTH - 1);
            text.push('?');
        }
        Self(text)
    }

    /// Whether other drives may have the same tag, because this one has no usable serial number.
    pub fn is_unsure(&self) -> bool {
        self.0.ends_with('?')
    }

    /// The tag as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Tag {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl From<Tag> for String {
    fn from(tag: Tag) -> Self {
        tag.0
    }
}

impl TryFrom<String> for Tag {
    type Error = NoTag;

    fn try_from(text: String) -> Result<Self, NoTag> {
        text.parse()
    }
}

impl fmt::Debug for Tag {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// The text is no tag.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("a tag has five characters, such as 7K3QF")]
pub struct NoTag;

impl FromStr for Tag {
    type Err = NoTag;

    /// Reads a tag as people type it: small letters, `O` for 0, and `I` or `L` for 1 are understood.
    fn from_str(text: &str) -> Result<Self, NoTag> {
        let text: String = text
            .chars()
            .map(|c| match c.to_ascii_uppercase() {
                'O' => '0',
                'I' | 'L' => '1',
                c => c,
            })
            .collect();
        let body = text.strip_suffix('?').unwrap_or(&text);
        let fits = text.len() == LENGTH && body.len() + 1 >= LENGTH && body.chars().all(|c| ALPHABET.contains(c));
        if fits { Ok(Self(text)) } else { Err(NoTag) }
    }
}

/// Whether a serial number tells one drive from another: fillers that makers ship by the thousand do not.
fn is_usable(serial: &str) -> bool {
    let plain: Vec<u8> = serial.bytes().filter(u8::is_ascii_alphanumeric).map(|b| b.to_ascii_uppercase()).collect();
    let same = plain.windows(2).all(|pair| pair.first() == pair.last());
    let rows =
        ["0123456789ABCDEF0123456789ABCDEF", "1234567890ABCDEF1234567890ABCDEF", "012345678901234567890123456789"];
    let counting = rows.iter().any(|row| row.as_bytes().windows(plain.len().max(1)).any(|part| part == plain));
    plain.len() >= 3 && !same && !counting
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn fillers_are_no_serial_numbers() {
        for filler in ["", "  ", "0000000000", "0123456789ABCDEF", "012345678901", "123456789012", "FFFFFFFF", "1"] {
            let tag = Tag::of(Some("Kestrin"), Some("Pocket"), Some(filler), 16_000_000_000);
            assert!(tag.is_unsure(), "{filler}: {tag}");
        }
        assert!(!Tag::of(None, None, Some("KP16-004417"), 1).is_unsure());
    }

    #[test]
    fn a_tag_never_changes() {
        // Tags are written on sticks with a pen: a new version must give the same ones.
        let tag = Tag::of(Some("Kestrin"), Some("Pocket"), Some("KP16-004417"), 16_008_609_792);
        insta::assert_snapshot!(tag, @"DBR7J");
    }

    #[test]
    fn what_is_no_tag_is_not_taken_for_one() {
        for wrong in ["", "DBR7", "DBR7JJ", "DBR7U", "DBR-J", "DB R7", "DBR7É", "D?R7J", "DBR7??", "????", "DBR7J?"] {
            assert_eq!(wrong.parse::<Tag>(), Err(NoTag), "{wrong}");
        }
        let typed = ["dbr7j", "DBR7?", "ob1lI", "OB1L1"].map(|text| text.parse::<Tag>().unwrap().to_string());
        assert_eq!(typed, ["DBR7J", "DBR7?", "0B111", "0B111"]);
    }

    proptest! {
        #[test]
        fn a_tag_is_read_back_however_it_is_typed(serial in "[A-Z0-9]{0,12}", bytes: u64) {
            let tag = Tag::of(Some("Kestrin"), None, Some(&serial), bytes);
            prop_assert_eq!(tag.as_str().len(), 5);
            let typed = tag.as_str().to_lowercase().replace('0', "o").replace('1', "l");
            prop_assert_eq!(typed.parse::<Tag>().unwrap(), tag);
        }

        #[test]
        fn no_text_makes_it_panic(text: String) {
            let _ = text.parse::<Tag>();
        }
    }
}
