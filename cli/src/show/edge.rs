//! The edge of the output: nothing passes it that a terminal would obey, but for the colours that are ours.
//!
//! What comes from outside is made harmless where it is put into a text ([`pyrotyp_core::text::Foreign`]); what was forgotten there is
//! caught here, for every command.

use std::borrow::Cow;
use std::fmt::Write;

use pyrotyp_core::text::foreign::is_harmful;

/// Length of the sequence that sets colours, if `text` begins with one: `ESC [`, numbers, `m` (ECMA-48, §8.3.117).
fn colour(text: &str) -> Option<usize> {
    let rest = text.strip_prefix("\x1b[")?;
    let numbers = rest.find(|c: char| !c.is_ascii_digit() && c != ';')?;
    (rest.get(numbers..)?.starts_with('m')).then_some(numbers.saturating_add(3))
}

/// The text as it may go to a terminal.
pub(crate) fn edge(text: &str) -> Cow<'_, str> {
    if !text.chars().any(|c| is_harmful(c) && c != '\n') {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        let length = colour(rest).unwrap_or(c.len_utf8());
        let (this, after) = rest.split_at_checked(length).unwrap_or((rest, ""));
        if length > c.len_utf8() || c == '\n' || !is_harmful(c) {
            out.push_str(this);
        } else {
            let code = u32::from(c);
            // Writing to a string never fails.
            let _ = if code <= 0xFF { write!(out, "\\x{code:02x}") } else { write!(out, "\\u{{{code:x}}}") };
        }
        rest = after;
    }
    Cow::Owned(out)
}

/// A JSON document as it may go to a terminal: the same document, since what would do harm stands in its texts alone.
pub(crate) fn json(document: &str) -> String {
    let mut out = String::with_capacity(document.len());
    for c in document.chars() {
        if is_harmful(c) && c != '\n' {
            let mut units = [0u16; 2];
            for unit in c.encode_utf16(&mut units) {
                // Writing to a string never fails.
                let _ = write!(out, "\\u{unit:04x}");
            }
        } else {
            out.push(c);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_our_colours_and_line_ends_pass() {
        let text = "\x1b[1;32mok\x1b[0m\n\x1b[2J\x1b]52;c;QQ==\x07\r\u{202e}\u{9b}31m \x1b";
        assert_eq!(edge(text), "\x1b[1;32mok\x1b[0m\n\\x1b[2J\\x1b]52;c;QQ==\\x07\\x0d\\u{202e}\\x9b31m \\x1b");
        assert!(matches!(edge("\x1b[1mplain"), Cow::Owned(_)) && matches!(edge("plain\n"), Cow::Borrowed(_)));
        let document = serde_json::to_string_pretty(&["a\u{202e}b", "\u{e0001}", "\x7f\u{9b}", "plain"]).unwrap();
        let safe = json(&document);
        assert!(!safe.chars().any(|c| is_harmful(c) && c != '\n'), "{safe}");
        assert_eq!(
            serde_json::from_str::<serde_json::Value>(&safe).unwrap(),
            serde_json::from_str::<serde_json::Value>(&document).unwrap()
        );
    }
}
