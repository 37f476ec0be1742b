//! What was done: one record for each job, kept as a file of JSON.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

use std::collections::HashMap;
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::drive::Drive;
use crate::job::{Conclusion, Difference, Head, JobResult, StageDone};
use crate::system;

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
            tag: drive.tag.to_string(),
            path: drive.path.clone(),
            vendor: drive.vendor.clone(),
            model: drive.model.clone(),
            serial: drive.serial.clone(),
            bytes: drive.bytes,
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
    /// When it ended, RFC 3339.
    pub ended: String,
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

/// Keeps a record in the folder `jobs` of `state`, and tells where. A record is there whole or not at all.
///
/// # Errors
/// When the folder can't be made or written.
pub fn keep(state: &Path, record: &Record) -> io::Result<PathBuf> {
    let folder = state.join("jobs");
    system::make_folder(&folder)?;
    let mut file = tempfile::NamedTempFile::new_in(&folder)?;
    serde_json::to_writer_pretty(&mut file, record)?;
    file.write_all(b"\n")?;
    file.as_file().sync_all()?;
    system::give_to_person(file.as_file())?;
    let path = folder.join(format!("{}.json", record.job));
    file.persist(&path)?;
    Ok(path)
}

/// Most records that are read, and the longest one, in bytes.
const RECORDS_MOST: usize = 100_000;
const RECORD_BYTES_MOST: u64 = 4 << 20;

/// What of a record tells where an image is now.
#[derive(Deserialize)]
struct Written {
    ended: String,
    image: WrittenImage,
    drives: Vec<WrittenDrive>,
}

#[derive(Clone, Debug, Deserialize)]
struct WrittenImage {
    #[serde(default)]
    file: String,
    sha256: Option<String>,
}

#[derive(Deserialize)]
struct WrittenDrive {
    tag: String,
    result: String,
}

/// On which drives each image is, as the last job of each drive tells.
#[derive(Debug, Default)]
pub struct OnDrives(Vec<Holding>);

/// A drive with the image that was written to it last.
#[derive(Debug)]
struct Holding {
    tag: String,
    since: Option<Timestamp>,
    image: WrittenImage,
}

impl OnDrives {
    /// Tags of those to which an image with this SHA-256 was written, or this file as it is now: of a packed image, or one that nobody
    /// has checked, the SHA-256 of what was written is not known beforehand.
    pub fn of(&self, sha256: Option<&str>, file: &Path) -> Vec<String> {
        let changed =
            file.metadata().and_then(|found| found.modified()).ok().and_then(|at| Timestamp::try_from(at).ok());
        let file = std::path::absolute(file).unwrap_or_else(|_| file.to_owned()).into_os_string();
        let is_same_file = |one: &Holding| {
            *file == *one.image.file && changed.zip(one.since).is_some_and(|(changed, since)| changed < since)
        };
        let is_same_image = |one: &Holding| sha256.is_some() && one.image.sha256.as_deref() == sha256;
        let them = self.0.iter().filter(|one| is_same_file(one) || is_same_image(one));
        let mut tags: Vec<_> = them.map(|one| one.tag.clone()).collect();
        tags.sort();
        tags
    }
}

/// On which drives each image is, as far as the records of `state` tell. Records that can't be read are passed over.
pub fn on_drives(state: &Path) -> OnDrives {
    let mut last = HashMap::new();
    for record in records(state) {
        for drive in record.drives.into_iter().filter(|drive| drive.result != "refused") {
            let is_there = matches!(drive.result.as_str(), "verified" | "written");
            let (tag, since, image) = (drive.tag, record.ended.parse().ok(), record.image.clone());
            last.insert(tag.clone(), is_there.then_some(Holding { tag, since, image }));
        }
    }
    OnDrives(last.into_values().flatten().collect())
}

