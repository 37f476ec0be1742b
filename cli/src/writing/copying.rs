//! From drive to drive: what counts of one goes onto others, read once for all of them.

use std::path::Path;

use jiff::Timestamp;
use pyrotyp_core::bytes::Part;
use pyrotyp_core::devices::{DriveIo, Platform, Sectors};
use pyrotyp_core::drive::{Drive, Tag};
use pyrotyp_core::job::Checked;
use pyrotyp_core::job::save::{DriveSource, Gaps};
use pyrotyp_core::record::JobKind;
use pyrotyp_core::text::shell;

use super::asking::Asking;
use super::confirming::{Confirming, ImageFrom};
use super::job::{self, Ready, ToldAs};
use super::planning::{self, Image};
use super::reading::{ReadDrive, looked_into, reach};
use super::saving::SavedFirst;
use crate::asked::Write;
use crate::exit::{Exit, Failure};
use crate::session::Session;
use crate::session::attached::{platform, whole_drive};
use crate::session::images::on_shelf_or_file;

/// Returns the drive that is named in the place of an image, or nothing where an image is named.
pub(crate) fn meant(named: &Path, session: &Session<'_>) -> Result<Option<Drive>, Failure> {
    let Some(name) = named.to_str() else { return Ok(None) };
    if named.is_file() {
        // Only a name that looks like a tag can be both.
        let Ok(tag) = name.parse::<Tag>() else { return Ok(None) };
        let is_drive = platform(session.common)?.drives()?.iter().any(|drive| drive.tag == tag);
        let text = format!("`{tag}` is a file in this folder and the tag of an attached drive");
        let next = format!(
            "name the file by its path, or the drive by its own: pyrotyp write {}",
            shell::path(&Path::new(".").join(named))
        );
        return if is_drive { Err(Failure::new(Exit::Usage, text, next)) } else { Ok(None) };
    }
    let platform = platform(session.common)?;
    let is_drive = match name.parse::<Tag>() {
        Ok(tag) => {
            on_shelf_or_file(named, session.common)? == named && platform.drives()?.iter().any(|one| one.tag == tag)
        }
        Err(_) => name.starts_with("/dev/") && platform.locate(name)?.is_some(),
    };
    // Any other word is a file that is missing, and is told as one.
    is_drive.then(|| whole_drive(&*platform, name, session)).transpose()
}

/// Copies a drive to one or several.
pub(crate) fn run(asked: &Write, from: &Drive, session: &Session<'_>) -> Result<Exit, Failure> {
    let confirming = Confirming::find(&asked.job, ImageFrom::Elsewhere)?;
    let platform = &*platform(session.common)?;
    let started = Timestamp::now().to_string();
    let source = ReadDrive::of(JobKind::Save, "what is on it", from, platform, session)?;
    let done = copied(asked, Copying { from, drive: source.drive(), platform, started: &started }, confirming, session);
    source.give_back();
    done
}

struct Copying<'a> {
    from: &'a Drive,
    drive: &'a dyn DriveIo,
    platform: &'a dyn Platform,
    started: &'a str,
}

fn copied(asked: &Write, copying: Copying<'_>, confirming: Confirming, session: &Session<'_>) -> Result<Exit, Failure> {
    let Copying { from, drive, platform, started } = copying;
    let sectors = Sectors::of(drive);
    let bytes = reach(&looked_into(from, &sectors)?, from)?;
    let mut inspection = looked_into(from, &Part { whole: &sectors, start: 0, bytes })?;
    // Whatever it is, it is to be the same: what would speak against an image does not speak against it.
    inspection.findings.clear();
    let called = format!("drive {}", from.tag);
    let image = Image {
        path: Path::new(&called),
        is_file: false,
        inspection: &inspection,
        bytes: Some(bytes),
        hole_bytes: 0,
        report: None,
        expects: Some("read from that drive, once for all; what comes onto the others is read back"),
        checks: &[],
        behind: None,
    };
    let mut plan = planning::plan(&asked.to, &image, &asked.job, platform, session)?;
    if plan.attached().any(|to| to.path == from.path) {
        let text = format!("drive {} can't be copied onto itself", from.tag);
        return Err(Failure::new(Exit::Refused, text, "name another drive with --to"));
    }
    let first = SavedFirst::of(asked, &plan, platform)?;
    let checksum = image.checksum();
    let cleared = Asking { platform, session, content: image.on_card(&checksum) }
        .ask(&mut plan, confirming)
        .and_then(|cleared| SavedFirst::save(first.as_ref(), platform, session).map(|()| cleared))
        .map_err(|failure| job::refused(&plan, started, failure, session))?;
    let source = DriveSource::new(drive, bytes, Gaps::Refused);
    let checked = Checked::default();
    let told_as = ToldAs::Image;
    let ready = Ready { image, source: &source, checked, plan: &plan, cleared, started, news: None, told_as };
    job::run(ready, platform, session)
}
