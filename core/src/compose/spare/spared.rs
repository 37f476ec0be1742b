//! An image with partitions behind it: the image as it is but for its tables, the partitions, and what ends the drive.

use std::collections::BTreeMap;
use std::ops::Range;

use crate::bytes::{MIB, ReadAt};
use crate::compose::composition::Composition;
use crate::compose::spare::fault::SpareFault;
use crate::compose::spare::tables::{FurtherPartition, ImageTables, TableDrive};
use crate::compose::tree::{FileBytes, Tree};
use crate::compose::volume::WantedVolume;
use crate::compose::volume_kind::VolumeKind;
use crate::hash::BLOCK_BYTES;
use crate::image::Inspection;

/// So much at the drive's end holds no partition: it is withheld until the seal.
const LAST_BYTES: u64 = MIB;

/// A partition that is wanted.
pub struct SpareWish<'a> {
    /// As [`VolumeKind::label`] gives it.
    pub label: String,
    /// What volume.
    pub kind: VolumeKind,
    /// Its length; without one it takes what is left.
    pub bytes: Option<u64>,
    /// What lies in it from the start.
    pub tree: Tree<'a>,
}

/// The drives that it is for.
#[derive(Clone, Copy, Debug)]
pub struct SpareDrive {
    /// Size of the smallest, in bytes.
    pub bytes: u64,
    /// Their smallest unit, in bytes.
    pub sector_bytes: u32,
    /// Tells the volumes from others.
    pub serial: u32,
}

/// A partition behind an image.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SparePlace {
    /// As systems count it.
    pub number: u32,
    /// Where it lies, in bytes.
    pub range: Range<u64>,
    /// What volume.
    pub kind: VolumeKind,
    /// What it is called.
    pub label: String,
}

/// An image with partitions behind it.
#[derive(Debug)]
pub struct Spared<'a> {
    /// What goes onto the drive.
    pub made: Composition<'a>,
    /// The partitions.
    pub places: Vec<SparePlace>,
    /// What differs from the image, by its places.
    pub altered: BTreeMap<u64, Vec<u8>>,
    /// Whether the drive's end belongs to it: then it suits drives of this size alone.
    pub reaches_end: bool,
    /// What is worth knowing.
    pub notes: Vec<String>,
}

/// The image with its tables renewed, and nothing else: as it is compared.
pub fn patched<'a>(image: &'a dyn ReadAt, altered: &BTreeMap<u64, Vec<u8>>) -> Composition<'a> {
    let mut made = Composition::zeros(image.size());
    let mut next = 0;
    let put_range = |made: &mut Composition<'a>, range: Range<u64>| {
        let start = range.start;
        made.put_file(start, &FileBytes::Parts { of: image, parts: std::iter::once(range).collect() });
    };
    for (at, bytes) in altered {
        let end = at.saturating_add(bytes.len() as u64);
        // What lies outside, or in another one, is no part of the image.
        if *at < next || end > image.size() {
            continue;
        }
        put_range(&mut made, next..*at);
        made.put(*at, bytes.clone());
        next = end;
    }
    put_range(&mut made, next..image.size());
    made
}

/// Where the room behind an image lies: whole blocks, so that each belongs to one partition, or to none.
fn room(image: &dyn ReadAt, seen: &Inspection, tables: &ImageTables, drive: &SpareDrive) -> Range<u64> {
    let image_end = tables.rounded_end(image.size().max(seen.span.needs_bytes));
    let last = tables.end_bytes(drive.sector_bytes).max(LAST_BYTES);
    let end = drive.bytes.saturating_sub(last);
    let end = end.saturating_sub(end.checked_rem(BLOCK_BYTES).unwrap_or_default());
    image_end.checked_next_multiple_of(BLOCK_BYTES).unwrap_or(u64::MAX)..end
}

/// Where each of them lies.
fn divided(room: &Range<u64>, wishes: &[SpareWish<'_>]) -> Result<Vec<Range<u64>>, SpareFault> {
    let there = room.end.saturating_sub(room.start);
    let whole = |bytes: u64| bytes.max(1).checked_next_multiple_of(BLOCK_BYTES).unwrap_or(u64::MAX);
    let fixed = wishes.iter().filter_map(|wish| wish.bytes).map(whole).fold(0, u64::saturating_add);
    let open = wishes.iter().filter(|wish| wish.bytes.is_none()).count();
    if open > 1 {
        return Err(SpareFault::Open);
    }
    let least = if open > 0 { BLOCK_BYTES } else { 0 };
    let wanted = fixed.saturating_add(least);
    if wanted > there {
        return Err(SpareFault::Room { wanted, there });
    }
    let mut start = room.start;
    let mut one = |wish: &SpareWish<'_>| {
        let from = start;
        start = from.saturating_add(wish.bytes.map_or(there.saturating_sub(fixed), whole));
        from..start
    };
    Ok(wishes.iter().map(&mut one).collect())
}

