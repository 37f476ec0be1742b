//! The whole tree of a UDF volume, so that it can be laid out elsewhere; what is not understood or not there is told.
//!
//! Source: ECMA-167, 3rd edition: 3/10.5 and 3/10.6 (partition, logical volume), 4/14.1 (file set), 4/14.4 (names), 4/14.5 (more extents),
//! 4/14.6 (kinds), 4/14.9 and 4/14.17 (files), 4/14.14 (extents), 4/14.16 (links), 1/7.3 (times). UDF 1.02 to 2.01: plain partitions.

use std::cell::Cell;
use std::collections::{BTreeSet, VecDeque};
use std::io;

use jiff::civil::{Date, DateTime, Time};

use crate::bytes::ReadAt;
use crate::bytes::field::{take, u16_le, u32_le, u64_le};
use crate::volume::iso9660::Extent;
use crate::volume::udf::descriptors::{Descriptors, TAG_END, TAG_LOGICAL, characters, descriptors, tag};
use crate::volume::{Leaf, LeafKind};

/// Most entries of a tree, most bytes of one folder or path, and most extents of a file.
const LEAVES_MOST: usize = 1 << 20;
const FOLDER_BYTES_MOST: u64 = 8 << 20;
const PATH_MOST: usize = 4096;
const EXTENTS_MOST: usize = 1 << 16;
/// Most bytes of all folders together, and most extents of all files: they may lie over each other.
const FOLDERS_BYTES_MOST: u64 = 256 << 20;
const EXTENTS_ALL_MOST: usize = 1 << 21;
/// Most descriptors that a file's extents go on in, and those of all files, which may be the same ones.
const CONTINUED_MOST: usize = 1 << 12;
const CONTINUED_ALL_MOST: usize = 1 << 17;

const TAG_PARTITION: u16 = 5;
const TAG_FILE_SET: u16 = 256;
const TAG_NAME: u16 = 257;
const TAG_EXTENTS: u16 = 258;
const TAG_FILE: u16 = 261;
const TAG_EXTENDED_FILE: u16 = 266;
//   of a partition descriptor:
const PARTITION_NUMBER: usize = 22; //        u16
const PARTITION_START: usize = 188; //        u32, sectors
//   of a logical volume descriptor:
const BLOCK_BYTES: usize = 212; //            u32
const FILE_SET: usize = 248; //               long_ad
const MAPS: usize = 268; //                   u32, how many
const FIRST_MAP: usize = 440; //              type u8, length u8, volume u16, partition u16
//   of a file set descriptor:
const ROOT: usize = 400; //                   long_ad
//   of a file entry, and of an extended one:
const KIND: usize = 27; //                    u8
const EXTENT_FORM: usize = 34; //             u16, three bits
const LENGTH: usize = 56; //                  u64
//   of a file identifier:
const CHARACTERISTICS: usize = 18; //         u8
const NAME_LENGTH: usize = 19; //             u8
const NAME_ICB: usize = 20; //                long_ad
const EXTRA_LENGTH: usize = 36; //            u16
const NAME_AT: usize = 38;
const IS_DELETED: u8 = 4;
const IS_PARENT: u8 = 8;
//   kinds of files, 4/14.6.6:
const FOLDER: u8 = 4;
const FILE: u8 = 5;
const LINK: u8 = 12;

/// What leads to the files.
struct LogicalVolume {
    sector: u64,
    /// First sectors of the partitions, by the numbers that places in the volume name.
    partitions: Vec<u64>,
    file_set: BlockPlace,
    /// How many descriptors may still be read that extents go on in.
    continued_left: Cell<usize>,
}

/// A block of a partition.
#[derive(Clone, Copy)]
struct BlockPlace {
    block: u32,
    partition: u16,
}

impl BlockPlace {
    /// Out of a long_ad, 4/14.14.2.
    fn of(raw: &[u8], at: usize) -> Option<Self> {
        Some(Self { block: u32_le(raw, at.checked_add(4)?)?, partition: u16_le(raw, at.checked_add(8)?)? })
    }
}

