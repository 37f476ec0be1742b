//! Words of a command as they can be typed: whatever a name holds, a shell gives it to the program as it is.

use std::fmt::Write;
use std::path::Path;

use crate::text::foreign::is_harmful;

/// One word of a command.
pub fn word(text: &str) -> String {
    let is_plain = |c: char| c.is_alphanumeric() || "-_./:=,+@%".contains(c);
    if !text.is_empty() && text.chars().all(is_plain) {
        return text.to_owned();
    }
    if !text.chars().any(is_harmful) {
        return format!("'{}'", text.replace('\'', "'\\''"));
    }
    // What can't be shown is written out, byte by byte.
    let mut out = String::from("$'");
    for c in text.chars() {
        match c {
            '\'' | '\\' => out.extend(['\\', c]),
            c if is_harmful(c) => {
                c.encode_utf8(&mut [0; 4]).bytes().for_each(|byte| {
                    // A string takes everything.
                    let _ = write!(out, "\\x{byte:02x}");
                });
            }
            c => out.push(c),
        }
    }
    out.push('\'');
    out
}

/// A path as one word of a command.
pub fn path(path: &Path) -> String {
    let text = path.to_string_lossy();
    // What begins like an option is none with its folder before it.
    if text.starts_with('-') { word(&format!("./{text}")) } else { word(&text) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_shell_gives_back_what_a_word_was_made_from() {
        let texts = [
            "larkspur-9.2.iso",
            "",
            "two words",
            "it's",
            "$HOME `id` \"x\" \\ *",
            "a\u{1b}[2J\n\u{202e}'\\b",
            "Überfluß",
        ];
        for text in texts {
            let command = format!("printf %s {}", word(text));
            let output = std::process::Command::new("bash").args(["-c", &command]).output().unwrap();
            assert_eq!(String::from_utf8(output.stdout).unwrap(), text, "{command}");
        }
        assert_eq!(path(Path::new("-rf")), "./-rf");
    }
}
