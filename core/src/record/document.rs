//! One job as a document: what was done, with which image, on which drives.

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize};

use super::conclusion::Conclusion;
use super::difference::Difference;
use super::gauged::Gauged;
use super::result::{Head, JobResult};
use super::spare::{AlteredBytes, SparePartition};
use super::speed::Speeds;
use super::stage::StageDone;
use super::trial_start::TrialStart;
use crate::drive::{Drive, name_of};
use crate::image::Summary;
use crate::{Finding, FindingId};

/// How records are written now. A later number means that fields have another meaning.
pub const RECORD_VERSION: u32 = 1;

/// The image of a job.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ImageRecord {
    /// Absolute path.
    #[serde(default)]
    pub file: String,
    /// Size in bytes; `None` of a stream that did not come to its end.
    pub bytes: Option<u64>,
    /// What it is and which PCs start from it.
    #[serde(flatten)]
    pub says: Summary,
    /// SHA-256 as it was written; `None` when it was not read to its end.
    pub sha256: Option<String>,
    /// Address or path from which the shelf has it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub origin: Option<String>,
    /// Whose signature vouches for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signer: Option<String>,
    /// What its check has proven, in a word: `signed`, `published`, `published-weakly`, `undamaged` or `nothing`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proof: Option<String>,
    /// What spoke against it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub findings: Vec<Finding>,
    /// Partitions behind it on the drives, which are no part of it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub spare: Vec<SparePartition>,
    /// Bytes of it that are not on the drives as they are in its file, since those partitions stand in its tables.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub altered: Vec<AlteredBytes>,
}

impl ImageRecord {
    /// What it is called.
    pub fn called(&self) -> &str {
        called(self.says.title.as_deref().or(self.says.label.as_deref()), &self.file)
    }
}

/// What an image is called: by itself, or else by its file, without the folder.
pub fn called<'a>(title: Option<&'a str>, file: &'a str) -> &'a str {
    title.unwrap_or_else(|| file.rsplit('/').next().unwrap_or(file))
}

/// Who a drive is, by all that it says of itself. The tag is its name for people.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
pub struct DriveIdentity {
    /// Its tag.
    pub tag: String,
    /// Where it was: no part of who it is.
    #[serde(default)]
    pub path: String,
    /// Maker.
    pub vendor: Option<String>,
    /// Model.
    pub model: Option<String>,
    /// Serial number.
    pub serial: Option<String>,
    /// Size in bytes.
    #[serde(default)]
    pub bytes: u64,
}

impl DriveIdentity {
    /// Of a drive that is attached.
    pub fn of(drive: &Drive) -> Self {
        Self {
            tag: drive.tag.to_string(),
            path: drive.path.clone(),
            vendor: drive.says.vendor.clone(),
            model: drive.says.model.clone(),
            serial: drive.says.serial.clone(),
            bytes: drive.bytes,
        }
    }

    /// Vendor and model in one line, or what there is of them.
    pub fn name(&self) -> String {
        name_of(self.vendor.as_deref(), self.model.as_deref())
    }

    /// The same, wherever it is plugged in.
    pub fn anywhere(self) -> Self {
        Self { path: String::new(), ..self }
    }
}

/// How a job went on a drive.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct DriveOutcome {
    /// How it went on this drive.
    pub result: JobResult,
    /// What its start holds now.
    #[serde(default)]
    pub head: Head,
    /// Why it did not end well, in words.
    pub fault: Option<String>,
    /// The image's file that lies where it failed.
    pub fault_file: Option<String>,
    /// Stages that ended well.
    #[serde(default)]
    pub stages: Vec<StageDone>,
    /// How much of the body was written; less than all of it where only what differs is.
    #[serde(default)]
    pub written_bytes: u64,
    /// How much of the image an earlier job had brought to the drive.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub kept_bytes: u64,
    /// Blocks that read right only the second time.
    #[serde(default)]
    pub read_again: u64,
    /// What the differences mean for the drive.
    #[serde(default, deserialize_with = "with_its_numbers")]
    pub conclusion: Option<Conclusion>,
    /// Where it differs from the image.
    #[serde(default)]
    pub differences: Vec<Difference>,
    /// How many more differences there are than are told.
    #[serde(default)]
    pub more_differences: u64,
    /// Programs that had the drive open when the job ended.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub opened_by: Vec<String>,
    /// How fast it was along its length.
    #[serde(default, skip_serializing_if = "Speeds::is_empty")]
    pub speeds: Speeds,
    /// What a look at the drive itself has found.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gauged: Option<Gauged>,
}

