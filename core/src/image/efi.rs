//! Programs that UEFI starts: where they lie, for which processors, and whether they are signed.
//!
//! Source: UEFI 2.10, §3.5.1.1 (names on removable drives), §13.3.2.1 (El Torito); PE/COFF specification.

use std::io;

use crate::bytes::{Part, ReadAt, field};
use crate::image::architecture::Architecture;
use crate::image::facts::{EfiProgram, EspVolume, Facts};
use crate::volume::{eltorito, fat, iso9660, mbr};

/// Most partitions looked into for EFI programs.
const PARTITIONS_MOST: usize = 16;

/// Every partition that is a FAT volume, and the whole image if it is one.
pub(super) fn esps(image: &dyn ReadAt, facts: &Facts) -> io::Result<Vec<EspVolume>> {
    let gpt = facts.gpt.iter().flat_map(|gpt| gpt.entries.iter().map(|e| (Some(e.number), e.start, e.bytes)));
    let mbr = facts.mbr.iter().flat_map(|mbr| {
        let real = mbr.entries.iter().filter(|e| e.kind != mbr::PartitionType::GPT_PROTECTIVE);
        real.map(|e| (Some(e.number), e.start, e.bytes))
    });
    let bare = facts.filesystem.iter().map(|_| (None, 0, image.size()));
    let mut found: Vec<EspVolume> = Vec::new();
    for (partition, start, bytes) in gpt.chain(mbr).chain(bare).take(PARTITIONS_MOST) {
        if found.iter().any(|esp| esp.start == start) {
            continue;
        }
        if let Some(programs) = efi_programs(image, start, bytes)? {
            found.push(EspVolume { partition, start, bytes, programs });
        }
    }
    Ok(found)
}

pub(super) fn optical_programs(image: &dyn ReadAt, facts: &Facts) -> io::Result<Vec<EfiProgram>> {
    let entries = facts.optical.catalogue.iter().flat_map(|catalogue| &catalogue.entries);
    let mut programs = Vec::new();
    for entry in entries.filter(|entry| entry.bootable && entry.platform == eltorito::PlatformId::EFI) {
        // The length of the entry is too often wrong to be used.
        let left = image.size().saturating_sub(entry.start);
        programs.extend(efi_programs(image, entry.start, left)?.unwrap_or_default());
    }
    Ok(programs)
}

/// Names that UEFI starts from removable drives (UEFI 2.10, §3.5.1.1, table 3.2).
const EFI_PROGRAMS: [(&str, Architecture); 6] = [
    ("BOOTIA32.EFI", Architecture::X86),
    ("BOOTX64.EFI", Architecture::X86Of64),
    ("BOOTARM.EFI", Architecture::Arm),
    ("BOOTAA64.EFI", Architecture::Aarch64),
    ("BOOTRISCV64.EFI", Architecture::Riscv64),
    ("BOOTLOONGARCH64.EFI", Architecture::Loongarch64),
];

/// The folder in which it looks for them, and how much of one is read, in bytes.
const EFI_FOLDER: &str = "EFI/BOOT";
const PROGRAM_HEAD: usize = 1024;

/// The programs that UEFI starts from the FAT volume at `start`; `None` if it is no FAT volume.
fn efi_programs(image: &dyn ReadAt, start: u64, bytes: u64) -> io::Result<Option<Vec<EfiProgram>>> {
    let volume = Part { whole: image, start, bytes };
    let Some(fat) = fat::read(&volume)? else { return Ok(None) };
    let mut programs = Vec::new();
    for file in fat.list(&volume, EFI_FOLDER)?.unwrap_or_default() {
        let Some((name, wanted)) = EFI_PROGRAMS.iter().find(|(name, _)| file.is_named(name)) else { continue };
        let mut head = [0u8; PROGRAM_HEAD];
        let count = fat.head_of(&volume, &file, &mut head)?;
        programs.extend(program(name, *wanted, head.get(..count).unwrap_or_default()));
    }
    Ok(Some(programs))
}

/// Machine types (PE/COFF specification, "Machine Types").
const MACHINES: [(u16, Architecture); 8] = [
    (0x014C, Architecture::X86),
    (0x8664, Architecture::X86Of64),
    (0x01C0, Architecture::Arm),
    (0x01C2, Architecture::Arm),
    (0x01C4, Architecture::Arm),
    (0xAA64, Architecture::Aarch64),
    (0x5064, Architecture::Riscv64),
    (0x6264, Architecture::Loongarch64),
];

fn program(name: &str, wanted: Architecture, head: &[u8]) -> Option<EfiProgram> {
    const PE_HEADER_AT: usize = 0x3C;
    let pe = usize::try_from(field::u32_le(head, PE_HEADER_AT).filter(|_| head.starts_with(b"MZ"))?).ok()?;
    let [b'P', b'E', 0, 0, low, high] = field::take(head, pe)? else { return None };
    let machine = u16::from_le_bytes([low, high]);
    let (_, arch) = *MACHINES.iter().find(|(known, _)| *known == machine)?;
    Some(EfiProgram {
        name: (*name).to_owned(),
        arch,
        is_found: arch == wanted,
        signed: is_signed(head, pe).unwrap_or(false),
    })
}

/// The programs for UEFI in the tree of the optical volume.
pub(super) fn tree_programs(image: &dyn ReadAt, volume: &iso9660::IsoVolume) -> io::Result<Vec<EfiProgram>> {
    let mut programs = Vec::new();
    for (file, extent) in volume.files_in(image, EFI_FOLDER)? {
        let Some((name, wanted)) = EFI_PROGRAMS.iter().find(|(name, _)| file.eq_ignore_ascii_case(name)) else {
            continue;
        };
        let mut head = [0u8; PROGRAM_HEAD];
        let length = usize::try_from(extent.bytes).unwrap_or(usize::MAX).min(PROGRAM_HEAD);
        let count = image.fill_at(extent.start, head.get_mut(..length).unwrap_or_default())?;
        programs.extend(program(name, *wanted, head.get(..count).unwrap_or_default()));
    }
    Ok(programs)
}

/// Whether a program's table of certificates has any content (PE/COFF specification, "Optional Header Data Directories").
fn is_signed(head: &[u8], pe: usize) -> Option<bool> {
    const OPTIONAL_HEADER: usize = 24;
    // Data directories begin at 112 in PE32+ (magic 0x20B) and at 96 in PE32; the fifth is that of certificates.
    const CERTIFICATES: usize = 4 * 8;
    let optional = pe.checked_add(OPTIONAL_HEADER)?;
    let directories = if field::u16_le(head, optional)? == 0x20B { 112 } else { 96 };
    let size_at = optional.checked_add(directories)?.checked_add(CERTIFICATES)?.checked_add(4)?;
    Some(field::u32_le(head, size_at)? > 0)
}
