//! What Rock Ridge tells of a file beside its record: its name, where it links to, and folders that lie too deep for plain ISO 9660.
//!
//! Source: System Use Sharing Protocol (IEEE P1281 draft 1.12), §5 (entries, continuation); Rock Ridge (IEEE P1282 draft 1.12), §4.1.

use std::io;

use crate::bytes::ReadAt;
use crate::bytes::field::both32;

/// Most continuation areas that are followed for one record, and most bytes of each; and of all records of a folder together, whose areas
/// may be one and the same.
const CONTINUED_MOST: usize = 16;
const CONTINUED_BYTES_MOST: u64 = 64 << 10;
pub(super) const FOLDER_CONTINUED_MOST: u64 = 32 << 20;
/// Of every entry: signature, length, version.
const HEADER: usize = 4;
/// Flags of a name and of a step of a link, §4.1.3.1 and §4.1.4.
const GOES_ON: u8 = 1;
const HERE: u8 = 2;
const ABOVE: u8 = 4;
const FROM_ROOT: u8 = 8;
/// Kinds of files of a mode, as POSIX has them, §4.1.1.
const KIND: u32 = 0o170_000;
const PLAIN: u32 = 0o100_000;
const FOLDER: u32 = 0o040_000;
const LINK: u32 = 0o120_000;

/// What a record's entries say.
#[derive(Debug, Default)]
pub(super) struct RockRidge {
    name: Vec<u8>,
    link: Option<Vec<u8>>,
    link_goes_on: bool,
    /// The block of the folder that this record stands for.
    pub child: Option<u32>,
    /// Whether this folder was moved here, and has its place elsewhere.
    pub is_moved: bool,
    mode: Option<u32>,
}

impl RockRidge {
    /// From the system use field of a record; `left` is how much of its folder's continuation areas may still be read, in bytes.
    pub(super) fn read(image: &dyn ReadAt, field: &[u8], block_bytes: u64, left: &mut u64) -> io::Result<Self> {
        let mut found = Self::default();
        let mut next = found.take_in(field);
        for _ in 0..CONTINUED_MOST {
            let Some(Continued { block, offset, bytes }) = next else { break };
            let start = u64::from(block).saturating_mul(block_bytes).saturating_add(u64::from(offset));
            let bytes = u64::from(bytes).min(CONTINUED_BYTES_MOST).min(*left);
            *left = left.saturating_sub(bytes);
            let mut area = vec![0u8; usize::try_from(bytes).unwrap_or_default()];
            let count = image.fill_at(start, &mut area)?;
            area.truncate(count);
            next = found.take_in(&area);
        }
        Ok(found)
    }

    /// The name that the `NM` entries spell; a name is one step of a path, whatever the bytes say.
    pub(super) fn name(&self) -> Option<String> {
        let name = printable(&String::from_utf8_lossy(&self.name));
        (!name.is_empty() && name != "." && name != ".." && !name.contains('/')).then_some(name)
    }

    /// Where it links to, if it is a link.
    pub(super) fn link(&self) -> Option<String> {
        let link = self.link.as_ref()?;
        Some(printable(&String::from_utf8_lossy(link)))
    }

    /// Whether it is neither a file nor a folder nor a link: a device, a pipe.
    pub(super) fn is_special(&self) -> bool {
        self.mode.is_some_and(|mode| !matches!(mode & KIND, 0 | PLAIN | FOLDER | LINK))
    }

    /// Takes in the entries of one area; gives where they go on.
    fn take_in(&mut self, mut field: &[u8]) -> Option<Continued> {
        let mut continued = None;
        while let Some([a, b, length, _version]) = field.first_chunk::<HEADER>() {
            let Some(entry) = field.get(..usize::from(*length)).filter(|entry| entry.len() >= HEADER) else { break };
            let body = entry.get(HEADER..).unwrap_or_default();
            match [*a, *b] {
                [b'N', b'M'] => self.name.extend_from_slice(body.get(1..).unwrap_or_default()),
                [b'S', b'L'] => self.steps(body.get(1..).unwrap_or_default()),
                [b'C', b'L'] => self.child = both32(body, 0),
                [b'R', b'E'] => self.is_moved = true,
                [b'P', b'X'] => self.mode = both32(body, 0),
                [b'C', b'E'] => continued = Continued::of(body),
                [b'S', b'T'] => break,
                _ => {}
            }
            field = field.get(entry.len()..).unwrap_or_default();
        }
        continued
    }

