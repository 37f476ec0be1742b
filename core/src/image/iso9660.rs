//! ISO 9660: is this an optical image, how long should it be, and which file lies where?
//!
//! Source: ECMA-119, 2nd edition, §8 (descriptors) and §9 (directory records). It counts byte positions (BP)
//! from 1; offsets here count from 0. Rock Ridge names: IEEE P1282 draft 1.12, §4.1.4.
//! Promise: any bytes give an answer or an error, never a panic, in memory bounded by [`FOLDERS_MOST`] and [`FOLDER_BYTES_MOST`].

use std::collections::{BTreeSet, VecDeque};
use std::io;
use std::ops::ControlFlow;

use super::field::{both32, take, text, u16_le, u32_le};
use super::read_at::{ReadAt, read_block};

/// Size of a descriptor, in bytes (§6.1.2).
pub const SECTOR: usize = 2048;
/// The first descriptor's sector (§6.2.1: the system area takes sectors 0 to 15).
const FIRST_DESCRIPTOR: u64 = 16;
/// Begins and names the extended descriptors behind the terminator (ECMA-167, 2/9.2, 3/9.1).
const EXTENDED_AREA: [u8; 5] = *b"BEA01";
const UDF_2: [u8; 5] = *b"NSR02";
const UDF_3: [u8; 5] = *b"NSR03";
/// Most descriptors looked at before giving up on a terminator.
const DESCRIPTORS_MOST: u64 = 32;

//                                            BP         §        type
const STANDARD_ID: [u8; 5] = *b"CD001"; //     2–6       8.1.2
const VOLUME_ID: usize = 40; //               41–72      8.4.7    d-characters
const VOLUME_SPACE_SIZE: usize = 80; //       81–88      8.4.8    u32 little, then big; blocks
const LOGICAL_BLOCK_SIZE: usize = 128; //    129–132     8.4.12   u16 little, then big; bytes
const ROOT_RECORD: usize = 156; //           157–190     8.4.18   directory record
const CREATED: usize = 813; //               814–830     8.4.26   digits

//   of a directory record:                   BP         §        type
const EXTENT: usize = 2; //                    3–10      9.1.3    u32 little, then big; blocks
const DATA_LENGTH: usize = 10; //             11–18      9.1.4    u32 little, then big; bytes
const FLAGS: usize = 25; //                   26         9.1.6    bits
const NAME_LENGTH: usize = 32; //             33         9.1.10   u8
const NAME: usize = 33; //                    34–        9.1.11   d-characters
const FLAG_FOLDER: u8 = 2;

/// Boot system identifier of an El Torito record (El Torito 1.0, figure 7, offset 7).
const EL_TORITO: &[u8] = b"EL TORITO SPECIFICATION";
/// Where that record names the catalogue's sector (figure 7, offset 71).
const CATALOGUE: usize = 71;

/// Most folders that a walk enters.
pub const FOLDERS_MOST: usize = 4096;
/// Most bytes of one folder that a walk reads.
pub const FOLDER_BYTES_MOST: u64 = 4 << 20;

/// Why a volume that calls itself ISO 9660 can't be one.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum VolumeFault {
    /// The same number is stored in two byte orders, and they disagree.
    #[error("{field} at offset {at} is {little} in one byte order and {big} in the other")]
    TwoAnswers {
        /// Which field.
        field: &'static str,
        /// Its offset in the descriptor.
        at: usize,
        /// Little-endian reading.
        little: u32,
        /// Big-endian reading.
        big: u32,
    },
    /// A block size that is not 512, 1024 or 2048.
    #[error("logical block size is {found} bytes, not 512, 1024 or 2048")]
    BlockSize {
        /// What the field holds.
        found: u16,
    },
}

/// Bytes that lie together.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Extent {
    /// First byte in the image.
    pub start: u64,
    /// Length in bytes.
    pub bytes: u64,
}

impl Extent {
    /// Whether byte `at` of the image is part of it.
    pub fn holds(&self, at: u64) -> bool {
        at.checked_sub(self.start).is_some_and(|inside| inside < self.bytes)
    }
}

