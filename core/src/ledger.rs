//! What was done: one record for each job, kept as a file of JSON.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::drive::{Drive, Tag};
use crate::job::{Conclusion, Difference, Head, JobResult, StageDone};
use crate::machine;

/// The image of a job.
#[derive(Clone, Debug, Serialize)]
pub struct ImageRecord {
    /// Absolute path.
    pub file: String,
    /// Size in bytes; `None` of a stream that did not come to its end.
    pub bytes: Option<u64>,
    /// Volume label.
    pub label: Option<String>,
    /// SHA-256 as it was written; `None` when it was not read to its end.
    pub sha256: Option<String>,
}

/// A drive of a job.
#[derive(Clone, Debug, Serialize)]
pub struct DriveRecord {
    /// Its tag.
    pub tag: String,
    /// Where it was.
    pub path: String,
    /// Maker.
    pub vendor: Option<String>,
    /// Model.
    pub model: Option<String>,
    /// Serial number.
    pub serial: Option<String>,
    /// Size in bytes.
    pub bytes: u64,
    /// How it went on this drive.
    pub result: JobResult,
    /// What its start holds now.
    pub head: Head,
    /// Why it did not end well, in words.
    pub fault: Option<String>,
    /// The image's file that lies where it failed.
    pub fault_file: Option<String>,
    /// Stages that ended well.
    pub stages: Vec<StageDone>,
    /// How much of the body was written.
    pub written_bytes: u64,
    /// Blocks that read right only the second time.
    pub read_again: u64,
    /// What the differences mean for the drive.
    pub conclusion: Option<Conclusion>,
    /// Where it differs from the image.
    pub differences: Vec<Difference>,
    /// How many more differences there are than are told.
    pub more_differences: u64,
}

impl DriveRecord {
    /// The record of a drive on which nothing was done yet.
    pub fn refused(drive: &Drive) -> Self {
        Self {
            path: drive.path.clone(),
            vendor: drive.vendor.clone(),
            model: drive.model.clone(),
            serial: drive.serial.clone(),
            bytes: drive.bytes,
            ..Self::named(drive.tag.as_str())
        }
    }

    /// The record of a drive that is about to be written.
    pub fn begun(drive: &Drive) -> Self {
        Self { result: JobResult::Stopped, head: Head::Unknown, ..Self::refused(drive) }
    }

    /// Of a drive of which no more than its tag is known.
    fn named(tag: &str) -> Self {
        Self {
            tag: tag.to_owned(),
            path: String::new(),
            vendor: None,
            model: None,
            serial: None,
            bytes: 0,
            result: JobResult::Refused,
            head: Head::Untouched,
            fault: None,
            fault_file: None,
            stages: Vec::new(),
            written_bytes: 0,
            read_again: 0,
            conclusion: None,
            differences: Vec::new(),
            more_differences: 0,
        }
    }
}

/// One image onto one or more drives.
#[derive(Clone, Debug, Serialize)]
pub struct Record {
    /// Name of the job, which sorts by time.
    pub job: String,
    /// When it began, RFC 3339.
    pub started: String,
    /// When it ended, RFC 3339; `None` of a job that runs, or was cut off.
    pub ended: Option<String>,
    /// Version of Pyrotyp.
    pub version: &'static str,
    /// How it ended.
    pub result: JobResult,
    /// The image.
    pub image: ImageRecord,
    /// The drives.
    pub drives: Vec<DriveRecord>,
}

/// The name of a job that began at `started` (RFC 3339) on the drive with this tag.
pub fn job_name(started: &str, tag: &str) -> String {
    let digits: String = started.chars().take(19).filter(char::is_ascii_digit).collect();
    let (day, time) = digits.split_at_checked(8).unwrap_or((&digits, ""));
    let tag: String = tag.chars().filter(char::is_ascii_alphanumeric).collect();
    format!("{day}-{time}-{tag}")
}

/// Where records are kept, below the bench's `state`.
fn folder_of(state: &Path) -> PathBuf {
    state.join("jobs")
}

