//! What is this file, is it whole, and would a stick made from it start a PC?
//!
//! Everything here works on bytes behind [`ReadAt`]: no file is opened, nothing is written.
//! Promise: any bytes at all give an [`Inspection`], in memory bounded whatever they say.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

pub mod apm;
pub mod eltorito;
pub mod fat;
mod field;
pub mod filesystem;
pub mod gpt;
pub mod iso9660;
mod judge;
mod labels;
pub mod mbr;
mod naming;
pub mod packed;
mod read_at;
mod recognise;
pub mod udf;

use std::io;
use std::ops::ControlFlow;
use std::sync::Arc;

use serde::Serialize;

use crate::Finding;
pub use naming::Naming;
pub use packed::{Packed, PackedFault, Source, Unpacked};
pub use read_at::{ImageFile, Part, ReadAt, read_block};
pub use recognise::Stranger;

/// How much of a file's start is looked at when nothing better is known, in bytes.
const HEAD: usize = 64 << 10;
/// Most partitions looked into for EFI programs.
const PARTITIONS_MOST: usize = 16;

/// What kind of thing the file is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// An ISO 9660 volume, hybrid or not.
    Iso9660,
    /// A disk with a partition table.
    Disk,
    /// One file system without a partition table.
    Filesystem,
    /// Packed, or an archive of files.
    Archive,
    /// No bytes at all.
    Empty,
    /// Anything else.
    Other,
}

/// Whether the file reaches to the furthest end that it declares.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Whole {
    /// It does.
    Yes,
    /// It ends before.
    No,
    /// It declares no end.
    Unknown,
}

/// Whether a stick made from this image starts a PC.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// It should.
    Ready,
    /// It may not; the findings say why.
    Caution,
    /// It won't.
    No,
}

/// Firmware that starts a PC.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Firmware {
    /// BIOS, or UEFI that imitates it.
    Bios,
    /// UEFI.
    Uefi,
}

/// Where the firmware finds what it starts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Via {
    /// Boot code in the first sector: from a stick.
    Mbr,
    /// EFI system partition: from a stick.
    Esp,
    /// Boot catalogue: from an optical disc.
    ElTorito,
}

/// One way in which a PC starts from the image.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Boot {
    /// Which firmware.
    pub firmware: Firmware,
    /// Which processor: `x86`, `x86-64`, `arm`, `aarch64`, `riscv64` or `loongarch64`.
    pub arch: &'static str,
    /// From where.
    pub via: Via,
    /// Whether the program carries a signature, without which Secure Boot starts nothing; `None` for a BIOS.
    pub signed: Option<bool>,
}

/// A packed image's wrapping.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Container {
    /// `gz`, `xz`, `zst`, `bz2`, `lz4` or `zip`.
    pub format: &'static str,
    /// Size of what is inside, where the container says it.
    pub unpacked_bytes: Option<u64>,
}

/// A FAT volume in the image that may hold EFI programs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EspVolume {
    /// Number of its partition; `None` when the whole image is this volume.
    pub partition: Option<u32>,
    /// First byte in the image.
    pub start: u64,
    /// Length in bytes.
    pub bytes: u64,
    /// The programs that UEFI starts from it.
    pub programs: Vec<EfiProgram>,
}

/// A program that UEFI starts by its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct EfiProgram {
    /// For which architecture, by its name.
    pub arch: &'static str,
    /// Whether it carries a signature. Nothing here tells whose.
    pub signed: bool,
}

/// All that the bytes tell about an image.
#[derive(Clone, Debug)]
pub struct Inspection {
    /// Size of the file, in bytes.
    pub bytes: u64,
    /// What it is.
    pub kind: Kind,
    /// Its wrapping, if packed.
    pub container: Option<Container>,
    /// Volume label.
    pub label: Option<String>,
    /// What the image calls itself.
    pub naming: Naming,
    /// When the volume was made.
    pub created: Option<String>,
    /// Whether it reaches to its declared end.
    pub whole: Whole,
    /// The furthest end that any table or volume declares, in bytes.
    pub declared_bytes: Option<u64>,
    /// Whether a stick made from it starts a PC.
    pub verdict: Verdict,
    /// The reasons, and whatever else is worth knowing.
    pub findings: Vec<Finding>,
    /// Ways in which PCs start from it.
    pub boots: Vec<Boot>,
    /// Size of the smallest drive that takes it, in bytes.
    pub needs_bytes: u64,
    /// The ISO 9660 volume.
    pub volume: Option<iso9660::Volume>,
    /// The FAT volumes that were looked into.
    pub esps: Vec<EspVolume>,
    /// What an optical drive offers to start.
    pub catalogue: Option<eltorito::Catalogue>,
    /// Size of the sectors in which its partition tables count, in bytes; `None` if it has none.
    pub sector_bytes: Option<u32>,
    /// Partitions of the MBR, logical ones too.
    pub mbr: Vec<mbr::Entry>,
    /// Partitions of the GPT.
    pub gpt: Vec<gpt::Entry>,
    /// Partitions of an Apple partition map.
    pub apm: Vec<apm::Partition>,
}