/// The image with new partitions behind it.
///
/// # Errors
/// When its tables do not take them, or there is too little room.
pub fn spared<'a>(
    image: &'a dyn ReadAt,
    seen: &Inspection,
    drive: SpareDrive,
    wishes: &[SpareWish<'a>],
) -> Result<Spared<'a>, SpareFault> {
    let tables = ImageTables::read(image, seen, drive.sector_bytes)?;
    let ranges = divided(&room(image, seen, &tables, &drive), wishes)?;
    let mut volumes = Vec::new();
    for ((range, wish), serial) in ranges.into_iter().zip(wishes).zip(drive.serial..) {
        let (start, bytes) = (range.start, range.end.saturating_sub(range.start));
        let (sector, kind) = (u64::from(drive.sector_bytes), wish.kind);
        let wanted = WantedVolume { kind, start, bytes, sector, label: &wish.label, serial };
        volumes.push(Beside { range, kind, label: wish.label.clone(), content: Some(wanted.made(&wish.tree)?) });
    }
    together(image, &tables, drive, volumes)
}

/// The image with partitions behind it that are there already, and stay as they are.
///
/// # Errors
/// When its tables do not take them, or it reaches into one.
pub fn kept_beside<'a>(
    image: &'a dyn ReadAt,
    seen: &Inspection,
    drive: SpareDrive,
    kept: &[SparePlace],
) -> Result<Spared<'a>, SpareFault> {
    let tables = ImageTables::read(image, seen, drive.sector_bytes)?;
    let room = room(image, seen, &tables, &drive);
    let mut next = room.start;
    let mut volumes = Vec::new();
    for SparePlace { range, kind, label, .. } in kept {
        if range.start < room.start {
            let image = image.size().max(seen.span.needs_bytes);
            return Err(SpareFault::Reached { label: label.clone(), image, start: range.start });
        }
        let is_whole = [range.start, range.end].iter().all(|at| at.is_multiple_of(BLOCK_BYTES));
        if !is_whole || range.start < next || range.is_empty() || range.end > room.end {
            return Err(SpareFault::Elsewhere { label: label.clone() });
        }
        next = range.end;
        volumes.push(Beside { range: range.clone(), kind: *kind, label: label.clone(), content: None });
    }
    together(image, &tables, drive, volumes)
}

/// A partition beside an image; without content it stays as it is.
struct Beside<'a> {
    range: Range<u64>,
    kind: VolumeKind,
    label: String,
    content: Option<Composition<'a>>,
}

fn together<'a>(
    image: &'a dyn ReadAt,
    tables: &ImageTables,
    drive: SpareDrive,
    volumes: Vec<Beside<'a>>,
) -> Result<Spared<'a>, SpareFault> {
    let SpareDrive { bytes, sector_bytes, serial } = drive;
    let sector = u64::from(sector_bytes.max(1));
    let drive_bytes = bytes.saturating_sub(bytes.checked_rem(sector).unwrap_or_default());
    let further = volumes.iter().map(|one| {
        let bytes = one.range.end.saturating_sub(one.range.start);
        let wanted = WantedVolume { kind: one.kind, start: one.range.start, bytes, sector, label: &one.label, serial };
        let (mbr_type, gpt_type) = (wanted.mbr_type(), wanted.gpt_type());
        FurtherPartition { range: one.range.clone(), mbr_type, gpt_type, label: &one.label }
    });
    let further: Vec<FurtherPartition<'_>> = further.collect();
    let renewed = tables.renewed(&further, TableDrive { bytes: drive_bytes, sector: sector_bytes, serial })?;
    drop(further);
    let mut made = patched(image, &renewed.altered);
    let mut places: Vec<SparePlace> = Vec::new();
    for (Beside { range, kind, label, content }, number) in volumes.into_iter().zip(renewed.numbers) {
        // What lies between them stays as it is, as far as whole blocks go.
        made = made.with_hole(range.start);
        if let Some(content) = content {
            made = made.with_all(range.start, content);
        }
        places.push(SparePlace { number, range, kind, label });
    }
    let reaches_end = !renewed.end.is_empty();
    if reaches_end {
        let at = drive_bytes.saturating_sub(renewed.end.len() as u64);
        made = made.with_hole(at).with_end(renewed.end);
    }
    Ok(Spared { made, places, altered: renewed.altered, reaches_end, notes: renewed.notes })
}
