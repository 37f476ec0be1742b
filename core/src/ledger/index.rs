//! The index: answers about all records without reading them. It is made from them again whenever it is missing, old or damaged,
//! and kept in memory alone where the bench's folder can't be written.

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};

use rusqlite::types::ToSql;
use rusqlite::{Connection, OpenFlags, Row, TransactionBehavior, params, params_from_iter};

use crate::ledger::blocks;
use crate::ledger::records::{self, ENDING, RECORD_BYTES_MOST, store};
use crate::machine::{self, FileStamp};
use crate::record::{DriveIdentity, JobKind, JobResult, Record, Stage, StageDone, Whose, called};
use crate::store::Store;

/// Name of its file, below the bench's state folder.
const FILE: &str = "ledger.sqlite";
/// What its tables are like; an index of another number is made again.
const VERSION: i64 = 1;
/// Most files of the folder that are looked at.
const FILES_MOST: usize = 400_000;
/// How long another process is waited for that writes it.
const PATIENCE: std::time::Duration = std::time::Duration::from_secs(10);

const TABLES: &str = "
    CREATE TABLE jobs (
        id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, file_bytes INTEGER NOT NULL, file_changed INTEGER NOT NULL,
        is_read INTEGER NOT NULL, started TEXT, ended TEXT, kind TEXT, result TEXT, person TEXT, bench TEXT,
        image_file TEXT, title TEXT, label TEXT, image_bytes INTEGER, sha256 TEXT, first_block TEXT
    );
    CREATE TABLE drives (
        job INTEGER NOT NULL REFERENCES jobs (id) ON DELETE CASCADE, place INTEGER NOT NULL, tag TEXT NOT NULL, vendor TEXT, model TEXT,
        serial TEXT, bytes INTEGER NOT NULL, result TEXT NOT NULL, write_rate REAL, read_rate REAL, conclusion TEXT
    );
    CREATE INDEX drives_by_job ON drives (job);
    CREATE INDEX drives_by_tag ON drives (tag);
    CREATE INDEX jobs_by_first_block ON jobs (first_block);
";

/// Most steps of SQLite's virtual machine for one answer: ten times what 100,000 records take.
const MAX_STEPS: u64 = 2_000_000_000;
/// Steps between two looks at the count.
const STEPS_AT_ONCE: std::ffi::c_int = 1_000_000;

/// Answers about records.
pub struct Index {
    connection: Connection,
    /// The bench's state folder, from whose records the index is made again.
    state: PathBuf,
}

/// A job, as the index has it.
#[derive(Clone, Debug, PartialEq)]
pub struct JobRow {
    /// Name of the job.
    pub job: String,
    /// When it began, RFC 3339.
    pub started: String,
    /// When it ended, RFC 3339; `None` if it runs, or was cut off.
    pub ended: Option<String>,
    /// What it did.
    pub kind: JobKind,
    /// How it ended.
    pub result: JobResult,
    /// Who did it, and on which machine.
    pub by: Whose,
    /// The image's path or address.
    pub image: String,
    /// What the image calls itself.
    pub title: Option<String>,
    /// Its volume label.
    pub label: Option<String>,
    /// Its length, in bytes.
    pub image_bytes: Option<u64>,
    /// Its SHA-256.
    pub sha256: Option<String>,
    /// Its drives.
    pub drives: Vec<RowDrive>,
}

impl JobRow {
    /// Whether a drive of it held something else afterwards: a look at a drive writes to it only where it fills it.
    pub fn changed(&self, drive: &RowDrive) -> bool {
        self.kind.changes_drives() || drive.write_rate.is_some()
    }

    /// What its image is called: by itself, or else by its file.
    pub fn called(&self) -> &str {
        called(self.title.as_deref(), &self.image)
    }
}