/// What was read, before anything is judged.
#[derive(Debug, Default)]
struct Facts {
    /// Size of the image; `None` inside a container that does not tell it.
    bytes: Option<u64>,
    /// Only so many bytes could be looked at.
    seen_bytes: Option<u64>,
    head_is_zero: bool,
    stranger: Option<Stranger>,
    volume: Option<Result<iso9660::Volume, iso9660::VolumeFault>>,
    catalogue: Option<eltorito::Catalogue>,
    mbr: Option<mbr::Mbr>,
    gpt: Option<gpt::Gpt>,
    apm: Option<Vec<apm::Partition>>,
    filesystem: Option<filesystem::FileSystem>,
    esps: Vec<EspVolume>,
    optical_programs: Vec<EfiProgram>,
    /// Programs that lie in the optical volume's own tree, where no firmware looks on a stick.
    tree_programs: Vec<EfiProgram>,
    /// From this byte on, the large files at the end of the volume hold nothing but zeros.
    zeros_from: Option<u64>,
    naming: Naming,
    /// The file of the volume in which the image ends too early.
    cut_in: Option<String>,
}

/// Reads what the image says about itself and judges it; a few MiB at most, whatever its size.
///
/// # Errors
/// When the image can't be read. What its bytes say is never an error, but a finding.
pub fn inspect(image: &dyn ReadAt) -> io::Result<Inspection> {
    let facts = read(image)?;
    Ok(judge::judge(facts))
}

/// What browsers and download tools add to the name of a file until all of it is there.
const UNFINISHED: [&str; 6] = [".part", ".partial", ".crdownload", ".download", ".opdownload", ".tmp"];

/// What a file's name says about it: that somebody may still be downloading it.
pub fn unfinished(file_name: &str) -> Option<Finding> {
    let name = file_name.to_ascii_lowercase();
    let ending = UNFINISHED.iter().find(|ending| name.ends_with(**ending))?;
    Some(Finding::ask(
        "unfinished-download",
        format!("its name ends in {ending}: a browser may still be downloading it"),
        "wait until the download has ended and the name is the image's own",
    ))
}

/// An image that was looked into, and how to get at what is inside if it is packed.
pub struct Opened {
    /// What it is; of what is inside, if it is packed.
    pub inspection: Inspection,
    /// The packing.
    pub packed: Option<Packed>,
}

/// Like [`inspect`], and looks into packed images as well: into the first MiB of what is inside.
///
/// # Errors
/// When the file can't be read.
pub fn open(source: &Source) -> io::Result<Opened> {
    let mut magic = [0u8; 8];
    source.fill_at(0, &mut magic)?;
    let Some(format) = packed::Format::of(&magic).filter(|_| !matches!(iso9660::read(&**source), Ok(Some(_)))) else {
        return Ok(Opened { inspection: inspect(&**source)?, packed: None });
    };
    let opened = Packed::open(Arc::clone(source), format).and_then(|packed| Ok((packed.head()?, packed)));
    let (mut inspection, packed) = match opened {
        Ok((head, packed)) => {
            let mut facts = read(&head)?;
            facts.bytes = head.size;
            facts.seen_bytes = Some(packed::HEAD_BYTES as u64);
            (judge::judge(facts), Some(packed))
        }
        Err(fault) => (judge::unpackable(&fault), None),
    };
    let unpacked_bytes = packed.as_ref().and_then(|packed| packed.unpacked_bytes);
    inspection.bytes = source.size();
    inspection.container = Some(Container { format: format.name(), unpacked_bytes });
    Ok(Opened { inspection, packed })
}