    /// The steps of a link, §4.1.3.
    fn steps(&mut self, mut rest: &[u8]) {
        let link = self.link.get_or_insert_default();
        while let Some([flags, length]) = rest.first_chunk::<2>() {
            let end = usize::from(*length).saturating_add(2);
            let Some(step) = rest.get(2..end) else { return };
            if !self.link_goes_on && !link.is_empty() && !link.ends_with(b"/") {
                link.push(b'/');
            }
            match *flags & (HERE | ABOVE | FROM_ROOT) {
                HERE => link.push(b'.'),
                ABOVE => link.extend_from_slice(b".."),
                FROM_ROOT => link.push(b'/'),
                _ => link.extend_from_slice(step),
            }
            self.link_goes_on = flags & GOES_ON != 0;
            rest = rest.get(end..).unwrap_or_default();
        }
    }
}

/// Where entries go on, SUSP §5.1.
struct Continued {
    block: u32,
    offset: u32,
    bytes: u32,
}

impl Continued {
    fn of(body: &[u8]) -> Option<Self> {
        Some(Self { block: both32(body, 0)?, offset: both32(body, 8)?, bytes: both32(body, 16)? })
    }
}

/// Without what would steer a terminal.
pub(super) fn printable(name: &str) -> String {
    name.chars().map(|c| if c.is_control() { char::REPLACEMENT_CHARACTER } else { c }).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn both(value: u32) -> Vec<u8> {
        [value.to_le_bytes(), value.to_be_bytes()].concat()
    }

    /// One entry: signature, length, version, body.
    fn entry(signature: &[u8; 2], body: &[u8]) -> Vec<u8> {
        [&signature[..], &[body.len() as u8 + 4, 1], body].concat()
    }

    #[test]
    fn names_and_links_go_on_in_other_areas() {
        // The second half of the name, and the end of the link, lie in block 3, 100 bytes in.
        let area = [entry(b"NM", b"\0Ann.txt"), entry(b"SL", b"\0\x01\x03rel\0\x04ease")].concat();
        let mut image = vec![0u8; 4 * 2048];
        image[3 * 2048 + 100..][..area.len()].copy_from_slice(&area);
        let field = [
            entry(b"NM", b"\x01Letter to "),
            entry(b"SL", b"\x01\x08\0\0\x03srv\x04\0\x02\0"),
            entry(b"CE", &[both(3), both(100), both(area.len() as u32)].concat()),
            entry(b"PX", &both(0o120_777)),
        ];
        let found = RockRidge::read(&image, &field.concat(), 2048, &mut 4096).unwrap();
        assert_eq!(found.name().as_deref(), Some("Letter to Ann.txt"));
        assert_eq!(found.link().as_deref(), Some("/srv/.././release"));
        assert!(!found.is_special() && !found.is_moved && found.child.is_none());
        // A folder's areas are read as far as they may be, and no further.
        let cut = RockRidge::read(&image, &field.concat(), 2048, &mut 11).unwrap();
        assert_eq!(cut.name().as_deref(), Some("Letter to "));
        let device = RockRidge::read(&image, &entry(b"PX", &both(0o060_644)), 2048, &mut 0).unwrap();
        assert!(device.is_special() && device.link().is_none());
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]
        #[test]
        fn no_entries_make_it_panic_or_go_on_for_ever(mut field: Vec<u8>, at in 0usize..200, lengths: [u8; 8]) {
            // Entries that are nearly right, and one area that goes on in itself.
            for (place, length) in lengths.into_iter().enumerate() {
                let signature = [b"NM", b"SL", b"CE", b"CL"][usize::from(length) % 4];
                let body = [both(0), both(0), both(u32::from(length))].concat();
                field.splice(field.len().min(at * place)..field.len().min(at * place), entry(signature, &body));
            }
            let image = field.clone();
            let found = RockRidge::read(&image, &field, 1, &mut 4096).unwrap();
            let _ = (found.name(), found.link());
        }
    }
}