/// A drive of a job, as the index has it.
#[derive(Clone, Debug, PartialEq)]
pub struct RowDrive {
    /// Who it is.
    pub drive: DriveIdentity,
    /// How the job went on it.
    pub result: JobResult,
    /// How fast it was written, in bytes a second.
    pub write_rate: Option<f64>,
    /// How fast it was read back, in bytes a second.
    pub read_rate: Option<f64>,
    /// The id of what was concluded.
    pub conclusion: Option<String>,
}

/// Which jobs are wanted; `None` is any.
#[derive(Clone, Debug, Default)]
pub struct JobQuery {
    /// On the drive with this tag.
    pub tag: Option<String>,
    /// With an image whose path, title, label or SHA-256 holds these words.
    pub image: Option<String>,
    /// That ended like this.
    pub result: Option<JobResult>,
    /// Begun at this time or later, RFC 3339.
    pub since: Option<String>,
    /// Whose image begins with the block of this digest.
    pub first_block: Option<blake3::Hash>,
    /// So many of them, the newest.
    pub most: Option<usize>,
}

fn of_sqlite(error: rusqlite::Error) -> io::Error {
    io::Error::other(error)
}

fn is_busy(error: &io::Error) -> bool {
    let inner = error.get_ref().and_then(|inner| inner.downcast_ref::<rusqlite::Error>());
    inner.and_then(rusqlite::Error::sqlite_error_code) == Some(rusqlite::ErrorCode::DatabaseBusy)
}