fn read(image: &dyn ReadAt) -> io::Result<Facts> {
    let mut head = vec![0u8; HEAD];
    let count = image.fill_at(0, &mut head)?;
    head.truncate(count);
    let mut facts = Facts {
        bytes: Some(image.size()),
        head_is_zero: head.iter().all(|byte| *byte == 0),
        volume: iso9660::read(image)?,
        ..Facts::default()
    };
    if facts.volume.is_none() {
        facts.stranger = recognise::stranger(&head);
        if matches!(facts.stranger, Some(Stranger::Archive(_))) {
            return Ok(facts);
        }
        facts.filesystem = filesystem::recognise(image)?;
    }
    facts.gpt = gpt::read(image)?;
    let sector_bytes = facts.gpt.as_ref().map_or(512, |gpt| gpt.sector_bytes);
    if facts.filesystem.is_none() || facts.gpt.is_some() {
        facts.mbr = mbr::parse(&head, sector_bytes);
    }
    if let Some(mbr) = &mut facts.mbr {
        mbr::read_logical(image, mbr, sector_bytes)?;
    }
    facts.apm = apm::read(image)?;
    if let Some(at) = facts.volume.as_ref().and_then(|volume| volume.as_ref().ok()?.boot_catalogue) {
        facts.catalogue = eltorito::read(image, at)?;
    }
    facts.esps = esps(image, &facts)?;
    facts.optical_programs = optical_programs(image, &facts)?;
    if let Some(Ok(volume)) = &facts.volume {
        facts.naming = naming::read(image, volume)?;
        facts.tree_programs = tree_programs(image, volume)?;
        facts.zeros_from = zeros_from(image, volume)?;
        if image.size() < volume.declared_bytes {
            facts.cut_in = volume.file_at(image, image.size())?.map(|(path, _)| path);
        }
    }
    Ok(facts)
}

/// Every partition that is a FAT volume, and the whole image if it is one.
fn esps(image: &dyn ReadAt, facts: &Facts) -> io::Result<Vec<EspVolume>> {
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

fn optical_programs(image: &dyn ReadAt, facts: &Facts) -> io::Result<Vec<EfiProgram>> {
    let entries = facts.catalogue.iter().flat_map(|catalogue| &catalogue.entries);
    let mut programs = Vec::new();
    for entry in entries.filter(|entry| entry.bootable && entry.platform == eltorito::PlatformId::EFI) {
        // The length of the entry is too often wrong to be used.
        let left = image.size().saturating_sub(entry.start);
        programs.extend(efi_programs(image, entry.start, left)?.unwrap_or_default());
    }
    Ok(programs)
}

/// Names that UEFI starts from removable drives (UEFI 2.10, §3.5.1.1, table 3.2).
const EFI_PROGRAMS: [(&str, &str); 6] = [
    ("BOOTIA32.EFI", "x86"),
    ("BOOTX64.EFI", "x86-64"),
    ("BOOTARM.EFI", "arm"),
    ("BOOTAA64.EFI", "aarch64"),
    ("BOOTRISCV64.EFI", "riscv64"),
    ("BOOTLOONGARCH64.EFI", "loongarch64"),
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
        let Some((_, arch)) = EFI_PROGRAMS.iter().find(|(name, _)| file.is_named(name)) else { continue };
        let mut head = [0u8; PROGRAM_HEAD];
        let count = fat.head_of(&volume, &file, &mut head)?;
        programs.extend(program(arch, head.get(..count).unwrap_or_default()));
    }
    Ok(Some(programs))
}

fn program(arch: &'static str, head: &[u8]) -> Option<EfiProgram> {
    head.starts_with(b"MZ").then(|| EfiProgram { arch, signed: is_signed(head).unwrap_or(false) })
}

/// The programs for UEFI in the tree of the optical volume.
fn tree_programs(image: &dyn ReadAt, volume: &iso9660::Volume) -> io::Result<Vec<EfiProgram>> {
    let mut programs = Vec::new();
    for (file, extent) in volume.files_in(image, EFI_FOLDER)? {
        let Some((_, arch)) = EFI_PROGRAMS.iter().find(|(name, _)| file.eq_ignore_ascii_case(name)) else { continue };
        let mut head = [0u8; PROGRAM_HEAD];
        let length = usize::try_from(extent.bytes).unwrap_or(usize::MAX).min(PROGRAM_HEAD);
        let count = image.fill_at(extent.start, head.get_mut(..length).unwrap_or_default())?;
        programs.extend(program(arch, head.get(..count).unwrap_or_default()));
    }
    Ok(programs)
}

/// A file of this size is looked into when zeros are searched, in bytes; and how many places are, of what size.
const LARGE: u64 = 1 << 20;
const PROBES: u64 = 48;
const PROBE: usize = 512;
/// Most files that are asked for their place: large ones lie in the first folders.
const FILES_MOST: usize = 4096;
/// So many of the places in a row, up to the end, are no accident.
const ZEROS_LEAST: u64 = 3;

