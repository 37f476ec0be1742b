//! Places of an image that a computer changes by merely having it plugged in: notes of file systems about themselves.
//!
//! Source: UEFI 2.10, §5.2.1 (disk signature) and §5.3 (GPT); the kernel's ext4 documentation, "Super Block".

use std::io;
use std::ops::Range;

use crate::bytes::{Part, ReadAt};
use crate::image::Inspection;
use crate::volume::fat;

/// The disk signature and what stands behind it, in the master boot record.
const DISK_SIGNATURE: Range<u64> = 440..446;
/// The superblock of an ext volume, from its start.
const EXT_SUPERBLOCK: Range<u64> = 1024..2048;
const EXT_MAGIC_AT: u64 = 1024 + 56;
const EXT_MAGIC: [u8; 2] = [0x53, 0xEF];
/// Sectors of a GPT at the start of a disk: the header, and entries of the usual number.
const GPT_SECTORS: Range<u64> = 1..34;

impl Inspection {
    /// What keeps its notes at byte `at`, in words; `None` where a file or anything else lies.
    ///
    /// # Errors
    /// When the image can't be read.
    pub fn housekeeping_at(&self, image: &dyn ReadAt, at: u64) -> io::Result<Option<&'static str>> {
        if DISK_SIGNATURE.contains(&at) {
            return Ok(Some("the disk's signature"));
        }
        let sector = u64::from(self.tables.sector_bytes.unwrap_or(512));
        if !self.tables.gpt.is_empty() && GPT_SECTORS.contains(&at.checked_div(sector).unwrap_or(0)) {
            return Ok(Some("the partition table"));
        }
        for esp in &self.esps {
            let volume = Part { whole: image, start: esp.start, bytes: esp.bytes };
            let inside = at.checked_sub(esp.start).filter(|inside| *inside < esp.bytes);
            if let Some((inside, fat)) = inside.zip(fat::read(&volume)?)
                && fat.housekeeping().iter().any(|range| range.contains(&inside))
            {
                return Ok(Some("a FAT volume's own notes"));
            }
        }
        let starts =
            self.tables.mbr.iter().map(|entry| entry.start).chain(self.tables.gpt.iter().map(|entry| entry.start));
        for start in starts.chain([0]) {
            let inside = at.checked_sub(start).is_some_and(|inside| EXT_SUPERBLOCK.contains(&inside));
            let mut magic = [0u8; EXT_MAGIC.len()];
            if inside
                && image.fill_at(start.saturating_add(EXT_MAGIC_AT), &mut magic)? == magic.len()
                && magic == EXT_MAGIC
            {
                return Ok(Some("an ext volume's own notes"));
            }
        }
        Ok(None)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::image::inspect;

    #[test]
    fn a_volumes_notes_are_told_from_its_files() {
        let image = pyrotyp_sample::cafe::desktop().build();
        let seen = inspect(&image).unwrap();
        let esp = seen.esps.iter().find(|esp| esp.partition.is_some()).unwrap().start;
        let told = |at| seen.housekeeping_at(&image, at).unwrap();
        assert_eq!(told(441), Some("the disk's signature"));
        assert_eq!(told(esp + 3), Some("a FAT volume's own notes"));
        assert_eq!(told(8 << 20), None);
        assert!(crate::image::FileMap::of(&image, &seen).unwrap().at(8 << 20).is_some());
        let mut disk = vec![0u8; 4096];
        disk[EXT_MAGIC_AT as usize..][..2].copy_from_slice(&EXT_MAGIC);
        assert_eq!(inspect(&disk).unwrap().housekeeping_at(&disk, 1500).unwrap(), Some("an ext volume's own notes"));
    }
}
