//! `pyrotyp unpack`: an image's files onto drives, so that UEFI starts them.

use std::path::Path;

use jiff::Timestamp;
use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::compose::{
    ComposeError, Composition, OnDrive, Storage, TableForm, UnpackFault, UnpackedTree, VolumeKind, serial,
    storage_with, unpacked,
};
use pyrotyp_core::examine::checks;
use pyrotyp_core::image::{Inspection, Verdict};
use pyrotyp_core::job::Checked;
use pyrotyp_core::record::JobKind;
use pyrotyp_core::text::{Shown, chain, shell};
use pyrotyp_core::{FindingId, published};

use crate::asked::Unpack;
use crate::exit::{Exit, Failure};
use crate::session::Session;
use crate::session::attached::platform;
use crate::session::examining::content;
use crate::session::images::{fit_to_write, on_shelf_or_file, open_image};
use crate::show::unpacked::UnpackedFiles;
use crate::writing::confirming::{Confirming, ImageFrom};
use crate::writing::job::{self, Ready, ToldAs};
use crate::writing::planning::{self, AlikeDrives, Chosen, Image};
use crate::writing::preparing::Preparing;
use crate::writing::unchanged::FromFile;

/// Lays the files of one image out on one drive or several.
pub(crate) fn run(asked: &Unpack, session: &Session<'_>) -> Result<Exit, Failure> {
    let confirming = Confirming::find(&asked.job, ImageFrom::Elsewhere)?;
    let path = &on_shelf_or_file(&asked.image, session.common)?;
    let platform = &*platform(session.common)?;
    let started = Timestamp::now().to_string();
    let opened = open_image(path, session.common)?;
    fit_to_write(path, &opened.inspection)?;
    let choices = planning::choices(&asked.to, &asked.job, platform, session)?;
    let drives = planning::alike(&choices)?;
    let storage = wanted(asked, &opened.inspection, &drives)?;
    let content = content(path, &opened, drives.bytes, session)?;
    let source = content.bytes();
    let laid_out = unpacked(source, &opened.inspection).map_err(|fault| not_unpacked(path, &fault))?;
    let UnpackedTree { tree, files, bytes, left_out } = laid_out;
    let made = storage_with(&storage, &tree).map_err(|error| no_room(path, &error))?;
    // What is to lie where is known by now, and the job needs the memory.
    drop(tree);
    let inspection = inspection(&opened.inspection, &made, &storage)?;
    let source = FromFile::new(&made, path);
    let published = published::published(path, &asked.against.known().given);
    let to_do = published.as_ref().map_or_else(|_| Vec::new(), |published| checks(&opened, published));
    let about = UnpackedFiles { inspection: &inspection, storage: &storage, files, bytes, left_out: &left_out };
    let image = Image {
        path,
        is_file: true,
        inspection: &inspection,
        bytes: Some(made.size()),
        hole_bytes: made.hole_bytes(),
        report: None,
        expects: None,
        checks: &to_do,
        behind: None,
    };
    let mut plan =
        planning::plan_for(Chosen { kind: JobKind::Unpack, choices }, &image, &asked.job, platform, session)?;
    let preparing =
        Preparing { against: &asked.against, opened: &opened, image, files: Some(about), platform, session };
    let (_, cleared) = preparing
        .prepare(&mut plan, published, confirming)
        .map_err(|failure| job::refused(&plan, &started, failure, session))?;
    let told_as = ToldAs::Unpacked(about);
    let checked = Checked::default();
    let ready = Ready { image, source: &source, checked, plan: &plan, cleared, started: &started, news: None, told_as };
    job::run(ready, platform, session)
}

/// What the drives are to be: alike, so that the smallest one has room for it.
fn wanted(asked: &Unpack, of: &Inspection, drives: &AlikeDrives) -> Result<Storage, Failure> {
    let kind = VolumeKind::Fat32;
    let label = match &asked.label {
        Some(label) => {
            kind.label(label).map_err(|fault| Failure::new(Exit::Usage, fault.to_string(), "choose another --label"))?
        }
        None => kind.label_like(of.label.as_deref().unwrap_or_default()),
    };
    let AlikeDrives { bytes: smallest, sector_bytes, tags } = drives;
    let drive_bytes = smallest - smallest.checked_rem(u64::from((*sector_bytes).max(1))).unwrap_or_default();
    let table = asked.table.unwrap_or_else(|| TableForm::for_size(drive_bytes, *sector_bytes));
    // The same for the same image on the same drives, so that a job can be gone on with.
    let serial = serial(tags, &format!("{} {}", of.bytes, of.label.as_deref().unwrap_or_default()));
    Ok(Storage { drive_bytes, sector_bytes: *sector_bytes, kind, table, label, serial })
}

/// What is known of the drive as it will be: it is called as the image is, and starts what lies in its files.
fn inspection(of: &Inspection, made: &Composition<'_>, storage: &Storage) -> Result<Inspection, Failure> {
    let on_drive = OnDrive { made, drive_bytes: storage.drive_bytes };
    let mut seen = planning::looked_into(&on_drive, storage.sector_bytes)?;
    // The drive's own end is no padding of an image.
    seen.findings.retain(|finding| finding.id != FindingId::Padding);
    if let Some(unfinished) = of.findings.iter().find(|finding| finding.id == FindingId::UnfinishedDownload) {
        seen.verdict = Verdict::No;
        seen.findings.push(unfinished.clone());
    }
    if let Some(nothing) = seen.findings.iter_mut().find(|finding| finding.id == FindingId::NothingToStart) {
        "its files hold no program for UEFI in EFI/BOOT, and nothing else of it starts from a stick"
            .clone_into(&mut nothing.text);
        nothing.next = match of.verdict {
            Verdict::No => "look for the hybrid or USB edition of this image".into(),
            Verdict::Ready | Verdict::Caution => "write it as it is, with `pyrotyp write`".into(),
        };
    }
    // The volume reaches further than what is written.
    seen.span.needs_bytes = made.size();
    seen.naming = of.naming.clone();
    seen.label.clone_from(&of.label);
    Ok(seen)
}

fn not_unpacked(path: &Path, fault: &UnpackFault) -> Failure {
    let next = match fault {
        UnpackFault::NoVolume => format!("pyrotyp inspect {} tells what it is", shell::path(path)),
        UnpackFault::Lost { .. } | UnpackFault::Unread(_) => "download it again".to_owned(),
        _ => "look for the hybrid or USB edition of this image".to_owned(),
    };
    Failure::new(Exit::Image, format!("{}: {}", path.shown(), chain(fault)), next)
}

fn no_room(path: &Path, error: &ComposeError) -> Failure {
    let (exit, next) = match error {
        ComposeError::Room { .. } | ComposeError::Size { .. } => (Exit::Refused, "choose a larger drive"),
        ComposeError::Table { .. } => (Exit::Usage, "use --table gpt"),
        _ => (Exit::Image, "look for the hybrid or USB edition of this image"),
    };
    Failure::new(exit, format!("{}: {}", path.shown(), chain(error)), next)
}