/// The primary volume descriptor and what stands beside it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Volume {
    /// Volume identifier.
    pub label: Option<String>,
    /// Length that the volume declares, in bytes.
    pub declared_bytes: u64,
    /// The root folder.
    pub root: Extent,
    /// When the volume was made, as `2026-11-23 09:30`.
    pub created: Option<String>,
    /// First byte of the El Torito boot catalogue.
    pub boot_catalogue: Option<u64>,
    /// Whether a UDF volume lies beside it, which then holds the real files (ECMA-167, 3rd edition, 3/9.1).
    pub is_udf_bridge: bool,
    block_bytes: u64,
}

/// Reads the volume descriptors; `None` if the image does not begin with any.
///
/// # Errors
/// The outer one when the image can't be read, the inner one when the descriptor contradicts itself.
pub fn read(image: &dyn ReadAt) -> io::Result<Option<Result<Volume, VolumeFault>>> {
    let mut volume = None;
    let mut catalogue = None;
    let mut is_udf_bridge = false;
    let mut is_iso_done = false;
    for index in 0..DESCRIPTORS_MOST {
        let at = FIRST_DESCRIPTOR.saturating_add(index).saturating_mul(SECTOR as u64);
        let Some(raw) = read_block::<SECTOR>(image, at)? else { break };
        match take(raw.as_slice(), 1) {
            Some(STANDARD_ID) if !is_iso_done => {}
            Some(EXTENDED_AREA) => continue,
            Some(UDF_2 | UDF_3) => {
                is_udf_bridge = true;
                break;
            }
            _ => break,
        }
        match raw.first() {
            Some(0) if raw.get(7..).is_some_and(|id| id.starts_with(EL_TORITO)) => {
                catalogue =
                    u32_le(raw.as_slice(), CATALOGUE).and_then(|sector| u64::from(sector).checked_mul(SECTOR as u64));
            }
            Some(1) if volume.is_none() => volume = Some(primary(raw.as_slice())),
            Some(255) => is_iso_done = true,
            _ => {}
        }
    }
    Ok(volume.map(|volume| volume.map(|volume| Volume { boot_catalogue: catalogue, is_udf_bridge, ..volume })))
}

fn primary(raw: &[u8]) -> Result<Volume, VolumeFault> {
    let number = |field, at| match both32(raw, at) {
        Some(value) => Ok(value),
        None => Err(VolumeFault::TwoAnswers {
            field,
            at,
            little: take(raw, at).map(u32::from_le_bytes).unwrap_or_default(),
            big: take(raw, at.saturating_add(4)).map(u32::from_be_bytes).unwrap_or_default(),
        }),
    };
    let blocks = number("volume space size", VOLUME_SPACE_SIZE)?;
    let block = u16_le(raw, LOGICAL_BLOCK_SIZE).unwrap_or_default();
    if !matches!(block, 512 | 1024 | 2048) {
        return Err(VolumeFault::BlockSize { found: block });
    }
    let block_bytes = u64::from(block);
    let root_block = number("root folder's place", ROOT_RECORD.saturating_add(EXTENT))?;
    let root_bytes = number("root folder's length", ROOT_RECORD.saturating_add(DATA_LENGTH))?;
    Ok(Volume {
        label: text(raw, VOLUME_ID, 32),
        declared_bytes: u64::from(blocks).saturating_mul(block_bytes),
        root: Extent { start: u64::from(root_block).saturating_mul(block_bytes), bytes: u64::from(root_bytes) },
        created: text(raw, CREATED, 16).and_then(|digits| date(&digits)),
        boot_catalogue: None,
        is_udf_bridge: false,
        block_bytes,
    })
}

/// `2026112309300000` as `2026-11-23 09:30`; `None` for the zeros that stand for "not said".
fn date(digits: &str) -> Option<String> {
    let part = |range| digits.get(range).filter(|part: &&str| part.bytes().all(|b| b.is_ascii_digit()));
    let (year, month, day) = (part(0..4)?, part(4..6)?, part(6..8)?);
    let (hour, minute) = (part(8..10)?, part(10..12)?);
    (year != "0000").then(|| format!("{year}-{month}-{day} {hour}:{minute}"))
}

