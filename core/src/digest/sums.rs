//! Sums files: which checksum belongs to which file?
//!
//! Sources: GNU coreutils manual, "md5sum invocation": hex digits, a space, a space or `*`, the name; a line whose
//! name holds a backslash or line break begins with a backslash and has these escaped; `--zero` ends lines with a zero
//! byte and escapes nothing; `--tag` writes the BSD form `SHA256 (name) = hex`. Files that hold one checksum and no
//! name, and comments that name the algorithm of the lines below, are in use without a standard.
//! Promise: any bytes give an answer, never a panic; lines that are none are passed over.

use super::{Algorithm, Sum};

/// Largest sums file read, in bytes.
pub const SUMS_BYTES_MOST: u64 = 4 << 20;

/// One line: a checksum and the file it is for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line {
    /// The checksum.
    pub sum: Sum,
    /// Name as the list has it, which may be a path; `None` in a list that holds one checksum and nothing else.
    pub name: Option<String>,
}

impl Line {
    /// Whether the line is for a file of this name, wherever it lies.
    pub fn is_for(&self, file_name: &str) -> bool {
        let last = |name: &str, step: char| name.rsplit(step).next() == Some(file_name);
        self.name.as_ref().is_none_or(|name| last(name, '/') || last(name, '\\'))
    }
}

/// The algorithm that the name of a list gives away, such as `SHA512SUMS` or `larkspur.iso.b2`.
pub fn algorithm_in(list: &str) -> Option<Algorithm> {
    let plain: String = list.chars().filter(char::is_ascii_alphanumeric).collect::<String>().to_ascii_lowercase();
    let longest_first = Algorithm::ALL.into_iter().rev();
    let named = longest_first.into_iter().find(|algorithm| plain.contains(algorithm.name()));
    let ending = list.rsplit('.').next().unwrap_or_default().to_ascii_lowercase();
    match (named, plain.as_str(), ending.as_str()) {
        (Some(algorithm), _, _) => Some(algorithm),
        (None, "b2sums" | "b2sumtxt" | "b2sumstxt", _) | (None, _, "b2") => Some(Algorithm::Blake2b),
        (None, "b3sums" | "b3sumtxt" | "b3sumstxt", _) | (None, _, "b3") => Some(Algorithm::Blake3),
        _ => None,
    }
}

/// The lines of a sums file; anything else in it is passed over.
///
/// `hint` is what the list's name says about the algorithm; where lengths are the same, it decides.
pub fn parse(text: &[u8], hint: Option<Algorithm>) -> Vec<Line> {
    let text = text.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(text);
    let only = text.trim_ascii();
    if let Some(sum) = std::str::from_utf8(only).ok().and_then(|hex| sum_of(hex, hint)) {
        return vec![Line { sum, name: None }];
    }
    let end = if text.contains(&0) { 0 } else { b'\n' };
    let mut hint = hint;
    let mut lines = Vec::new();
    for raw in text.split(|byte| *byte == end) {
        if raw.starts_with(b"#") {
            let words = String::from_utf8_lossy(raw);
            let named = words.split_whitespace().find_map(|word| Algorithm::named(word.trim_start_matches('#')));
            hint = named.or(hint);
        }
        lines.extend(line(raw, hint, end == 0));
    }
    lines
}

fn sum_of(hex: &str, hint: Option<Algorithm>) -> Option<Sum> {
    if hex.is_empty() || !hex.bytes().all(|byte| byte.is_ascii_hexdigit()) {
        return None;
    }
    let fits = |algorithm: &Algorithm| algorithm.hex_digits() == hex.len();
    let algorithm = hint.filter(fits).or_else(|| Algorithm::of_length(hex.len()))?;
    Some(Sum { algorithm, hex: hex.to_ascii_lowercase() })
}

fn line(raw: &[u8], hint: Option<Algorithm>, is_zero_ended: bool) -> Option<Line> {
    let raw = if is_zero_ended { raw } else { raw.strip_suffix(b"\r").unwrap_or(raw) };
    let (raw, escaped) = match raw.strip_prefix(b"\\") {
        Some(rest) if !is_zero_ended => (rest, true),
        _ => (raw, false),
    };
    let text = std::str::from_utf8(raw).ok()?;
    let (sum, name) = gnu(text, hint).or_else(|| bsd(text))?;
    let name = if escaped { unescape(name)? } else { name.to_owned() };
    (!name.is_empty()).then_some(Line { sum, name: Some(name) })
}

/// `hex  name` or `hex *name`.
fn gnu(text: &str, hint: Option<Algorithm>) -> Option<(Sum, &str)> {
    let (hex, rest) = text.split_once(' ')?;
    let name = rest.strip_prefix(' ').or_else(|| rest.strip_prefix('*'))?;
    Some((sum_of(hex, hint)?, name))
}

/// `SHA256 (name) = hex`.
fn bsd(text: &str) -> Option<(Sum, &str)> {
    let (name, hex) = text.rsplit_once(") = ")?;
    let (algorithm, name) = name.split_once(" (")?;
    let algorithm = Algorithm::named(algorithm)?;
    let sum = sum_of(hex.trim_end(), Some(algorithm))?;
    (sum.algorithm == algorithm).then_some((sum, name))
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
            let lines = parse(text.as_bytes(), algorithm_in(list)).into_iter();
            let line = |line: Line| format!("{} {:?}", line.sum.algorithm.name(), line.name.unwrap_or("any".into()));
            lines.map(line).collect::<Vec<_>>().join(", ")
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
            (format!("-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA512\n\n{sha256}  a.iso\n"), "SHA256SUMS.asc"),
        ];
        let read: Vec<_> = forms.iter().map(|(text, list)| told(text, list)).collect();
        insta::assert_snapshot!(read.join("\n"), @r#"
        md5 "plain.iso", md5 "./folder/binary.iso"
        md5 "two\nlines.iso"
        md5 "a\nb.iso", md5 "c.iso"
        sha256 "with-a-mark.iso"
        sha256 "a (1).iso", md5 "a.iso"
        sha256 "any"
        blake3 "any"
        blake2b "a.iso"
        sha512 "a.iso", blake2b "a.iso"
        sha256 "a.iso"
        "#);
        let lines = parse(format!("{md5}  ./folder/binary.iso").as_bytes(), None);
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
            let lines = parse(format!("{mark}{hex}  {escaped}\n").as_bytes(), None);
            prop_assert_eq!(lines.len(), 1);
            prop_assert!(lines[0].is_for(&name), "{:?}", lines);
        }
    }
}
