//! The records themselves, each a document with the job's name.

use std::io;
use std::path::{Path, PathBuf};

use crate::image::Firmware;
use crate::record::{RECORD_VERSION, Record};
use crate::store::{Put, Store, Version};

/// Names that are tried for a job, where others have it.
const NUMBERS_MOST: u32 = 1000;
/// Longest record that is read, in bytes.
pub(super) const RECORD_BYTES_MOST: u64 = 4 << 20;
/// What ends the name of a record's file.
pub(super) const ENDING: &str = ".json";
/// What ends the name of a picture's file.
const PICTURE: &str = ".png";
/// Longest picture that is read, in bytes.
const PICTURE_BYTES_MOST: u64 = 16 << 20;

/// Where records are kept, below the bench's `state`.
pub(super) fn store(state: &Path) -> Store {
    Store::in_folder(state.join("jobs"))
}

fn file_of(job: &str) -> String {
    format!("{job}{ENDING}")
}

pub(super) fn document(record: &Record) -> Vec<u8> {
    // These values hold nothing that JSON can't.
    let mut bytes = serde_json::to_vec_pretty(record).unwrap_or_default();
    bytes.push(b'\n');
    bytes
}

/// A record, if this is one that is written as it is now, or was before.
pub(super) fn parse(bytes: &[u8]) -> Option<Record> {
    let record: Record = serde_json::from_slice(bytes).ok()?;
    (record.record <= RECORD_VERSION).then_some(record)
}

/// The record of the job with this name; `None` if there is none.
///
/// # Errors
/// When it is there and can't be read.
pub fn read(state: &Path, job: &str) -> io::Result<Option<Record>> {
    let Some(kept) = store(state).get(&file_of(job), RECORD_BYTES_MOST)? else { return Ok(None) };
    let record = parse(&kept.bytes);
    record
        .map(Some)
        .ok_or_else(|| io::Error::new(io::ErrorKind::InvalidData, "it is no record, or one of a later kind"))
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
    let records = store(state);
    for number in 1..=NUMBERS_MOST {
        let job = if number == 1 { record.job.clone() } else { format!("{}-{number}", record.job) };
        let bytes = document(&Record { job: job.clone(), ..record.clone() });
        if records.put_if_absent(&file_of(&job), &bytes)? == Put::Done {
            return Ok(Begun { records, job, seen: Version::of(&bytes) });
        }
    }
    Err(io::ErrorKind::AlreadyExists.into())
}

/// Puts a job on record that has changed nothing and has ended. Tells its name.
///
/// # Errors
/// As [`begin`].
pub fn put(state: &Path, record: &Record) -> io::Result<String> {
    begin(state, record).map(|begun| begun.job)
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

/// Keeps a picture of a job's trial start by `firmware` beside its record, as PNG. Tells its name there.
///
/// # Errors
/// When it can't be written.
pub fn keep_picture(state: &Path, job: &str, firmware: Firmware, png: &[u8]) -> io::Result<String> {
    let word = match firmware {
        Firmware::Bios => "bios",
        Firmware::Uefi => "uefi",
    };
    let name = format!("{job}.{word}{PICTURE}");
    store(state).put(&name, png)?;
    Ok(name)
}

/// A picture that lies beside the records under this name; `None` if there is none.
///
/// # Errors
/// When it is there and can't be read.
pub fn picture(state: &Path, name: &str) -> io::Result<Option<Vec<u8>>> {
    if !name.ends_with(PICTURE) {
        return Err(io::Error::new(io::ErrorKind::InvalidInput, "this is no name of a picture"));
    }
    Ok(store(state).get(name, PICTURE_BYTES_MOST)?.map(|kept| kept.bytes))
}

/// Where a picture lies that has this name beside the records.
pub fn picture_path(state: &Path, name: &str) -> PathBuf {
    store(state).path(name)
}