/// Where the largest file begins to hold nothing but zeros, if all that lies behind is zeros too: a download that
/// reserved its room and then stopped looks like this.
fn zeros_from(image: &dyn ReadAt, volume: &iso9660::Volume) -> io::Result<Option<u64>> {
    let mut files: Vec<iso9660::Extent> = Vec::new();
    volume.files(image, &mut |_, extent| {
        files.push(extent);
        if files.len() < FILES_MOST { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    })?;
    let end = |extent: &iso9660::Extent| extent.start.saturating_add(extent.bytes);
    let largest = files.iter().max_by_key(|extent| extent.bytes);
    let Some(largest) = largest.filter(|extent| extent.bytes >= LARGE && end(extent) <= image.size()) else {
        return Ok(None);
    };
    // A file system may well end with free space, but for a packed one.
    let inner = filesystem::recognise(&Part { whole: image, start: largest.start, bytes: largest.bytes })?;
    if inner.is_some_and(|inner| inner.name != "squashfs") {
        return Ok(None);
    }
    let is_zero = |at: u64, length: u64| {
        let mut probe = [0u8; PROBE];
        let length = usize::try_from(length).unwrap_or(PROBE).min(PROBE);
        let count = image.fill_at(at, probe.get_mut(..length).unwrap_or_default())?;
        io::Result::Ok(count == length && probe.iter().take(count).all(|byte| *byte == 0))
    };
    let mut behind = files.iter().filter(|extent| extent.start >= end(largest) && extent.bytes > 0);
    for extent in behind.by_ref().take(usize::try_from(PROBES).unwrap_or_default()) {
        if !is_zero(extent.start, extent.bytes)? {
            return Ok(None);
        }
    }
    let step = largest.bytes.checked_div(PROBES).unwrap_or(1).max(PROBE as u64);
    let mut first = None;
    for probe in 1..=PROBES {
        let at = end(largest).saturating_sub(probe.saturating_mul(step));
        if at < largest.start || !is_zero(at, PROBE as u64)? {
            return Ok(first.filter(|_| probe > ZEROS_LEAST));
        }
        first = Some(at);
    }
    Ok(first)
}

/// Whether a program's table of certificates has any content (PE/COFF specification, "Optional Header Data Directories").
fn is_signed(head: &[u8]) -> Option<bool> {
    const PE_HEADER_AT: usize = 0x3C;
    const OPTIONAL_HEADER: usize = 24;
    // Data directories begin at 112 in PE32+ (magic 0x20B) and at 96 in PE32; the fifth is that of certificates.
    const CERTIFICATES: usize = 4 * 8;
    let pe = usize::try_from(field::u32_le(head, PE_HEADER_AT)?).ok()?;
    let optional = pe.checked_add(OPTIONAL_HEADER)?;
    let directories = if field::u16_le(head, optional)? == 0x20B { 112 } else { 96 };
    let size_at = optional.checked_add(directories)?.checked_add(CERTIFICATES)?.checked_add(4)?;
    Some(field::take(head, pe)? == *b"PE\0\0" && field::u32_le(head, size_at)? > 0)
}

impl Inspection {
    /// The file of the image that holds byte `at`, through the ISO 9660 tree or a FAT volume.
    ///
    /// # Errors
    /// When the image can't be read.
    pub fn file_at(&self, image: &dyn ReadAt, at: u64) -> io::Result<Option<String>> {
        if let Some(volume) = &self.volume
            && let Some((path, extent)) = volume.file_at(image, at)?
        {
            let inner = fat_file(image, extent.start, extent.bytes, at)?;
            return Ok(Some(inner.map_or(path.clone(), |inner| format!("{path}: {inner}"))));
        }
        for esp in &self.esps {
            if (iso9660::Extent { start: esp.start, bytes: esp.bytes }).holds(at) {
                let Some(inner) = fat_file(image, esp.start, esp.bytes, at)? else { continue };
                return Ok(Some(match esp.partition {
                    Some(number) => format!("partition {number}: {inner}"),
                    None => inner,
                }));
            }
        }
        Ok(None)
    }
}

fn fat_file(image: &dyn ReadAt, start: u64, bytes: u64, at: u64) -> io::Result<Option<String>> {
    let volume = Part { whole: image, start, bytes };
    match fat::read(&volume)? {
        Some(fat) => fat.file_at(&volume, at.saturating_sub(start)),
        None => Ok(None),
    }
}
