//! What a station has done: the jobs that were begun, as a small document of the bench. What came of each is in its record.

use std::io;
use std::path::Path;

use serde::{Deserialize, Serialize};

use crate::drive::Drive;
use crate::ledger;
use crate::record::{DriveIdentity, JobResult};
use crate::store::{Put, Store, Version};

/// How tallies are written now.
const TALLY_VERSION: u32 = 1;
/// Longest tally that is read, in bytes.
const TALLY_BYTES_MOST: u64 = 16 << 20;

/// A stick that was begun.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Try {
    /// Which one, counted from 1.
    pub number: u64,
    /// The name of its job.
    pub job: String,
    /// Who it is.
    pub drive: DriveIdentity,
    /// Where it was plugged in.
    pub port: Option<String>,
    /// Whether something else than the stick ended it: it was pulled out, or the image failed.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub cut_off: bool,
    /// How it ended, by its record; nothing of one that was cut off, or is under way.
    #[serde(skip)]
    pub result: Option<JobResult>,
}

/// What ended a try.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TryEnd {
    /// The job came to its end, whatever that was.
    Job,
    /// Something else than the stick: it was pulled out, or the image failed.
    CutOff,
}

impl Try {
    /// Whether the stick is at fault.
    pub fn has_failed(&self) -> bool {
        matches!(self.result, Some(JobResult::Failed | JobResult::Differs)) && !self.cut_off
    }

    /// Whether it was cut off, stopped or pulled out: it may be made yet.
    fn is_half_made(&self) -> bool {
        self.cut_off || matches!(self.result, None | Some(JobResult::Stopped))
    }
}

/// Why there is no tally.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum TallyFault {
    /// It can't be read or written.
    #[error("the tally can't be kept")]
    Kept(#[from] io::Error),
    /// It is of another image.
    #[error("the tally of this plan is of another image: {made} sticks were made of that one")]
    OtherImage {
        /// So many.
        made: u64,
    },
}

#[derive(Debug, Serialize, Deserialize)]
struct TallyDocument {
    tally: u32,
    plan: String,
    image: String,
    tries: Vec<Try>,
}

/// The sticks of a plan.
#[derive(Debug)]
pub struct Tally {
    kept: Store,
    name: String,
    document: TallyDocument,
    seen: Option<Version>,
}

/// Whether an earlier tally of the plan counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TallyFrom {
    /// It goes on where it stands.
    On,
    /// It begins anew.
    Anew,
}

impl Tally {
    /// That of the plan in this file, for the image with this SHA-256; it goes on where it stands.
    ///
    /// # Errors
    /// When it can't be read, or is of another image.
    pub fn of(state: &Path, plan: &Path, sha256: &str, counting: TallyFrom) -> Result<Self, TallyFault> {
        let plan = std::path::absolute(plan)?.to_string_lossy().into_owned();
        let kept = Store::in_folder(state.join("stations"));
        let digest = blake3::hash(plan.as_bytes()).to_hex();
        let name = format!("{}.json", digest.get(..16).unwrap_or("plan"));
        let anew =
            || TallyDocument { tally: TALLY_VERSION, plan: plan.clone(), image: sha256.to_owned(), tries: Vec::new() };
        let found = kept.get(&name, TALLY_BYTES_MOST)?;
        let seen = found.as_ref().map(|found| Version::of(&found.bytes));
        let read = |bytes: &[u8]| -> Result<TallyDocument, io::Error> {
            let read: TallyDocument = serde_json::from_slice(bytes).map_err(io::Error::other)?;
            if read.tally > TALLY_VERSION { Err(io::Error::other("it is of a later version")) } else { Ok(read) }
        };
        let mut document = match (found, counting) {
            (Some(found), TallyFrom::On) => read(&found.bytes)?,
            _ => anew(),
        };
        for one in &mut document.tries {
            let record = ledger::read(state, &one.job)?;
            one.result = record.filter(|record| record.ended.is_some()).map(|record| record.result);
        }
        let mut tally = Self { kept, name, document, seen };
        if tally.document.tries.is_empty() {
            sha256.clone_into(&mut tally.document.image);
        }
        if tally.document.image != sha256 {
            return Err(TallyFault::OtherImage { made: tally.made() });
        }
        Ok(tally)
    }

