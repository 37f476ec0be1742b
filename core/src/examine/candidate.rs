//! What is compared before anything on a drive is changed, in its order.

use std::path::Path;

use serde::{Deserialize, Serialize};

use crate::examine::examiner::{Depth, Examiner, Known};
use crate::examine::fault::ExamineError;
use crate::examine::opened::{Content, ContentFault, OpenedImage};
use crate::examine::shelf_notes::on_shelf;
use crate::hash::{Algorithm, Sum};
use crate::job::Checked;
use crate::published::{Published, Purpose, Report};
use crate::shelf::{Identity, Item};

/// One thing that is compared before a job.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Check {
    /// Signatures of lists and of the image.
    Signatures,
    /// Published checksums and the pieces of torrents.
    Published,
    /// What the image carries inside, where nothing was published.
    Inside,
    /// Unpacked once, to nowhere.
    Unpack,
}

/// An image that is to be written, and what is known of it.
pub struct Candidate<'a> {
    /// Its file.
    pub path: &'a Path,
    /// The same, opened.
    pub image: &'a OpenedImage,
    /// What a person gives to compare with.
    pub known: Known<'a>,
    /// The room of the smallest drive, in bytes.
    pub room: u64,
}

/// An image with which a job may begin.
pub struct Proven {
    /// What the comparison has found.
    pub report: Report,
    /// What goes onto the drives.
    pub content: Content,
    /// What the job need not compute again.
    pub checked: Checked,
    /// Address or path from which the shelf has it, if it lies there.
    pub origin: Option<String>,
}

/// Why no job may begin with the image.
#[derive(Debug)]
pub enum Refusal {
    /// The shelf knows that it is damaged.
    KnownDamage {
        /// Its entry.
        item: Box<Item>,
        /// Since when, RFC 3339.
        since: String,
    },
    /// It is not what the shelf knows of it.
    OtherThanShelf {
        /// Its entry.
        item: Box<Item>,
        /// By which checksum.
        algorithm: Algorithm,
    },
    /// What was published for it, or what it carries inside, speaks against it.
    Refuted {
        /// What was found.
        report: Box<Report>,
    },
    /// It could not be compared.
    Unexamined(ExamineError),
    /// What is inside can't be had.
    Content(ContentFault),
}

impl From<ExamineError> for Refusal {
    fn from(error: ExamineError) -> Self {
        Self::Unexamined(error)
    }
}

/// Whether what speaks against the image is the image itself, and not what a person gave to compare with, or who signed.
pub fn is_damage(report: &Report, known: &Known<'_>) -> bool {
    let is_given = !known.given.sums.is_empty() || known.given.list.is_some();
    !is_given && !report.signatures.iter().any(|vouched| vouched.is_refusal)
}

/// What will be compared, in its order.
pub fn checks(image: &OpenedImage, published: &Published) -> Vec<Check> {
    let has_numbers = !published.expected.is_empty() || !published.torrents.is_empty();
    let may_carry = published.expected.is_empty() && image.plain_volume().is_some();
    let all = [
        (Check::Signatures, !published.signatures.is_empty()),
        (Check::Published, has_numbers),
        (Check::Inside, may_carry),
        (Check::Unpack, image.is_packed()),
    ];
    all.into_iter().filter(|(_, is_made)| *is_made).map(|(check, _)| check).collect()
}

impl Candidate<'_> {
    /// Compares with everything there is, and unpacks a packed image to nowhere. What the shelf is to know of it is kept there.
    ///
    /// # Errors
    /// Why no job may begin with it.
    pub fn prove(&self, examiner: &Examiner<'_>) -> Result<Proven, Refusal> {
        let Self { path, image, known, room } = self;
        let item = on_shelf(path, examiner.state, examiner.watcher);
        if let Some((item, since)) = item.as_ref().and_then(|item| Some((item, item.damaged.clone()?))) {
            return Err(Refusal::KnownDamage { item: Box::new(item.clone()), since });
        }
        let kept: Vec<Sum> = item.iter().flat_map(Item::sums).collect();
        let known = Known { purpose: Purpose::Write, is_read: known.is_read || !kept.is_empty(), ..*known };
        let identity = Identity::of(path);
        let report = examiner.examine(path, image, &known, Depth::Enough)?;
        let differs = |sum: &&Sum| report.sums.iter().any(|now| now.algorithm == sum.algorithm && now != *sum);
        if let Some((sum, item)) = kept.iter().find(differs).zip(item.as_ref()) {
            examiner.note_damage(path);
            return Err(Refusal::OtherThanShelf { item: Box::new(item.clone()), algorithm: sum.algorithm });
        }
        if !report.ok() {
            if is_damage(&report, &known) {
                examiner.note_damage(path);
            }
            return Err(Refusal::Refuted { report: Box::new(report) });
        }
        examiner.note_found(path, identity, &report);
        examiner.notes(path).used();
        let content = image.content(*room, examiner.cancel, examiner.watcher).map_err(Refusal::Content)?;
        let checked = checked(&report, &content);
        Ok(Proven { report, content, checked, origin: item.and_then(|item| item.origin) })
    }
}

/// What of it a job need not compute again.
fn checked(report: &Report, content: &Content) -> Checked {
    match content {
        Content::Plain(_) => Checked {
            sha256: report.sums.iter().find(|sum| sum.algorithm == Algorithm::Sha256).map(|sum| sum.hex.clone()),
            blocks: report.blocks.clone(),
            sums: Vec::new(),
        },
        Content::Unpacked(unpacked) => {
            Checked { sha256: Some(unpacked.sha256.clone()), blocks: Some(unpacked.blocks.clone()), sums: Vec::new() }
        }
    }
}
