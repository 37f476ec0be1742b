//! What a file is by its first bytes, where it is no disk image at all: one table, taken in at a glance.

use crate::digest::parse;

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

const TORRENT: Stranger = Stranger::Other {
    what: "a torrent file, which only says where the image can be had",
    next: "open it with a torrent client to get the image; beside the image, its sums are checked too",
};
const SIGNATURE: Stranger = Stranger::Other {
    what: "a signature, not the image it belongs to",
    next: "give the image; a signature beside it is found, or named with --signature",
};
const SIGNATURE_OR_KEY: Stranger = Stranger::Other {
    what: "a signature or the key for one, not the image it belongs to",
    next: "give the image; name these with --signature and --key",
};
const KEY: Stranger = Stranger::Other { what: "a public key", next: "give the image, and this key with --key" };
const LIST: Stranger = Stranger::Other {
    what: "a list of checksums, not the image they belong to",
    next: "give the image; a list beside it is found, or named with --sums",
};

/// Magic numbers at the start of the file.
const AT_START: [(&[u8], Stranger); 11] = [
    (b"7z\xBC\xAF\x27\x1C", Stranger::Archive("a 7z archive")),
    (b"Rar!\x1A\x07", Stranger::Archive("a RAR archive")),
    (b"%PDF-", Stranger::Other { what: "a PDF document", next: NOT_THIS }),
    (b"\x7FELF", Stranger::Other { what: "a program for Linux", next: NOT_THIS }),
    (b"MZ", Stranger::Other { what: "a program for Windows or UEFI", next: NOT_THIS }),
    (b"-----BEGIN PGP PUBLIC KEY", KEY),
    (b"-----BEGIN PGP SIGNED MESSAGE", LIST),
    (b"-----BEGIN PGP", SIGNATURE),
    (b"untrusted comment: ", SIGNATURE_OR_KEY),
    (b"\x89PNG", Stranger::Other { what: "a picture", next: NOT_THIS }),
    (b"\xFF\xD8\xFF", Stranger::Other { what: "a picture", next: NOT_THIS }),
];

/// Beginnings of web pages, in small letters, behind white space and a byte order mark.
const PAGES: [&str; 4] = ["<!doctype html", "<html", "<head", "<?xml"];
/// A signature in packets is shorter than this, in bytes, and begins like this: OpenPGP signature packets of version 3 to 6
/// (RFC 9580, §4.2 and §5.2), with the length in one or two bytes.
const SIGNATURE_MOST: usize = 4096;
/// How much of a file is looked at for checksums, in bytes.
const LIST_HEAD: usize = 2048;

/// What `head`, the first bytes of a file, gives away; `None` when nothing here knows it.
pub fn stranger(head: &[u8]) -> Option<Stranger> {
    if let Some((_, stranger)) = AT_START.iter().find(|(magic, _)| head.starts_with(magic)) {
        return Some(*stranger);
    }
    if head.get(257..).is_some_and(|rest| rest.starts_with(b"ustar")) {
        return Some(Stranger::Archive("a tar archive"));
    }
    if is_torrent(head) {
        return Some(TORRENT);
    }
    if is_packet_signature(head) {
        return Some(SIGNATURE);
    }
    let start = head.get(..512.min(head.len())).unwrap_or_default();
    let start = String::from_utf8_lossy(start).trim_start_matches('\u{FEFF}').trim_start().to_lowercase();
    if start.starts_with("<?xml") && start.contains("<metalink") {
        return Some(Stranger::Other {
            what: "a Metalink file, which only says where the image can be had",
            next: "download the image from one of the addresses in it",
        });
    }
    if PAGES.iter().any(|page| start.starts_with(page)) {
        return Some(Stranger::Other { what: "a web page, not an image: the download went wrong", next: DOWNLOAD });
    }
    // A list shows itself within its first lines.
    if !parse(head.get(..LIST_HEAD.min(head.len())).unwrap_or_default(), None).is_empty() {
        return Some(LIST);
    }
    let is_text = !start.is_empty() && start.chars().all(|c| !c.is_control() || c.is_whitespace());
    (is_text && !start.contains(char::REPLACEMENT_CHARACTER)).then_some(Stranger::Other {
        what: "a text file",
        next: "open it to see what was downloaded in place of the image",
    })
}

/// A dictionary (BEP 3) that begins with one of the keys which torrents begin with.
fn is_torrent(head: &[u8]) -> bool {
    let keys: [&[u8]; 6] =
        [b"8:announce", b"13:announce-list", b"7:comment", b"10:created by", b"13:creation date", b"4:infod"];
    head.strip_prefix(b"d").is_some_and(|rest| keys.iter().any(|key| rest.starts_with(key)))
}

fn is_packet_signature(head: &[u8]) -> bool {
    let version = match head {
        [0x88 | 0xC2, _, version, ..] | [0x89, _, _, version, ..] => version,
        _ => return false,
    };
    head.len() < SIGNATURE_MOST && (3..=6).contains(version)
}
