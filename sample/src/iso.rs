//! The ISO 9660 volume of the samples, with Rock Ridge names and an El Torito catalogue.
//!
//! Source: ECMA-119, 2nd edition, §8.4 and §9.1; El Torito 1.0, §2; IEEE P1282 draft 1.12, §4.1.4.

use crate::{BLOCK, File};

const CATALOGUE: u32 = 21;
const FIRST_FOLDER: u32 = 22;
/// 23 November 2026, 09:30 UTC, as directory records hold it.
const DATE: [u8; 7] = [126, 11, 23, 9, 30, 0, 0];

/// A volume being laid out; files get their places in the order in which they come.
pub struct Plan {
    label: String,
    folders: Vec<String>,
    files: Vec<Placed>,
    next_block: u32,
    boot: Option<u32>,
    efi: Option<(u32, usize)>,
}

struct Placed {
    path: String,
    bytes: Vec<u8>,
    block: u32,
}

fn both16(value: u16) -> [u8; 4] {
    let (low, high) = (value.to_le_bytes(), value.to_be_bytes());
    [low[0], low[1], high[0], high[1]]
}

fn both32(value: u32) -> [u8; 8] {
    let mut out = [0; 8];
    out[..4].copy_from_slice(&value.to_le_bytes());
    out[4..].copy_from_slice(&value.to_be_bytes());
    out
}

impl Plan {
    pub fn new(label: &str, files: &[File]) -> Self {
        let mut folders = vec![String::new(), "boot".to_owned()];
        for file in files {
            for (place, _) in file.path.match_indices('/') {
                let folder = &file.path[..place];
                if !folders.iter().any(|known| known == folder) {
                    folders.push(folder.to_owned());
                }
            }
        }
        let next_block = FIRST_FOLDER + folders.len() as u32;
        let mut plan = Self { label: label.to_owned(), folders, files: Vec::new(), next_block, boot: None, efi: None };
        for file in files {
            plan.place(&file.path, file.bytes.clone());
        }
        plan
    }

    /// Puts a file into the volume and tells its first block.
    pub fn place(&mut self, path: &str, bytes: Vec<u8>) -> u32 {
        let block = self.next_block;
        self.next_block += bytes.len().div_ceil(BLOCK) as u32;
        self.files.push(Placed { path: path.to_owned(), bytes, block });
        block
    }

    /// The program that a BIOS loads when it starts from the optical disc.
    pub fn boot_image(&mut self, mut code: Vec<u8>) {
        code.resize(BLOCK, 0);
        self.boot = Some(self.place("boot/bios.bin", code));
    }

    pub fn efi_boot_entry(&mut self, block: u32, bytes: usize) {
        self.efi = Some((block, bytes));
    }

    /// The block behind the last one used.
    pub fn end_block(&self) -> u32 {
        self.next_block
    }

    pub fn build(&self) -> Vec<u8> {
        let mut image = vec![0u8; self.next_block as usize * BLOCK];
        let mut put = |block: u32, bytes: &[u8]| image[block as usize * BLOCK..][..bytes.len()].copy_from_slice(bytes);
        put(16, &self.primary());
        let terminator = if let Some(boot) = self.boot {
            let mut record = vec![0u8; BLOCK];
            record[1..6].copy_from_slice(b"CD001");
            record[6] = 1;
            record[7..30].copy_from_slice(b"EL TORITO SPECIFICATION");
            record[71..75].copy_from_slice(&CATALOGUE.to_le_bytes());
            put(17, &record);
            put(CATALOGUE, &self.catalogue(boot));
            18
        } else {
            17
        };
        put(terminator, b"\xFFCD001\x01");
        put(19, &self.path_table(u32::to_le_bytes, u16::to_le_bytes));
        put(20, &self.path_table(u32::to_be_bytes, u16::to_be_bytes));
        for index in 0..self.folders.len() {
            put(FIRST_FOLDER + index as u32, &self.folder(index));
        }
        for file in &self.files {
            put(file.block, &file.bytes);
        }
        image
    }

    fn primary(&self) -> Vec<u8> {
        let mut volume = vec![0u8; BLOCK];
        let mut put = |at: usize, bytes: &[u8]| volume[at..at + bytes.len()].copy_from_slice(bytes);
        let table = self.path_table(u32::to_le_bytes, u16::to_le_bytes).len() as u32;
        put(0, b"\x01CD001\x01");
        put(8, &[b' '; 64]);
        put(40, self.label.as_bytes());
        put(80, &both32(self.next_block));
        put(120, &both16(1));
        put(124, &both16(1));
        put(128, &both16(BLOCK as u16));
        put(132, &both32(table));
        put(140, &19u32.to_le_bytes());
        put(148, &20u32.to_be_bytes());
        put(156, &record(&[0], "", FIRST_FOLDER, BLOCK, true));
        put(190, &[b' '; 623]);
        put(318, b"HARBOUR STREET REPAIR CAFE");
        for at in [813, 830] {
            put(at, b"2026112309300000\0");
        }
        for at in [847, 864] {
            put(at, b"0000000000000000\0");
        }
        put(881, &[1]);
        volume
    }

