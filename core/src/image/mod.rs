//! What is this file, is it whole, and would a stick made from it start a PC?
//!
//! Everything here works on bytes behind [`ReadAt`]: no file is opened, nothing is written.
//! Promise: any bytes at all give an [`Inspection`], in memory bounded whatever they say.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

pub mod apm;
mod bootcode;
mod efi;
pub mod eltorito;
pub mod fat;
pub(crate) mod field;
pub mod filesystem;
pub mod gpt;
mod housekeeping;
pub mod iso9660;
mod judge;
mod labels;
pub mod mbr;
mod naming;
pub mod packed;
mod read_at;
mod recognise;
pub mod udf;
mod unfinished;

use std::io;
use std::ops::Range;
use std::sync::Arc;

use serde::Serialize;

use crate::Finding;
pub use efi::{EfiProgram, EspVolume};
pub use naming::{Naming, known_architecture};
use packed::Seen;
pub use packed::{Packed, PackedFault, Source, Unpacked};
pub use read_at::{Cursor, ImageFile, Part, ReadAt, read_block};
pub use recognise::{Stranger, stranger};
pub use unfinished::unfinished;

/// How much of a file's start is looked at when nothing better is known, in bytes.
const HEAD: usize = 64 << 10;

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

/// Bytes behind the furthest declared end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Trailing {
    bytes: u64,
    /// Whether all of them that were looked at are zeros.
    is_zero: bool,
}

/// What was read, before anything is judged.
#[derive(Debug, Default)]
struct Facts {
    /// Size of the image; `None` inside a container that does not tell it.
    bytes: Option<u64>,
    /// EFI system partitions that could not be looked into.
    unseen: Vec<Range<u64>>,
    bios: bootcode::Bios,
    trailing: Option<Trailing>,
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
    let mut magic = vec![0u8; HEAD];
    let count = source.fill_at(0, &mut magic)?;
    magic.truncate(count);
    let Some(format) = packed::Format::of(&magic).filter(|_| !matches!(iso9660::read(&**source), Ok(Some(_)))) else {
        return Ok(Opened { inspection: inspect(&**source)?, packed: None });
    };
    let opened = Packed::open(Arc::clone(source), format).and_then(|packed| Ok((Seen::of(&packed)?, packed)));
    let (mut inspection, packed) = match opened {
        Ok((mut seen, packed)) => {
            let mut facts = read_part(&seen)?;
            let wanted = facts.wanted();
            let mut fault = packed.is_cut.then(|| PackedFault::Cut { format: format.name() });
            if !wanted.is_empty() {
                fault = seen.look_for(&packed, &wanted).err().or(fault);
                facts = read_part(&seen)?;
            }
            let mut inspection = judge::judge(facts);
            if let Some(fault) = fault {
                judge::broken_container(&mut inspection, &fault);
            }
            (inspection, Some(packed))
        }
        Err(fault) => (judge::unpackable(&fault), None),
    };
    let unpacked_bytes = packed.as_ref().and_then(|packed| packed.unpacked_bytes);
    inspection.bytes = source.size();
    inspection.container = Some(Container { format: format.name(), unpacked_bytes });
    Ok(Opened { inspection, packed })
}

/// What the first bytes of an image tell that comes through a pipe or over a line.
pub struct Beginning {
    /// What it is, as far as its start tells.
    pub inspection: Inspection,
    /// How it is packed.
    pub packed: Option<packed::Format>,
}

/// Like [`open`], for an image of which no more than its `start` is there; `total` is its length where that is known.
///
/// # Errors
/// Never but when memory can't be read.
pub fn begin(start: &[u8], total: Option<u64>) -> io::Result<Beginning> {
    let start = start.to_vec();
    let format = packed::Format::of(&start).filter(|_| !matches!(iso9660::read(&start), Ok(Some(_))));
    let Some(format) = format else {
        let is_all = total == Some(start.len() as u64);
        let facts = if is_all { read(&start)? } else { read_part(&Seen::start(start, total))? };
        return Ok(Beginning { inspection: judge::judge(facts), packed: None });
    };
    let mut bytes = Vec::new();
    // It ends in the middle of course; what came out before that is what counts.
    let unpacked = packed::unpacking(format, &*start)
        .map(|stream| io::Read::read_to_end(&mut io::Read::take(stream, packed::HEAD_BYTES as u64), &mut bytes));
    let mut inspection = match unpacked {
        Ok(_) => judge::judge(read_part(&Seen::start(bytes, None))?),
        Err(_) => judge::unpackable(&PackedFault::ZipOnTheWay),
    };
    inspection.container = Some(Container { format: format.name(), unpacked_bytes: None });
    Ok(Beginning { inspection, packed: Some(format) })
}

/// The facts of an image of which only parts could be looked at.
fn read_part(seen: &Seen) -> io::Result<Facts> {
    let mut facts = read(seen)?;
    (facts.bytes, facts.trailing) = (seen.size, None);
    facts.unseen = facts.wanted().into_iter().filter(|range| !seen.holds(range)).collect();
    // What was found in the part that was seen need not be looked for in the rest.
    let found = |range: &Range<u64>| facts.esps.iter().any(|esp| esp.start == range.start && !esp.programs.is_empty());
    facts.unseen.retain(|range| !found(range));
    Ok(facts)
}

