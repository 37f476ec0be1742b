//! Sums files: which checksum belongs to which file?
//!
//! Sources: GNU coreutils manual, "md5sum invocation": hex digits, a space, a space or `*`, the name; a line whose
//! name holds a backslash or line break begins with a backslash and has these escaped; `--zero` ends lines with a zero
//! byte and escapes nothing; `--tag` writes the BSD form `SHA256 (name) = hex`. Files that hold one checksum and no
//! name, and comments that name the algorithm of the lines below, are in use without a standard.
//! Promise: any bytes give an answer, never a panic; lines that are none are passed over.

use crate::hash::{Algorithm, Sum};

/// Largest sums file read, in bytes.
pub const SUMS_BYTES_MOST: u64 = 4 << 20;

/// Kinds of checksum that are published and not computed here, and must not be taken for others of their length: by their names, and by
/// the beginning of those that end in their size.
const FOREIGN: [&str; 7] = ["whirlpool", "keccak", "blake2s", "streebog", "crc32c", "sha512t256", "sha512t224"];
const FOREIGN_SIZED: [&str; 12] =
    ["sha", "keccak", "shake", "ripemd", "rmd", "blake2s", "blake2b", "streebog", "sm", "crc", "xxh", "skein"];

/// What is said of the kind of a checksum.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Kind {
    /// One that is computed here.
    Known(Algorithm),
    /// Another one, as it is called.
    Foreign(String),
}

/// The kind with this name, however it is written: `SHA256`, `SHA2-256`, `BLAKE2b-512`, `SHA3-256`; `None` if it is no such name.
pub fn kind_named(name: &str) -> Option<Kind> {
    let plain: String = name.chars().filter(char::is_ascii_alphanumeric).collect::<String>().to_ascii_lowercase();
    let known = match plain.as_str() {
        "sha2224" => Some(Algorithm::Sha224),
        "sha2256" => Some(Algorithm::Sha256),
        "sha2384" => Some(Algorithm::Sha384),
        "sha2512" => Some(Algorithm::Sha512),
        "b2" | "blake2" | "blake2b512" => Some(Algorithm::Blake2b),
        "b3" | "blake3256" => Some(Algorithm::Blake3),
        _ => Algorithm::named(&plain),
    };
    let is_size = |rest: &str| !rest.is_empty() && rest.bytes().all(|byte| byte.is_ascii_digit());
    let is_sized = || FOREIGN_SIZED.iter().any(|start| plain.strip_prefix(start).is_some_and(is_size));
    let is_foreign = || FOREIGN.contains(&plain.as_str()) || is_sized();
    known.map(Kind::Known).or_else(|| is_foreign().then(|| Kind::Foreign(name.trim_matches(['#', ':']).to_owned())))
}

/// One line: a checksum and the file it is for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line {
    /// The checksum.
    pub sum: Sum,
    /// Whether the list says of which kind it is, and not its length alone.
    pub is_told: bool,
    /// Name as the list has it, which may be a path; `None` in a list that holds one checksum and nothing else.
    pub name: Option<String>,
}

/// What a list says.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Lines {
    /// Lines that can be used.
    pub lines: Vec<Line>,
    /// Lines of kinds that are not computed here: how they are called, and for which file they are.
    pub foreign: Vec<(String, Option<String>)>,
}

fn is_for(name: Option<&String>, file_name: &str) -> bool {
    let last = |name: &str, step: char| name.rsplit(step).next() == Some(file_name);
    name.is_none_or(|name| last(name, '/') || last(name, '\\'))
}

impl Line {
    /// Whether the line is for a file of this name, wherever it lies.
    pub fn is_for(&self, file_name: &str) -> bool {
        is_for(self.name.as_ref(), file_name)
    }
}

impl Lines {
    /// Whether it says nothing at all.
    pub fn is_empty(&self) -> bool {
        self.lines.is_empty() && self.foreign.is_empty()
    }

    /// Whether it has checksums, and none of them says for which file.
    pub fn is_nameless(&self) -> bool {
        let mut names = self.lines.iter().map(|line| &line.name).chain(self.foreign.iter().map(|(_, name)| name));
        !self.is_empty() && names.all(Option::is_none)
    }

    /// The kinds of checksum for this file that are not computed here.
    pub fn foreign_for(&self, file_name: &str) -> impl Iterator<Item = &str> {
        let own = move |(_, name): &&(String, Option<String>)| is_for(name.as_ref(), file_name);
        self.foreign.iter().filter(own).map(|(kind, _)| kind.as_str())
    }
}

/// The kind that the name of a list gives away, such as `SHA512SUMS` or `larkspur.iso.b2`.
pub fn kind_in(list: &str) -> Option<Kind> {
    let lower = list.to_ascii_lowercase();
    let words = lower.split(['.', '_', '/', ' ']).rev().filter(|word| !word.is_empty());
    words
        .flat_map(|word| {
            let stem =
                word.strip_suffix("sums").or_else(|| word.strip_suffix("sum")).unwrap_or(word).trim_end_matches('-');
            // A word of an image's own name may end in such a name, as in `larkspur-sha512`.
            [stem, stem.rsplit('-').next().unwrap_or(stem)]
        })
        .find_map(kind_named)
}

