//! A plan: image, comparisons, drives, findings, expected time. Nothing is changed by making one.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::devices::{After, Opening, Platform, PlatformError, Whom};
use crate::drive::{Choice, Drive, Tag};
use crate::examine::{Check, Proven};
use crate::guard::{self, Circumstances, Cleared, Confirmed, ImageNeeds, Refused};
use crate::image::Summary;
use crate::job::journal::Heading;
use crate::job::{Outcome, ReadBack, Start, Target, Writing};
use crate::plan::expected::ExpectedTime;
use crate::plan::resume::{Resume, notes_of};
use crate::plan::survey::{Bench, Intent, SurveyError, survey};
use crate::published::Proof;
use crate::record::{
    AlteredBytes, DriveRecord, ImageRecord, JobKind, JobResult, RECORD_VERSION, Record, SparePartition, Whose, job_name,
};
use crate::{Finding, FindingId, machine};

/// The image of a job, as far as it matters before it is read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlannedImage {
    /// What it is called: a path as given, or an address.
    pub called: String,
    /// The file that holds it, if there is one.
    pub file: Option<PathBuf>,
    /// Length of the file or of what comes, in bytes, where that is known.
    pub bytes: Option<u64>,
    /// Whether it lies packed in the file.
    pub is_packed: bool,
    /// What it is and which PCs start from it.
    pub says: Summary,
    /// What is known of it once it was compared.
    pub proven: ProvenImage,
    /// Size that it needs, in bytes, as far as it is known.
    pub needs_bytes: u64,
    /// How much of that stays as it is on the drive, in bytes.
    pub hole_bytes: u64,
    /// Size of the sectors in which its partition tables count, in bytes.
    pub laid_out_for: Option<u32>,
    /// What speaks against it.
    pub findings: Vec<Finding>,
    /// What lies behind it on the drives, where that is part of the job.
    pub behind: Option<BehindImage>,
}

/// What a comparison tells of an image.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ProvenImage {
    /// Address or path from which the shelf has it.
    pub origin: Option<String>,
    /// Whose signature vouches for it.
    pub signer: Option<String>,
    /// What was proven, in a word.
    pub proof: Option<String>,
}

/// Partitions behind an image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct BehindImage {
    /// Length of the image alone, in bytes.
    pub image_bytes: u64,
    /// SHA-256 of the image alone, once that is known.
    pub sha256: Option<String>,
    /// The partitions.
    pub spare: Vec<SparePartition>,
    /// What of the image is altered for them.
    pub altered: Vec<AlteredBytes>,
}

impl PlannedImage {
    /// What the guard has to know of it.
    fn needs(&self) -> ImageNeeds {
        let of_file = self.bytes.filter(|_| !self.is_packed).unwrap_or(0);
        ImageNeeds { image: self.called.clone(), bytes: self.needs_bytes.max(of_file), laid_out_for: self.laid_out_for }
    }
}

/// How it is to be done.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct How {
    /// Whether the body is read back.
    pub read_back: ReadBack,
    /// What is written.
    pub writing: Writing,
    /// What becomes of the drives.
    pub after: After,
    /// Whether an earlier job is gone on with.
    pub start: Start,
    /// Who says yes.
    pub confirmed: Confirmed,
    /// Bytes of a drive that are used at most, where it has less room than it claims.
    pub limit: Option<u64>,
}

/// What a technician wants.
pub struct Wish {
    /// What is done with it.
    pub kind: JobKind,
    /// The image.
    pub image: PlannedImage,
    /// What is compared before anything is changed.
    pub checks: Vec<Check>,
    /// The drives, as they were named.
    pub choices: Vec<Choice>,
    /// How it is to be done.
    pub how: How,
    /// Findings that are accepted.
    pub accepted: Vec<FindingId>,
}

/// A drive of a plan.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PlannedDrive {
    /// The drive, and how it was named.
    pub choice: Choice,
    /// What speaks against it, the heaviest first.
    pub findings: Vec<Finding>,
    /// How long it will take there, as far as that can be told.
    pub expected: Option<ExpectedTime>,
    /// How it will be opened, once that was looked at.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub opening: Option<Opening>,
}

/// What a job would do.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Plan {
    /// What it does.
    pub kind: JobKind,
    /// With which image.
    pub image: PlannedImage,
    /// What is compared before anything is changed, in its order.
    pub checks: Vec<Check>,
    /// On which drives.
    pub drives: Vec<PlannedDrive>,
    /// How.
    pub how: How,
    /// In spite of which findings.
    pub accepted: Vec<FindingId>,
    /// What the guard has cleared the drives for.
    needs: ImageNeeds,
    /// What the guard knows beside the drives.
    known: Circumstances,
}