impl Facts {
    /// The places that tell what starts from the image: its EFI system partitions, and volumes that its boot code starts.
    fn wanted(&self) -> Vec<Range<u64>> {
        /// Of a partition, this much holds its tables and what starts from it, in bytes.
        const EACH: u64 = 16 << 20;
        let gpt = self.gpt.iter().flat_map(|gpt| &gpt.entries);
        let gpt = gpt.filter(|entry| entry.is_esp || entry.is_for_bios).map(|entry| (entry.start, entry.bytes));
        let mbr = self.mbr.iter().flat_map(|mbr| mbr.claims());
        let is_started = |entry: &&mbr::Entry| {
            let passes_on = self.mbr.as_ref().is_some_and(|mbr| mbr.code == bootcode::BootCode::PassesOn);
            entry.kind.is_esp() || (passes_on && entry.active)
        };
        let mbr = mbr.filter(is_started).map(|entry| (entry.start, entry.bytes));
        gpt.chain(mbr).map(|(start, bytes)| start..start.saturating_add(bytes.min(EACH))).collect()
    }
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
    facts.esps = efi::esps(image, &facts)?;
    facts.bios = bootcode::bios(image, &facts)?;
    facts.optical_programs = efi::optical_programs(image, &facts)?;
    if let Some(Ok(volume)) = &facts.volume {
        facts.naming = naming::read(image, volume)?;
        facts.tree_programs = efi::tree_programs(image, volume)?;
        facts.zeros_from = unfinished::zeros_from(image, volume)?;
        if image.size() < volume.declared_bytes {
            facts.cut_in = volume.file_at(image, image.size())?.map(|(path, _)| path);
        }
    }
    facts.trailing = trailing(image, judge::declared(&facts))?;
    Ok(facts)
}

/// What follows the declared end: its first and its last bytes are looked at.
fn trailing(image: &dyn ReadAt, declared: Option<u64>) -> io::Result<Option<Trailing>> {
    const LOOKED_AT: u64 = 1 << 20;
    let end = image.size();
    let Some(bytes) = declared.and_then(|declared| end.checked_sub(declared)).filter(|more| *more > 0) else {
        return Ok(None);
    };
    let mut is_zero = true;
    let mut piece = vec![0u8; usize::try_from(bytes.min(LOOKED_AT)).unwrap_or_default()];
    for at in [end.saturating_sub(bytes), end.saturating_sub(piece.len() as u64)] {
        let count = image.fill_at(at, &mut piece)?;
        is_zero &= piece.get(..count).unwrap_or_default().iter().all(|byte| *byte == 0);
    }
    Ok(Some(Trailing { bytes, is_zero }))
}

impl Inspection {
    /// What the image is called, everywhere the same: system, version and edition, or else its label.
    pub fn title(&self) -> Option<String> {
        self.naming.title().or_else(|| self.label.clone())
    }

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

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;
    use proptest::prelude::*;

    fn gz(bytes: &[u8]) -> Vec<u8> {
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        packed.write_all(bytes).unwrap();
        packed.finish().unwrap()
    }

    #[test]
    fn the_start_of_an_image_tells_what_it_is_packed_or_not() {
        let image = pyrotyp_sample::cafe::desktop().build();
        let (whole, packed) = (inspect(&image).unwrap(), gz(&image));
        for (bytes, format) in [(&image, None), (&packed, Some(packed::Format::Gz))] {
            let start = &bytes[..bytes.len().min(2 << 20)];
            let begun = begin(start, None).unwrap();
            assert_eq!(begun.packed, format);
            assert_eq!(
                (begun.inspection.naming.name, begun.inspection.label),
                (whole.naming.name.clone(), whole.label.clone())
            );
            assert_eq!(begun.inspection.declared_bytes, whole.declared_bytes);
            assert!(begun.inspection.findings.iter().all(|finding| finding.level != crate::Level::Stop));
        }
        // With its length, a cut is told before a byte of a drive changes.
        let cut = begin(&image[..2 << 20], Some(9 << 20)).unwrap().inspection;
        assert_eq!(cut.whole, Whole::No);
        let id = |start: &[u8]| begin(start, None).unwrap().inspection.findings.first().map(|finding| finding.id);
        assert_eq!(id(b"<html>404</html>"), Some("not-an-image"));
        assert_eq!(id(b"PK\x03\x04 and so on"), Some("damaged"));
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 64, failure_persistence: None, ..ProptestConfig::default() })]
        #[test]
        fn no_start_makes_it_panic(
            is_packed: bool,
            hits in prop::collection::vec((0usize..200_000, any::<u8>()), 0..40),
            length in 0usize..300_000,
            total in prop::option::of(0u64..1 << 40),
        ) {
            let image = pyrotyp_sample::cafe::rescue().build();
            let mut start = if is_packed { gz(&image[..400_000]) } else { image };
            hits.into_iter().for_each(|(at, byte)| if let Some(place) = start.get_mut(at) { *place = byte; });
            start.truncate(length);
            begin(&start, total).unwrap();
        }
    }
}
