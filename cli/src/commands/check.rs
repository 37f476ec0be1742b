//! `pyrotyp check`: is this the file that was published, and by whom?

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

use jiff::Timestamp;
use pyrotyp_core::Cancel;
use pyrotyp_core::digest::{self, CheckError, Embedded, FileList, Given, Over, Report};
use pyrotyp_core::image::ReadAt;
use pyrotyp_core::signature::{self, KEYS_BYTES_MOST, Key, Remembered, Vouched};

use super::{OpenedImage, open_image, state_folder};
use crate::asked::{Against, Common};
use crate::exit::{Exit, Failure, plain};
use crate::show::progress::Progress;
use crate::show::{checked, json};
use crate::{put, say};

/// Most damaged files that are named.
const NAMES_TOLD: usize = 8;

/// How much is looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Depth {
    /// Everything that can be compared.
    Everything,
    /// What the image carries inside only when nothing was published for it.
    Enough,
}

/// Checks signatures, published checksums and what the image carries inside.
///
/// A signature that refuses ends it at once; a key that was good is remembered. Without anything to compare with,
/// [`Depth::Enough`] does not read the image.
pub fn examine(
    path: &Path,
    image: &OpenedImage,
    against: &Against,
    depth: Depth,
    common: &Common,
    cancel: &Cancel,
) -> Result<Report, Failure> {
    let given = Given { sums: &against.sum, list: against.sums.as_deref(), signature: against.signature.as_deref() };
    let published = digest::published(path, &given)?;
    let keys = keys(against)?;
    if !keys.is_empty() && published.signatures.is_empty() {
        let next = "give the signature with --signature, or leave --key away";
        return Err(Failure::new(Exit::Checksum, "there is no signature that the key could check", next));
    }
    let mut remembered = match state_folder(common) {
        Some(state) => Remembered::load(&state)
            .map_err(|error| Failure::new(Exit::Checksum, crate::exit::chain(&error), error.next_step()))?,
        None => Remembered::default(),
    };
    let mut signed = published.signatures.iter();
    if signed.any(|signature| matches!(signature.over.first(), Some(Over::Image { .. }))) {
        say(common, "checking the signature of the whole image\n");
    }
    let naming = &image.inspection.naming;
    let (system, now) = (naming.system.as_deref(), Timestamp::now());
    let signatures = signature::vouch(&published, &*image.file, system, &keys, &remembered, now, cancel);
    if cancel.is_set() {
        return Err(CheckError::Stopped.into());
    }
    remember(&mut remembered, &signatures, &keys, system, now, common);
    let is_signed = signatures.iter().any(|vouched| vouched.is_good());
    let missed_key = system.filter(|_| !is_signed).and_then(|system| remembered.key_of(system)).cloned();
    let before = Report { signatures, missed_key, unlisted: published.unlisted.clone(), ..Report::default() };
    if !before.ok() {
        return Ok(before);
    }
    let is_wanted = depth == Depth::Everything || published.expected.is_empty();
    let embedded = if is_wanted { embedded(image)? } else { None };
    let list = if is_wanted { inside(image, common, cancel)? } else { None };
    let is_blind = published.is_empty() && embedded.is_none() && list.is_none();
    if depth == Depth::Enough && is_blind {
        return Ok(before);
    }
    let mut progress = Progress::of_check("check", Some(image.file.size()), common);
    let done = &mut |done| progress.checked(done);
    let found = digest::check(&*image.file, &published, embedded.as_ref(), cancel, done)?;
    progress.finish();
    Ok(Report { signatures: before.signatures, missed_key: before.missed_key, inside: list, ..found })
}

/// Keeps every key that was good, and what a known key that was given now tells of itself.
fn remember(
    remembered: &mut Remembered,
    signatures: &[Vouched],
    given: &[Key],
    system: Option<&str>,
    now: Timestamp,
    common: &Common,
) {
    if state_folder(common).is_none() {
        if signatures.iter().any(|vouched| vouched.is_first_use) {
            say(common, "the key could not be remembered: there is no home folder; --state names another\n");
        }
        return;
    }
    let renewed = given.iter().map(|key| (remembered.renew(key, now), true)).collect::<Vec<_>>();
    let good = signatures.iter().filter_map(|vouched| Some((vouched.key.as_ref()?, vouched.is_first_use)));
    let kept = good.map(|(key, is_first_use)| {
        let newest = given.iter().find(|given| given.fingerprint() == key.fingerprint()).unwrap_or(key);
        (remembered.keep(newest, system, now), is_first_use)
    });
    for (result, matters) in renewed.into_iter().chain(kept) {
        if let Err(error) = result
            && matters
        {
            say(common, &format!("the key could not be remembered: {}\n", plain(&error)));
        }
    }
}

/// All keys in the files given.
fn keys(against: &Against) -> Result<Vec<Key>, Failure> {
    let mut all = Vec::new();
    for path in &against.key {
        let next = "give the public key file that the publisher offers for checking signatures";
        let fail =
            |why: String| Failure::new(Exit::Checksum, format!("can't use the key {}: {why}", path.display()), next);
        let mut bytes = Vec::new();
        let read = File::open(path).and_then(|file| file.take(KEYS_BYTES_MOST).read_to_end(&mut bytes));
        read.map_err(|error: io::Error| fail(plain(&error)))?;
        all.extend(Key::read_all(&bytes).map_err(fail)?);
    }
    Ok(all)
}