    fn catalogue(&self, boot: u32) -> Vec<u8> {
        let mut out = vec![0u8; BLOCK];
        out[0] = 1;
        out[4..16].copy_from_slice(b"HARBOUR ST.\0");
        out[30..32].copy_from_slice(&[0x55, 0xAA]);
        let sum =
            out[..32].chunks_exact(2).fold(0u16, |sum, pair| sum.wrapping_add(u16::from_le_bytes([pair[0], pair[1]])));
        out[28..30].copy_from_slice(&sum.wrapping_neg().to_le_bytes());
        let entry = |out: &mut [u8], sectors: u16, block: u32| {
            out[0] = 0x88;
            out[6..8].copy_from_slice(&sectors.to_le_bytes());
            out[8..12].copy_from_slice(&block.to_le_bytes());
        };
        entry(&mut out[32..64], 4, boot);
        if let Some((block, bytes)) = self.efi {
            out[64..68].copy_from_slice(&[0x91, 0xEF, 1, 0]);
            entry(&mut out[96..128], (bytes / 512) as u16, block);
        }
        out
    }

    fn path_table(&self, long: fn(u32) -> [u8; 4], short: fn(u16) -> [u8; 2]) -> Vec<u8> {
        let mut out = Vec::new();
        for (index, folder) in self.folders.iter().enumerate() {
            let name = if index == 0 { vec![0] } else { plain_name(split(folder).1, true).into_bytes() };
            out.extend_from_slice(&[name.len() as u8, 0]);
            out.extend_from_slice(&long(FIRST_FOLDER + index as u32));
            out.extend_from_slice(&short(self.parent(index) as u16 + 1));
            out.extend_from_slice(&name);
            if name.len() % 2 == 1 {
                out.push(0);
            }
        }
        out
    }

    /// The place of the folder in which this one lies; the root lies in itself.
    fn parent(&self, index: usize) -> usize {
        self.folders.iter().position(|folder| folder == split(&self.folders[index]).0).unwrap_or(0)
    }

    fn folder(&self, index: usize) -> Vec<u8> {
        let own = FIRST_FOLDER + index as u32;
        let mut out = record(&[0], "", own, BLOCK, true);
        out.extend(record(&[1], "", FIRST_FOLDER + self.parent(index) as u32, BLOCK, true));
        for (place, folder) in self.folders.iter().enumerate().skip(1).filter(|(place, _)| self.parent(*place) == index)
        {
            let name = split(folder).1;
            out.extend(record(plain_name(name, true).as_bytes(), name, FIRST_FOLDER + place as u32, BLOCK, true));
        }
        for file in &self.files {
            let (folder, name) = split(&file.path);
            if folder == self.folders[index] {
                let plain = plain_name(name, false);
                out.extend(record(plain.as_bytes(), name, file.block, file.bytes.len(), false));
            }
        }
        assert!(out.len() <= BLOCK, "a folder of the sample holds too many files");
        out
    }
}

/// The folder of a path, and the last name.
fn split(path: &str) -> (&str, &str) {
    path.rsplit_once('/').unwrap_or(("", path))
}

/// The name as ISO 9660 level 1 has it: capitals, eight and three characters, a version behind files.
fn plain_name(name: &str, folder: bool) -> String {
    let fit = |part: &str, most: usize| -> String {
        part.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_uppercase() } else { '_' }).take(most).collect()
    };
    let (stem, end) = name.rsplit_once('.').unwrap_or((name, ""));
    if folder { fit(name, 8) } else { format!("{}.{};1", fit(stem, 8), fit(end, 3)) }
}

fn record(name: &[u8], full: &str, block: u32, bytes: usize, folder: bool) -> Vec<u8> {
    let mut out = vec![0u8; 33];
    out[2..10].copy_from_slice(&both32(block));
    out[10..18].copy_from_slice(&both32(bytes as u32));
    out[18..25].copy_from_slice(&DATE);
    out[25] = if folder { 2 } else { 0 };
    out[28..32].copy_from_slice(&both16(1));
    out[32] = name.len() as u8;
    out.extend_from_slice(name);
    if out.len() % 2 == 1 {
        out.push(0);
    }
    if !full.is_empty() {
        out.extend_from_slice(&[b'N', b'M', 5 + full.len() as u8, 1, 0]);
        out.extend_from_slice(full.as_bytes());
        if out.len() % 2 == 1 {
            out.push(0);
        }
    }
    out[0] = out.len() as u8;
    out
}