fn document(record: &Record) -> Vec<u8> {
    // These values hold nothing that JSON can't.
    let mut bytes = serde_json::to_vec_pretty(record).unwrap_or_default();
    bytes.push(b'\n');
    bytes
}

/// A job that is on record and has not ended.
#[derive(Debug)]
pub struct Begun {
    path: PathBuf,
    job: String,
}

/// Puts a job on record, before anything is written: whatever cuts it off, the bench knows that it was begun. Its name is
/// `record`'s, or that with a number where another job has it.
///
/// # Errors
/// When the folder can't be made or written.
pub fn begin(state: &Path, record: &Record) -> io::Result<Begun> {
    let folder = folder_of(state);
    let bytes_of = |job: &str| document(&Record { job: job.to_owned(), ..record.clone() });
    let job = machine::keep_new(&folder, &record.job, "json", bytes_of)?;
    Ok(Begun { path: folder.join(format!("{job}.json")), job })
}

impl Begun {
    /// The name under which it is on record.
    pub fn job(&self) -> &str {
        &self.job
    }

    /// Keeps how it ended.
    ///
    /// # Errors
    /// When that can't be written; the record then says that the job was begun.
    pub fn end(&self, record: &Record) -> io::Result<()> {
        machine::keep_own(&self.path, &document(record))
    }
}

/// Most records that are looked at, the newest, and the longest one, in bytes.
const RECORDS_MOST: usize = 2000;
const NAMES_MOST: usize = 200_000;
const RECORD_BYTES_MOST: u64 = 4 << 20;

/// What of a record tells where an image is now.
#[derive(Deserialize)]
struct Written {
    #[serde(default)]
    started: String,
    ended: Option<String>,
    image: WrittenImage,
    drives: Vec<WrittenDrive>,
}

#[derive(Clone, Debug, Deserialize)]
struct WrittenImage {
    #[serde(default)]
    file: String,
    label: Option<String>,
    sha256: Option<String>,
}

#[derive(Deserialize)]
struct WrittenDrive {
    tag: String,
    result: String,
}

/// The last job of a drive, as the records have it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct LastJob {
    /// Name of the image's file, without its folder.
    pub image: String,
    /// The image's volume label.
    pub label: Option<String>,
    /// How it ended, in a word.
    pub result: String,
    /// When it began, RFC 3339.
    pub started: String,
    /// When it ended, RFC 3339; `None` if it runs, or was cut off.
    pub ended: Option<String>,
    #[serde(skip)]
    file: String,
    #[serde(skip)]
    sha256: Option<String>,
}

impl LastJob {
    /// Whether it brought its image to the drive.
    pub fn is_there(&self) -> bool {
        self.ended.is_some() && matches!(self.result.as_str(), "verified" | "written")
    }

    fn end(&self) -> Option<Timestamp> {
        self.ended.as_ref()?.parse().ok()
    }
}

/// What the records of a bench tell of its drives: of each, the last job that changed anything on it.
#[derive(Debug, Default)]
pub struct Drives(HashMap<String, LastJob>);

impl Drives {
    /// Reads the records of `state`, the newest first; those that can't be read are passed over.
    ///
    /// # Errors
    /// When the folder can't be read: what is not known is not nothing.
    pub fn of(state: &Path) -> io::Result<Self> {
        // Once for all of them: who that is may have to be asked over a network.
        machine::as_person(|| Self::read(state))?
    }