/// A file as its entry tells of it.
struct FileEntry {
    kind: u8,
    bytes: u64,
    modified: Option<DateTime>,
    /// `None` where some of it is not recorded.
    parts: Option<Vec<Extent>>,
}

/// All of the tree of the UDF volume of an image, folder by folder.
///
/// # Errors
/// When the image can't be read.
pub fn leaves(image: &dyn ReadAt) -> io::Result<Vec<Leaf>> {
    let lost = |path: &str, why| Leaf { path: path.to_owned(), modified: None, kind: LeafKind::Lost(why) };
    let Some(volume) = LogicalVolume::of(image)? else {
        return Ok(vec![lost("/", "the UDF volume is damaged, or of a kind that is not read")]);
    };
    let Some(root) = volume.root(image)? else { return Ok(vec![lost("/", "the UDF volume has no root folder")]) };
    let mut leaves = Vec::new();
    let mut seen = BTreeSet::from([volume.byte(root)]);
    let mut waiting = VecDeque::from([(String::new(), root)]);
    let (mut folder_bytes, mut extents) = (0u64, 0usize);
    while let Some((path, place)) = waiting.pop_front() {
        let Some(FolderNames { names, bytes }) = volume.listing(image, place)? else {
            leaves.push(lost(&path, "this folder is damaged, or larger than is read"));
            continue;
        };
        folder_bytes = folder_bytes.saturating_add(bytes);
        for Named { name, place } in names {
            let full = if path.is_empty() { name } else { format!("{path}/{name}") };
            let is_large = folder_bytes > FOLDERS_BYTES_MOST || extents > EXTENTS_ALL_MOST;
            if leaves.len() >= LEAVES_MOST || full.len() > PATH_MOST || is_large {
                leaves.push(lost(&full, "there are more files, or longer paths, than are read"));
                return Ok(leaves);
            }
            let Some(file) = volume.entry(image, place)? else {
                leaves.push(lost(&full, "its entry is damaged"));
                continue;
            };
            extents = extents.saturating_add(file.parts.as_ref().map_or(0, Vec::len));
            let kind = volume.kind(image, &file)?;
            if kind == LeafKind::Folder {
                if !seen.insert(volume.byte(place)) {
                    leaves.push(lost(&full, "this folder lies in itself, or in two places"));
                    continue;
                }
                waiting.push_back((full.clone(), place));
            }
            leaves.push(Leaf { path: full, modified: file.modified, kind });
        }
    }
    Ok(leaves)
}

/// What lies in a folder, and how long its list is.
struct FolderNames {
    names: Vec<Named>,
    bytes: u64,
}

/// A name in a folder, and where its file's entry lies.
struct Named {
    name: String,
    place: BlockPlace,
}

impl LogicalVolume {
    fn of(image: &dyn ReadAt) -> io::Result<Option<Self>> {
        let Some(Descriptors { sector, all }) = descriptors(image)? else { return Ok(None) };
        let used = || all.iter().take_while(|raw| tag(raw) != Some(TAG_END));
        let starts = used().filter(|raw| tag(raw) == Some(TAG_PARTITION));
        let starts: Vec<(u16, u32)> =
            starts.filter_map(|raw| u16_le(raw, PARTITION_NUMBER).zip(u32_le(raw, PARTITION_START))).collect();
        let logical = used().find(|raw| tag(raw) == Some(TAG_LOGICAL));
        Ok(logical.and_then(|logical| Self::from_parts(sector, &starts, logical)))
    }

    fn from_parts(sector: u64, starts: &[(u16, u32)], logical: &[u8]) -> Option<Self> {
        // Blocks are as large as sectors (UDF 1.02, §2.2.4.2).
        (u64::from(u32_le(logical, BLOCK_BYTES)?) == sector).then_some(())?;
        let mut partitions = Vec::new();
        let mut at = FIRST_MAP;
        for _ in 0..u32_le(logical, MAPS)? {
            // Plain partitions alone (type 1, 3/10.7.2): others need tables of their own.
            let [1, 6] = take::<2>(logical, at)? else { return None };
            let number = u16_le(logical, at.checked_add(4)?)?;
            let (_, start) = starts.iter().find(|(known, _)| *known == number)?;
            partitions.push(u64::from(*start));
            at = at.checked_add(6)?;
        }
        let continued_left = Cell::new(CONTINUED_ALL_MOST);
        Some(Self { sector, partitions, file_set: BlockPlace::of(logical, FILE_SET)?, continued_left })
    }

