//! `pyrotyp check`: is this the file that was published, and by whom?

use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::hash::Sum;
use pyrotyp_core::published::signature::{KEYS_BYTES_MOST, Key, Remembered};
use pyrotyp_core::published::{
    CheckError, Embedded, Expected, FileList, Given, Over, Published, PublishedSignature, Purpose, Report, Vouched,
};
use pyrotyp_core::shelf::{Identity, Item, Shelf};
use pyrotyp_core::stop::Cancel;
use pyrotyp_core::text::Shown;
use pyrotyp_core::{machine, published};

use super::{OpenedImage, fit_to_write, on_shelf_or_file, open_image, shelf, state_folder};
use crate::asked::{Against, Common};
use crate::exit::{Exit, Failure, plain};
use crate::show::progress::Progress;
use crate::show::{checked, json};
use crate::{put, put_document, say, warn};

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

/// What is known of an image before it is read.
#[derive(Clone, Copy)]
pub struct Known<'a> {
    /// What a person gives.
    pub against: &'a Against,
    /// Checksums that a Metalink file or a catalogue publishes.
    pub expected: &'a [Expected],
    /// Keys that the catalogue names for the system.
    pub keys: &'a [Key],
    /// Checksums of these very bytes, computed on the way here.
    pub sums: Option<&'a [Sum]>,
    /// What it is checked for.
    pub purpose: Purpose,
    /// Whether it is read whatever there is to compare with.
    pub is_read: bool,
}

impl<'a> Known<'a> {
    /// What a person gives, and no more.
    pub fn of(against: &'a Against) -> Self {
        Self { against, expected: &[], keys: &[], sums: None, purpose: Purpose::Look, is_read: false }
    }
}

/// What was published for an image, and who vouches for it; of the image itself no more is read than a signature of all of
/// it needs, and where `image` is not there yet, such a signature is passed over.
///
/// A key that was good is remembered.
pub fn vouched_for(
    path: &Path,
    image: Option<&OpenedImage>,
    known: &Known<'_>,
    common: &Common,
    cancel: &Cancel,
) -> Result<(Published, Report), Failure> {
    let against = known.against;
    let given = Given { sums: &against.sum, list: against.sums.as_deref(), signature: against.signature.as_deref() };
    let mut published = published::published(path, &given)?;
    published.expected.extend_from_slice(known.expected);
    let mut keys = given_keys(against)?;
    if !keys.is_empty() && published.signatures.is_empty() {
        let next = "give the signature with --signature, or leave --key away";
        return Err(Failure::new(Exit::Checksum, "there is no signature that the key could check", next));
    }
    keys.extend_from_slice(known.keys);
    let mut remembered = match state_folder(common) {
        Some(state) => Remembered::load(&state)
            .map_err(|error| Failure::new(Exit::Checksum, crate::exit::chain(&error), error.next_step()))?,
        None => Remembered::default(),
    };
    let is_of_image = |signature: &PublishedSignature| matches!(signature.over.first(), Some(Over::Image { .. }));
    if published.signatures.iter().any(is_of_image) {
        if image.is_none() {
            published.signatures.retain(|signature| !is_of_image(signature));
            say(common, "the signature of the whole image can't be checked while it comes; its checksum is\n");
        } else {
            say(common, "checking the signature of the whole image\n");
        }
    }
    let system = image.and_then(|image| image.inspection.naming.system_or(image.inspection.label.as_deref()));
    let (system, now) = (system.as_deref(), Timestamp::now());
    let nothing: &dyn ReadAt = &Vec::new();
    let bytes = image.map_or(nothing, |image| &*image.file);
    let signatures = published::vouch(&published, bytes, system, &keys, &remembered, now, cancel);
    if cancel.is_set() {
        return Err(CheckError::Stopped.into());
    }
    remember(&mut remembered, &signatures, &keys, system, now, common);
    let is_signed = signatures.iter().any(|vouched| vouched.is_good());
    let missed_key = system.filter(|_| !is_signed).and_then(|system| remembered.key_of(system)).cloned();
    let report = Report {
        signatures,
        missed_key,
        unlisted: published.unlisted.clone(),
        unusable: published.unusable.clone(),
        ..Report::default()
    };
    Ok((published, report))
}

