//! An image with partitions behind it onto drives.

use std::path::Path;

use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::compose::{
    ComposeError, SpareDrive, SpareFault, SparePlace, SpareWish, Spared, kept_beside, serial, spared,
};
use pyrotyp_core::devices::Platform;
use pyrotyp_core::drive::Choice;
use pyrotyp_core::examine::checks;
use pyrotyp_core::job::Checked;
use pyrotyp_core::plan::BehindImage;
use pyrotyp_core::published;
use pyrotyp_core::record::{AlteredBytes, JobKind, SparePartition};
use pyrotyp_core::text::{Shown, chain, shell};

use super::behind::Wanted;
use super::confirming::Confirming;
use super::job::{self, Ready, ToldAs};
use super::planning::{self, Behind, Chosen, Image};
use super::preparing::Preparing;
use super::saving::SavedFirst;
use super::unchanged::FromFile;
use crate::asked::Write;
use crate::exit::{Exit, Failure};
use crate::session::Session;
use crate::session::attached::needs_medium;
use crate::session::examining::content;
use crate::session::images::OpenedAt;
use crate::show::text::partition_words;

/// An image that is to be written with partitions behind it.
pub(crate) struct Sparing<'a> {
    pub(crate) asked: &'a Write,
    pub(crate) image: OpenedAt<'a>,
    pub(crate) choices: Vec<Choice>,
    pub(crate) platform: &'a dyn Platform,
    pub(crate) session: &'a Session<'a>,
    /// When the command began, RFC 3339.
    pub(crate) started: &'a str,
}

/// Writes it.
pub(crate) fn run(of: Sparing<'_>, wanted: Wanted, confirming: Confirming) -> Result<Exit, Failure> {
    let Sparing { asked, image: OpenedAt { path, opened }, choices, platform, session, started } = of;
    choices.iter().try_for_each(|choice| needs_medium(&choice.drive))?;
    let drive = alike(&choices)?;
    let content = content(path, opened, drive.bytes, session)?;
    let (made, uses) = match wanted {
        Wanted::New(new) => {
            let (wishes, uses): (Vec<SpareWish<'static>>, Vec<String>) = new.into_iter().unzip();
            (spared(content.bytes(), &opened.inspection, drive, &wishes), uses)
        }
        Wanted::Kept(kept) => (kept_beside(content.bytes(), &opened.inspection, drive, &kept), Vec::new()),
    };
    let made = made.map_err(|fault| unmade(path, &fault))?;
    if made.reaches_end && choices.iter().any(|choice| choice.drive.bytes != drive.bytes) {
        let text = "the image's GUID partition table ends with its drive, and these drives have different sizes";
        return Err(Failure::new(Exit::Usage, text, "run it once for each drive"));
    }
    let is_kept = uses.is_empty();
    let words = lines(&made, &uses);
    let image_bytes = content.bytes().size();
    let spare = made.places.iter().map(|place| SparePartition { was_there: is_kept, ..partition(place) }).collect();
    let planned = BehindImage { image_bytes, sha256: None, spare, altered: AlteredBytes::all(&made.altered) };
    let source = FromFile::new(&made.made, path);
    let published = published::published(path, &asked.against.known().given);
    let to_do = published.as_ref().map_or_else(|_| Vec::new(), |published| checks(opened, published));
    let image = Image {
        path,
        is_file: true,
        inspection: &opened.inspection,
        bytes: Some(made.made.size()),
        hole_bytes: made.made.hole_bytes(),
        report: None,
        expects: None,
        checks: &to_do,
        behind: Some(Behind { planned: &planned, words: &words, is_kept }),
    };
    let chosen = Chosen { kind: JobKind::Write, choices };
    let mut plan = planning::plan_for(chosen, &image, &asked.job, platform, session)?;
    let first = SavedFirst::of(asked, &plan, platform)?;
    let preparing = Preparing { against: &asked.against, opened, image, files: None, platform, session };
    let prepared = preparing
        .prepare(&mut plan, published, confirming)
        .and_then(|prepared| SavedFirst::save(first.as_ref(), platform, session).map(|()| prepared));
    let (_, cleared) = prepared.map_err(|failure| job::refused(&plan, started, failure, session))?;
    let (checked, told_as) = (Checked::default(), ToldAs::Image);
    let ready = Ready { image, source: &source, checked, plan: &plan, cleared, started, news: None, told_as };
    job::run(ready, platform, session)
}

/// The drives as one: as large as the smallest.
fn alike(choices: &[Choice]) -> Result<SpareDrive, Failure> {
    let drives = || choices.iter().map(|choice| &choice.drive);
    let sector_bytes = drives().map(|drive| drive.sector_bytes).max().unwrap_or(512);
    if drives().any(|drive| drive.sector_bytes != sector_bytes) {
        let text = "these drives have sectors of different sizes";
        return Err(Failure::new(Exit::Usage, text, "run it once for each drive"));
    }
    let tags: Vec<&str> = drives().map(|drive| drive.tag.as_str()).collect();
    let bytes = drives().map(|drive| drive.bytes).min().unwrap_or_default();
    // The same on the same drives, so that a job can be gone on with.
    Ok(SpareDrive { bytes, sector_bytes, serial: serial(&tags.join(" "), "behind the image") })
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
fn lines(made: &Spared<'_>, uses: &[String]) -> Vec<String> {
    let stays = "stays as it is, with its files".to_owned();
    let one = |(number, place): (usize, &SparePlace)| {
        format!("{}; {}", partition_words(&partition(place)), uses.get(number).unwrap_or(&stays))
    };
    let mut words: Vec<String> = made.places.iter().enumerate().map(one).collect();
    words.extend(made.notes.iter().cloned());
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
