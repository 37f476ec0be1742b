//! Lines that a terminal would break anywhere are broken between words here, and go on in their own column.

use std::borrow::Cow;
use std::io::IsTerminal;

use terminal_size::{Width, terminal_size_of};
use textwrap::{Options, WordSeparator, WordSplitter, core::display_width};

/// Narrower than this, nothing is gained by it.
const NARROWEST: usize = 40;
/// A line goes on no further to the right than this part of the width.
const INDENT_PART: usize = 2;

/// Columns of the terminal behind `stream`; `None` if there is none.
pub(crate) fn width_of(stream: &(impl IsTerminal + std::os::fd::AsFd)) -> Option<usize> {
    let (Width(columns), _) = stream.is_terminal().then(|| terminal_size_of(stream)).flatten()?;
    Some(usize::from(columns)).filter(|columns| *columns >= NARROWEST)
}

/// The text in lines of at most `width` columns, as far as its words allow.
pub(crate) fn wrap(text: &str, width: usize) -> Cow<'_, str> {
    if text.lines().all(|line| display_width(line) <= width) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 64);
    for line in text.split_inclusive('\n') {
        let (line, end) = line.strip_suffix('\n').map_or((line, ""), |line| (line, "\n"));
        if display_width(line) <= width {
            out.push_str(line);
        } else {
            let indent = " ".repeat(column(line).min(width / INDENT_PART));
            let options = Options::new(width)
                .subsequent_indent(&indent)
                .break_words(false)
                .word_separator(WordSeparator::AsciiSpace)
                .word_splitter(WordSplitter::NoHyphenation);
            out.push_str(&textwrap::wrap(line, options).join("\n"));
        }
        out.push_str(end);
    }
    Cow::Owned(out)
}

/// The column in which a line goes on: that of its text, behind a heading and its gap or behind `next: `.
fn column(line: &str) -> usize {
    let start = line.len() - line.trim_start().len();
    let words = line.get(start..).unwrap_or_default();
    if words.starts_with("next: ") {
        return start + "next: ".len();
    }
    let heading = words.split("  ").next().unwrap_or_default();
    let gap = words.get(heading.len()..).map_or(0, |rest| rest.len() - rest.trim_start().len());
    let is_heading = gap >= 2 && !heading.contains(' ') && display_width(heading) <= 14;
    if is_heading { start + display_width(heading) + gap } else { start + if start > 0 { 0 } else { 2 } }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_stay_whole_and_lines_go_on_in_their_column() {
        let text = "  verdict  caution: a stick made from it may not start every PC\n\
                    \x1b[1mDBR7J\x1b[0m  Kestrin Pocket on tray:kestrin-a\n\
                    short\n   next: choose a stick, or name this with --accept external-disk\n\
                    sha256-9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08\n";
        insta::assert_snapshot!(wrap(text, 40), @"
          verdict  caution: a stick made from it
                   may not start every PC
        [1mDBR7J[0m  Kestrin Pocket on tray:kestrin-a
        short
           next: choose a stick, or name this
                 with --accept external-disk
        sha256-9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08
        ");
        assert!(matches!(wrap("short\nlines\n", 40), Cow::Borrowed(_)));
    }
}
