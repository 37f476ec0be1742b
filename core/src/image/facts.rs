//! What was read of an image, before anything is judged.

use std::ops::Range;

use serde::{Deserialize, Serialize};

use crate::image::architecture::Architecture;
use crate::image::naming::Naming;
use crate::image::recognise::Stranger;
use crate::volume::{apm, bootcode, eltorito, filesystem, gpt, iso9660, mbr};

/// A cylinder of 255 heads and 63 sectors of 512 bytes: what partition entries were once rounded to.
const CYLINDER: u64 = 255 * 63 * 512;
/// An entry that begins this early covers the volume, in bytes.
const COVERS_FROM: u64 = 64 * 512;

/// A FAT volume in the image that may hold EFI programs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
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
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct EfiProgram {
    /// Its name, such as `BOOTX64.EFI`.
    pub name: String,
    /// For which processor, by the machine type that it declares.
    pub arch: Architecture,
    /// Whether firmware of that processor looks for this name.
    pub is_found: bool,
    /// Whether it carries a signature. Nothing here tells whose.
    pub signed: bool,
}

/// Whether a BIOS finds something to start.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum Bios {
    /// It does not.
    #[default]
    No,
    /// It does.
    Yes,
    /// That hangs on bytes which could not be looked at.
    Unknown,
}

/// Bytes behind the furthest declared end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Trailing {
    pub bytes: u64,
    /// Whether all of them that were looked at are zeros.
    pub is_zero: bool,
}

/// What shows at the end of an image.
#[derive(Debug, Default)]
pub(super) struct End {
    pub trailing: Option<Trailing>,
    /// From this byte on, the large files at the end of the volume hold nothing but zeros.
    pub zeros_from: Option<u64>,
    /// The file of the volume in which the image ends too early.
    pub cut_in: Option<String>,
}

/// What an optical drive looks at.
#[derive(Debug, Default)]
pub(super) struct OpticalFacts {
    pub volume: Option<Result<iso9660::IsoVolume, iso9660::VolumeFault>>,
    pub catalogue: Option<eltorito::BootCatalogue>,
}

/// The programs for UEFI.
#[derive(Debug, Default)]
pub(super) struct Programs {
    pub esps: Vec<EspVolume>,
    /// EFI system partitions that could not be looked into.
    pub unseen: Vec<Range<u64>>,
    /// Those that the boot catalogue leads to.
    pub optical: Vec<EfiProgram>,
    /// Those that lie in the optical volume's own tree, where no firmware looks on a stick.
    pub tree: Vec<EfiProgram>,
}

/// Sectors in which an MBR counts that shows no others, in bytes.
pub(super) const MBR_SECTOR: u32 = 512;

/// What was read, before anything is judged.
#[derive(Debug, Default)]
pub(super) struct Facts {
    /// Size of the image; `None` inside a container that does not tell it.
    pub bytes: Option<u64>,
    pub bios: Bios,
    pub end: End,
    pub stranger: Option<Stranger>,
    pub optical: OpticalFacts,
    pub mbr: Option<mbr::Mbr>,
    /// Size of the sectors in which its tables count, in bytes.
    pub sector_bytes: Option<u32>,
    pub gpt: Option<gpt::Gpt>,
    pub apm: Option<Vec<apm::ApmPartition>>,
    pub filesystem: Option<filesystem::FileSystem>,
    pub programs: Programs,
    pub naming: Naming,
}

impl Facts {
    /// Size of the sectors in which its tables count, in bytes; `None` where it has none.
    pub(super) fn counts_in(&self) -> Option<u32> {
        let has_entries = self.mbr.as_ref().is_some_and(|mbr| !mbr.entries.is_empty());
        let of_mbr = has_entries.then_some(self.sector_bytes.unwrap_or(MBR_SECTOR));
        self.gpt.as_ref().map(|gpt| gpt.sector_bytes).or(of_mbr)
    }

