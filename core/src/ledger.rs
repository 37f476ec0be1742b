//! What was done: one record for each job, kept as a file of JSON.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

use std::collections::HashMap;
use std::io;
use std::path::Path;

use jiff::Timestamp;
use serde::Serialize;

use crate::drive::Drive;
use crate::machine;
use crate::record::{DriveIdentity, ImageRecord, JobResult, RECORD_VERSION, Record};
use crate::store::{Put, Store, Version};

/// Names that are tried for a job, where others have it.
const NUMBERS_MOST: u32 = 1000;

/// Where records are kept, below the bench's `state`.
fn records(state: &Path) -> Store {
    Store::in_folder(state.join("jobs"))
}

fn file_of(job: &str) -> String {
    format!("{job}.json")
}

fn document(record: &Record) -> Vec<u8> {
    // These values hold nothing that JSON can't.
    let mut bytes = serde_json::to_vec_pretty(record).unwrap_or_default();
    bytes.push(b'\n');
    bytes
}

/// A record, if this is one that is written as it is now, or was before.
fn read_record(bytes: &[u8]) -> Option<Record> {
    let record: Record = serde_json::from_slice(bytes).ok()?;
    (record.record <= RECORD_VERSION).then_some(record)
}

/// A job that is on record and has not ended.
#[derive(Debug)]
pub struct Begun {
    records: Store,
    job: String,
    seen: Version,
}

/// Puts a job on record, before anything is written: whatever cuts it off, the bench knows that it was begun. Its name is
/// `record`'s, or that with a number where another job has it.
///
/// # Errors
/// When the folder can't be made or written.
pub fn begin(state: &Path, record: &Record) -> io::Result<Begun> {
    let records = records(state);
    for number in 1..=NUMBERS_MOST {
        let job = if number == 1 { record.job.clone() } else { format!("{}-{number}", record.job) };
        let bytes = document(&Record { job: job.clone(), ..record.clone() });
        if records.put_if_absent(&file_of(&job), &bytes)? == Put::Done {
            return Ok(Begun { records, job, seen: Version::of(&bytes) });
        }
    }
    Err(io::ErrorKind::AlreadyExists.into())
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
        match self.records.replace(&file_of(&self.job), &document(record), self.seen)? {
            Put::Done => Ok(()),
            // One that somebody removed meanwhile is not missed.
            Put::Taken => match self.records.put_if_absent(&file_of(&self.job), &document(record))? {
                Put::Done => Ok(()),
                Put::Taken => Err(io::Error::other("something has changed the record meanwhile")),
            },
        }
    }
}

/// Most records that are looked at, the newest, and the longest one, in bytes.
const RECORDS_MOST: usize = 2000;
const NAMES_MOST: usize = 200_000;
const RECORD_BYTES_MOST: u64 = 4 << 20;

/// The last job of a drive, as the records have it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct LastJob {
    /// Name of the image's file, without its folder.
    pub image: String,
    /// The image's volume label.
    pub label: Option<String>,
    /// How it ended.
    pub result: JobResult,
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
        self.ended.is_some() && matches!(self.result, JobResult::Verified | JobResult::Written)
    }

    fn of(image: &ImageRecord, result: JobResult, started: &str, ended: Option<&String>) -> Self {
        Self {
            image: image.file.rsplit('/').next().unwrap_or_default().to_owned(),
            label: image.label.clone(),
            result,
            started: started.to_owned(),
            ended: ended.cloned(),
            file: image.file.clone(),
            sha256: image.sha256.clone(),
        }
    }

    fn end(&self) -> Option<Timestamp> {
        self.ended.as_ref()?.parse().ok()
    }
}

/// What the records of a bench tell of its drives: of each, the last job that changed anything on it.
#[derive(Debug, Default)]
pub struct Drives(HashMap<DriveIdentity, LastJob>);

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
        let records = records(state);
        let mut names = records.names(NAMES_MOST)?;
        // The names sort by time.
        names.sort_unstable_by(|a, b| Path::new(b).file_stem().cmp(&Path::new(a).file_stem()));
        let mut last = HashMap::new();
        for name in names.iter().take(RECORDS_MOST) {
            let read = records.get(name, RECORD_BYTES_MOST).ok().flatten();
            let Some(record) = read.and_then(|kept| read_record(&kept.bytes)) else { continue };
            let Record { started, ended, image, drives, .. } = record;
            for drive in drives.into_iter().filter(|drive| drive.outcome.result != JobResult::Refused) {
                let job = || LastJob::of(&image, drive.outcome.result, &started, ended.as_ref());
                last.entry(drive.drive.anywhere()).or_insert_with(job);
            }
        }
        Ok(Self(last))
    }

    /// The last job of this drive, wherever it was plugged in. One that can't be told from others has none.
    pub fn last_on(&self, drive: &Drive) -> Option<&LastJob> {
        self.0.get(&DriveIdentity::of(drive).anywhere()).filter(|_| !drive.tag.is_unsure())
    }

    /// How many minutes before `now` a job has verified this drive, if none came after.
    pub fn verified_minutes_ago(&self, drive: &Drive, now: Timestamp) -> Option<u64> {
        let last = self.last_on(drive).filter(|last| last.result == JobResult::Verified)?;
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
        let mut tags: Vec<_> = them.map(|(drive, _)| drive.tag.clone()).collect();
        tags.sort();
        tags
    }
}

#[cfg(test)]
mod tests {
    use std::fs::{self, File};

    use super::*;
    use crate::record::{DriveRecord, job_name};

    fn stick(tag: &str) -> Drive {
        Drive::sample(tag)
    }

    fn drive(tag: &str, result: JobResult) -> DriveRecord {
        let mut record = DriveRecord::begun(&stick(tag));
        record.outcome.result = result;
        record
    }