/// A conclusion that was recorded whole. Records of before have some without their numbers: none is made up, and the rest of the record
/// still counts.
fn with_its_numbers<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Conclusion>, D::Error> {
    let recorded = Option::<serde_json::Value>::deserialize(from)?;
    Ok(recorded.and_then(|recorded| serde_json::from_value(recorded).ok()))
}

fn is_zero(number: &u64) -> bool {
    *number == 0
}

impl DriveOutcome {
    /// Of a drive on which nothing was done, and that ended like this.
    pub fn untouched(result: JobResult) -> Self {
        Self {
            result,
            head: Head::Untouched,
            fault: None,
            fault_file: None,
            stages: Vec::new(),
            written_bytes: 0,
            kept_bytes: 0,
            read_again: 0,
            conclusion: None,
            differences: Vec::new(),
            more_differences: 0,
            opened_by: Vec::new(),
            speeds: Speeds::default(),
            gauged: None,
        }
    }
}

/// A drive of a job.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct DriveRecord {
    /// Who it is.
    #[serde(flatten)]
    pub drive: DriveIdentity,
    /// How it went.
    #[serde(flatten)]
    pub outcome: DriveOutcome,
    /// What the guard said of it.
    #[serde(default)]
    pub findings: Vec<Finding>,
}

impl DriveRecord {
    /// The record of a drive on which nothing was done yet.
    pub fn refused(drive: &Drive) -> Self {
        Self {
            drive: DriveIdentity::of(drive),
            outcome: DriveOutcome::untouched(JobResult::Refused),
            findings: Vec::new(),
        }
    }

    /// The record of a drive that is about to be written.
    pub fn begun(drive: &Drive) -> Self {
        let outcome = DriveOutcome { head: Head::Unknown, ..DriveOutcome::untouched(JobResult::Stopped) };
        Self { drive: DriveIdentity::of(drive), outcome, findings: Vec::new() }
    }
}

/// What a job does.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum JobKind {
    /// An image onto drives.
    #[default]
    Write,
    /// A drive against an image or a record; nothing is written.
    Compare,
    /// A drive back to plain storage.
    Reclaim,
    /// A drive was looked at, to see whether it can be trusted.
    Gauge,
    /// A drive into a file.
    Save,
    /// An image's files onto drives.
    Unpack,
    /// A stick was started in an emulator.
    Rehearse,
}

impl JobKind {
    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Write => "write",
            Self::Compare => "compare",
            Self::Reclaim => "reclaim",
            Self::Gauge => "gauge",
            Self::Save => "save",
            Self::Unpack => "unpack",
            Self::Rehearse => "rehearse",
        }
    }

    /// Whether it brings an image to a drive, as it is or as files.
    pub fn brings_an_image(self) -> bool {
        matches!(self, Self::Write | Self::Unpack)
    }

    /// Whether a drive holds something else afterwards.
    pub fn changes_drives(self) -> bool {
        match self {
            Self::Write | Self::Reclaim | Self::Unpack => true,
            Self::Compare | Self::Gauge | Self::Save | Self::Rehearse => false,
        }
    }
}

/// Who did a job, and on which bench; what the system does not tell is not known.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Whose {
    /// The person's name as the system has it.
    pub person: Option<String>,
    /// The machine's name.
    pub bench: Option<String>,
}

/// One image onto one or more drives.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Record {
    /// Name of the job, which sorts by time.
    #[serde(default)]
    pub job: String,
    /// How it is written: see [`RECORD_VERSION`].
    #[serde(default)]
    pub record: u32,
    /// When it began, RFC 3339.
    #[serde(default)]
    pub started: String,
    /// When it ended, RFC 3339; `None` of a job that runs, or was cut off.
    pub ended: Option<String>,
    /// Version of Pyrotyp.
    #[serde(default)]
    pub version: String,
    /// What was done.
    #[serde(default)]
    pub kind: JobKind,
    /// By whom, and where.
    #[serde(flatten)]
    pub by: Whose,
    /// Findings that were accepted.
    #[serde(default)]
    pub accepted: Vec<FindingId>,
    /// How it ended.
    pub result: JobResult,
    /// The image.
    pub image: ImageRecord,
    /// The drives.
    pub drives: Vec<DriveRecord>,
    /// Trial starts.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub starts: Vec<TrialStart>,
}