    /// Where a place begins in the image, in bytes.
    fn byte(&self, place: BlockPlace) -> Option<u64> {
        let start = self.partitions.get(usize::from(place.partition))?;
        start.checked_add(u64::from(place.block))?.checked_mul(self.sector)
    }

    /// A block, if it is there.
    fn block(&self, image: &dyn ReadAt, place: BlockPlace) -> io::Result<Option<Vec<u8>>> {
        let Some(at) = self.byte(place) else { return Ok(None) };
        let mut raw = vec![0u8; usize::try_from(self.sector).unwrap_or_default()];
        let count = image.fill_at(at, &mut raw)?;
        Ok((count == raw.len()).then_some(raw))
    }

    fn root(&self, image: &dyn ReadAt) -> io::Result<Option<BlockPlace>> {
        let raw = self.block(image, self.file_set)?.filter(|raw| tag(raw) == Some(TAG_FILE_SET));
        Ok(raw.and_then(|raw| BlockPlace::of(&raw, ROOT)))
    }

    fn entry(&self, image: &dyn ReadAt, place: BlockPlace) -> io::Result<Option<FileEntry>> {
        let Some(raw) = self.block(image, place)? else { return Ok(None) };
        // Modification time, lengths of extra attributes and of extents, and where these begin.
        let (time, extra_at, extents_at, begin) = match tag(&raw) {
            Some(TAG_FILE) => (84, 168, 172, 176),
            Some(TAG_EXTENDED_FILE) => (92, 208, 212, 216),
            _ => return Ok(None),
        };
        let field = |at: usize| u32_le(&raw, at).and_then(|length| usize::try_from(length).ok());
        let Some(((kind, bytes), (extra, extents))) =
            raw.get(KIND).zip(u64_le(&raw, LENGTH)).zip(field(extra_at).zip(field(extents_at)))
        else {
            return Ok(None);
        };
        let Some(first) = extra.checked_add(begin) else { return Ok(None) };
        let form = u16_le(&raw, EXTENT_FORM).unwrap_or_default() & 7;
        let area = first.checked_add(extents).and_then(|end| raw.get(first..end));
        let Some(area) = area else { return Ok(None) };
        let parts = match (form, self.byte(place)) {
            // The file lies in its entry.
            (3, Some(start)) if bytes <= area.len() as u64 => {
                Some(vec![Extent { start: start.saturating_add(first as u64), bytes }])
            }
            (0 | 1, _) => self.extents(image, Extents { area, form, partition: place.partition, bytes })?,
            _ => None,
        };
        Ok(Some(FileEntry { kind: *kind, bytes, modified: timestamp(&raw, time), parts }))
    }

    /// The parts of a file; `None` where some are not recorded, or not there.
    fn extents(&self, image: &dyn ReadAt, of: Extents<'_>) -> io::Result<Option<Vec<Extent>>> {
        let Extents { form, partition, mut bytes, .. } = of;
        let mut parts: Vec<Extent> = Vec::new();
        let mut area = of.area.to_vec();
        for _ in 0..CONTINUED_MOST {
            let mut next = None;
            for one in area.chunks_exact(if form == 0 { 8 } else { 16 }) {
                let length = u32_le(one, 0).unwrap_or_default();
                let partition = if form == 0 { partition } else { u16_le(one, 8).unwrap_or_default() };
                let place = BlockPlace { block: u32_le(one, 4).unwrap_or_default(), partition };
                let (state, length) = (length >> 30, u64::from(length & 0x3FFF_FFFF));
                if length == 0 || bytes == 0 && state != 3 {
                    break;
                }
                if state == 3 {
                    next = Some(place);
                    break;
                }
                let Some(start) = self.byte(place).filter(|_| state == 0 && parts.len() < EXTENTS_MOST) else {
                    return Ok(None);
                };
                let length = length.min(bytes);
                bytes = bytes.saturating_sub(length);
                match parts.last_mut() {
                    Some(part) if part.start.saturating_add(part.bytes) == start => {
                        part.bytes = part.bytes.saturating_add(length);
                    }
                    _ => parts.push(Extent { start, bytes: length }),
                }
            }
            let Some(next) = next.filter(|_| bytes > 0) else { break };
            let Some(left) = self.continued_left.get().checked_sub(1) else { return Ok(None) };
            self.continued_left.set(left);
            let raw = self.block(image, next)?.filter(|raw| tag(raw) == Some(TAG_EXTENTS));
            let Some(raw) = raw else { return Ok(None) };
            let length = u32_le(&raw, 20).and_then(|length| usize::try_from(length).ok()).unwrap_or_default();
            area = raw.get(24..).unwrap_or_default().iter().copied().take(length).collect();
        }
        Ok((bytes == 0).then_some(parts))
    }