impl Volume {
    /// Visits every file of the volume, folder by folder, until `visit` breaks off.
    ///
    /// Folders that were seen already, that lie outside the image or that are beyond the limits are passed over:
    /// a damaged tree gives fewer files, not an error.
    ///
    /// # Errors
    /// When the image can't be read.
    pub fn files(&self, image: &dyn ReadAt, visit: &mut dyn FnMut(&str, Extent) -> ControlFlow<()>) -> io::Result<()> {
        let mut seen = BTreeSet::from([self.root.start]);
        let mut waiting = VecDeque::from([(String::new(), self.root)]);
        while let Some((path, folder)) = waiting.pop_front() {
            let length = folder.bytes.min(FOLDER_BYTES_MOST).min(image.size().saturating_sub(folder.start));
            let mut raw = vec![0u8; usize::try_from(length).unwrap_or_default()];
            let count = image.fill_at(folder.start, &mut raw)?;
            raw.truncate(count);
            for sector in raw.chunks(SECTOR) {
                let mut rest = sector;
                while let Some(record) = record_of(rest) {
                    rest = rest.get(record.len()..).unwrap_or_default();
                    let Some((name, is_folder, extent)) = self.entry(record) else { continue };
                    let full = if path.is_empty() { name } else { format!("{path}/{name}") };
                    if !is_folder {
                        if visit(&full, extent).is_break() {
                            return Ok(());
                        }
                    } else if seen.len() < FOLDERS_MOST && full.len() < 4096 && seen.insert(extent.start) {
                        waiting.push_back((full, extent));
                    }
                }
            }
        }
        Ok(())
    }

    /// The first `most` bytes of the file at `path`, however its letters are written; `None` if there is no such file.
    ///
    /// # Errors
    /// When the image can't be read.
    pub fn read_file(&self, image: &dyn ReadAt, path: &str, most: usize) -> io::Result<Option<Vec<u8>>> {
        let mut found = None;
        self.files(image, &mut |name, extent| {
            if name.eq_ignore_ascii_case(path) {
                found = Some(extent);
                return ControlFlow::Break(());
            }
            ControlFlow::Continue(())
        })?;
        let Some(extent) = found else { return Ok(None) };
        let length = usize::try_from(extent.bytes).unwrap_or(usize::MAX).min(most);
        let mut bytes = vec![0u8; length];
        let count = image.fill_at(extent.start, &mut bytes)?;
        bytes.truncate(count);
        Ok(Some(bytes))
    }

    /// The file that holds byte `at` of the image.
    ///
    /// # Errors
    /// When the image can't be read.
    pub fn file_at(&self, image: &dyn ReadAt, at: u64) -> io::Result<Option<(String, Extent)>> {
        let mut found = None;
        self.files(image, &mut |path, extent| {
            if extent.holds(at) {
                found = Some((path.to_owned(), extent));
                return ControlFlow::Break(());
            }
            ControlFlow::Continue(())
        })?;
        Ok(found)
    }

    /// Name, whether it is a folder, and place; `None` for the two entries that name the folder itself and its parent.
    fn entry(&self, record: &[u8]) -> Option<(String, bool, Extent)> {
        let name_bytes = usize::from(*record.get(NAME_LENGTH)?);
        let name_end = NAME.checked_add(name_bytes)?;
        let raw = record.get(NAME..name_end)?;
        if matches!(raw, [0] | [1] | []) {
            return None;
        }
        let start = u64::from(both32(record, EXTENT)?).checked_mul(self.block_bytes)?;
        let extent = Extent { start, bytes: u64::from(both32(record, DATA_LENGTH)?) };
        // The system use field begins at an even offset (§9.1.12).
        let system_use = record.get(name_end.checked_next_multiple_of(2)?..).unwrap_or_default();
        let name = rock_ridge_name(system_use).unwrap_or_else(|| plain_name(raw));
        Some((name, record.get(FLAGS)? & FLAG_FOLDER != 0, extent))
    }
}

/// The directory record at the start of `rest`; `None` at the end of the sector's records (§6.8.1.1).
fn record_of(rest: &[u8]) -> Option<&[u8]> {
    let length = usize::from(*rest.first()?);
    rest.get(..length).filter(|_| length > NAME)
}

/// The name without its version number and trailing full stop (§7.5.1).
fn plain_name(raw: &[u8]) -> String {
    let name = String::from_utf8_lossy(raw);
    let name = name.split(';').next().unwrap_or_default();
    printable(name.strip_suffix('.').unwrap_or(name))
}