/// Checks signatures, published checksums and what the image carries inside.
///
/// A signature that refuses ends it at once. Without anything to compare with, [`Depth::Enough`] does not read the image.
pub fn examine(
    path: &Path,
    image: &OpenedImage,
    known: &Known<'_>,
    depth: Depth,
    common: &Common,
    cancel: &Cancel,
) -> Result<Report, Failure> {
    let (published, before) = vouched_for(path, Some(image), known, common, cancel)?;
    if !before.ok() {
        return Ok(before);
    }
    let may_keep = known.sums.is_none() && known.purpose == Purpose::Look;
    let kept = if may_keep { kept_sums(path, &published, common) } else { None };
    let are_enough = |sums: &&[Sum]| !published.expected.is_empty() && published::are_enough(sums, &published.expected);
    if let Some(sums) = known.sums.or(kept.as_deref()).filter(are_enough) {
        let found = published::compare(&published, sums.to_vec());
        return Ok(Report { signatures: before.signatures, missed_key: before.missed_key, ..found });
    }
    let is_wanted = depth == Depth::Everything || published.expected.is_empty();
    let embedded = if is_wanted { embedded(image)? } else { None };
    let list = if is_wanted { inside(image, common, cancel)? } else { None };
    let is_blind = published.is_empty() && embedded.is_none() && list.is_none();
    if depth == Depth::Enough && is_blind && !known.is_read {
        return Ok(before);
    }
    let mut progress = Progress::of_check("check", Some(image.file.size()), common);
    let done = &mut |done| progress.checked(done);
    let found = published::check(&*image.file, &published, embedded.as_ref(), known.purpose, cancel, done)?;
    progress.finish();
    Ok(Report { signatures: before.signatures, missed_key: before.missed_key, inside: list, ..found })
}

/// The checksums of an image on the shelf that has not changed since they were computed, if they are all that is asked for.
fn kept_sums(path: &Path, published: &Published, common: &Common) -> Option<Vec<Sum>> {
    let shelf = Shelf::open(&state_folder(common)?).ok()?;
    let item = shelf.at(path).filter(|item| shelf.is_unchanged(item))?;
    let sums = item.sums();
    let are_enough = published::are_enough(&sums, &published.expected);
    if published.expected.is_empty() || !published.torrents.is_empty() || !are_enough {
        return None;
    }
    let day = item.checked.as_deref().unwrap_or_default().get(..10).unwrap_or_default();
    say(
        common,
        &format!("checksums of {day}, the file being unchanged since; to read it again: pyrotyp shelf verify\n"),
    );
    Some(sums)
}

/// The entry of an image that lies on the shelf, and where that is.
pub fn on_shelf(path: &Path, common: &Common) -> Option<(PathBuf, Item)> {
    let state = state_folder(common)?;
    match Shelf::open(&state) {
        Ok(shelf) => Some((state, shelf.at(path)?.clone())),
        Err(error) => {
            warn(&format!("what the shelf in {} knows can't be looked at: {}\n", state.shown(), plain(&error)));
            None
        }
    }
}

/// Keeps what a check of an image on the shelf has found.
pub fn note_on_shelf(path: &Path, identity: io::Result<Identity>, report: &Report, common: &Common) {
    let Ok(identity) = identity else { return };
    let shelved = Some(()).filter(|()| report.ok() && !report.sums.is_empty()).and_then(|()| on_shelf(path, common));
    let Some((state, item)) = shelved else { return };
    shelf::note(&state, common, |shelf| shelf.note(&item.file, &report.sums, report.proof().word(), &identity));
}