/// The lines of a sums file; anything else in it is passed over.
///
/// `hint` is what the list's name says about the kind; a line or a comment that names one comes before it.
pub fn parse(text: &[u8], hint: Option<Kind>) -> Lines {
    let text = text.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(text);
    let mut all = Lines::default();
    let only = std::str::from_utf8(text.trim_ascii()).unwrap_or_default();
    if all.take(only, hint.as_ref(), None) {
        return all;
    }
    let end = if text.contains(&0) { 0 } else { b'\n' };
    let mut hint = hint;
    for raw in text.split(|byte| *byte == end) {
        if raw.starts_with(b"#") {
            let words = String::from_utf8_lossy(raw);
            hint = words.split_whitespace().find_map(kind_named).or(hint);
        }
        all.line(raw, hint.as_ref(), if end == 0 { LineEnd::Zero } else { LineEnd::Newline });
    }
    all
}

/// Fewest and most hexadecimal digits of what is published as a checksum; one that names its kind may be shorter.
const DIGITS: std::ops::RangeInclusive<usize> = 32..=256;
const DIGITS_NAMED: std::ops::RangeInclusive<usize> = 8..=256;

impl Lines {
    /// Takes in a checksum in hexadecimal digits; tells whether it is one of any kind.
    fn take(&mut self, hex: &str, kind: Option<&Kind>, name: Option<String>) -> bool {
        let digits = if matches!(kind, Some(Kind::Foreign(_))) { DIGITS_NAMED } else { DIGITS };
        if !digits.contains(&hex.len())
            || !hex.len().is_multiple_of(8)
            || !hex.bytes().all(|byte| byte.is_ascii_hexdigit())
        {
            return false;
        }
        let (algorithm, foreign) = match kind {
            Some(Kind::Known(algorithm)) if algorithm.hex_digits() == hex.len() => (Some(*algorithm), String::new()),
            // The same name is used for other lengths, and a list may hold checksums of several kinds.
            Some(Kind::Known(Algorithm::Blake2b)) => (None, format!("BLAKE2b of {} bits", hex.len().saturating_mul(4))),
            Some(Kind::Foreign(kind)) => (None, kind.clone()),
            _ => (Algorithm::of_length(hex.len()), format!("of {} digits", hex.len())),
        };
        match algorithm {
            Some(algorithm) => {
                let is_told = kind == Some(&Kind::Known(algorithm));
                self.lines.push(Line { sum: Sum { algorithm, hex: hex.to_ascii_lowercase() }, is_told, name });
            }
            None => self.foreign.push((foreign, name)),
        }
        true
    }

    fn line(&mut self, raw: &[u8], hint: Option<&Kind>, end: LineEnd) {
        let is_zero_ended = end == LineEnd::Zero;
        let raw = if is_zero_ended { raw } else { raw.strip_suffix(b"\r").unwrap_or(raw) };
        let (raw, escaped) = match raw.strip_prefix(b"\\") {
            Some(rest) if !is_zero_ended => (rest, true),
            _ => (raw, false),
        };
        let Ok(text) = std::str::from_utf8(raw) else { return };
        let Some((hex, kind, name)) = gnu(text, hint).or_else(|| bsd(text)) else { return };
        let name = if escaped { unescape(name) } else { Some(name.to_owned()) };
        if let Some(name) = name.filter(|name| !name.is_empty()) {
            self.take(hex, kind.as_ref(), Some(name));
        }
    }
}

/// What ends the lines of a list: behind a zero, names are as they are.
#[derive(Clone, Copy, PartialEq, Eq)]
enum LineEnd {
    Newline,
    Zero,
}

/// `hex  name` or `hex *name`.
fn gnu<'a>(text: &'a str, hint: Option<&Kind>) -> Option<(&'a str, Option<Kind>, &'a str)> {
    let (hex, rest) = text.split_once(' ')?;
    let name = rest.strip_prefix(' ').or_else(|| rest.strip_prefix('*'))?;
    Some((hex, hint.cloned(), name))
}

/// Longest name of a kind, in bytes.
const KIND_MOST: usize = 32;

/// `SHA256 (name) = hex`, and `SHA2-256(name)= hex` as other tools write it.
fn bsd(text: &str) -> Option<(&str, Option<Kind>, &str)> {
    let (front, hex) = text.rsplit_once(") = ").or_else(|| text.rsplit_once(")= "))?;
    let (kind, name) = front.split_once('(')?;
    let kind = kind.trim_end();
    let is_word = (1..=KIND_MOST).contains(&kind.len()) && !kind.contains(char::is_whitespace);
    let hex = hex.trim();
    // One that has not the digits of its kind is of none that is known.
    let fits = |named: &Kind| !matches!(named, Kind::Known(algorithm) if algorithm.hex_digits() != hex.len());
    let named = kind_named(kind).filter(fits).unwrap_or_else(|| Kind::Foreign(kind.to_owned()));
    is_word.then_some((hex, Some(named), name))
}

