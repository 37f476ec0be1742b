//! What a starting PC says, as text: from the bytes of a serial line, and from the cells of a text screen.

/// Cells in a row of the text screen.
const COLUMNS: usize = 80;
/// Longest text that is kept of a line or a screen, in characters.
const KEPT_MOST: usize = 16_000;

/// The characters from 0x80 on of code page 437, that of the PC's text screen: RFC 1345, IBM437.
const CP437: &str = "ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜ¢£¥₧ƒáíóúñÑªº¿⌐¬½¼¡«»░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀αßΓπΣσµτΦΘΩδ∞φε∩≡±≥≤⌠⌡÷≈°∙·√ⁿ²■\u{a0}";

fn letter(cell: u8) -> char {
    match cell {
        0x20..=0x7e => char::from(cell),
        0x80.. => CP437.chars().nth(usize::from(cell & 0x7f)).unwrap_or(' '),
        _ => ' ',
    }
}

fn is_frame(letter: char) -> bool {
    matches!(letter, '\u{2500}'..='\u{259f}' | '|' | '+' | '*' | '-' | '=') || letter.is_whitespace()
}

/// A line without the frame around it; `None` where nothing is left that could be read.
fn bare(line: &str) -> Option<&str> {
    let line = line.trim_matches(is_frame);
    line.chars().any(char::is_alphanumeric).then_some(line)
}

/// The rows of a text screen that say anything.
pub(super) fn of_screen(cells: &[u8]) -> String {
    let rows = cells.chunks(COLUMNS).map(|row| row.iter().map(|cell| letter(*cell)).collect::<String>());
    let rows: Vec<String> = rows.filter_map(|row| bare(&row).map(str::to_owned)).collect();
    rows.join("\n")
}

/// What came over a serial line, without what moves a terminal's cursor: a line for each stretch of text.
pub(super) fn of_serial(bytes: &[u8]) -> String {
    let mut text = String::new();
    let mut letters = String::from_utf8_lossy(bytes).into_owned().into_bytes().into_iter().peekable();
    let mut plain = Vec::new();
    while let Some(byte) = letters.next() {
        if byte != 0x1b {
            plain.push(byte);
            continue;
        }
        // ECMA-48, 5.4: a control sequence ends with a byte from 0x40 to 0x7e; other escapes are two or three bytes long.
        match letters.next() {
            Some(b'[') => while letters.next_if(|byte| !(0x40..=0x7e).contains(byte)).is_some() {},
            Some(b'(' | b')') => {}
            _ => {
                plain.push(b'\n');
                continue;
            }
        }
        letters.next();
        plain.push(b'\n');
    }
    let mut before = "";
    let plain = String::from_utf8_lossy(&plain);
    for line in plain.split(['\n', '\r']).filter_map(bare) {
        // What is drawn anew is said once.
        if line != before {
            text.push_str(line);
            text.push('\n');
            before = line;
        }
    }
    text
}

/// What is kept of a text: all of it, or its beginning and its end.
pub(super) fn kept(text: &str) -> String {
    let count = text.chars().count();
    if count <= KEPT_MOST {
        return text.trim_end().to_owned();
    }
    let half = KEPT_MOST / 2;
    let first: String = text.chars().take(half).collect();
    let last: String = text.chars().skip(count.saturating_sub(half)).collect();
    format!("{first}\n[…]\n{}", last.trim_end())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_line_and_a_screen_are_read_without_what_moves_the_cursor_and_frames() {
        let serial = b"\x1b[2J\x1b[01;01H\x1b[=3hBdsDxe: loading Boot0001\r\n\x1b(B\x1b[1m\x1b[40mGNU GRUB\x1b[0m  \x1b7* Larkspur\x1b[?25l\r* Larkspur\r";
        insta::assert_snapshot!(of_serial(serial), @r"
        BdsDxe: loading Boot0001
        GNU GRUB
        Larkspur
        ");
        let mut cells = vec![0u8; 160];
        cells[0] = 0xC9;
        cells[1..79].fill(0xCD);
        cells[80..90].copy_from_slice(b"\xBA Fran\x87ais");
        assert_eq!(of_screen(&cells), "Français");
        let long = "é".repeat(20_000);
        assert_eq!(kept(&long).chars().count(), KEPT_MOST + 5);
        assert_eq!(kept("one\ntwo\n"), "one\ntwo");
        assert_eq!((CP437.chars().count(), letter(0xff), letter(0x80)), (128, '\u{a0}', 'Ç'));
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_panic(bytes: Vec<u8>) {
            let text = of_serial(&bytes);
            let has_escape = text.contains('\u{1b}');
            prop_assert!(!has_escape);
            let _ = (of_screen(&bytes), kept(&text));
        }
    }
}
