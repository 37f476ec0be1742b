//! What the records tell of drives: of each, the last job that changed anything on it.

use std::collections::HashMap;
use std::io;
use std::path::Path;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use crate::drive::Drive;
use crate::ledger::index::{Index, JobRow};
use crate::record::{DriveIdentity, JobKind, JobResult};

/// The last job of a drive, as the records have it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct LastJob {
    /// What it did.
    pub kind: JobKind,
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
        self.kind.brings_an_image()
            && self.ended.is_some()
            && matches!(self.result, JobResult::Verified | JobResult::Written)
    }

    fn of(job: &JobRow, result: JobResult) -> Self {
        Self {
            kind: job.kind,
            image: job.image.rsplit('/').next().unwrap_or_default().to_owned(),
            label: job.label.clone(),
            result,
            started: job.started.clone(),
            ended: job.ended.clone(),
            file: job.image.clone(),
            sha256: job.sha256.clone(),
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
    /// What the records of `state` tell; those that can't be read are passed over.
    ///
    /// # Errors
    /// When the records can't be looked at: what is not known is not nothing.
    pub fn of(state: &Path) -> io::Result<Self> {
        let mut last = HashMap::new();
        for job in &Index::of(state)?.last_of_each_drive()? {
            last.extend(job.drives.iter().map(|one| (one.drive.clone(), LastJob::of(job, one.result))));
        }
        Ok(Self(last))
    }

    /// The last job of this drive, wherever it was plugged in. One that can't be told from others has none.
    pub fn last_on(&self, drive: &Drive) -> Option<&LastJob> {
        self.0.get(&DriveIdentity::of(drive).anywhere()).filter(|_| !drive.tag.is_unsure())
    }

    /// How many minutes before `now` a job has verified this drive, if none came after.
    pub fn verified_minutes_ago(&self, drive: &Drive, now: Timestamp) -> Option<u64> {
        let last =
            self.last_on(drive).filter(|last| last.kind.brings_an_image() && last.result == JobResult::Verified)?;
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
    use crate::image::Summary;
    use crate::ledger::records::{begin, document};
    use crate::record::{DriveRecord, ImageRecord, JobKind, RECORD_VERSION, Record, Whose, job_name};

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
            kind: JobKind::Write,
            by: Whose::default(),
            accepted: Vec::new(),
            result: JobResult::of_all(drives.iter().map(|drive| drive.outcome.result)),
            image: ImageRecord {
                file: file.to_string_lossy().into_owned(),
                bytes: None,
                says: Summary { label: Some("LARKSPUR".to_owned()), ..Summary::default() },
                sha256: Some(sum.to_owned()),
                ..ImageRecord::default()
            },
            drives,
            starts: Vec::new(),
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
            fs::write(jobs.join(format!("{name}.json")), document(&record(Some(ended), Path::new(file), sum, drives)))
                .unwrap();
        };
        let three = [("590J1", Verified), ("65387", Verified), ("NX2T8", Verified)];
        put("1", "2026-11-23T08:00:00Z", "/srv/aa.iso", &three);
        put("2", "2026-11-23T09:00:00Z", "/srv/bb.iso", &[("65387", Failed)]);
        put("3", "2026-11-23T09:10:00Z", "/srv/bb.iso", &[("NX2T8", Verified)]);
        // A job that was refused changed nothing; a record that can't be read tells nothing, nor does one of a later kind.
        put("4", "2026-11-23T09:20:00Z", "/srv/cc.iso", &[("590J1", Refused)]);
        fs::write(jobs.join("5.json"), "{").unwrap();
        let later =
            record(Some("2026-11-23T09:20:00Z"), Path::new("/srv/cc.iso"), "cc", vec![drive("590J1", Verified)]);
        fs::write(jobs.join("6.json"), document(&Record { record: RECORD_VERSION + 1, ..later })).unwrap();
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