    /// What a file is to whoever lays it out elsewhere.
    fn kind(&self, image: &dyn ReadAt, file: &FileEntry) -> io::Result<LeafKind> {
        let end = |part: &Extent| part.start.saturating_add(part.bytes);
        let parts = file.parts.as_ref().filter(|parts| parts.iter().all(|part| end(part) <= image.size()));
        Ok(match (file.kind, parts) {
            (FOLDER, _) => LeafKind::Folder,
            (_, None) => LeafKind::Lost("not all of it is in the image"),
            (FILE, Some(parts)) => LeafKind::File(parts.clone()),
            (LINK, Some(parts)) => match content(image, parts, PATH_MOST as u64)?.as_deref().and_then(link) {
                Some(path) => LeafKind::Link(path),
                None => LeafKind::Lost("it links to no path"),
            },
            _ => LeafKind::Special,
        })
    }

    /// What lies in a folder; `None` where that can't be told.
    fn listing(&self, image: &dyn ReadAt, place: BlockPlace) -> io::Result<Option<FolderNames>> {
        let Some(entry) = self.entry(image, place)?.filter(|entry| entry.kind == FOLDER) else { return Ok(None) };
        let Some(parts) = entry.parts.filter(|_| entry.bytes <= FOLDER_BYTES_MOST) else { return Ok(None) };
        let Some(raw) = content(image, &parts, FOLDER_BYTES_MOST)? else { return Ok(None) };
        let mut names = Vec::new();
        let mut rest = raw.as_slice();
        while !rest.is_empty() {
            let Some((named, length)) = name(rest) else { return Ok(None) };
            names.extend(named);
            rest = rest.get(length..).unwrap_or_default();
        }
        Ok(Some(FolderNames { names, bytes: entry.bytes }))
    }
}

/// Extents of a file, as its entry has them.
struct Extents<'a> {
    area: &'a [u8],
    /// 0: short, 1: long, 4/14.6.8.
    form: u16,
    /// The entry's own, where short ones lie.
    partition: u16,
    /// Length of the file.
    bytes: u64,
}

/// The bytes of a small file; `None` where it is larger, or not all there.
fn content(image: &dyn ReadAt, parts: &[Extent], most: u64) -> io::Result<Option<Vec<u8>>> {
    let bytes = parts.iter().map(|part| part.bytes).fold(0, u64::saturating_add);
    let Some(length) = usize::try_from(bytes).ok().filter(|_| bytes <= most) else { return Ok(None) };
    let mut all = vec![0u8; length];
    let mut rest = all.as_mut_slice();
    for part in parts {
        let here = usize::try_from(part.bytes).unwrap_or(usize::MAX).min(rest.len());
        let (into, behind) = rest.split_at_mut(here);
        if image.fill_at(part.start, into)? < here {
            return Ok(None);
        }
        rest = behind;
    }
    Ok(Some(all))
}

