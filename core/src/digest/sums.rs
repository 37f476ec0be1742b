//! Sums files in the form of the GNU tools: which checksum belongs to which file?
//!
//! Source: GNU coreutils manual, "md5sum invocation": hex digits, a space, a space or `*`, the name; a line whose
//! name holds a backslash or line break begins with a backslash and has these escaped.
//! Promise: any bytes give an answer, never a panic; lines that are none are passed over.

use super::{Algorithm, Sum};

/// Largest sums file read, in bytes.
pub const SUMS_BYTES_MOST: u64 = 4 << 20;

/// One line: a checksum and the file it is for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line {
    /// The checksum.
    pub sum: Sum,
    /// Name as the list has it, which may be a path.
    pub name: String,
}

impl Line {
    /// Whether the line is for a file of this name, wherever it lies.
    pub fn is_for(&self, file_name: &str) -> bool {
        self.name.rsplit('/').next() == Some(file_name)
    }
}

/// The lines of a sums file; anything else in it is passed over.
pub fn parse(text: &[u8]) -> Vec<Line> {
    text.split(|byte| *byte == b'\n').filter_map(line).collect()
}

fn line(raw: &[u8]) -> Option<Line> {
    let raw = raw.strip_suffix(b"\r").unwrap_or(raw);
    let (raw, escaped) = match raw.strip_prefix(b"\\") {
        Some(rest) => (rest, true),
        None => (raw, false),
    };
    let digits = raw.iter().take_while(|byte| byte.is_ascii_hexdigit()).count();
    let (hex, rest) = raw.split_at_checked(digits)?;
    let algorithm = Algorithm::of_length(digits)?;
    let name = rest.strip_prefix(b"  ").or_else(|| rest.strip_prefix(b" *"))?;
    let name = std::str::from_utf8(name).ok()?;
    let name = if escaped { unescape(name)? } else { name.to_owned() };
    let hex = std::str::from_utf8(hex).ok()?.to_ascii_lowercase();
    (!name.is_empty()).then_some(Line { sum: Sum { algorithm, hex }, name })
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
    fn the_gnu_form_is_read_and_the_rest_passed_over() {
        let md5 = "d41d8cd98f00b204e9800998ecf8427e";
        let text = format!(
            "# made on Monday\n{md5}  plain.iso\r\n{md5} *./folder/binary.iso\n\\{md5}  two\\nlines.iso\n{md5} one-space\nabc  short\n"
        );
        let names: Vec<_> = parse(text.as_bytes()).into_iter().map(|line| line.name).collect();
        assert_eq!(names, ["plain.iso", "./folder/binary.iso", "two\nlines.iso"]);
        assert!(parse(text.as_bytes())[1].is_for("binary.iso"));
        assert!(!parse(text.as_bytes())[1].is_for("ary.iso"));
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_panic(bytes: Vec<u8>) {
            let _ = parse(&bytes);
        }

        #[test]
        fn what_the_tools_would_write_is_read_back(name in "[^\0/]{1,40}", hex in "[0-9a-f]{64}") {
            let escaped = name.replace('\\', "\\\\").replace('\n', "\\n").replace('\r', "\\r");
            let mark = if escaped == name { "" } else { "\\" };
            let lines = parse(format!("{mark}{hex}  {escaped}\n").as_bytes());
            prop_assert_eq!(lines.len(), 1);
            prop_assert!(lines[0].is_for(&name), "{:?}", lines);
        }
    }
}