/// Tags of the drives whose last job has verified them no longer than `minutes` before `now`, and how many minutes ago.
pub fn verified_lately(state: &Path, now: Timestamp, minutes: u64) -> Vec<(String, u64)> {
    let mut last: HashMap<String, (bool, Option<Timestamp>)> = HashMap::new();
    for record in records(state) {
        let ended = record.ended.parse().ok();
        for drive in record.drives.into_iter().filter(|drive| drive.result != "refused") {
            last.insert(drive.tag, (drive.result == "verified", ended));
        }
    }
    let ago = |ended: Timestamp| u64::try_from(now.duration_since(ended).as_secs() / 60).ok();
    let lately = last.into_iter().filter_map(|(tag, (is_verified, ended))| {
        ended.filter(|_| is_verified).and_then(ago).filter(|ago| *ago < minutes).map(|ago| (tag, ago))
    });
    lately.collect()
}

/// The last job of a drive, as the records have it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct LastJob {
    /// Name of the image's file, without its folder.
    pub image: String,
    /// How it ended, in a word.
    pub result: String,
    /// When, RFC 3339.
    pub ended: String,
}

/// The last job of the drive with this tag that changed anything on it, as far as the records of `state` tell.
pub fn last_on(state: &Path, tag: &str) -> Option<LastJob> {
    let mut last = None;
    for Written { ended, image, drives } in records(state) {
        if let Some(drive) = drives.into_iter().find(|drive| drive.tag == tag && drive.result != "refused") {
            let name = image.file.rsplit('/').next().unwrap_or_default().to_owned();
            last = Some(LastJob { image: name, result: drive.result, ended });
        }
    }
    last
}

/// All records in their order, as far as they can be read.
fn records(state: &Path) -> impl Iterator<Item = Written> + use<> {
    let entries = fs::read_dir(state.join("jobs")).into_iter().flatten().take(RECORDS_MOST).flatten();
    let mut paths: Vec<PathBuf> = entries.map(|entry| entry.path()).collect();
    // The names sort by time.
    paths.sort();
    paths.into_iter().filter_map(|path| {
        let mut text = String::new();
        File::open(&path).and_then(|file| file.take(RECORD_BYTES_MOST).read_to_string(&mut text)).ok()?;
        serde_json::from_str(&text).ok()
    })
}

#[cfg(test)]
mod tests {
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
                file.display(),
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
        let on = on_drives(state.path());
        let nowhere = Path::new("/srv/aa.iso");
        assert_eq!(on.of(Some("aa"), nowhere), ["590J1"]);
        assert_eq!(on.of(Some("bb"), nowhere), ["NX2T8"]);
        assert!(on.of(Some("cc"), nowhere).is_empty() && on.of(None, nowhere).is_empty());
        let last = last_on(state.path(), "65387").unwrap();
        assert_eq!(
            (last.image.as_str(), last.result.as_str(), last.ended.as_str()),
            ("bb.iso", "failed", "2026-11-23T09:00:00Z")
        );
        assert_eq!(last_on(state.path(), "00000"), None);
        let now = "2026-11-23T09:30:59Z".parse().unwrap();
        assert_eq!(verified_lately(state.path(), now, 30), [("NX2T8".to_owned(), 20)]);
        let mut all = verified_lately(state.path(), now, 24 * 60);
        all.sort();
        assert_eq!(all, [("590J1".to_owned(), 90), ("NX2T8".to_owned(), 20)]);
        // By its file, if that has not changed since.
        let file = state.path().join("packed.iso.gz");
        put("6", "2026-11-23T09:25:00Z", (&file, "dd"), &[("GY6ES", "verified")]);
        let changed = |time: &str| {
            let time: Timestamp = time.parse().unwrap();
            File::create(&file).unwrap().set_modified(time.into()).unwrap();
            on_drives(state.path()).of(Some("ee"), &file)
        };
        assert_eq!(changed("2026-11-23T09:24:00Z"), ["GY6ES"]);
        assert!(changed("2026-11-23T09:26:00Z").is_empty());
    }
}