/// The identifier at the start of `rest`, if it stands for a file, and how long it is; `None` where there is none.
fn name(rest: &[u8]) -> Option<(Option<Named>, usize)> {
    (tag(rest)? == TAG_NAME).then_some(())?;
    let name_length = usize::from(*rest.get(NAME_LENGTH)?);
    let first = usize::from(u16_le(rest, EXTRA_LENGTH)?).checked_add(NAME_AT)?;
    let end = first.checked_add(name_length)?;
    let text = rest.get(first..end)?;
    let whole = end.checked_next_multiple_of(4)?;
    let characteristics = *rest.get(CHARACTERISTICS)?;
    if characteristics & (IS_DELETED | IS_PARENT) != 0 {
        return Some((None, whole));
    }
    // A name is one step of a path, whatever the bytes say.
    let name = characters(text).filter(|name| name != "." && name != ".." && !name.contains('/'))?;
    let place = BlockPlace::of(rest, NAME_ICB)?;
    Some((Some(Named { name, place }), whole))
}

/// The path that a link's components spell.
fn link(mut rest: &[u8]) -> Option<String> {
    let mut path = String::new();
    while let Some([kind, length]) = rest.first_chunk::<2>() {
        let end = usize::from(*length).checked_add(4)?;
        let text = rest.get(4..end)?;
        if !path.is_empty() && !path.ends_with('/') {
            path.push('/');
        }
        match kind {
            1 | 2 => path.push('/'),
            3 => path.push_str(".."),
            4 => path.push('.'),
            5 => path.push_str(&characters(text)?),
            _ => return None,
        }
        rest = rest.get(end..)?;
    }
    (!path.is_empty()).then_some(path)
}

