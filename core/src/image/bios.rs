//! Whether a BIOS finds something to start: the code of the first sector, followed to where it leads.
//!
//! Promise: any bytes give an answer, never a panic, with one sector and one folder read for each partition that is marked.

use std::io;

use crate::bytes::{Part, ReadAt, read_block};
use crate::image::facts::{Bios, Facts};
use crate::volume::bootcode::{BootCode, SECTOR, VOLUME_CODE_END, holds, of};
use crate::volume::fat;

/// Files that a volume's first sector starts, as it spells them and as they are called.
const FILES: [(&[u8], &str); 5] = [
    (b"BOOTMGR", "BOOTMGR"),
    (b"NTLDR", "NTLDR"),
    (b"IO      SYS", "IO.SYS"),
    (b"KERNEL  SYS", "KERNEL.SYS"),
    (b"IBMBIO  COM", "IBMBIO.COM"),
];

/// Whether the first sector of the volume at `start` starts something.
fn volume(image: &dyn ReadAt, start: u64, bytes: u64) -> io::Result<Bios> {
    let Some(raw) = read_block::<SECTOR>(image, start)? else {
        let is_there = start.checked_add(SECTOR as u64).is_some_and(|end| end <= image.size());
        return Ok(if is_there { Bios::Unknown } else { Bios::No });
    };
    let raw = raw.as_slice();
    let volume = Part { whole: image, start, bytes };
    let fat = fat::read(&volume)?;
    let code = raw.get(fat.as_ref().map_or(0, fat::Fat::code_at)..VOLUME_CODE_END).unwrap_or_default();
    if raw.get(VOLUME_CODE_END..) != Some(&[0x55, 0xAA]) || of(code) == BootCode::Absent {
        return Ok(Bios::No);
    }
    let mut files = FILES.iter().filter(|(spelt, _)| holds(code, &[spelt])).peekable();
    if files.peek().is_none() {
        return Ok(Bios::Yes);
    }
    let Some(fat) = fat else { return Ok(Bios::Unknown) };
    let top = fat.list(&volume, "")?.unwrap_or_default();
    let is_there = files.any(|(_, name)| top.iter().any(|node| node.name.eq_ignore_ascii_case(name)));
    Ok(if is_there { Bios::Yes } else { Bios::No })
}

/// Whether a BIOS that is given this image as a drive finds something to start.
pub(super) fn bios(image: &dyn ReadAt, facts: &Facts) -> io::Result<Bios> {
    let Some(mbr) = &facts.mbr else {
        return if facts.filesystem.is_some() { volume(image, 0, image.size()) } else { Ok(Bios::No) };
    };
    match mbr.code {
        BootCode::Absent => return Ok(Bios::No),
        BootCode::Loader => return Ok(Bios::Yes),
        BootCode::PassesOn => {}
    }
    let marked = mbr.claims().filter(|entry| entry.active).map(|entry| (entry.start, entry.bytes));
    let gpt = facts.gpt.iter().flat_map(|gpt| &gpt.entries).filter(|entry| entry.is_for_bios);
    let mut all = Bios::No;
    for (start, bytes) in marked.chain(gpt.map(|entry| (entry.start, entry.bytes))) {
        match volume(image, start, bytes)? {
            Bios::Yes => return Ok(Bios::Yes),
            Bios::Unknown => all = Bios::Unknown,
            Bios::No => {}
        }
    }
    Ok(all)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::image::{Boot, Firmware, inspect};
    use crate::volume::mbr;

    /// A record with this code and one active partition at sector 1.
    fn disk(code: &[u8], first_sector: &[u8]) -> Vec<u8> {
        let mut disk = vec![0u8; 64 << 10];
        disk[..code.len()].copy_from_slice(code);
        disk[446..462].copy_from_slice(&[0x80, 0, 0, 0, 0x0C, 0, 0, 0, 1, 0, 0, 0, 100, 0, 0, 0]);
        disk[512..512 + first_sector.len()].copy_from_slice(first_sector);
        for sector in [0, 512] {
            disk[sector + 510..sector + 512].copy_from_slice(&[0x55, 0xAA]);
        }
        disk
    }

    #[test]
    fn what_a_bios_starts_is_told_from_what_it_finds_no_system_in() {
        let starts = |image: &Vec<u8>| {
            let boots = inspect(image).unwrap().boots;
            boots.iter().any(|Boot { firmware, .. }| *firmware == Firmware::Bios)
        };
        let loader: Vec<u8> = (1..=90).collect();
        let generic = b"\xFA\xB8\x00\x10\x8E\xD0\xBC\x00\xB0\xBE\xBE\x07\x38\x04\x75\x0B\x83\xC6\x10\xEB";
        let data = disk(b"...Missing operating system...", b"");
        assert!(starts(&disk(&loader, b"")));
        assert!(!starts(&data) && !starts(&disk(generic, b"")));
        assert!(starts(&disk(generic, &loader)), "the active partition has a loader");
        let mut unmarked = disk(generic, &loader);
        unmarked[446] = 0;
        assert!(!starts(&unmarked));
        assert!(!starts(&disk(b"ER\x08\0\0\0\x90\x90", b"")));
        assert!(starts(&disk(&[b"ER\x08\0\0\0\x90\x90".as_slice(), &loader].concat(), b"")));
        assert!(!starts(&disk(b"This is not a bootable disk. Please insert another", b"")));
        // Code alone, without a partition, is what a BIOS starts as well.
        let mut bare = disk(&loader, b"");
        bare[446..462].fill(0);
        assert!(starts(&bare));
        assert_eq!(inspect(&bare).unwrap().kind, crate::image::Kind::Disk);
    }

    #[test]
    fn a_first_sector_that_starts_a_file_needs_that_file() {
        let mut volume = pyrotyp_sample::disk_image("Wrenfield Rescue 3").split_off(1 << 20);
        volume[62..510].fill(0);
        volume[100..136].copy_from_slice(b"KERNEL  SYS is what this code starts");
        let bios = |image: &Vec<u8>| super::volume(image, 0, image.size()).unwrap();
        assert_eq!(bios(&volume), Bios::No);
        let root = memchr::memmem::find(&volume, b"EFI        ").unwrap();
        volume[root..root + 11].copy_from_slice(b"KERNEL  SYS");
        assert_eq!(bios(&volume), Bios::Yes);
        // A file system that is not read here may hold it.
        let mut ntfs = vec![0u8; 512];
        ntfs[3..11].copy_from_slice(b"NTFS    ");
        ntfs[100..200].fill(7);
        ntfs[200..207].copy_from_slice(b"BOOTMGR");
        ntfs[510..].copy_from_slice(&[0x55, 0xAA]);
        assert_eq!(bios(&ntfs), Bios::Unknown);
        let short = Part { whole: &ntfs, start: 0, bytes: 4 };
        assert_eq!(super::volume(&short, 0, 4).unwrap(), Bios::No);
        assert_eq!(mbr::parse(&ntfs, 512).unwrap().code, BootCode::Loader);
    }
}
