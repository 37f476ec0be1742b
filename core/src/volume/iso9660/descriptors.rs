//! From descriptors to a volume.

use std::io;

use crate::bytes::field::{both32, take, text, u16_le, u32_le, utf16_be};
use crate::bytes::{ReadAt, read_block};
use crate::volume::iso9660::layout::{
    CATALOGUE, CREATED, DATA_LENGTH, DESCRIPTORS_MOST, EL_TORITO, ESCAPE, EXTENT, FIRST_DESCRIPTOR, JOLIET,
    LOGICAL_BLOCK_SIZE, ROOT_RECORD, SECTOR, STANDARD_ID, VOLUME_ID, VOLUME_SPACE_SIZE,
};
use crate::volume::iso9660::tree;
use crate::volume::iso9660::volume::{Extent, IsoVolume, VolumeFault};
use crate::volume::udf;

/// Reads the volume descriptors; `None` if the image does not begin with any.
///
/// # Errors
/// The outer one when the image can't be read, the inner one when the descriptor contradicts itself.
pub fn read(image: &dyn ReadAt) -> io::Result<Option<Result<IsoVolume, VolumeFault>>> {
    let mut volume = None;
    let mut catalogue = None;
    let mut joliet = None;
    for index in 0..DESCRIPTORS_MOST {
        let at = FIRST_DESCRIPTOR.saturating_add(index).saturating_mul(SECTOR as u64);
        let Some(raw) = read_block::<SECTOR>(image, at)? else { break };
        if take(raw.as_slice(), 1) != Some(STANDARD_ID) {
            break;
        }
        match raw.first() {
            Some(0) if raw.get(7..).is_some_and(|id| id.starts_with(EL_TORITO)) => {
                catalogue =
                    u32_le(raw.as_slice(), CATALOGUE).and_then(|sector| u64::from(sector).checked_mul(SECTOR as u64));
            }
            Some(1) if volume.is_none() => volume = Some(primary(raw.as_slice())),
            Some(2) if raw.get(ESCAPE..).is_some_and(|escape| JOLIET.iter().any(|known| escape.starts_with(known))) => {
                joliet = Some(raw);
            }
            Some(255) => break,
            _ => {}
        }
    }
    let Some(volume) = volume else { return Ok(None) };
    let udf = udf::read(image)?;
    let Ok(volume) = volume else { return Ok(Some(volume)) };
    let mut volume = IsoVolume { boot_catalogue: catalogue, udf, ..volume };
    if let Some(raw) = joliet {
        volume.label = volume.label.or_else(|| utf16_be(raw.get(VOLUME_ID..VOLUME_ID.saturating_add(32))?));
        if let Ok(root) = root(raw.as_slice(), volume.block_bytes)
            && !tree::has_rock_ridge(image, &volume.root)?
        {
            (volume.root, volume.is_joliet) = (root, true);
        }
    }
    Ok(Some(Ok(volume)))
}

/// A number that is stored in both byte orders.
fn number(raw: &[u8], field: &'static str, at: usize) -> Result<u32, VolumeFault> {
    both32(raw, at).ok_or_else(|| VolumeFault::TwoAnswers {
        field,
        at,
        little: take(raw, at).map(u32::from_le_bytes).unwrap_or_default(),
        big: take(raw, at.saturating_add(4)).map(u32::from_be_bytes).unwrap_or_default(),
    })
}

fn root(raw: &[u8], block_bytes: u64) -> Result<Extent, VolumeFault> {
    let block = number(raw, "root folder's place", ROOT_RECORD.saturating_add(EXTENT))?;
    let bytes = number(raw, "root folder's length", ROOT_RECORD.saturating_add(DATA_LENGTH))?;
    Ok(Extent { start: u64::from(block).saturating_mul(block_bytes), bytes: u64::from(bytes) })
}

fn primary(raw: &[u8]) -> Result<IsoVolume, VolumeFault> {
    let blocks = number(raw, "volume space size", VOLUME_SPACE_SIZE)?;
    let block = u16_le(raw, LOGICAL_BLOCK_SIZE).unwrap_or_default();
    if !matches!(block, 512 | 1024 | 2048) {
        return Err(VolumeFault::BlockSize { found: block });
    }
    let block_bytes = u64::from(block);
    Ok(IsoVolume {
        label: text(raw, VOLUME_ID, 32),
        declared_bytes: u64::from(blocks).saturating_mul(block_bytes),
        root: root(raw, block_bytes)?,
        created: text(raw, CREATED, 16).and_then(|digits| date(&digits)),
        boot_catalogue: None,
        udf: None,
        is_joliet: false,
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

#[cfg(test)]
mod tests {
    use std::ops::ControlFlow;
    use std::sync::LazyLock;

    use super::*;
    use proptest::prelude::*;

    const DESCRIPTOR: usize = 16 * SECTOR;

    static SAMPLE: LazyLock<Vec<u8>> = LazyLock::new(|| pyrotyp_sample::cafe::rescue().build());

    fn volume(image: &Vec<u8>) -> IsoVolume {
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

    #[test]
    fn joliet_names_are_used_where_there_are_no_others() {
        let mut image = SAMPLE.clone();
        let joliet_root = (image.len() / SECTOR) as u32;
        let root = volume(&image).root.start as usize;
        let rock_ridge = image[root..root + SECTOR].to_vec();
        let mut record = image[root..root + 34].to_vec();
        record[EXTENT..EXTENT + 4].copy_from_slice(&joliet_root.to_le_bytes());
        record[EXTENT + 4..EXTENT + 8].copy_from_slice(&joliet_root.to_be_bytes());
        // A supplementary descriptor in the place of the terminator, which moves on by one.
        let mut second = image[DESCRIPTOR..DESCRIPTOR + SECTOR].to_vec();
        second[0] = 2;
        second[ESCAPE..ESCAPE + 3].copy_from_slice(b"%/E");
        second[ROOT_RECORD..ROOT_RECORD + 34].copy_from_slice(&record);
        image.copy_within(DESCRIPTOR + 2 * SECTOR..DESCRIPTOR + 3 * SECTOR, DESCRIPTOR + 3 * SECTOR);
        image[DESCRIPTOR + 2 * SECTOR..DESCRIPTOR + 3 * SECTOR].copy_from_slice(&second);
        // Its root folder: one file of 46 bytes in block 30.
        let name: Vec<u8> = "Größe.txt;1".encode_utf16().flat_map(u16::to_be_bytes).collect();
        let mut file = vec![0u8; 33];
        file[EXTENT] = 30;
        file[EXTENT + 7] = 30;
        file[DATA_LENGTH] = 46;
        file[DATA_LENGTH + 7] = 46;
        file[32] = name.len() as u8;
        file.extend_from_slice(&name);
        file.push(0);
        file[0] = file.len() as u8;
        file.resize(SECTOR, 0);
        image.extend_from_slice(&file);
        assert!(!volume(&image).is_joliet, "Rock Ridge names are there");
        let hidden: Vec<u8> = rock_ridge.iter().map(|byte| if *byte == b'N' { b'X' } else { *byte }).collect();
        image[root..root + SECTOR].copy_from_slice(&hidden);
        let (path, extent) = volume(&image).file_at(&image, 30 * SECTOR as u64 + 45).unwrap().unwrap();
        assert_eq!((path.as_str(), extent.bytes), ("Größe.txt", 46));
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
