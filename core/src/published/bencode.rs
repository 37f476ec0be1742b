//! Bencoding, as torrent files have it (BEP 3): numbers, byte strings, lists and dictionaries.

/// How deep lists and dictionaries may lie in each other, and how many values a file may hold.
const DEPTH_MOST: usize = 64;
const VALUES_MOST: usize = 1 << 18;

/// A decoded value; strings point into the file.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Value<'a> {
    Number(i64),
    Bytes(&'a [u8]),
    List(Vec<Value<'a>>),
    Dictionary(Vec<(&'a [u8], Value<'a>)>),
}

/// The value that `bytes` begin with; `None` if there is none.
pub(super) fn parse(bytes: &[u8]) -> Option<Value<'_>> {
    let mut left = VALUES_MOST;
    value(bytes, DEPTH_MOST, &mut left).map(|(value, _)| value)
}

fn value<'a>(bytes: &'a [u8], depth: usize, left: &mut usize) -> Option<(Value<'a>, &'a [u8])> {
    *left = left.checked_sub(1)?;
    let depth = depth.checked_sub(1)?;
    match bytes.split_first()? {
        (b'i', rest) => {
            let (digits, rest) = until(rest, b'e')?;
            Some((Value::Number(digits.parse().ok()?), rest))
        }
        (b'l', mut rest) => {
            let mut all = Vec::new();
            while rest.first()? != &b'e' {
                let (one, more) = value(rest, depth, left)?;
                all.push(one);
                rest = more;
            }
            Some((Value::List(all), rest.get(1..)?))
        }
        (b'd', mut rest) => {
            let mut all = Vec::new();
            while rest.first()? != &b'e' {
                let (key, more) = string(rest)?;
                let (one, more) = value(more, depth, left)?;
                all.push((key, one));
                rest = more;
            }
            Some((Value::Dictionary(all), rest.get(1..)?))
        }
        _ => string(bytes).map(|(string, rest)| (Value::Bytes(string), rest)),
    }
}

fn string(bytes: &[u8]) -> Option<(&[u8], &[u8])> {
    let (digits, rest) = until(bytes, b':')?;
    rest.split_at_checked(digits.parse().ok()?)
}

/// The short text before the first `end`, and what follows it.
fn until(bytes: &[u8], end: u8) -> Option<(&str, &[u8])> {
    let place = bytes.iter().take(21).position(|byte| *byte == end)?;
    let (text, rest) = bytes.split_at_checked(place)?;
    Some((std::str::from_utf8(text).ok()?, rest.get(1..)?))
}

impl<'a> Value<'a> {
    /// A number that is not negative.
    pub(super) fn number(&self) -> Option<u64> {
        if let Self::Number(number) = self { u64::try_from(*number).ok() } else { None }
    }

    pub(super) fn bytes(&self) -> Option<&'a [u8]> {
        if let Self::Bytes(bytes) = self { Some(bytes) } else { None }
    }

    pub(super) fn text(&self) -> Option<&'a str> {
        std::str::from_utf8(self.bytes()?).ok()
    }

    pub(super) fn list(&self) -> Option<&[Self]> {
        if let Self::List(all) = self { Some(all) } else { None }
    }

    /// The value under this key.
    pub(super) fn get(&self, key: &str) -> Option<&Self> {
        self.get_bytes(key.as_bytes())
    }

    /// The value under this key, which need not be text.
    pub(super) fn get_bytes(&self, key: &[u8]) -> Option<&Self> {
        let Self::Dictionary(all) = self else { return None };
        all.iter().find(|(name, _)| *name == key).map(|(_, value)| value)
    }

    /// The value under this key, here or in a dictionary below.
    pub(super) fn find(&self, key: &str) -> Option<&Self> {
        let Self::Dictionary(all) = self else { return None };
        self.get(key).or_else(|| all.iter().find_map(|(_, value)| value.find(key)))
    }
}
