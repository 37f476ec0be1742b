//! Text from outside: what an image, a drive, a list, a server or a file name says is shown, and takes nothing over.
//!
//! A terminal obeys what it is sent. So whatever was not written here is shown with everything in it that a terminal, or an
//! eye, would take for something else: control characters, line ends, marks that turn the direction of writing, and
//! characters that have no width (Unicode 16.0, general categories Cc, Cf, Zl and Zp).

use std::ffi::OsStr;
use std::fmt::{self, Write};
use std::path::Path;

/// Whether a character does something to the text around it, or can't be seen.
pub fn is_harmful(c: char) -> bool {
    c.is_control()
        || matches!(
            u32::from(c),
            0xAD | 0x600..=0x605
                | 0x61C
                | 0x6DD
                | 0x70F
                | 0x890..=0x891
                | 0x8E2
                | 0x180E
                | 0x200B..=0x200F
                | 0x2028..=0x202E
                | 0x2060..=0x206F
                | 0xFEFF
                | 0xFFF9..=0xFFFB
                | 0x110BD
                | 0x110CD
                | 0x13430..=0x1343F
                | 0x1BCA0..=0x1BCA3
                | 0x1D173..=0x1D17A
                | 0xE0000..=0xE0FFF
        )
}

/// Whether a text is shown as it is.
pub fn is_harmless(text: &str) -> bool {
    !text.chars().any(is_harmful)
}

/// A text from outside. Only its display makes it printable: as it is, or in quotation marks with what would do harm
/// written out.
///
/// # Examples
/// ```
/// # use pyrotyp_core::text::Foreign;
/// assert_eq!(Foreign("LARKSPUR 9.2").to_string(), "LARKSPUR 9.2");
/// assert_eq!(Foreign("a\x1b[2J\u{202e}").to_string(), r#""a\x1b[2J\u{202e}""#);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Foreign<'a>(pub &'a str);

impl fmt::Display for Foreign<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if is_harmless(self.0) {
            return f.pad(self.0);
        }
        let mut shown = String::from("\"");
        for c in self.0.chars() {
            match u32::from(c) {
                _ if !is_harmful(c) => shown.push(c),
                code @ 0..=0xFF => write!(shown, "\\x{code:02x}")?,
                code => write!(shown, "\\u{{{code:x}}}")?,
            }
        }
        shown.push('"');
        f.pad(&shown)
    }
}

/// What has a name from outside.
pub trait Shown {
    /// As text that can be shown.
    fn shown(&self) -> String;
}

/// A text from outside in quotation marks, in any case.
pub fn quoted(text: &str) -> String {
    if is_harmless(text) { format!("\"{text}\"") } else { text.shown() }
}

/// Several of them, with commas between.
pub fn all_shown<T: AsRef<str>>(all: &[T]) -> String {
    all.iter().map(|one| one.as_ref().shown()).collect::<Vec<_>>().join(", ")
}

impl Shown for Path {
    fn shown(&self) -> String {
        Foreign(&self.as_os_str().to_string_lossy()).to_string()
    }
}

impl Shown for OsStr {
    fn shown(&self) -> String {
        Foreign(&self.to_string_lossy()).to_string()
    }
}

impl Shown for str {
    fn shown(&self) -> String {
        Foreign(self).to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_would_do_harm_is_written_out() {
        let told = [
            "plain name.iso",
            "Überfluß 日本",
            "a\x1b]52;c;AA\x07",
            "ok\r\nSHA-256 matches",
            "x\u{202e}osi",
            "\u{9b}1m",
        ];
        insta::assert_snapshot!(told.map(|text| text.shown()).join("\n"), @r#"
        plain name.iso
        Überfluß 日本
        "a\x1b]52;c;AA\x07"
        "ok\x0d\x0aSHA-256 matches"
        "x\u{202e}osi"
        "\x9b1m"
        "#);
    }

    proptest! {
        #[test]
        fn whatever_is_shown_is_harmless_and_what_was_so_is_as_it_was(text: String) {
            let shown = text.shown();
            prop_assert!(is_harmless(&shown));
            prop_assert!(shown == text || !is_harmless(&text));
        }
    }
}