/// How far a job came, for its record.
#[derive(Clone, Copy, Debug)]
pub enum Came<'a> {
    /// It was refused.
    Refused,
    /// It is about to write.
    Begun,
    /// It has ended.
    Ended(&'a [Outcome]),
}

impl Plan {
    /// Holds a wish against what is there.
    ///
    /// # Errors
    /// When anything that the guard must know can't be found out.
    pub fn make(wish: Wish, platform: &dyn Platform, bench: &Bench, now: Timestamp) -> Result<Self, SurveyError> {
        let Wish { kind, image, checks, choices, how, accepted } = wish;
        let intent = Intent { image: image.file.as_deref(), choices: &choices, confirmed: how.confirmed };
        let known = survey(platform, bench, &intent, now)?;
        let needs = image.needs();
        let drive = |choice| PlannedDrive { choice, findings: Vec::new(), expected: None, opening: None };
        let drives = choices.into_iter().map(drive).collect();
        let mut plan = Self { kind, image, checks, drives, how, accepted, needs, known };
        plan.judge();
        Ok(plan)
    }

    fn judge(&mut self) {
        let moved = self.needs.bytes.saturating_sub(self.image.hole_bytes);
        for drive in &mut self.drives {
            drive.findings = guard::findings_for_choice(&drive.choice, Some(&self.needs), &self.known);
            drive.expected = ExpectedTime::of(&drive.choice.drive, moved, self.how.read_back);
        }
    }

    /// Looks at the drives again: somebody may need one by now. Whether it is another one, the claim sees.
    ///
    /// # Errors
    /// As [`Plan::make`].
    pub fn look_again(&mut self, platform: &dyn Platform, bench: &Bench, now: Timestamp) -> Result<(), SurveyError> {
        let attached = platform.drives()?;
        for PlannedDrive { choice, .. } in &mut self.drives {
            if let Some(now) = attached.iter().find(|now| now.is_still(&choice.drive)) {
                choice.drive = now.clone();
            }
        }
        let choices: Vec<Choice> = self.drives.iter().map(|drive| drive.choice.clone()).collect();
        let intent = Intent { image: self.image.file.as_deref(), choices: &choices, confirmed: self.how.confirmed };
        self.known = survey(platform, bench, &intent, now)?;
        self.judge();
        Ok(())
    }

    /// What is known of the image once all of it was compared, and not before: how much comes out of a packed one, who signed it.
    pub fn learn(&mut self, proven: &Proven) {
        let proof = proven.report.proof();
        let key = match proof {
            Proof::Signed(vouched) => vouched.key.as_ref(),
            _ => None,
        };
        let image = &mut self.image;
        image.proven = ProvenImage {
            origin: proven.origin.clone(),
            signer: key.map(|key| key.owner().unwrap_or_else(|| key.fingerprint())),
            proof: Some(proof.word().to_owned()),
        };
        if let Some(behind) = &mut image.behind {
            behind.sha256.clone_from(&proven.checked.sha256);
        }
        // What is laid out needs room for itself, and not for its image.
        if self.kind != JobKind::Unpack && image.behind.is_none() {
            image.needs_bytes = image.needs_bytes.max(proven.content.bytes().size());
        }
        self.needs = image.needs();
        self.judge();
    }

    /// The guard's word about all drives: all of them, or none.
    ///
    /// # Errors
    /// What stands in the way of the first that is refused.
    pub fn clear(&self) -> Result<Vec<Cleared>, Refused> {
        let one = |PlannedDrive { choice, .. }: &PlannedDrive| {
            guard::clear(choice, &self.needs, &self.known, &self.image.findings, &self.accepted)
        };
        self.drives.iter().map(one).collect()
    }

    /// Whether all drives may be claimed, before anything is asked or computed.
    ///
    /// # Errors
    /// When one may not.
    pub fn may_claim(&mut self, platform: &dyn Platform) -> Result<(), PlatformError> {
        for PlannedDrive { choice, opening, .. } in &mut self.drives {
            *opening = Some(platform.may_claim(&choice.drive)?);
        }
        Ok(())
    }

    /// Who says the password that the system asks for before it opens a drive.
    pub fn whom(&self) -> Whom {
        self.drives.iter().filter_map(|drive| drive.opening?.whom()).max().unwrap_or(Whom::Nobody)
    }

    /// The drives, as they were when they were looked at last.
    pub fn attached(&self) -> impl Iterator<Item = &Drive> {
        self.drives.iter().map(|drive| &drive.choice.drive)
    }

    /// What the guard has cleared them for.
    pub fn needs(&self) -> &ImageNeeds {
        &self.needs
    }

    /// The room of the smallest of them, in bytes.
    pub fn room(&self) -> u64 {
        self.attached().map(|drive| drive.bytes).min().unwrap_or(0)
    }