    /// All sticks that were begun, in their order.
    pub fn tries(&self) -> &[Try] {
        &self.document.tries
    }

    /// How many were made: written, read back, equal.
    pub fn made(&self) -> u64 {
        self.document.tries.iter().filter(|one| one.result == Some(JobResult::Verified)).count() as u64
    }

    /// How many failed.
    pub fn failed(&self) -> u64 {
        self.document.tries.iter().filter(|one| one.has_failed()).count() as u64
    }

    fn last_of(&self, drive: &Drive) -> Option<&Try> {
        let own = DriveIdentity::of(drive).anywhere();
        let is_it = |one: &&Try| one.drive == own && !one.is_half_made() && one.result != Some(JobResult::Refused);
        self.document.tries.iter().rfind(is_it).filter(|_| !drive.tag.is_unsure())
    }

    /// As which stick this very drive was made.
    pub fn made_as(&self, drive: &Drive) -> Option<u64> {
        self.last_of(drive).filter(|one| one.result == Some(JobResult::Verified)).map(|one| one.number)
    }

    /// As which stick it failed.
    pub fn failed_as(&self, drive: &Drive) -> Option<u64> {
        self.last_of(drive).filter(|one| one.has_failed()).map(|one| one.number)
    }

    /// Whether the last that was done with it for this plan was cut off: what lies on it is a stick half made.
    pub fn was_cut_off(&self, drive: &Drive) -> bool {
        let own = DriveIdentity::of(drive).anywhere();
        let last = self
            .document
            .tries
            .iter()
            .rfind(|one| one.drive == own && one.result != Some(JobResult::Refused))
            .filter(|_| !drive.tag.is_unsure());
        last.is_some_and(Try::is_half_made)
    }

    /// Notes a stick whose job is on record as begun. Tells its number.
    ///
    /// # Errors
    /// When that can't be kept.
    pub fn begin(&mut self, job: &str, drive: &Drive) -> io::Result<u64> {
        let number = (self.document.tries.len() as u64).saturating_add(1);
        let port = drive.link.port.as_ref().map(ToString::to_string);
        let drive = DriveIdentity::of(drive).anywhere();
        self.document.tries.push(Try { number, job: job.to_owned(), drive, port, cut_off: false, result: None });
        self.keep().inspect_err(|_| drop(self.document.tries.pop()))?;
        Ok(number)
    }

    /// Notes how one ended.
    ///
    /// # Errors
    /// When it can't be kept that one was cut off.
    pub fn end(&mut self, number: u64, result: JobResult, how: TryEnd) -> io::Result<()> {
        if let Some(one) = self.document.tries.iter_mut().find(|one| one.number == number) {
            (one.result, one.cut_off) = (Some(result), how == TryEnd::CutOff);
        }
        if how == TryEnd::CutOff { self.keep() } else { Ok(()) }
    }

    /// Nobody else counts for this plan meanwhile.
    fn keep(&mut self) -> io::Result<()> {
        let mut bytes = serde_json::to_vec_pretty(&self.document).map_err(io::Error::other)?;
        bytes.push(b'\n');
        let put = match self.seen {
            Some(seen) => self.kept.replace(&self.name, &bytes, seen)?,
            None => self.kept.put_if_absent(&self.name, &bytes)?,
        };
        match put {
            Put::Done => {
                self.seen = Some(Version::of(&bytes));
                Ok(())
            }
            Put::Taken => Err(io::Error::other("another station counts for the same plan")),
        }
    }
}