    /// The record of a job with an image of this name and SHA-256.
    fn record(ended: Option<&str>, file: &Path, sum: &str, drives: Vec<DriveRecord>) -> Record {
        let tag = drives.first().unwrap().drive.tag.clone();
        Record {
            job: job_name("2026-11-23T08:00:00Z", &tag),
            record: RECORD_VERSION,
            started: "2026-11-23T08:00:00Z".to_owned(),
            ended: ended.map(str::to_owned),
            version: "1".to_owned(),
            result: JobResult::of_all(drives.iter().map(|drive| drive.outcome.result)),
            image: ImageRecord {
                file: file.to_string_lossy().into_owned(),
                bytes: None,
                label: Some("LARKSPUR".to_owned()),
                sha256: Some(sum.to_owned()),
            },
            drives,
        }
    }

    #[test]
    fn the_last_job_of_a_drive_tells_what_is_on_it() {
        use JobResult::{Failed, Refused, Verified};
        let state = tempfile::tempdir().unwrap();
        let jobs = state.path().join("jobs");
        fs::create_dir(&jobs).unwrap();
        let put = |name: &str, ended: &str, file: &str, drives: &[(&str, JobResult)]| {
            let drives = drives.iter().map(|(tag, result)| drive(tag, *result)).collect();
            let sum = file.get(file.len() - 6..file.len() - 4).unwrap();
            fs::write(jobs.join(name), document(&record(Some(ended), Path::new(file), sum, drives))).unwrap();
        };
        let three = [("590J1", Verified), ("65387", Verified), ("NX2T8", Verified)];
        put("1", "2026-11-23T08:00:00Z", "/srv/aa.iso", &three);
        put("2", "2026-11-23T09:00:00Z", "/srv/bb.iso", &[("65387", Failed)]);
        put("3", "2026-11-23T09:10:00Z", "/srv/bb.iso", &[("NX2T8", Verified)]);
        // A job that was refused changed nothing; a record that can't be read tells nothing, nor does one of a later kind.
        put("4", "2026-11-23T09:20:00Z", "/srv/cc.iso", &[("590J1", Refused)]);
        fs::write(jobs.join("5"), "{").unwrap();
        let later =
            record(Some("2026-11-23T09:20:00Z"), Path::new("/srv/cc.iso"), "cc", vec![drive("590J1", Verified)]);
        fs::write(jobs.join("6"), document(&Record { record: RECORD_VERSION + 1, ..later })).unwrap();
        let on = Drives::of(state.path()).unwrap();
        let nowhere = Path::new("/srv/aa.iso");
        assert_eq!(on.holding(Some("aa"), nowhere), ["590J1"]);
        assert_eq!(on.holding(Some("bb"), nowhere), ["NX2T8"]);
        assert!(on.holding(Some("cc"), nowhere).is_empty() && on.holding(None, nowhere).is_empty());
        let last = on.last_on(&stick("65387")).unwrap();
        assert_eq!(
            (last.image.as_str(), last.result, last.ended.as_deref()),
            ("bb.iso", Failed, Some("2026-11-23T09:00:00Z"))
        );
        assert_eq!(on.last_on(&stick("00000")), None);
        // Wherever it is plugged in it is the same one; another of the same tag is not.
        assert!(on.last_on(&Drive { path: "/dev/sdc".to_owned(), ..stick("65387") }).is_some());
        assert_eq!(
            on.last_on(&{
                let mut another = stick("65387");
                another.says.serial = Some("another".to_owned());
                another
            }),
            None
        );
        let now = "2026-11-23T09:30:59Z".parse().unwrap();
        let ago = ["NX2T8", "590J1", "65387", "00000"].map(|tag| on.verified_minutes_ago(&stick(tag), now));
        assert_eq!(ago, [Some(20), Some(90), None, None]);
        // By its file, if that has not changed since.
        let file = state.path().join("packed-dd.raw");
        put("7", "2026-11-23T09:25:00Z", file.to_str().unwrap(), &[("GY6ES", Verified)]);
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
        let of = |sum: &str, ended: Option<&str>, tag: &str, result| {
            record(ended, Path::new("/srv/larkspur.iso"), sum, vec![drive(tag, result)])
        };
        let first = begin(state.path(), &of("aa", None, "590J1", JobResult::Stopped)).unwrap();
        first.end(&of("aa", Some("2026-11-23T08:00:00Z"), "590J1", JobResult::Verified)).unwrap();
        let known = || Drives::of(state.path()).unwrap();
        assert_eq!(known().holding(Some("aa"), Path::new("x")), ["590J1"]);
        // The next one, in the same second, is cut off: what was there before is no longer.
        let second = begin(state.path(), &of("bb", None, "590J1", JobResult::Stopped)).unwrap();
        assert_eq!([first.job(), second.job()], ["20261123-080000-590J1", "20261123-080000-590J1-2"]);
        let now = "2026-11-23T08:01:00Z".parse().unwrap();
        assert!(known().holding(Some("aa"), Path::new("x")).is_empty());
        assert_eq!(known().verified_minutes_ago(&stick("590J1"), now), None);
        assert!(known().last_on(&stick("590J1")).is_some_and(|last| last.ended.is_none() && !last.is_there()));
        // A tag that others may have says nothing of this drive.
        begin(state.path(), &of("cc", None, "590J?", JobResult::Verified)).unwrap();
        assert_eq!(known().last_on(&stick("590J?")), None);
        fs::remove_dir_all(state.path().join("jobs")).unwrap();
        fs::write(state.path().join("jobs"), "in the way").unwrap();
        assert!(Drives::of(state.path()).is_err(), "what can't be looked at is not empty");
    }
}