    fn read(state: &Path) -> io::Result<Self> {
        let folder = folder_of(state);
        let mut names = match machine::names_in(&folder, NAMES_MOST) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Self::default()),
            names => names?,
        };
        // The names sort by time.
        names.sort_unstable_by(|a, b| Path::new(b).file_stem().cmp(&Path::new(a).file_stem()));
        let mut last = HashMap::new();
        for name in names.iter().take(RECORDS_MOST) {
            let read = machine::read_own(&folder.join(name), RECORD_BYTES_MOST);
            let Some(record) = read.ok().and_then(|bytes| serde_json::from_slice::<Written>(&bytes).ok()) else {
                continue;
            };
            let Written { started, ended, image, drives } = record;
            for drive in drives.into_iter().filter(|drive| drive.result != "refused") {
                last.entry(drive.tag).or_insert_with(|| LastJob {
                    image: image.file.rsplit('/').next().unwrap_or_default().to_owned(),
                    label: image.label.clone(),
                    result: drive.result,
                    started: started.clone(),
                    ended: ended.clone(),
                    file: image.file.clone(),
                    sha256: image.sha256.clone(),
                });
            }
        }
        Ok(Self(last))
    }

    /// The last job of the drive with this tag. A tag that other drives may have as well tells nothing.
    pub fn last_on(&self, tag: &Tag) -> Option<&LastJob> {
        self.0.get(tag.as_str()).filter(|_| !tag.is_unsure())
    }

    /// How many minutes before `now` a job has verified the drive with this tag, if none came after.
    pub fn verified_minutes_ago(&self, tag: &Tag, now: Timestamp) -> Option<u64> {
        let last = self.last_on(tag).filter(|last| last.result == "verified")?;
        u64::try_from(now.duration_since(last.end()?).as_mins()).ok()
    }

    /// Tags of those to which an image with this SHA-256 was written, or this file as it is now: of a packed image, or one that nobody
    /// has checked, the SHA-256 of what was written is not known beforehand.
    pub fn holding(&self, sha256: Option<&str>, file: &Path) -> Vec<String> {
        let changed =
            file.metadata().and_then(|found| found.modified()).ok().and_then(|at| Timestamp::try_from(at).ok());
        let file = std::path::absolute(file).unwrap_or_else(|_| file.to_owned()).into_os_string();
        let is_same_file =
            |one: &LastJob| *file == *one.file && changed.zip(one.end()).is_some_and(|(changed, end)| changed < end);
        let is_same_image = |one: &LastJob| sha256.is_some() && one.sha256.as_deref() == sha256;
        let them = self.0.iter().filter(|(_, one)| one.is_there() && (is_same_file(one) || is_same_image(one)));
        let mut tags: Vec<_> = them.map(|(tag, _)| tag.clone()).collect();
        tags.sort();
        tags
    }
}

#[cfg(test)]
mod tests {
    use std::fs::{self, File};

    use super::*;

    #[test]
    fn the_last_job_of_a_drive_tells_what_is_on_it() {
        let state = tempfile::tempdir().unwrap();
        fs::create_dir(state.path().join("jobs")).unwrap();
        let put = |name: &str, ended: &str, (file, sum): (&Path, &str), drives: &[(&str, &str)]| {
            let drives: Vec<_> =
                drives.iter().map(|(tag, result)| format!("{{\"tag\":\"{tag}\",\"result\":\"{result}\"}}")).collect();
            let text = format!(
                "{{\"ended\":\"{ended}\",\"image\":{{\"file\":\"{}\",\"sha256\":\"{sum}\"}},\"drives\":[{}]}}",
                file.to_string_lossy(),
                drives.join(",")
            );
            fs::write(state.path().join("jobs").join(name), text).unwrap();
        };
        put(
            "1",
            "2026-11-23T08:00:00Z",
            (Path::new("/srv/aa.iso"), "aa"),
            &[("590J1", "verified"), ("65387", "verified"), ("NX2T8", "verified")],
        );
        put("2", "2026-11-23T09:00:00Z", (Path::new("/srv/bb.iso"), "bb"), &[("65387", "failed")]);
        put("3", "2026-11-23T09:10:00Z", (Path::new("/srv/bb.iso"), "bb"), &[("NX2T8", "verified")]);
        // A job that was refused changed nothing; a record that can't be read tells nothing.
        put("4", "2026-11-23T09:20:00Z", (Path::new("/srv/cc.iso"), "cc"), &[("590J1", "refused")]);
        fs::write(state.path().join("jobs/5"), "{").unwrap();
        let on = Drives::of(state.path()).unwrap();
        let nowhere = Path::new("/srv/aa.iso");
        let tag = |text: &str| text.parse::<Tag>().unwrap();
        assert_eq!(on.holding(Some("aa"), nowhere), ["590J1"]);
        assert_eq!(on.holding(Some("bb"), nowhere), ["NX2T8"]);
        assert!(on.holding(Some("cc"), nowhere).is_empty() && on.holding(None, nowhere).is_empty());
        let last = on.last_on(&tag("65387")).unwrap();
        assert_eq!(
            (last.image.as_str(), last.result.as_str(), last.ended.as_deref()),
            ("bb.iso", "failed", Some("2026-11-23T09:00:00Z"))
        );
        assert_eq!(on.last_on(&tag("00000")), None);
        let now = "2026-11-23T09:30:59Z".parse().unwrap();
        let ago = ["NX2T8", "590J1", "65387", "00000"].map(|text| on.verified_minutes_ago(&tag(text), now));
        assert_eq!(ago, [Some(20), Some(90), None, None]);
        // By its file, if that has not changed since.
        let file = state.path().join("packed.iso.gz");
        put("6", "2026-11-23T09:25:00Z", (&file, "dd"), &[("GY6ES", "verified")]);
        let changed = |time: &str| {
            let time: Timestamp = time.parse().unwrap();
            File::create(&file).unwrap().set_modified(time.into()).unwrap();
            Drives::of(state.path()).unwrap().holding(Some("ee"), &file)
        };
        assert_eq!(changed("2026-11-23T09:24:00Z"), ["GY6ES"]);
        assert!(changed("2026-11-23T09:26:00Z").is_empty());
    }