/// SQLite's numbers have a sign.
fn signed(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

/// A value of an enum in the word that records have for it.
fn word(value: &impl serde::Serialize) -> Option<String> {
    serde_json::to_value(value).ok()?.as_str().map(str::to_owned)
}

fn of_word<T: serde::de::DeserializeOwned>(word: String) -> Option<T> {
    serde_json::from_value(serde_json::Value::String(word)).ok()
}

/// A file of the folder, as it was when it was taken in.
#[derive(Clone, Copy, PartialEq, Eq)]
struct Stamp {
    bytes: i64,
    changed: i64,
}

impl Index {
    /// The index of the records below `state`, brought up to date.
    ///
    /// # Errors
    /// When the records can't be looked at: what is not known is not nothing.
    pub fn of(state: &Path) -> io::Result<Self> {
        let records = store(state);
        let files = stamps(&records)?;
        if files.is_empty() {
            return Self::in_memory(state);
        }
        let kept = Self::at(state).and_then(|index| index.follow(&records, &files));
        let kept = kept.or_else(|error| {
            // Another process is at it for long: it is no worse for that.
            if is_busy(&error) {
                return Err(error);
            }
            // It is missing, old, damaged, or of something else: nothing in it is lost.
            Self::remove(state);
            Self::at(state).and_then(|index| index.follow(&records, &files))
        });
        // Whatever keeps it from being kept, the records answer.
        kept.or_else(|_| Self::in_memory(state)?.follow(&records, &files))
    }

    fn remove(state: &Path) {
        for beside in [FILE.to_owned(), format!("{FILE}-journal")] {
            let _ = machine::remove_own(&state.join(beside));
        }
    }

    /// Answers a question; where the index turns out to be damaged, it is made again from the records and asked once more.
    fn ask<T>(&self, question: impl Fn(&Self) -> rusqlite::Result<T>) -> io::Result<T> {
        match question(self).map_err(of_sqlite) {
            Err(error) if !is_busy(&error) => {
                Self::remove(&self.state);
                question(&Self::of(&self.state)?).map_err(of_sqlite)
            }
            answer => answer,
        }
    }

    fn in_memory(state: &Path) -> io::Result<Self> {
        Self::made(Connection::open_in_memory().map_err(of_sqlite)?, state).map_err(of_sqlite)
    }

    fn at(state: &Path) -> io::Result<Self> {
        let path = &state.join(FILE);
        // Nobody else reads it, as nobody else reads the records.
        let _ = machine::keep_absent(path, b"");
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
            | OpenFlags::SQLITE_OPEN_CREATE
            | OpenFlags::SQLITE_OPEN_NOFOLLOW
            | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let made = Connection::open_with_flags(path, flags).and_then(|connection| Self::made(connection, state));
        let index = made.map_err(of_sqlite)?;
        let version: i64 =
            index.connection.pragma_query_value(None, "user_version", |row| row.get(0)).map_err(of_sqlite)?;
        let is_sound = index.is_sound().map_err(of_sqlite)?;
        if version == VERSION && is_sound { Ok(index) } else { Err(io::Error::other("an index of another kind")) }
    }

    /// Whether its pages are sound and it has the tables and indexes that [`TABLES`] makes, and nothing else: no view, no trigger.
    fn is_sound(&self) -> rusqlite::Result<bool> {
        let schema = |connection: &Connection| -> rusqlite::Result<Vec<(String, String, Option<String>)>> {
            let mut query = connection.prepare("SELECT type, name, sql FROM sqlite_master ORDER BY type, name")?;
            let rows = query.query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?;
            rows.collect()
        };
        let expected = Connection::open_in_memory()?;
        expected.execute_batch(TABLES)?;
        if schema(&self.connection)? != schema(&expected)? {
            return Ok(false);
        }
        let check: String = self.connection.query_row("PRAGMA quick_check(1)", [], |row| row.get(0))?;
        Ok(check == "ok")
    }

    /// With its tables, if nothing is there yet.
    fn made(mut connection: Connection, state: &Path) -> rusqlite::Result<Self> {
        connection.busy_timeout(PATIENCE)?;
        // Sorting needs room that the fence leaves no file for; nothing in a file of others is run.
        connection.pragma_update(None, "temp_store", "MEMORY")?;
        connection.pragma_update(None, "trusted_schema", false)?;
        let mut steps = 0u64;
        let is_too_long = move || {
            steps = steps.saturating_add(STEPS_AT_ONCE.unsigned_abs().into());
            steps > MAX_STEPS
        };
        connection.progress_handler(STEPS_AT_ONCE, Some(is_too_long))?;
        connection.pragma_update(None, "foreign_keys", true)?;
        let tables: i64 = connection.query_row("SELECT count(*) FROM sqlite_master", [], |row| row.get(0))?;
        if tables == 0 {
            let change = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
            // Another process may have been first.
            let tables: i64 = change.query_row("SELECT count(*) FROM sqlite_master", [], |row| row.get(0))?;
            if tables == 0 {
                change.execute_batch(TABLES)?;
                change.pragma_update(None, "user_version", VERSION)?;
            }
            change.commit()?;
        }
        Ok(Self { connection, state: state.to_owned() })
    }

    /// Takes in what has changed in the folder since.
    fn follow(mut self, records: &Store, files: &HashMap<String, Stamp>) -> io::Result<Self> {
        let known = self.known().map_err(of_sqlite)?;
        let gone: Vec<&String> = known.keys().filter(|name| !files.contains_key(*name)).collect();
        let is_new = |(name, stamp): &(&String, &Stamp)| known.get(*name) != Some(*stamp);
        let new: Vec<(&String, &Stamp)> = files.iter().filter(is_new).collect();
        if gone.is_empty() && new.is_empty() {
            return Ok(self);
        }
        let change = self.connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(of_sqlite)?;
        for name in gone {
            change.execute("DELETE FROM jobs WHERE name = ?1", [name]).map_err(of_sqlite)?;
        }
        for (name, stamp) in new {
            let kept = records.get(&format!("{name}{ENDING}"), RECORD_BYTES_MOST).ok().flatten();
            let record = kept.and_then(|kept| records::parse(&kept.bytes));
            // Damaged digests recognise nothing; whoever compares with them is told.
            let blocks = blocks::read(records, name).ok().flatten();
            let first_block = blocks.and_then(|blocks| blocks.digests.first().copied());
            let taken = Taken { name, stamp: *stamp, first_block };
            take_in(&change, &taken, record.as_ref()).map_err(of_sqlite)?;
        }
        change.commit().map_err(of_sqlite)?;
        Ok(self)
    }

    fn known(&self) -> rusqlite::Result<HashMap<String, Stamp>> {
        let mut query = self.connection.prepare("SELECT name, file_bytes, file_changed FROM jobs")?;
        let rows = query.query_map([], |row| Ok((row.get(0)?, Stamp { bytes: row.get(1)?, changed: row.get(2)? })))?;
        rows.collect()
    }

    /// The jobs that are wanted, the newest first.
    ///
    /// # Errors
    /// When the index can't be asked.
    pub fn jobs(&self, wanted: &JobQuery) -> io::Result<Vec<JobRow>> {
        self.ask(|index| index.found(wanted))
    }

    /// How many jobs are wanted, whatever [`JobQuery::most`] says.
    ///
    /// # Errors
    /// When the index can't be asked.
    pub fn count(&self, wanted: &JobQuery) -> io::Result<usize> {
        let Conditions { text, values } = conditions(wanted);
        let query = format!("SELECT count(*) FROM jobs WHERE {text}");
        let count: i64 =
            self.ask(|index| index.connection.query_row(&query, params_from_iter(&values), |row| row.get(0)))?;
        Ok(usize::try_from(count).unwrap_or_default())
    }

    /// Of each drive, the last job that changed anything on it, with that drive alone.
    ///
    /// # Errors
    /// When the index can't be asked.
    pub fn last_of_each_drive(&self) -> io::Result<Vec<JobRow>> {
        // Names sort by time. Beside max(), SQLite takes the other columns from the row that has it.
        let query = "SELECT id, name, started, ended, kind, jobs.result, person, bench, image_file, title, label, image_bytes, sha256,
                    tag, vendor, model, serial, bytes, drives.result, write_rate, read_rate, conclusion, max(name)
             FROM drives JOIN jobs ON id = job
             WHERE (kind IN ('write', 'reclaim') OR kind = 'gauge' AND write_rate IS NOT NULL) AND drives.result <> 'refused'
             GROUP BY tag, vendor, model, serial, bytes";
        self.ask(|index| index.rows(query, Vec::new()))
    }

    fn found(&self, wanted: &JobQuery) -> rusqlite::Result<Vec<JobRow>> {
        let Conditions { text, values } = conditions(wanted);
        let most = wanted.most.map_or(-1, |most| i64::try_from(most).unwrap_or(i64::MAX));
        let chosen = format!("SELECT id FROM jobs WHERE {text} ORDER BY started DESC, name DESC LIMIT {most}");
        let query = format!(
            "SELECT id, name, started, ended, kind, jobs.result, person, bench, image_file, title, label, image_bytes, sha256,
                    tag, vendor, model, serial, bytes, drives.result, write_rate, read_rate, conclusion
             FROM jobs LEFT JOIN drives ON job = id WHERE id IN ({chosen}) ORDER BY started DESC, name DESC, place"
        );
        self.rows(&query, values)
    }

    /// Jobs with their drives, whose rows stand together.
    fn rows(&self, query: &str, values: Vec<Box<dyn ToSql>>) -> rusqlite::Result<Vec<JobRow>> {
        let mut query = self.connection.prepare(query)?;
        let mut rows = query.query(params_from_iter(values))?;
        let mut jobs: Vec<JobRow> = Vec::new();
        let mut last = None;
        while let Some(row) = rows.next()? {
            let id: i64 = row.get(0)?;
            if last != Some(id) {
                last = Some(id);
                jobs.push(job_row(row)?);
            }
            if let (Some(job), Some(drive)) = (jobs.last_mut(), row_drive(row)?) {
                job.drives.push(drive);
            }
        }
        Ok(jobs)
    }

    /// Names of records that can't be read, or are of a later kind.
    ///
    /// # Errors
    /// When the index can't be asked.
    pub fn unreadable(&self) -> io::Result<Vec<String>> {
        self.ask(|index| {
            let mut query = index.connection.prepare("SELECT name FROM jobs WHERE is_read = 0 ORDER BY name")?;
            query.query_map([], |row| row.get(0))?.collect()
        })
    }
}

/// What SQLite is to look for, and the values in it.
struct Conditions {
    text: String,
    values: Vec<Box<dyn ToSql>>,
}

fn conditions(wanted: &JobQuery) -> Conditions {
    let mut conditions = vec!["is_read = 1"];
    let mut values: Vec<Box<dyn ToSql>> = Vec::new();
    let mut add = |condition: &'static str, value: Option<String>| {
        if let Some(value) = value {
            conditions.push(condition);
            values.push(Box::new(value));
        }
    };
    add("id IN (SELECT job FROM drives WHERE tag = ?)", wanted.tag.clone());
    add(
        "instr(lower(image_file || ' ' || coalesce(title, '') || ' ' || coalesce(label, '') || ' ' || coalesce(sha256, '')), ?) > 0",
        wanted.image.as_ref().map(|words| words.to_lowercase()),
    );
    add("result = ?", wanted.result.map(|result| result.word().to_owned()));
    add("started >= ?", wanted.since.clone());
    add("first_block = ?", wanted.first_block.map(|digest| digest.to_hex().to_string()));
    Conditions { text: conditions.join(" AND "), values }
}