    /// The places that tell what starts from the image: its EFI system partitions, and volumes that its boot code starts.
    pub(super) fn wanted(&self) -> Vec<Range<u64>> {
        /// Of a partition, this much holds its tables and what starts from it, in bytes.
        const EACH: u64 = 16 << 20;
        let gpt = self.gpt.iter().flat_map(|gpt| &gpt.entries);
        let gpt = gpt.filter(|entry| entry.is_esp || entry.is_for_bios).map(|entry| (entry.start, entry.bytes));
        let mbr = self.mbr.iter().flat_map(|mbr| mbr.claims());
        let is_started = |entry: &&mbr::MbrPartition| {
            let passes_on = self.mbr.as_ref().is_some_and(|mbr| mbr.code == bootcode::BootCode::PassesOn);
            entry.kind.is_esp() || (passes_on && entry.active)
        };
        let mbr = mbr.filter(is_started).map(|entry| (entry.start, entry.bytes));
        gpt.chain(mbr).map(|(start, bytes)| start..start.saturating_add(bytes.min(EACH))).collect()
    }

    /// The furthest end that any table or volume declares: an ESP often lies behind the end of the ISO volume.
    pub(super) fn declared(&self) -> Option<u64> {
        let volume = self.optical.volume.iter().flatten().map(|volume| volume.declared_bytes);
        let gpt = self.gpt.iter().filter_map(|gpt| gpt.declared_end());
        let filesystem = self.filesystem.iter().filter_map(|system| system.bytes);
        // Beside a volume, this map is rounded like the entry below and says nothing of its own.
        let apm = self.apm.iter().flatten().filter(|_| self.optical.volume.is_none());
        let apm = apm.filter_map(|partition| partition.start.checked_add(partition.bytes));
        let others = volume.clone().chain(gpt).chain(filesystem).chain(apm).max();
        let covers = |entry: &mbr::MbrPartition| {
            self.optical.volume.is_some() && entry.start <= COVERS_FROM && !entry.kind.is_esp()
        };
        let entries = self.mbr.iter().flat_map(|mbr| mbr.claims());
        let (cover, parts): (Vec<_>, Vec<_>) = entries.partition(|entry| covers(entry));
        let furthest = |entries: Vec<&mbr::MbrPartition>| {
            entries.iter().filter_map(|entry| entry.start.checked_add(entry.bytes)).max()
        };
        let certain = others.max(furthest(parts));
        // Hybrid images round the entry that covers them up to a whole cylinder, and are handed out without the rest.
        let is_there = |end: u64| self.bytes.is_some_and(|bytes| bytes >= end);
        let is_rounded = |end: u64| certain.is_some_and(|certain| end.saturating_sub(certain) <= CYLINDER);
        let cover = furthest(cover).filter(|end| is_there(*end) || !is_rounded(*end));
        certain.max(cover)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::volume::iso9660::Extent;

    #[test]
    fn an_entry_that_covers_the_volume_counts_where_it_is_no_mere_rounding() {
        let volume = iso9660::IsoVolume {
            label: None,
            declared_bytes: 1_000_000,
            root: Extent { start: 0, bytes: 0 },
            created: None,
            boot_catalogue: None,
            udf: None,
            is_joliet: false,
            block_bytes: 2048,
        };
        let declared = |start: u64, end: u64, bytes: u64| {
            let kind = mbr::PartitionType(0x17);
            let entry = mbr::MbrPartition { number: 1, active: true, kind, start, bytes: end - start };
            let mbr = mbr::Mbr { code: bootcode::BootCode::Loader, disk_signature: 0, entries: vec![entry] };
            let facts = Facts {
                optical: OpticalFacts { volume: Some(Ok(volume.clone())), catalogue: None },
                mbr: Some(mbr),
                bytes: Some(bytes),
                ..Facts::default()
            };
            facts.declared().unwrap()
        };
        let (own, rounded) = (1_000_000, 1_000_000 + 255 * 63 * 512);
        assert_eq!(declared(0, rounded, own), own, "up to a whole cylinder");
        assert_eq!(declared(0, rounded + 1, own), rounded + 1, "further than that");
        assert_eq!(declared(0, rounded, rounded), rounded, "and where all of it is there");
        assert_eq!(declared(64 * 512, rounded, own), own, "behind the usual gap as well");
        assert_eq!(declared(64 * 512 + 1, rounded, own), rounded, "a part of its own begins later");
    }
}