/// Keeps every key that was good, and what a known key that was given now tells of itself.
pub fn remember(
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
pub fn given_keys(against: &Against) -> Result<Vec<Key>, Failure> {
    let mut all = Vec::new();
    for path in &against.key {
        let next = "give the public key file that the publisher offers for checking signatures";
        let fail =
            |why: String| Failure::new(Exit::Checksum, format!("can't use the key {}: {why}", path.shown()), next);
        let bytes = machine::read_regular(path, KEYS_BYTES_MOST).map_err(|error| fail(plain(&error)))?;
        all.extend(Key::read_all(&bytes).map_err(fail)?);
    }
    Ok(all)
}

/// The sum in the volume descriptor of an unpacked image.
fn embedded(image: &OpenedImage) -> Result<Option<Embedded>, Failure> {
    let Some(volume) = image.plain_volume() else { return Ok(None) };
    let found = published::embedded(&*image.file, volume);
    Ok(found.map_err(|source| CheckError::Image { at: 0, source })?)
}

/// Checks every file of an unpacked image against the list that lies in it, if there is one.
fn inside(image: &OpenedImage, common: &Common, cancel: &Cancel) -> Result<Option<FileList>, Failure> {
    let Some(volume) = image.plain_volume() else { return Ok(None) };
    let mut progress: Option<Progress> = None;
    let found = published::file_list(&*image.file, volume, cancel, &mut |done, total| {
        progress.get_or_insert_with(|| Progress::of_check("files", Some(total), common)).checked(done);
    })?;
    progress.into_iter().for_each(Progress::finish);
    Ok(found)
}

/// Whether what speaks against the image is the image itself, and not what a person gave to compare with, or who signed.
pub fn is_damage(report: &Report, against: &Against) -> bool {
    let is_given = !against.sum.is_empty() || against.sums.is_some();
    !is_given && signature_refusal(&report.signatures).is_none()
}

/// The first thing that speaks against the image, if anything does.
pub fn refusal(path: &Path, report: &Report) -> Option<Failure> {
    signature_refusal(&report.signatures)
        .or_else(|| mismatch(path, report))
        .or_else(|| damaged_pieces(path, report))
        .or_else(|| damaged_sum(path, report))
        .or_else(|| damaged_inside(path, report.inside.as_ref()?))
}

/// The first signature that is no good, if one is.
pub fn signature_refusal(signatures: &[Vouched]) -> Option<Failure> {
    let vouched = signatures.iter().find(|vouched| vouched.is_refusal)?;
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
    let (expected, source) = (&wrong.expected, wrong.expected.source.shown());
    let (path, hex) = (path.shown(), &expected.sum.hex);
    if expected.is_told {
        let (algorithm, found) = (wrong.found.algorithm, &wrong.found.hex);
        let text =
            format!("{path}: the {algorithm} does not match {source}\n   published  {hex}\n   this file  {found}");
        let next = "download the image again; if it stays so, the list may be for another release";
        return Some(Failure::new(Exit::Checksum, text, next));
    }
    let meant: Vec<Sum> = expected
        .algorithms()
        .filter_map(|meant| report.sums.iter().find(|sum| sum.algorithm == meant).cloned())
        .collect();
    let mut text = format!("{path}: {source} does not say of which kind its checksum is, and it matches none");
    text.push_str(&format!("\n   published  {hex}"));
    meant.iter().for_each(|sum| text.push_str(&format!("\n   {:<10} {}", sum.algorithm.to_string(), sum.hex)));
    let next = "download the image again; if it stays so, give the published SHA-256 with --sum";
    Some(Failure::new(Exit::Checksum, text, next))
}

fn damaged_pieces(path: &Path, report: &Report) -> Option<Failure> {
    let wrong = report.pieces.iter().find(|pieces| !pieces.ok())?;
    let (file, source) = (path.shown(), &wrong.source);
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
        format!("{}: damaged by the MD5 in its own volume descriptor{}", path.shown(), place.unwrap_or_default());
    Some(Failure::new(Exit::Checksum, text, "download the image again"))
}

fn damaged_inside(path: &Path, list: &FileList) -> Option<Failure> {
    let damaged = list.damaged.iter().chain(&list.missing);
    let names: Vec<String> = damaged.map(|name| name.shown()).take(NAMES_TOLD).collect();
    let more = (list.damaged.len() + list.missing.len()).saturating_sub(names.len());
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let text = format!("{}: damaged by its own list {}: {}{more}", path.shown(), list.source, names.join(", "));
    (!list.ok()).then(|| Failure::new(Exit::Checksum, text, "download the image again"))
}

/// Checks one image.
pub fn run(asked: &Path, against: &Against, common: &Common, cancel: &Cancel) -> Result<Exit, Failure> {
    let path = &on_shelf_or_file(asked, common)?;
    let identity = Identity::of(path);
    let image = open_image(path, common)?;
    let report = examine(path, &image, &Known::of(against), Depth::Everything, common, cancel)?;
    note_on_shelf(path, identity, &report, common);
    let refused = refusal(path, &report);
    if refused.is_some()
        && let Some((state, item)) = on_shelf(path, common).filter(|_| is_damage(&report, against))
    {
        shelf::note_damage(&state, &item.file, common);
    }
    let unfit = refused.or_else(|| fit_to_write(path, &image.inspection).err());
    let document = json::check(path, &report, unfit.is_none());
    if !common.json {
        put(&checked::check(path, &report, unfit.is_none(), common))?;
    }
    match unfit {
        Some(failure) => Err(failure.with_document(document)),
        None if common.json => put_document(&document).map(|()| Exit::Done),
        None => Ok(Exit::Done),
    }
}