/// A time, by the clock of whoever set it.
fn timestamp(raw: &[u8], at: usize) -> Option<DateTime> {
    let [_, _, low, high, month, day, hour, minute, second] = take::<9>(raw, at)?;
    let part = |value: u8| i8::try_from(value).unwrap_or(-1);
    let day = Date::new(i16::from_le_bytes([low, high]), part(month), part(day)).ok()?;
    Some(day.to_datetime(Time::new(part(hour), part(minute), part(second), 0).ok()?))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const SECTOR: usize = 2048;
    /// The partition's first sector.
    const START: usize = 280;

    /// A descriptor of this kind, with these bytes at these places.
    fn descriptor(kind: u16, parts: &[(usize, Vec<u8>)]) -> Vec<u8> {
        let mut raw = vec![0u8; SECTOR];
        raw[..2].copy_from_slice(&kind.to_le_bytes());
        raw[4] = raw[0].wrapping_add(raw[1]);
        for (at, bytes) in parts {
            raw[*at..*at + bytes.len()].copy_from_slice(bytes);
        }
        raw
    }

    fn long(length: u32, block: u32) -> Vec<u8> {
        [length.to_le_bytes().to_vec(), block.to_le_bytes().to_vec(), vec![0; 8]].concat()
    }

    fn short(length: u32, block: u32) -> Vec<u8> {
        [length.to_le_bytes(), block.to_le_bytes()].concat()
    }

    /// A file's entry: its kind, how its extents are written, its length, and they.
    fn entry(kind: u8, form: u8, bytes: u64, extents: Vec<u8>) -> Vec<u8> {
        let length = (extents.len() as u32).to_le_bytes().to_vec();
        // 27 November 2026, 09:30.
        let time = vec![0, 0x10, 0xEA, 0x07, 11, 27, 9, 30, 0];
        let parts = [
            (27, vec![kind]),
            (34, vec![form]),
            (56, bytes.to_le_bytes().to_vec()),
            (84, time),
            (172, length),
            (176, extents),
        ];
        descriptor(261, &parts)
    }

    /// An identifier in a folder.
    fn named(name: &str, block: u32, characteristics: u8) -> Vec<u8> {
        let text = [b"\x08", name.as_bytes()].concat();
        let text = if name.is_empty() { Vec::new() } else { text };
        let parts =
            [(18, vec![characteristics]), (19, vec![text.len() as u8]), (20, long(2048, block)), (38, text.clone())];
        descriptor(257, &parts)[..(38 + text.len()).next_multiple_of(4)].to_vec()
    }

    /// A volume with a file in two extents, one that goes on elsewhere, one in its own entry, a link, a device, one with a hole, and a
    /// folder that holds itself.
    fn image() -> Vec<u8> {
        let mut image = vec![0u8; 320 * SECTOR];
        let mut put = |sector: usize, raw: &[u8]| image[sector * SECTOR..][..raw.len()].copy_from_slice(raw);
        put(16, b"\0BEA01");
        put(17, b"\0NSR02");
        put(256, &descriptor(2, &[(16, short(3 * 2048, 272))]));
        put(272, &descriptor(5, &[(22, vec![7, 0]), (188, (START as u32).to_le_bytes().to_vec())]));
        let maps = [
            (212, 2048u32.to_le_bytes().to_vec()),
            (248, long(2048, 0)),
            (268, vec![1]),
            (440, vec![1, 6, 1, 0, 7, 0]),
        ];
        put(273, &descriptor(6, &maps));
        put(274, &descriptor(8, &[]));
        let names = [
            named("", 1, IS_PARENT),
            named("live", 2, 2),
            named("gone", 3, IS_DELETED),
            named("note", 5, 0),
            named("link", 6, 0),
            named("device", 7, 0),
            named("sparse", 8, 0),
        ]
        .concat();
        let inside = [named("system.img", 3, 0), named("kernel", 4, 0), named("round", 2, 2)].concat();
        let blocks = [
            descriptor(256, &[(400, long(2048, 1))]),
            entry(FOLDER, 3, names.len() as u64, names),
            entry(FOLDER, 0, inside.len() as u64, short(inside.len() as u32, 20)),
            entry(FILE, 0, 2148, [short(2048, 10), short(100, 12)].concat()),
            entry(FILE, 1, 4100, [long(2048, 13), long(3 << 30 | 2048, 9)].concat()),
            entry(FILE, 3, 4, b"note".to_vec()),
            entry(LINK, 3, 13, b"\x03\0\0\0\x05\x05\0\0\x08live".to_vec()),
            entry(6, 3, 0, Vec::new()),
            entry(FILE, 0, 2048, short(1 << 30 | 2048, 10)),
            descriptor(258, &[(20, vec![16]), (24, long(2052, 14))]),
        ];
        for (block, raw) in blocks.iter().enumerate() {
            put(START + block, raw);
        }
        put(START + 20, &inside);
        image
    }

    fn told(image: &Vec<u8>) -> String {
        let block = |start: u64| format!("{:.3}", start as f64 / SECTOR as f64 - START as f64);
        let one = |leaf: Leaf| match leaf.kind {
            LeafKind::File(parts) => {
                let parts: Vec<String> =
                    parts.iter().map(|part| format!("{}+{}", block(part.start), part.bytes)).collect();
                format!("{} {} {}", leaf.path, parts.join(" "), leaf.modified.unwrap())
            }
            kind => format!("{} {kind:?}", leaf.path),
        };
        leaves(image).unwrap().into_iter().map(one).collect::<Vec<_>>().join("\n")
    }

    #[test]
    fn files_are_told_with_all_of_their_parts_and_what_is_not_there_is_lost() {
        insta::assert_snapshot!(told(&image()), @r#"
        live Folder
        note 5.086+4 2026-11-27T09:30:00
        link Link("../live")
        device Special
        sparse Lost("not all of it is in the image")
        live/system.img 10.000+2048 12.000+100 2026-11-27T09:30:00
        live/kernel 13.000+4100 2026-11-27T09:30:00
        live/round Lost("this folder lies in itself, or in two places")
        "#);
        // A partition that needs a table of its own.
        let mut other = image();
        other[273 * SECTOR + 440] = 2;
        assert_eq!(told(&other), "/ Lost(\"the UDF volume is damaged, or of a kind that is not read\")");
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(128) })]
        #[test]
        fn no_bytes_make_it_panic(hits in prop::collection::vec((0usize..48 * SECTOR, any::<u8>()), 0..24)) {
            let mut image = image();
            for (at, byte) in hits {
                image[272 * SECTOR + at] = byte;
            }
            leaves(&image).unwrap();
        }
    }
}