    /// What stands for a drive when it is confirmed: its tag, or where it is if its tag fits others.
    pub fn word_for(&self, drive: &Drive) -> String {
        if self.known.namesakes(drive).next().is_some() { place(drive).to_owned() } else { drive.tag.to_string() }
    }

    /// Whether the words that were typed are those for these drives, each once.
    pub fn is_confirmed_by(&self, typed: &str) -> bool {
        let separates = |c: char| c.is_whitespace() || c == ',';
        let mut words: Vec<&str> = typed.split(separates).filter(|word| !word.is_empty()).collect();
        let takes_one = |drive: &Drive| {
            let word = self.word_for(drive);
            let fits = |typed: &&str| {
                typed.parse::<Tag>().is_ok_and(|tag| tag.as_str() == word)
                    || [place(drive), &drive.path].contains(typed) && word == place(drive)
            };
            let found = words.iter().position(fits);
            found.map(|at| words.remove(at)).is_some()
        };
        self.attached().all(takes_one) && words.is_empty()
    }

    /// What there is to go on with on each drive, by the notes below `state`.
    pub fn resumes(&self, state: Option<&Path>, bytes: Option<u64>, sha256: Option<&str>) -> Vec<Resume> {
        let heading = |drive: &Drive| Heading::new(&self.needs.image, bytes, sha256, &drive.tag, drive.bytes);
        self.attached().map(|drive| Resume::find(state, drive, &heading(drive))).collect()
    }

    /// The drives with their proofs, and where notes about each are kept below `state`.
    pub fn targets(&self, cleared: Vec<Cleared>, state: Option<&Path>) -> Vec<Target> {
        let How { start, limit, .. } = self.how;
        let target = |cleared: Cleared| Target {
            journal: notes_of(state, cleared.drive()),
            state: state.map(Path::to_owned),
            cleared,
            start,
            limit,
        };
        cleared.into_iter().map(target).collect()
    }

    /// The record of a job that began at `started` (RFC 3339) and came so far.
    pub fn record(&self, started: &str, came: Came<'_>) -> Record {
        let outcomes: &[Outcome] = if let Came::Ended(outcomes) = came { outcomes } else { &[] };
        let drives = self.drives.iter().enumerate().map(|(number, PlannedDrive { choice, findings, .. })| {
            let nothing_yet = match came {
                Came::Begun => DriveRecord::begun(&choice.drive),
                _ => DriveRecord::refused(&choice.drive),
            };
            let outcome = outcomes.get(number).map_or(nothing_yet.outcome, |outcome| outcome.told.clone());
            DriveRecord { outcome, findings: findings.clone(), drive: nothing_yet.drive }
        });
        let drives: Vec<DriveRecord> = drives.collect();
        let behind = self.image.behind.as_ref();
        let absolute = self.image.file.as_ref().and_then(|file| std::path::absolute(file).ok());
        let tag = drives.first().map_or("", |drive| &drive.drive.tag);
        Record {
            job: job_name(started, tag),
            started: started.to_owned(),
            ended: (!matches!(came, Came::Begun)).then(|| Timestamp::now().to_string()),
            record: RECORD_VERSION,
            version: env!("CARGO_PKG_VERSION").to_owned(),
            kind: self.kind,
            by: whose(),
            accepted: self.accepted.clone(),
            result: JobResult::of_all(drives.iter().map(|drive| drive.outcome.result)),
            image: ImageRecord {
                file: absolute.map_or(self.image.called.clone(), |file| file.to_string_lossy().into_owned()),
                bytes: behind
                    .map(|behind| behind.image_bytes)
                    .or(self.image.bytes)
                    .or_else(|| outcomes.iter().find_map(|outcome| outcome.image_bytes)),
                says: self.image.says.clone(),
                sha256: match behind {
                    Some(behind) => behind.sha256.clone(),
                    None => outcomes.iter().find_map(|outcome| outcome.sha256.clone()),
                },
                origin: self.image.proven.origin.clone(),
                signer: self.image.proven.signer.clone(),
                proof: self.image.proven.proof.clone(),
                findings: self.image.findings.clone(),
                spare: behind.map_or_else(Vec::new, |behind| behind.spare.clone()),
                altered: behind.map_or_else(Vec::new, |behind| behind.altered.clone()),
            },
            drives,
            starts: Vec::new(),
        }
    }
}

/// Who is at it, as far as the system tells.
pub(crate) fn whose() -> Whose {
    Whose { person: machine::person_name(), bench: machine::host_name() }
}

/// The last part of where a drive is: `sdb` of `/dev/sdb`.
fn place(drive: &Drive) -> &str {
    drive.path.rsplit(['/', ':']).next().unwrap_or(&drive.path)
}
