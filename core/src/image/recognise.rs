//! What a file is by its first bytes, where it is no disk image at all: one table, taken in at a glance.

use crate::bytes::field::{u32_le, u64_le};
use crate::published::parse;

/// A file that can't be written as it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stranger {
    /// Zeros, as far as it was looked.
    Zeros,
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

/// The image of a virtual machine's disk, which is laid out in pieces of its own.
const fn virtual_disk(what: &'static str) -> Stranger {
    Stranger::Other { what, next: "convert it to a raw image, then give that" }
}

/// Magic numbers at the start of the file; each is that of the format's own description.
const AT_START: [(&[u8], Stranger); 25] = [
    (b"7z\xBC\xAF\x27\x1C", Stranger::Archive("a 7z archive")),
    (b"Rar!\x1A\x07", Stranger::Archive("a RAR archive")),
    (b"LZIP", Stranger::Archive("packed with lzip (.lz), which is not unpacked here")),
    (b"\x1F\x9D", Stranger::Archive("packed with compress (.Z), which is not unpacked here")),
    (b"\x02\x21\x4C\x18", Stranger::Archive("packed in the old form of lz4, which is not unpacked here")),
    (b"\x89LZO\0\r\n\x1A\n", Stranger::Archive("packed with lzop (.lzo), which is not unpacked here")),
    (b"PK\x05\x06", Stranger::Archive("a zip archive with nothing in it")),
    (b"PK\x07\x08", Stranger::Archive("the first part of a zip archive that was split: join its parts")),
    (b"MSWIM\0\0\0", Stranger::Archive("a WIM archive, which belongs into an installer image")),
    (b"QFI\xFB", virtual_disk("a virtual machine's disk (qcow2)")),
    (b"KDMV", virtual_disk("a virtual machine's disk (vmdk)")),
    (b"# Disk DescriptorFile", virtual_disk("the description of a virtual machine's disk (vmdk)")),
    (b"vhdxfile", virtual_disk("a virtual machine's disk (vhdx)")),
    (b"conectix", virtual_disk("a virtual machine's disk (vhd)")),
    (b"\x3A\xFF\x26\xED", virtual_disk("an image with its empty parts left out (Android sparse image)")),
    (
        b"\0\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\0",
        Stranger::Other {
            what: "a copy of a disc with 2352 bytes a sector (.bin)",
            next: "convert it to an ISO image",
        },
    ),
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
    if is_lzma(head) {
        return Some(Stranger::Archive("packed with lzma, which is not unpacked here"));
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

/// The header of a lone LZMA stream: properties below 225, a dictionary of a size that its own packer makes, and a length that is
/// unknown or could be that of a file (LZMA SDK, "lzma-specification").
fn is_lzma(head: &[u8]) -> bool {
    const UNKNOWN: u64 = u64::MAX;
    let (Some(dictionary), Some(length)) = (u32_le(head, 1), u64_le(head, 5)) else { return false };
    let is_usual = dictionary.is_power_of_two() || (dictionary.is_multiple_of(3) && (dictionary / 3).is_power_of_two());
    head.first().is_some_and(|properties| *properties < 225)
        && (1 << 12..=1 << 30).contains(&dictionary)
        && is_usual
        && (length == UNKNOWN || (1..1 << 48).contains(&length))
        // Code and data of other kinds begin with zeros more often than a packed stream does, whose first byte is one.
        && head.get(13) == Some(&0)
        && head.get(14).is_some_and(|byte| *byte != 0)
}

fn is_packet_signature(head: &[u8]) -> bool {
    let version = match head {
        [0x88 | 0xC2, _, version, ..] | [0x89, _, _, version, ..] => version,
        _ => return false,
    };
    head.len() < SIGNATURE_MOST && (3..=6).contains(version)
}