/// The records of the folder by their names, as they are now.
fn stamps(records: &Store) -> io::Result<HashMap<String, Stamp>> {
    let files = records.stamps(FILES_MOST)?;
    let of_record = |file: FileStamp| {
        let name = file.name.to_str()?.strip_suffix(ENDING)?.to_owned();
        Some((name, Stamp { bytes: signed(file.bytes), changed: file.changed }))
    };
    Ok(files.into_iter().filter_map(of_record).collect())
}

/// A record's file, and what lies beside it.
struct Taken<'a> {
    name: &'a str,
    stamp: Stamp,
    first_block: Option<blake3::Hash>,
}

/// Puts a record in the place of what was known of it.
fn take_in(change: &Connection, file: &Taken<'_>, record: Option<&Record>) -> rusqlite::Result<()> {
    let Taken { name, stamp, first_block } = file;
    change.prepare_cached("DELETE FROM jobs WHERE name = ?1")?.execute([name])?;
    let Some(record) = record else {
        let values = params![name, stamp.bytes, stamp.changed];
        let insert = "INSERT INTO jobs (name, file_bytes, file_changed, is_read) VALUES (?1, ?2, ?3, 0)";
        return change.prepare_cached(insert)?.execute(values).map(drop);
    };
    let Record { started, ended, kind, result, by, image, drives, .. } = record;
    change
        .prepare_cached(
            "INSERT INTO jobs (name, file_bytes, file_changed, is_read, started, ended, kind, result, person, bench, image_file, title,
                label, image_bytes, sha256, first_block) VALUES (?1, ?2, ?3, 1, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15)",
        )?
        .execute(params![
            name,
            stamp.bytes,
            stamp.changed,
            started,
            ended,
            kind.word(),
            result.word(),
            by.person,
            by.bench,
            image.file,
            image.says.title,
            image.says.label,
            image.bytes.map(signed),
            image.sha256,
            first_block.map(|digest| digest.to_hex().to_string()),
        ])?;
    let job = change.last_insert_rowid();
    for (place, one) in drives.iter().enumerate() {
        let (drive, outcome) = (&one.drive, &one.outcome);
        change
            .prepare_cached(
                "INSERT INTO drives (job, place, tag, vendor, model, serial, bytes, result, write_rate, read_rate, conclusion)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11)",
            )?
            .execute(params![
                job,
                i64::try_from(place).unwrap_or(i64::MAX),
                drive.tag,
                drive.vendor,
                drive.model,
                drive.serial,
                signed(drive.bytes),
                word(&outcome.result),
                rate(&outcome.stages, Stage::Body),
                rate(&outcome.stages, Stage::ReadBack),
                outcome.conclusion.as_ref().map(|conclusion| conclusion.id()),
            ])?;
    }
    Ok(())
}

