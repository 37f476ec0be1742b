//! `pyrotyp save`: a drive into a file.

use std::path::Path;

use jiff::Timestamp;
use pyrotyp_core::bytes::WithGaps;
use pyrotyp_core::devices::{DriveIo, Sectors};
use pyrotyp_core::drive::Drive;
use pyrotyp_core::image::{FileMap, Inspection};
use pyrotyp_core::job::save::{Filling, Saved};
use pyrotyp_core::record::JobKind;

use crate::asked::Save;
use crate::exit::{Exit, Failure};
use crate::out::{put, put_document};
use crate::session::Session;
use crate::session::attached::{platform, whole_drive};
use crate::show::json;
use crate::show::saved::{self, Missing, SavedDrive};
use crate::writing::reading::{ReadDrive, looked_into, reach};
use crate::writing::saving::{self, OnFile, ToSave, free_name, lies_elsewhere};

/// Saves one drive; it stays as it is.
pub(crate) fn run(asked: &Save, session: &Session<'_>) -> Result<Exit, Failure> {
    let file = free_name(&asked.file)?;
    let platform = &*platform(session.common)?;
    let of = &whole_drive(platform, &asked.drive, session)?;
    lies_elsewhere(&file, of, platform)?;
    let source = ReadDrive::of(JobKind::Save, "what is on it", of, platform, session)?;
    let saved = save_opened(asked, &file, ReadFrom { of, drive: source.drive() }, session);
    source.give_back();
    saved
}

/// The drive that is saved.
#[derive(Clone, Copy)]
struct ReadFrom<'a> {
    of: &'a Drive,
    drive: &'a dyn DriveIo,
}

fn save_opened(asked: &Save, file: &Path, subject: ReadFrom<'_>, session: &Session<'_>) -> Result<Exit, Failure> {
    let ReadFrom { of, drive } = subject;
    let started = Timestamp::now();
    let sectors = Sectors::of(drive);
    let inspection = looked_into(of, &sectors);
    let (bytes, inspection) = if asked.whole {
        (of.bytes, inspection.ok())
    } else {
        // Without its tables, nobody knows what counts.
        let next = || "with --whole, all of it that can be read is saved".to_owned();
        let inspection = inspection.map_err(|failure| Failure { next: next(), ..failure })?;
        (reach(&inspection, of)?, Some(inspection))
    };
    let filling = if asked.fill_unreadable { Filling::Zeros } else { Filling::None };
    let wanted = ToSave { of, bytes, inspection: inspection.as_ref(), file, filling };
    let OnFile { done, record } = saving::save_to(&wanted, drive, session)?;
    let missing = missing(&done, &sectors, inspection.as_ref());
    let whole = missing.is_empty() || asked.fill_unreadable;
    let exit = if whole { Exit::Done } else { Exit::Drive };
    if session.common.json {
        put_document(&json::save(&record, &done))?;
        return Ok(exit);
    }
    let (tag, name) = (of.tag.to_string(), of.name());
    let seconds = Timestamp::now().duration_since(started).as_secs_f64();
    let about = SavedDrive { tag: &tag, name: &name, drive_bytes: of.bytes, seconds, file, missing: &missing };
    put(&saved::saved(&done, &about, session.common))?;
    Ok(exit)
}

/// What could not be read, and what lies there.
fn missing(done: &Saved, sectors: &Sectors<'_>, inspection: Option<&Inspection>) -> Vec<Missing> {
    // What could not be read is not asked for again.
    let readable = WithGaps { of: sectors, gaps: &done.unreadable };
    let map = inspection.and_then(|inspection| FileMap::of(&readable, inspection).ok());
    let one = |range: &std::ops::Range<u64>| Missing {
        offset: range.start,
        bytes: range.end - range.start,
        file: map.as_ref().and_then(|map| map.at(range.start)).map(str::to_owned),
    };
    done.unreadable.iter().map(one).collect()
}
