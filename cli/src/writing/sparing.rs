//! An image and the partitions behind it, put together for the drives of a job.

use std::path::Path;

use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::compose::{
    ComposeError, Composition, SpareDrive, SpareFault, SparePlace, Spared, kept_beside, serial, spared,
};
use pyrotyp_core::drive::Choice;
use pyrotyp_core::job::ClaimCheck;
use pyrotyp_core::plan::BehindImage;
use pyrotyp_core::record::{AlteredBytes, SparePartition};
use pyrotyp_core::text::{Shown, chain, shell};

use super::behind::{KeptPartitions, Wanted};
use super::planning::{AlikeDrives, Behind};
use crate::exit::{Exit, Failure};
use crate::session::images::OpenedAt;
use crate::show::text::partition_words;

/// An image with partitions behind it.
pub(crate) struct LaidBehind<'a> {
    /// What goes onto the drives.
    pub(crate) made: Composition<'a>,
    planned: BehindImage,
    /// What the card says of them, a line each.
    words: Vec<String>,
    kept: Option<&'a KeptPartitions>,
}

impl LaidBehind<'_> {
    /// What the plan and the card have to know of it.
    pub(crate) fn told(&self) -> Behind<'_> {
        Behind { planned: &self.planned, words: &self.words, kept: self.kept.map(|kept| kept as &dyn ClaimCheck) }
    }
}

/// Puts it together from what goes onto the drives of the image alone.
pub(crate) fn laid_behind<'a>(
    wanted: &'a Wanted,
    OpenedAt { path, opened }: OpenedAt<'_>,
    content: &'a dyn ReadAt,
    drives: &AlikeDrives,
    choices: &[Choice],
) -> Result<LaidBehind<'a>, Failure> {
    let AlikeDrives { bytes, sector_bytes, tags } = drives;
    // The same on the same drives, so that a job can be gone on with.
    let drive = SpareDrive { bytes: *bytes, sector_bytes: *sector_bytes, serial: serial(tags, "behind the image") };
    let (made, uses) = match wanted {
        Wanted::New { wishes, uses } => (spared(content, &opened.inspection, drive, wishes), uses.as_slice()),
        Wanted::Kept(kept) => (kept_beside(content, &opened.inspection, drive, &kept.places), &[][..]),
    };
    let Spared { made, places, altered, reaches_end, notes } = made.map_err(|fault| unmade(path, &fault))?;
    if reaches_end && choices.iter().any(|choice| choice.drive.bytes != *bytes) {
        let text = "the image's GUID partition table ends with its drive, and these drives have different sizes";
        return Err(Failure::new(Exit::Usage, text, "run it once for each drive"));
    }
    let kept = match wanted {
        Wanted::Kept(kept) => Some(kept),
        Wanted::New { .. } => None,
    };
    let spare: Vec<SparePartition> =
        places.iter().map(|place| SparePartition { was_there: kept.is_some(), ..partition(place) }).collect();
    let words = lines(&spare, uses, notes);
    let planned =
        BehindImage { image_bytes: content.size(), sha256: None, spare, altered: AlteredBytes::all(&altered) };
    Ok(LaidBehind { made, planned, words, kept })
}

/// A partition for the record.
fn partition(place: &SparePlace) -> SparePartition {
    SparePartition {
        number: place.number,
        offset: place.range.start,
        bytes: place.range.end.saturating_sub(place.range.start),
        filesystem: place.kind.word().to_owned(),
        label: place.label.clone(),
        was_there: false,
    }
}

/// What lies behind the image, a line each; `uses` says what each is for, or nothing of those that stay.
fn lines(spare: &[SparePartition], uses: &[String], notes: Vec<String>) -> Vec<String> {
    let stays = "stays as it is, with its files".to_owned();
    let uses_of = uses.iter().chain(std::iter::repeat(&stays));
    let mut words: Vec<String> =
        spare.iter().zip(uses_of).map(|(one, used)| format!("{}; {used}", partition_words(one))).collect();
    words.extend(notes);
    if !uses.is_empty() {
        words.push("some systems ignore a further partition, and some dislike it: try one stick first".to_owned());
    }
    words
}

fn unmade(path: &Path, fault: &SpareFault) -> Failure {
    let (exit, next) = match fault {
        SpareFault::Room { .. } => (Exit::Refused, "choose a larger drive, or give a smaller size".to_owned()),
        SpareFault::Open => (Exit::Usage, "give each but one a size: --spare LABEL:SIZE".to_owned()),
        SpareFault::Sectors { .. } => (Exit::Refused, "choose another drive, or leave --spare away".to_owned()),
        SpareFault::Reached { .. } | SpareFault::Elsewhere { .. } => {
            let next = "save the files of that partition, and leave --only-changed away: everything is then made anew";
            (Exit::Refused, next.to_owned())
        }
        SpareFault::Compose(ComposeError::Missing { .. }) => {
            (Exit::Usage, "install the package e2fsprogs, or choose another file system".to_owned())
        }
        SpareFault::Compose(_) => (Exit::Usage, "give it another size or file system".to_owned()),
        _ => (Exit::Image, format!("write it without --spare: pyrotyp write {}", shell::path(path))),
    };
    Failure::new(exit, format!("{}: {}", path.shown(), chain(fault)), next)
}