/// Bytes a second over all of a stage.
fn rate(stages: &[StageDone], wanted: Stage) -> Option<f64> {
    let stage = stages.iter().find(|stage| stage.name == wanted && stage.bytes > 0 && stage.seconds > 0.0)?;
    Some(stage.bytes as f64 / stage.seconds)
}

/// A value that no record has is an error: the index is damaged.
fn job_row(row: &Row<'_>) -> rusqlite::Result<JobRow> {
    let (Some(kind), Some(result)) = (of_word(row.get(4)?), of_word(row.get(5)?)) else {
        return Err(rusqlite::Error::InvalidQuery);
    };
    let bytes: Option<i64> = row.get(11)?;
    Ok(JobRow {
        job: row.get(1)?,
        started: row.get(2)?,
        ended: row.get(3)?,
        kind,
        result,
        by: Whose { person: row.get(6)?, bench: row.get(7)? },
        image: row.get(8)?,
        title: row.get(9)?,
        label: row.get(10)?,
        image_bytes: bytes.and_then(|bytes| u64::try_from(bytes).ok()),
        sha256: row.get(12)?,
        drives: Vec::new(),
    })
}

fn row_drive(row: &Row<'_>) -> rusqlite::Result<Option<RowDrive>> {
    let Some(tag) = row.get::<_, Option<String>>(13)? else { return Ok(None) };
    let result = of_word(row.get(18)?).ok_or(rusqlite::Error::InvalidQuery)?;
    let bytes: i64 = row.get(17)?;
    let drive = DriveIdentity {
        tag,
        path: String::new(),
        vendor: row.get(14)?,
        model: row.get(15)?,
        serial: row.get(16)?,
        bytes: u64::try_from(bytes).unwrap_or_default(),
    };
    Ok(Some(RowDrive { drive, result, write_rate: row.get(19)?, read_rate: row.get(20)?, conclusion: row.get(21)? }))
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;
    use crate::drive::Drive;
    use crate::image::Summary;
    use crate::ledger::Blocks;
    use crate::record::{DriveRecord, ImageRecord, RECORD_VERSION};

    fn record(number: usize, tag: &str, result: JobResult) -> Record {
        let mut drive = DriveRecord::begun(&Drive::sample(tag));
        drive.outcome.result = result;
        drive.outcome.stages = vec![StageDone { name: Stage::Body, bytes: 8_000_000, seconds: 2.0 }];
        Record {
            job: format!("2026112{}-080000-{tag}", number % 10),
            record: RECORD_VERSION,
            started: format!("2026-11-2{}T08:00:00Z", number % 10),
            ended: Some(format!("2026-11-2{}T08:01:00Z", number % 10)),
            version: "1".into(),
            kind: JobKind::Write,
            by: Whose { person: Some("ann".into()), bench: None },
            accepted: Vec::new(),
            result,
            image: ImageRecord {
                file: format!("/srv/image{number}.iso"),
                says: Summary { title: Some("Larkspur Linux".into()), ..Summary::default() },
                sha256: Some(format!("{number:064x}")),
                ..ImageRecord::default()
            },
            drives: vec![drive],
            starts: Vec::new(),
        }
    }

    fn names(state: &Path, wanted: &JobQuery) -> Vec<String> {
        Index::of(state).unwrap().jobs(wanted).unwrap().into_iter().map(|job| job.image).collect()
    }

    #[test]
    fn the_index_follows_the_records_and_is_made_again_whatever_becomes_of_it() {
        let folder = tempfile::tempdir().unwrap();
        let state = folder.path();
        assert!(names(state, &JobQuery::default()).is_empty() && !state.join(FILE).exists(), "nothing to keep");
        for (number, tag, result) in
            [(1, "590J1", JobResult::Verified), (2, "65387", JobResult::Failed), (3, "590J1", JobResult::Stopped)]
        {
            records::begin(state, &record(number, tag, result)).unwrap();
        }
        let all = ["/srv/image3.iso", "/srv/image2.iso", "/srv/image1.iso"];
        assert_eq!(names(state, &JobQuery::default()), all);
        let of = |wanted: JobQuery| names(state, &wanted);
        assert_eq!(of(JobQuery { tag: Some("590J1".into()), ..JobQuery::default() }), [all[0], all[2]]);
        assert_eq!(of(JobQuery { result: Some(JobResult::Failed), ..JobQuery::default() }), [all[1]]);
        assert_eq!(
            of(JobQuery { since: Some("2026-11-22T08:00:00Z".into()), ..JobQuery::default() }),
            [all[0], all[1]]
        );
        assert_eq!(of(JobQuery { image: Some("IMAGE2".into()), ..JobQuery::default() }), [all[1]]);
        assert!(of(JobQuery { image: Some("' OR 1 --".into()), ..JobQuery::default() }).is_empty());
        assert_eq!(of(JobQuery { most: Some(1), ..JobQuery::default() }), [all[0]]);
        let row = Index::of(state).unwrap().jobs(&JobQuery::default()).unwrap().remove(0);
        assert_eq!((row.drives[0].write_rate, row.by.person.as_deref()), (Some(4e6), Some("ann")));
        // By its first block.
        let blocks = Blocks { bytes: 9, digests: vec![blake3::hash(b"first")] };
        let job = records::begin(state, &record(4, "590J1", JobResult::Verified)).unwrap();
        super::super::keep_blocks(state, job.job(), &blocks).unwrap();
        assert_eq!(of(JobQuery { first_block: Some(blocks.digests[0]), ..JobQuery::default() }), ["/srv/image4.iso"]);
        // A record that goes, one that changes, one that can't be read.
        fs::remove_file(state.join("jobs/20261122-080000-65387.json")).unwrap();
        fs::write(state.join("jobs/x.json"), "{").unwrap();
        job.end(&record(5, "590J1", JobResult::Verified)).unwrap();
        let left = ["/srv/image5.iso", all[0], all[2]];
        assert_eq!(names(state, &JobQuery::default()), left);
        assert_eq!(Index::of(state).unwrap().unreadable().unwrap(), ["x"]);
        let index = state.join(FILE);
        let run = |text: &str| Connection::open(&index).unwrap().execute_batch(text).unwrap();
        let spoils: [&dyn Fn(); 11] = [
            &|| run("UPDATE jobs SET image_file = x'ff00'"),
            &|| run("UPDATE jobs SET image_file = CAST(x'ff' AS TEXT)"),
            &|| run("UPDATE jobs SET kind = 'dance' WHERE is_read = 1"),
            &|| run("UPDATE drives SET result = 'odd'"),
            &|| run("CREATE TRIGGER t AFTER DELETE ON jobs BEGIN SELECT 1; END"),
            &|| {
                run("DROP TABLE drives; DROP TABLE jobs; CREATE VIEW jobs AS WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n)
                     SELECT i AS id FROM n");
            },
            &|| fs::remove_file(&index).unwrap(),
            &|| fs::write(&index, b"somebody else's notes, which are no database at all").unwrap(),
            &|| {
                let whole = fs::read(&index).unwrap();
                fs::write(&index, &whole[..whole.len() / 2]).unwrap();
            },
            &|| Connection::open(&index).unwrap().pragma_update(None, "user_version", VERSION + 1).unwrap(),
            &|| Connection::open(&index).unwrap().execute_batch("DROP TABLE drives").unwrap(),
        ];
        for (number, spoil) in spoils.iter().enumerate() {
            spoil();
            assert_eq!(names(state, &JobQuery::default()), left, "{number}");
        }
        // Where nothing can be kept it answers all the same.
        fs::remove_file(&index).unwrap();
        fs::create_dir(&index).unwrap();
        assert_eq!(names(state, &JobQuery::default()), left);
    }
}
