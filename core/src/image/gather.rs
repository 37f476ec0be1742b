//! From bytes to facts: every parser is asked once.

use std::io;
use std::ops::Range;

use crate::bytes::ReadAt;
use crate::image::facts::{Facts, MBR_SECTOR, OpticalFacts, Trailing};
use crate::image::packed::Seen;
use crate::image::recognise::Stranger;
use crate::image::{bios, efi, naming, recognise, unfinished};
use crate::volume::{apm, counting, eltorito, filesystem, gpt, iso9660, mbr};

/// How much of a file's start is looked at when nothing better is known, in bytes.
pub(super) const HEAD: usize = 64 << 10;

/// The facts of an image of which only parts could be looked at.
pub(super) fn read_part(seen: &Seen) -> io::Result<Facts> {
    let mut facts = read(seen, MBR_SECTOR)?;
    (facts.bytes, facts.end.trailing) = (seen.size, None);
    facts.programs.unseen = facts.wanted().into_iter().filter(|range| !seen.holds(range)).collect();
    // What was found in the part that was seen need not be looked for in the rest.
    let found =
        |range: &Range<u64>| facts.programs.esps.iter().any(|esp| esp.start == range.start && !esp.programs.is_empty());
    facts.programs.unseen.retain(|range| !found(range));
    Ok(facts)
}

/// The facts of an image; where its MBR does not show in which sectors it counts, it is in those of `sector_bytes`.
pub(super) fn read(image: &dyn ReadAt, sector_bytes: u32) -> io::Result<Facts> {
    let mut head = vec![0u8; HEAD];
    let count = image.fill_at(0, &mut head)?;
    head.truncate(count);
    let mut facts = Facts {
        bytes: Some(image.size()),
        optical: OpticalFacts { volume: iso9660::read(image)?, catalogue: None },
        ..Facts::default()
    };
    if facts.optical.volume.is_none() {
        let is_zero = head.iter().all(|byte| *byte == 0);
        facts.stranger = recognise::stranger(&head).or(is_zero.then_some(Stranger::Zeros));
        if matches!(facts.stranger, Some(Stranger::Archive(_))) {
            return Ok(facts);
        }
        facts.filesystem = filesystem::recognise(image)?;
    }
    facts.gpt = gpt::read(image)?;
    let sector_bytes = match &facts.gpt {
        Some(gpt) => gpt.sector_bytes,
        None => counting::sector_bytes(image, &head, sector_bytes)?,
    };
    facts.sector_bytes = Some(sector_bytes);
    if facts.filesystem.is_none() || facts.gpt.is_some() {
        facts.mbr = mbr::parse(&head, sector_bytes);
    }
    if let Some(mbr) = &mut facts.mbr {
        mbr::read_logical(image, mbr, sector_bytes)?;
    }
    facts.apm = apm::read(image)?;
    if let Some(at) = facts.optical.volume.as_ref().and_then(|volume| volume.as_ref().ok()?.boot_catalogue) {
        facts.optical.catalogue = eltorito::read(image, at)?;
    }
    facts.programs.esps = efi::esps(image, &facts)?;
    facts.bios = bios::bios(image, &facts)?;
    facts.programs.optical = efi::optical_programs(image, &facts)?;
    if let Some(Ok(volume)) = &facts.optical.volume {
        facts.naming = naming::read(image, volume)?;
        facts.programs.tree = efi::tree_programs(image, volume)?;
        facts.end.zeros_from = unfinished::zeros_from(image, volume)?;
        if image.size() < volume.declared_bytes {
            facts.end.cut_in = volume.file_at(image, image.size())?.map(|(path, _)| path);
        }
    }
    facts.end.trailing = trailing(image, facts.declared())?;
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