/// The sum in the volume descriptor of an unpacked image.
fn embedded(image: &OpenedImage) -> Result<Option<Embedded>, Failure> {
    let Some(volume) = image.plain_volume() else { return Ok(None) };
    let found = digest::embedded(&*image.file, volume);
    Ok(found.map_err(|source| CheckError::Image { at: 0, source })?)
}

/// Checks every file of an unpacked image against the list that lies in it, if there is one.
fn inside(image: &OpenedImage, common: &Common, cancel: &Cancel) -> Result<Option<FileList>, Failure> {
    let Some(volume) = image.plain_volume() else { return Ok(None) };
    let mut progress: Option<Progress> = None;
    let found = digest::file_list(&*image.file, volume, cancel, &mut |done, total| {
        progress.get_or_insert_with(|| Progress::of_check("files", Some(total), common)).checked(done);
    })?;
    progress.into_iter().for_each(Progress::finish);
    Ok(found)
}

/// The first thing that speaks against the image, if anything does.
pub fn refusal(path: &Path, report: &Report) -> Option<Failure> {
    signature_refusal(report)
        .or_else(|| mismatch(path, report))
        .or_else(|| damaged_pieces(path, report))
        .or_else(|| damaged_sum(path, report))
        .or_else(|| damaged_inside(path, report.inside.as_ref()?))
}

fn signature_refusal(report: &Report) -> Option<Failure> {
    let vouched = report.signatures.iter().find(|vouched| vouched.is_refusal)?;
    let fault = vouched.fault.as_ref()?;
    let text = match vouched.over.as_str() {
        over if over == vouched.file => format!("{over} is not signed as it should be: {fault}"),
        over => format!("{} is no good signature of {over}: {fault}", vouched.file),
    };
    Some(Failure::new(Exit::Checksum, text, fault.next_step()))
}

/// Both values shown.
fn mismatch(path: &Path, report: &Report) -> Option<Failure> {
    let wrong = report.checked.iter().find(|checked| !checked.matches())?;
    let text = format!(
        "{}: the {} does not match {}\n   published  {}\n   this file  {}",
        path.display(),
        wrong.found.algorithm,
        wrong.expected.source,
        wrong.expected.sum.hex,
        wrong.found.hex
    );
    let next = "download the image again; if it stays so, the list may be for another release";
    Some(Failure::new(Exit::Checksum, text, next))
}

fn damaged_pieces(path: &Path, report: &Report) -> Option<Failure> {
    let wrong = report.pieces.iter().find(|pieces| !pieces.ok())?;
    let (file, source) = (path.display(), &wrong.source);
    let text = match (wrong.other_length, wrong.damaged.first()) {
        (Some(length), _) => format!("{file}: {source} names a file of {length} bytes, which this is not"),
        (None, Some((start, bytes))) => {
            let more = wrong.damaged.len().saturating_sub(1);
            let more = match more {
                0 => String::new(),
                1 => ", and one more place".to_owned(),
                more => format!(", and {more} more places"),
            };
            format!("{file}: damaged by the pieces of {source}: at byte {start}, {bytes} bytes{more}")
        }
        (None, None) => return None,
    };
    Some(Failure::new(
        Exit::Checksum,
        text,
        "download the image again; a torrent client fetches the damaged pieces alone",
    ))
}

fn damaged_sum(path: &Path, report: &Report) -> Option<Failure> {
    let wrong = report.embedded.as_ref().filter(|embedded| !embedded.ok())?;
    let place = wrong.damaged.map(|(first, last)| format!(", between byte {first} and byte {last} at first"));
    let text =
        format!("{}: damaged by the MD5 in its own volume descriptor{}", path.display(), place.unwrap_or_default());
    Some(Failure::new(Exit::Checksum, text, "download the image again"))
}

fn damaged_inside(path: &Path, list: &FileList) -> Option<Failure> {
    let damaged = list.damaged.iter().chain(&list.missing);
    let names: Vec<&str> = damaged.map(String::as_str).take(NAMES_TOLD).collect();
    let more = (list.damaged.len() + list.missing.len()).saturating_sub(names.len());
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let text = format!("{}: damaged by its own list {}: {}{more}", path.display(), list.source, names.join(", "));
    (!list.ok()).then(|| Failure::new(Exit::Checksum, text, "download the image again"))
}

/// Checks one image.
pub fn run(path: &Path, against: &Against, common: &Common, cancel: &Cancel) -> Result<Exit, Failure> {
    let image = open_image(path)?;
    let report = examine(path, &image, against, Depth::Everything, common, cancel)?;
    if common.json {
        put(&json::check(path, &report))?;
    } else {
        put(&checked::check(path, &report, common))?;
    }
    match refusal(path, &report) {
        Some(failure) => Err(failure),
        None => Ok(Exit::Done),
    }
}
