//! What a file is by its first bytes, where it is no disk image at all: one table, taken in at a glance.

/// A file that can't be written as it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stranger {
    /// An archive of files, in words.
    Archive(&'static str),
    /// Something else, in words.
    Other {
        /// What it is, with its article.
        what: &'static str,
        /// What to do about it.
        next: &'static str,
    },
}

const DOWNLOAD: &str = "open it to read what the server said, then download the image again";
const NOT_THIS: &str = "give the image file itself";

/// Magic numbers at the start of the file.
const AT_START: [(&[u8], Stranger); 8] = [
    (b"7z\xBC\xAF\x27\x1C", Stranger::Archive("a 7z archive")),
    (b"Rar!\x1A\x07", Stranger::Archive("a RAR archive")),
    (b"%PDF-", Stranger::Other { what: "a PDF document", next: NOT_THIS }),
    (b"\x7FELF", Stranger::Other { what: "a program for Linux", next: NOT_THIS }),
    (b"MZ", Stranger::Other { what: "a program for Windows or UEFI", next: NOT_THIS }),
    (
        b"d8:announce",
        Stranger::Other {
            what: "a torrent file, which only says where the image can be had",
            next: "open it with a torrent client to get the image",
        },
    ),
    (b"-----BEGIN PGP", Stranger::Other { what: "a signature, not the image it belongs to", next: NOT_THIS }),
    (b"\x89PNG", Stranger::Other { what: "a picture", next: NOT_THIS }),
];

/// Beginnings of web pages, in small letters, behind white space and a byte order mark.
const PAGES: [&str; 4] = ["<!doctype html", "<html", "<head", "<?xml"];

/// What `head`, the first bytes of a file, gives away; `None` when nothing here knows it.
pub fn stranger(head: &[u8]) -> Option<Stranger> {
    if let Some((_, stranger)) = AT_START.iter().find(|(magic, _)| head.starts_with(magic)) {
        return Some(*stranger);
    }
    if head.get(257..).is_some_and(|rest| rest.starts_with(b"ustar")) {
        return Some(Stranger::Archive("a tar archive"));
    }
    let start = head.get(..512.min(head.len())).unwrap_or_default();
    let start = String::from_utf8_lossy(start).trim_start_matches('\u{FEFF}').trim_start().to_lowercase();
    if PAGES.iter().any(|page| start.starts_with(page)) {
        return Some(Stranger::Other { what: "a web page, not an image: the download went wrong", next: DOWNLOAD });
    }
    let is_text = !start.is_empty() && start.chars().all(|c| !c.is_control() || c.is_whitespace());
    (is_text && !start.contains(char::REPLACEMENT_CHARACTER)).then_some(Stranger::Other {
        what: "a text file",
        next: "open it to see what was downloaded in place of the image",
    })
}