/// The name of a job that began at `started` (RFC 3339) on the drive with this tag.
pub fn job_name(started: &str, tag: &str) -> String {
    let digits: String = started.chars().take(19).filter(char::is_ascii_digit).collect();
    let (day, time) = digits.split_at_checked(8).unwrap_or((&digits, ""));
    let tag: String = tag.chars().filter(char::is_ascii_alphanumeric).collect();
    format!("{day}-{time}-{tag}")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::record::{Cause, SpeedMark, Stage};

    #[test]
    fn what_is_put_on_record_is_read_back_with_all_its_numbers() {
        let conclusions = [
            Conclusion::FalseCapacity { true_bytes: 8_000_000_000, claimed_bytes: 64_000_000_000 },
            Conclusion::FailingMemory { bits: 12, lines: 0x81 },
            Conclusion::TooSmall,
            Conclusion::Unreadable,
            Conclusion::DropsWrites,
            Conclusion::KeepsOther,
            Conclusion::LookedAt,
            Conclusion::OtherContent,
            Conclusion::ChangedLater,
        ];
        let results = [JobResult::Verified, JobResult::Written, JobResult::Refused, JobResult::Failed];
        let results = results.into_iter().chain([JobResult::Differs, JobResult::Stopped]).cycle();
        let drives =
            conclusions.into_iter().zip(results).enumerate().map(|(number, (conclusion, result))| DriveRecord {
                drive: DriveIdentity {
                    tag: format!("590J{number}"),
                    serial: Some("KP16".into()),
                    bytes: 7,
                    ..Default::default()
                },
                outcome: DriveOutcome {
                    head: Head::Sealed,
                    fault: Some("a fault".into()),
                    fault_file: Some("rescue/tools.img".into()),
                    stages: vec![StageDone { name: Stage::ReadBack, bytes: 5, seconds: 0.25 }],
                    written_bytes: 3,
                    kept_bytes: 2,
                    read_again: 1,
                    conclusion: Some(conclusion),
                    differences: vec![Difference { offset: 4, bytes: 6, cause: Cause::SingleBits, file: None }],
                    more_differences: 9,
                    speeds: Speeds { body: vec![SpeedMark { done: 8, seconds: 0.5 }], read_back: Vec::new() },
                    ..DriveOutcome::untouched(result)
                },
                findings: vec![Finding::ask(FindingId::HeldOpen, "x", "y")],
            });
        let record = Record {
            job: job_name("2026-11-23T08:00:00Z", "590J1"),
            record: RECORD_VERSION,
            started: "2026-11-23T08:00:00Z".into(),
            ended: None,
            version: "1".into(),
            result: JobResult::Failed,
            image: ImageRecord {
                file: "/srv/a.iso".into(),
                bytes: Some(1),
                sha256: Some("aa".into()),
                ..ImageRecord::default()
            },
            kind: JobKind::Compare,
            by: Whose { person: Some("ann".into()), bench: None },
            accepted: vec![FindingId::HeldOpen],
            drives: drives.collect(),
            starts: Vec::new(),
        };
        let text = serde_json::to_string(&record).unwrap();
        assert_eq!(serde_json::from_str::<Record>(&text).unwrap(), record);
        // One of before there was a number is read as well; one with a word that nobody has for a result is not.
        let old =
            r#"{"ended":null,"result":"failed","image":{"file":"a"},"drives":[{"tag":"590J1","result":"verified"}]}"#;
        assert_eq!(serde_json::from_str::<Record>(old).unwrap().record, 0);
        assert!(serde_json::from_str::<Record>(&old.replace("verified", "nonsense")).is_err());
        // Before, a conclusion was recorded without all of its numbers: it is unknown, and not one of zero bytes.
        let concluded = r#""result":"differs","conclusion":{"id":"false-capacity","true_bytes":8}"#;
        let old = serde_json::from_str::<Record>(&old.replace(r#""result":"verified""#, concluded)).unwrap();
        assert_eq!((old.drives[0].outcome.result, old.drives[0].outcome.conclusion), (JobResult::Differs, None));
    }
}
