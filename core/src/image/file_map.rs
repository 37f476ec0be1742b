//! Which file of an image lies where: worked out once, asked as often as needed, and a value that another process can be sent.

use std::io;
use std::ops::{ControlFlow, Range};

use serde::{Deserialize, Serialize};

use crate::bytes::{Part, ReadAt};
use crate::image::Inspection;
use crate::volume::iso9660::Extent;
use crate::volume::{exfat, fat};

/// Most stretches that are kept, and how long all of their names may be together, in bytes.
const STRETCHES_MOST: usize = 200_000;
const NAMES_BYTES_MOST: usize = 32 << 20;

/// A stretch of the image, and what lies there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct NamedStretch {
    extent: Extent,
    name: String,
}

/// The files of an image by their places.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileMap {
    /// Files of the ISO 9660 tree, by where they begin.
    outer: Vec<NamedStretch>,
    /// Files of FAT and exFAT volumes, which may lie inside of those.
    inner: Vec<NamedStretch>,
    /// Length of all names.
    names_bytes: usize,
}

impl FileMap {
    /// Of an image that was looked into. Where there are more files than are kept, the rest have no name.
    ///
    /// # Errors
    /// When the image can't be read.
    pub fn of(image: &dyn ReadAt, inspection: &Inspection) -> io::Result<Self> {
        let mut map = Self::default();
        if let Some(volume) = &inspection.optical.volume {
            volume.files(image, &mut |path, extent| {
                map.room_for(path)?;
                map.outer.push(NamedStretch { extent, name: path.to_owned() });
                ControlFlow::Continue(())
            })?;
            map.outer.sort_by_key(|stretch| stretch.extent);
        }
        for (extent, name) in map.volumes(inspection) {
            let volume = Part { whole: image, start: extent.start, bytes: extent.bytes };
            stretches(&volume, &mut |path, range| {
                let full = if name.is_empty() { path.to_owned() } else { format!("{name}: {path}") };
                map.room_for(&full)?;
                let start = extent.start.saturating_add(range.start);
                let bytes = range.end.saturating_sub(range.start);
                map.inner.push(NamedStretch { extent: Extent { start, bytes }, name: full });
                ControlFlow::Continue(())
            })?;
        }
        map.inner.sort_by_key(|stretch| stretch.extent);
        Ok(map)
    }

    /// Where FAT and exFAT volumes may be, by what holds them: a file of the tree, a partition, or the image itself.
    fn volumes(&self, inspection: &Inspection) -> Vec<(Extent, String)> {
        let of_esps = inspection.esps.iter().map(|esp| {
            let extent = Extent { start: esp.start, bytes: esp.bytes };
            (extent, esp.partition.map_or_else(String::new, |number| format!("partition {number}")))
        });
        let entries = inspection.optical.catalogue.iter().flat_map(|catalogue| &catalogue.entries);
        let of_catalogue = entries.map(|entry| (Extent { start: entry.start, bytes: 0 }, String::new()));
        let tables = &inspection.tables;
        let of_mbr = tables.mbr.iter().map(|entry| (entry.number, entry.start, entry.bytes));
        let of_gpt = tables.gpt.iter().map(|entry| (entry.number, entry.start, entry.bytes));
        let of_tables =
            of_gpt.chain(of_mbr).map(|(number, start, bytes)| (Extent { start, bytes }, format!("partition {number}")));
        let whole = (Extent { start: 0, bytes: inspection.bytes }, String::new());
        let mut found: Vec<(Extent, String)> = Vec::new();
        for (mut extent, mut name) in of_esps.chain(of_catalogue).chain(of_tables).chain([whole]) {
            // The file that holds it says better where it is, and how long it is.
            if let Some(file) = find(&self.outer, extent.start).filter(|file| file.extent.start == extent.start) {
                (extent, name) = (file.extent, file.name.clone());
            }
            if extent.bytes > 0 && found.iter().all(|(known, _)| known.start != extent.start) {
                found.push((extent, name));
            }
        }
        found
    }

    /// Takes the room for one more; breaks off where there is none.
    fn room_for(&mut self, name: &str) -> ControlFlow<()> {
        let stretches = self.outer.len().saturating_add(self.inner.len());
        self.names_bytes = self.names_bytes.saturating_add(name.len());
        if stretches < STRETCHES_MOST && self.names_bytes <= NAMES_BYTES_MOST {
            ControlFlow::Continue(())
        } else {
            ControlFlow::Break(())
        }
    }

    /// The file that holds byte `at` of the image.
    pub fn at(&self, at: u64) -> Option<&str> {
        find(&self.inner, at).or_else(|| find(&self.outer, at)).map(|stretch| stretch.name.as_str())
    }
}

/// Visits what lies in a FAT or exFAT volume; in any other, nothing.
fn stretches(volume: &dyn ReadAt, visit: &mut dyn FnMut(&str, Range<u64>) -> ControlFlow<()>) -> io::Result<()> {
    match fat::read(volume)? {
        Some(fat) => fat.stretches(volume, visit),
        None => exfat::stretches(volume, visit),
    }
}

/// The stretch that holds byte `at`. Of several that begin at the same place, as links do, the longest comes last.
fn find(sorted: &[NamedStretch], at: u64) -> Option<&NamedStretch> {
    let behind = sorted.partition_point(|stretch| stretch.extent.start <= at);
    sorted.get(..behind)?.iter().rev().find(|stretch| stretch.extent.bytes > 0).filter(|one| one.extent.holds(at))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::image::inspect;

    #[test]
    fn a_byte_is_told_by_the_innermost_file_that_holds_it() {
        let image = pyrotyp_sample::cafe::desktop().build();
        let seen = inspect(&image).unwrap();
        let map = FileMap::of(&image, &seen).unwrap();
        let sent: FileMap = serde_json::from_str(&serde_json::to_string(&map).unwrap()).unwrap();
        assert_eq!(sent, map);
        let mut told: Vec<&str> = (0..image.len() as u64).step_by(512).filter_map(|at| map.at(at)).collect();
        told.dedup();
        insta::assert_snapshot!(told.join("\n"), @"
        .disk/info
        live/kernel.bin
        live/start.cpio
        live/system.img
        boot/bios.bin
        partition 2: EFI
        partition 2: EFI/BOOT
        partition 2: EFI/BOOT/BOOTX64.EFI
        partition 2: STARTUP.TXT
        ");
        assert_eq!((map.at(0), map.at(u64::MAX)), (None, None));
    }
}
