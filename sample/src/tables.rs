//! The partition tables of the samples.

use std::ops::Range;

use crate::SECTOR;

/// EFI system partition (UEFI 2.10, 5.3.3), as it lies on disk.
const ESP_TYPE: [u8; 16] =
    [0x28, 0x73, 0x2A, 0xC1, 0x1F, 0xF8, 0xD2, 0x11, 0xBA, 0x4B, 0x00, 0xA0, 0xC9, 0x3E, 0xC9, 0x3B];
/// Basic data partition, as it lies on disk.
const DATA_TYPE: [u8; 16] =
    [0xA2, 0xA0, 0xD0, 0xEB, 0xE5, 0xB9, 0x33, 0x44, 0x87, 0xC0, 0x68, 0xB6, 0xB7, 0x26, 0x99, 0xC7];
const ENTRIES: usize = 128;
const ENTRY_SIZE: usize = 128;

fn put(image: &mut [u8], at: usize, bytes: &[u8]) {
    image[at..at + bytes.len()].copy_from_slice(bytes);
}

fn mbr_entry(image: &mut [u8], index: usize, active: bool, kind: u8, sectors: Range<usize>) {
    let at = 446 + index * 16;
    let past_chs = [0xFE, 0xFF, 0xFF];
    put(image, at, &[if active { 0x80 } else { 0 }]);
    put(image, at + 1, &past_chs);
    put(image, at + 4, &[kind]);
    put(image, at + 5, &past_chs);
    put(image, at + 8, &(sectors.start as u32).to_le_bytes());
    put(image, at + 12, &(sectors.len() as u32).to_le_bytes());
}

/// Writes boot code and MBR entries: the volume as a hidden type that systems leave alone, and the ESP.
pub fn mbr(image: &mut [u8], code: &[u8], volume_end: Option<usize>, esp: Option<Range<usize>>) {
    put(image, 0, code);
    put(image, 440, &0x4352_4C57u32.to_le_bytes());
    if let Some(end) = volume_end {
        mbr_entry(image, 0, true, 0x17, 0..end / SECTOR);
    }
    if let Some(esp) = esp {
        mbr_entry(image, 1, false, 0xEF, esp.start / SECTOR..esp.end / SECTOR);
    }
    put(image, 510, &[0x55, 0xAA]);
}

/// Writes boot code, a protective MBR and both copies of a GPT; the image grows by the backup's 33 sectors.
pub fn gpt(image: &mut Vec<u8>, code: &[u8], volume_end: usize, esp: Option<Range<usize>>) {
    let array_sectors = ENTRIES * ENTRY_SIZE / SECTOR;
    image.resize(image.len().next_multiple_of(2048) + (array_sectors + 1) * SECTOR, 0);
    let last = image.len() / SECTOR - 1;
    put(image, 0, code);
    mbr_entry(image, 0, true, 0xEE, 1..last + 1);
    put(image, 510, &[0x55, 0xAA]);

    let mut array = vec![0u8; ENTRIES * ENTRY_SIZE];
    let mut entry = |index: usize, kind: [u8; 16], sectors: Range<usize>, name: &str| {
        let at = index * ENTRY_SIZE;
        put(&mut array, at, &kind);
        put(&mut array, at + 16, &[0x50 + index as u8; 16]);
        put(&mut array, at + 32, &(sectors.start as u64).to_le_bytes());
        put(&mut array, at + 40, &(sectors.end as u64 - 1).to_le_bytes());
        for (place, unit) in name.encode_utf16().enumerate() {
            put(&mut array, at + 56 + 2 * place, &unit.to_le_bytes());
        }
    };
    // The system area stays outside: its sectors belong to the tables themselves.
    let volume_end = esp.as_ref().map_or(volume_end, |esp| volume_end.min(esp.start));
    entry(0, DATA_TYPE, 64..volume_end / SECTOR, "Live volume");
    if let Some(esp) = esp {
        entry(1, ESP_TYPE, esp.start / SECTOR..esp.end / SECTOR, "Start");
    }

    put(image, 2 * SECTOR, &array);
    put(image, (last - array_sectors) * SECTOR, &array);
    for (at, other, array_at) in [(1, last, 2), (last, 1, last - array_sectors)] {
        let mut header = [0u8; 92];
        put(&mut header, 0, b"EFI PART");
        put(&mut header, 8, &0x0001_0000u32.to_le_bytes());
        put(&mut header, 12, &92u32.to_le_bytes());
        put(&mut header, 24, &(at as u64).to_le_bytes());
        put(&mut header, 32, &(other as u64).to_le_bytes());
        put(&mut header, 40, &(2 + array_sectors as u64).to_le_bytes());
        put(&mut header, 48, &((last - array_sectors - 1) as u64).to_le_bytes());
        put(&mut header, 56, &[0x52; 16]);
        put(&mut header, 72, &(array_at as u64).to_le_bytes());
        put(&mut header, 80, &(ENTRIES as u32).to_le_bytes());
        put(&mut header, 84, &(ENTRY_SIZE as u32).to_le_bytes());
        put(&mut header, 88, &crc32fast::hash(&array).to_le_bytes());
        let sum = crc32fast::hash(&header);
        put(&mut header, 16, &sum.to_le_bytes());
        put(image, at * SECTOR, &header);
    }
}
