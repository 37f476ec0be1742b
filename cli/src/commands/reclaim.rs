//! `pyrotyp reclaim`: a drive back to plain storage.

use std::path::Path;

use jiff::Timestamp;
use pyrotyp_core::bytes::{ReadAt, human_bytes};
use pyrotyp_core::compose::{ComposeError, Storage, TableForm, VolumeKind, storage};
use pyrotyp_core::drive::Drive;
use pyrotyp_core::job::{Checked, ComposedImage};
use pyrotyp_core::record::JobKind;
use pyrotyp_core::text::chain;

use crate::asked::{Job, Reclaim};
use crate::exit::{Exit, Failure};
use crate::out::say;
use crate::session::Session;
use crate::session::attached::{choose_drive, needs_medium, platform};
use crate::show::card::OnDrives;
use crate::show::text;
use crate::writing::asking::Asking;
use crate::writing::confirming::{Confirming, ImageFrom};
use crate::writing::job::{self, Ready, ToldAs};
use crate::writing::planning::{self, Chosen, Image};

/// Puts an empty volume onto one drive, by the same way as an image.
pub(crate) fn run(asked: &Reclaim, session: &Session<'_>) -> Result<Exit, Failure> {
    let job = Job { limit: asked.limit, ..asked.consent.job() };
    let confirming = Confirming::find(&job, ImageFrom::Elsewhere)?;
    planning::confirmable(&asked.drive, &job)?;
    let platform = &*platform(session.common)?;
    let choice = choose_drive(platform, &asked.drive, session.cancel, &|text| say(session.common, text))?;
    needs_medium(&choice.drive)?;
    let started = Timestamp::now().to_string();
    let wanted = wanted(asked, &choice.drive, &started)?;
    let made = storage(&wanted).map_err(|error| unmade(&error, &choice.drive))?;
    let what = format!("plain storage, {}", wanted.kind.word());
    let inspection = planning::made(&made, wanted.sector_bytes, &what)?;
    let image = Image {
        path: Path::new(&what),
        is_file: false,
        inspection: &inspection,
        bytes: Some(made.size()),
        hole_bytes: made.hole_bytes(),
        report: None,
        expects: None,
        checks: &[],
        behind: None,
    };
    let mut plan =
        planning::plan_for(Chosen { kind: JobKind::Reclaim, choices: vec![choice] }, &image, &job, platform, session)?;
    let words = text::storage_words(&wanted);
    let cleared = Asking { platform, session, content: OnDrives::Storage(&words) }
        .ask(&mut plan, confirming)
        .map_err(|failure| job::refused(&plan, &started, failure, session))?;
    let (source, told_as) = (ComposedImage(&made), ToldAs::Storage(&wanted));
    let checked = Checked::default();
    let ready = Ready { image, source: &source, checked, plan: &plan, cleared, started: &started, news: None, told_as };
    job::run(ready, platform, session)
}

/// What the drive is to be, with what was left away.
fn wanted(asked: &Reclaim, drive: &Drive, started: &str) -> Result<Storage, Failure> {
    let kind = asked.kind.unwrap_or_else(|| VolumeKind::for_size(asked.limit.unwrap_or(drive.bytes)));
    let label = match &asked.label {
        Some(label) => {
            kind.label(label).map_err(|fault| Failure::new(Exit::Usage, fault.to_string(), "choose another --label"))?
        }
        None => {
            let volumes = || drive.holds.partitions.iter().map(|part| &part.volume).chain(&drive.holds.whole);
            // What an installer calls its volumes is no name for a stick.
            let is_image = volumes().any(|volume| volume.filesystem.as_deref() == Some("iso9660"));
            let before = volumes().filter(|_| !is_image).find_map(|volume| volume.label.as_deref());
            kind.label_like(before.or(drive.says.model.as_deref()).unwrap_or_default())
        }
    };
    let drive_bytes = used_bytes(asked.limit, drive)?;
    let table = asked.table.unwrap_or_else(|| TableForm::for_size(drive_bytes, drive.sector_bytes));
    // The same for the same drive at the same time, and else another.
    let serial = pyrotyp_core::compose::serial(drive.tag.as_str(), started);
    Ok(Storage { drive_bytes, sector_bytes: drive.sector_bytes, kind, table, label, serial })
}

/// How much of the drive is used, in bytes.
fn used_bytes(limit: Option<u64>, drive: &Drive) -> Result<u64, Failure> {
    let Some(limit) = limit else { return Ok(drive.bytes) };
    let sector = u64::from(drive.sector_bytes.max(1));
    if limit > drive.bytes {
        let text = format!("drive {} has {} bytes ({}), not {limit}", drive.tag, drive.bytes, human_bytes(drive.bytes));
        return Err(Failure::new(Exit::Usage, text, "give a smaller --limit, or leave it away"));
    }
    Ok(limit - limit.checked_rem(sector).unwrap_or_default())
}

fn unmade(error: &ComposeError, drive: &Drive) -> Failure {
    let next = match error {
        ComposeError::Missing { .. } => "install the package e2fsprogs, or choose another kind with --as",
        ComposeError::Table { .. } => "use --table gpt",
        _ => "choose another kind with --as",
    };
    Failure::new(Exit::Usage, format!("drive {}: {}", drive.tag, chain(error)), next)
}