    #[test]
    fn a_job_is_on_record_from_before_its_first_write_and_no_two_share_a_name() {
        let state = tempfile::tempdir().unwrap();
        let image = |file: &str, sum: &str| ImageRecord {
            file: file.to_owned(),
            bytes: None,
            label: Some("LARKSPUR".to_owned()),
            sha256: Some(sum.to_owned()),
        };
        let drive = |tag: &str, result| DriveRecord { result, ..DriveRecord::named(tag) };
        let tag = "590J1".parse::<Tag>().unwrap();
        let record = |sum: &str, ended: Option<&str>, result| Record {
            job: job_name("2026-11-23T08:00:00Z", "590J1"),
            started: "2026-11-23T08:00:00Z".to_owned(),
            ended: ended.map(str::to_owned),
            version: "1",
            result,
            image: image("/srv/larkspur.iso", sum),
            drives: vec![drive("590J1", result)],
        };
        let first = begin(state.path(), &record("aa", None, JobResult::Stopped)).unwrap();
        first.end(&record("aa", Some("2026-11-23T08:00:00Z"), JobResult::Verified)).unwrap();
        let known = || Drives::of(state.path()).unwrap();
        assert_eq!(known().holding(Some("aa"), Path::new("x")), ["590J1"]);
        // The next one, in the same second, is cut off: what was there before is no longer.
        let second = begin(state.path(), &record("bb", None, JobResult::Stopped)).unwrap();
        assert_eq!([first.job(), second.job()], ["20261123-080000-590J1", "20261123-080000-590J1-2"]);
        let now = "2026-11-23T08:01:00Z".parse().unwrap();
        assert!(known().holding(Some("aa"), Path::new("x")).is_empty());
        assert_eq!(known().verified_minutes_ago(&tag, now), None);
        assert!(known().last_on(&tag).is_some_and(|last| last.ended.is_none() && !last.is_there()));
        // A tag that others may have says nothing of this drive.
        let unsure =
            Record { drives: vec![drive("590J?", JobResult::Verified)], ..record("cc", None, JobResult::Verified) };
        begin(state.path(), &unsure).unwrap();
        assert_eq!(known().last_on(&"590J?".parse().unwrap()), None);
        fs::remove_dir_all(state.path().join("jobs")).unwrap();
        fs::write(state.path().join("jobs"), "in the way").unwrap();
        assert!(Drives::of(state.path()).is_err(), "what can't be looked at is not empty");
    }
}