fn unescape(name: &str) -> Option<String> {
    let mut out = String::with_capacity(name.len());
    let mut chars = name.chars();
    while let Some(c) = chars.next() {
        out.push(match c {
            '\\' => match chars.next()? {
                'n' => '\n',
                'r' => '\r',
                '\\' => '\\',
                _ => return None,
            },
            c => c,
        });
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn every_form_in_use_is_read_and_the_rest_passed_over() {
        let (md5, sha256, long) = ("d41d8cd98f00b204e9800998ecf8427e", "aB".repeat(32), "0".repeat(128));
        let told = |text: &str, list: &str| {
            let all = parse(text.as_bytes(), kind_in(list));
            let any = |name: Option<String>| format!("{:?}", name.unwrap_or("any".into()));
            let line = |Line { sum, is_told, name }| {
                format!("{}{} {}", sum.algorithm.name(), if is_told { "" } else { "?" }, any(name))
            };
            let foreign = all.foreign.into_iter().map(|(kind, name)| format!("not {kind} {}", any(name)));
            all.lines.into_iter().map(line).chain(foreign).collect::<Vec<_>>().join(", ")
        };
        let forms = [
            (format!("# made on Monday\n{md5}  plain.iso\r\n{md5} *./folder/binary.iso\n"), "MD5SUMS"),
            (format!("\\{md5}  two\\nlines.iso\n{md5} one-space\nabc  short\n"), "MD5SUMS"),
            (format!("{md5}  a\nb.iso\0{md5}  c.iso\0"), "MD5SUMS"),
            (format!("\u{FEFF}{sha256}  with-a-mark.iso\n"), "sha256sum.txt"),
            (format!("SHA256 (a (1).iso) = {sha256}\nMD5 (a.iso) = {md5}\nSHA1 (a.iso) = {md5}\n"), "CHECKSUM"),
            (format!("{sha256}\r\n"), "larkspur.iso.sha256"),
            (sha256.clone(), "larkspur.iso.b3"),
            (format!("{long}  a.iso\n"), "B2SUMS"),
            (format!("# SHA512 HASH\n{long}  a.iso\n# BLAKE2B HASH\n{long}  a.iso\n"), "larkspur.DIGESTS"),
            (format!("# WHIRLPOOL HASH\n{long}  a.iso\n"), "larkspur.DIGESTS"),
            (format!("{sha256}  a.iso\n"), "CHECKSUMS"),
            (format!("# Shake and Skein 3\n{sha256}  a.iso\n"), "shake-skein-sm.CHECKSUM"),
            (format!("{sha256}  a.iso\n"), "B2SUMS"),
            (format!("{sha256}\n"), "larkspur.iso.sha3-256"),
            (format!("SHA2-256(a.iso)= {sha256}\nBLAKE2b-256 (a.iso) = {sha256}\nSHA3-256 (a.iso) = {sha256}\n"), "x"),
            (format!("-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA512\n\n{sha256}  a.iso\n"), "SHA256SUMS.asc"),
        ];
        let read: Vec<_> = forms.iter().map(|(text, list)| told(text, list)).collect();
        insta::assert_snapshot!(read.join("\n"), @r#"
        md5 "plain.iso", md5 "./folder/binary.iso"
        md5 "two\nlines.iso"
        md5 "a\nb.iso", md5 "c.iso"
        sha256 "with-a-mark.iso"
        sha256 "a (1).iso", md5 "a.iso", not SHA1 "a.iso"
        sha256 "any"
        blake3 "any"
        blake2b "a.iso"
        sha512 "a.iso", blake2b "a.iso"
        not WHIRLPOOL "a.iso"
        sha256? "a.iso"
        sha256? "a.iso"
        not BLAKE2b of 256 bits "a.iso"
        not sha3-256 "any"
        sha256 "a.iso", not BLAKE2b-256 "a.iso", not SHA3-256 "a.iso"
        sha256 "a.iso"
        "#);
        let lines = parse(format!("{md5}  ./folder/binary.iso").as_bytes(), None).lines;
        assert!(lines[0].is_for("binary.iso") && !lines[0].is_for("ary.iso"));
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_panic(bytes: Vec<u8>) {
            let _ = parse(&bytes, None);
        }

        #[test]
        fn what_the_tools_would_write_is_read_back(name in "[^\0/]{1,40}", hex in "[0-9a-f]{64}") {
            let escaped = name.replace('\\', "\\\\").replace('\n', "\\n").replace('\r', "\\r");
            let mark = if escaped == name { "" } else { "\\" };
            let lines = parse(format!("{mark}{hex}  {escaped}\n").as_bytes(), None).lines;
            prop_assert_eq!(lines.len(), 1);
            prop_assert!(lines[0].is_for(&name), "{:?}", lines);
        }
    }
}