/// The name that the `NM` entries spell (P1282 §4.1.4): signature, length, version, flags, bytes.
fn rock_ridge_name(mut field: &[u8]) -> Option<String> {
    let mut name = Vec::new();
    while let Some([a, b, length, _version, rest @ ..]) = field.get(..) {
        let length = usize::from(*length);
        let body = rest.get(..length.checked_sub(4)?)?;
        if [*a, *b] == *b"NM" {
            name.extend_from_slice(body.get(1..)?);
        }
        field = field.get(length..)?;
    }
    let name = printable(&String::from_utf8_lossy(&name));
    // A name is one step of a path, whatever the bytes say.
    (!name.is_empty() && name != "." && name != ".." && !name.contains('/')).then_some(name)
}

fn printable(name: &str) -> String {
    name.chars().map(|c| if c.is_control() { char::REPLACEMENT_CHARACTER } else { c }).collect()
}

#[cfg(test)]
mod tests {
    use std::sync::LazyLock;

    use super::*;
    use proptest::prelude::*;

    const DESCRIPTOR: usize = 16 * SECTOR;

    static SAMPLE: LazyLock<Vec<u8>> = LazyLock::new(|| pyrotyp_sample::cafe::rescue().build());

    fn volume(image: &Vec<u8>) -> Volume {
        read(image).unwrap().unwrap().unwrap()
    }

    #[test]
    fn the_tree_is_walked_and_every_byte_of_a_file_leads_back_to_it() {
        let image = SAMPLE.clone();
        let volume = volume(&image);
        let mut files = Vec::new();
        let mut collect = |path: &str, extent: Extent| {
            files.push((path.to_owned(), extent));
            ControlFlow::Continue(())
        };
        volume.files(&image, &mut collect).unwrap();
        let names: Vec<_> = files.iter().map(|(path, extent)| (path.as_str(), extent.bytes)).collect();
        let expected = [
            ("md5sum.txt", 107),
            ("boot/bios.bin", 2048),
            ("boot/efi.img", 2 << 20),
            ("rescue/tools.img", 3_000_000),
            ("rescue/manual.txt", 46),
        ];
        assert_eq!(names, expected);
        for (path, extent) in &files {
            for at in [extent.start, extent.start + extent.bytes - 1] {
                assert_eq!(&volume.file_at(&image, at).unwrap().unwrap().0, path);
            }
        }
        assert_eq!(volume.file_at(&image, 0).unwrap(), None);
        assert_eq!(volume.created.as_deref(), Some("2026-11-23 09:30"));
    }

    #[test]
    fn a_volume_size_that_contradicts_itself_is_refused() {
        let mut image = SAMPLE.clone();
        image[DESCRIPTOR + VOLUME_SPACE_SIZE] ^= 1;
        insta::assert_snapshot!(read(&image).unwrap().unwrap().unwrap_err(), @"volume space size at offset 80 is 2516 in one byte order and 2517 in the other");
        let mut image = SAMPLE.clone();
        image[DESCRIPTOR + LOGICAL_BLOCK_SIZE] = 1;
        insta::assert_snapshot!(read(&image).unwrap().unwrap().unwrap_err(), @"logical block size is 2049 bytes, not 512, 1024 or 2048");
    }

    #[test]
    fn a_folder_that_contains_itself_is_entered_once() {
        let mut image = SAMPLE.clone();
        let root = volume(&image).root.start as usize;
        // The third record of the root is the folder `boot`: point it at the root.
        let third = root + usize::from(image[root]) + usize::from(image[root + usize::from(image[root])]);
        image.copy_within(root + EXTENT..root + EXTENT + 16, third + EXTENT);
        let mut count = 0;
        let mut visit = |_: &str, _| {
            count += 1;
            ControlFlow::Continue(())
        };
        volume(&image).files(&image, &mut visit).unwrap();
        assert_eq!(count, 3, "the files of `boot` are out of reach");
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_panic(hits in proptest::collection::vec((0usize..12 * SECTOR, any::<u8>()), 1..40)) {
            let mut image = SAMPLE[..40 * SECTOR].to_vec();
            for (at, byte) in hits {
                image[DESCRIPTOR + at] = byte;
            }
            if let Some(Ok(volume)) = read(&image).unwrap() {
                volume.files(&image, &mut |_, _| ControlFlow::Continue(())).unwrap();
            }
        }
    }
}
