//! Letters that a terminal may not have: where its language is not in UTF-8, others stand for them.

use std::borrow::Cow;

/// Whether the terminal's letters are those of Unicode, by the variables that say so (POSIX, XBD §8.2).
pub(crate) fn are_unicode() -> bool {
    let said = ["LC_ALL", "LC_CTYPE", "LANG"]
        .into_iter()
        .find_map(|name| std::env::var_os(name).filter(|value| !value.is_empty()));
    // Who says nothing sits at a system of today.
    said.is_none_or(|said| {
        let said = said.to_string_lossy().to_ascii_lowercase();
        said.contains("utf-8") || said.contains("utf8")
    })
}

/// The text in letters that the terminal has.
pub(crate) fn plain(text: &str) -> Cow<'_, str> {
    if text.is_ascii() || are_unicode() { Cow::Borrowed(text) } else { Cow::Owned(in_ascii(text)) }
}

/// What our own texts hold beyond ASCII, in ASCII; of texts from elsewhere, a question mark stays for each such letter.
fn in_ascii(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            c if c.is_ascii() => out.push(c),
            '–' | '—' => out.push('-'),
            '…' => out.push_str("..."),
            '“' | '”' => out.push('"'),
            '’' => out.push('\''),
            '×' => out.push('x'),
            '·' => out.push('.'),
            '■' | '█' => out.push('#'),
            'é' => out.push('e'),
            _ => out.push('?'),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_letter_has_one_that_any_terminal_has() {
        assert_eq!(in_ascii("50 × 25 – “Café” … ■·\n"), "50 x 25 - \"Cafe\" ... #.\n");
        assert_eq!(in_ascii("プロ"), "??");
    }
}
