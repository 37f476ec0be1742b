//! An image held against all that was published for it.

use std::path::Path;

use jiff::Timestamp;
use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::hash::Sum;
use pyrotyp_core::published;
use pyrotyp_core::published::signature::{Key, Remembered};
use pyrotyp_core::published::{
    CheckError, Claims, Embedded, Expected, FileList, Given, Keys, Over, Published, PublishedSignature, Purpose,
    Report, Subject,
};
use pyrotyp_core::shelf::Shelf;

use super::folders::state_folder;
use super::images::OpenedImage;
use super::keys::{Used, given_keys, remember};
use crate::asked::{Against, Common};
use crate::exit::{Exit, Failure};
use crate::live::progress::Progress;
use crate::out::say;
use crate::session::Session;

/// How much is looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Depth {
    /// Everything that can be compared.
    Everything,
    /// What the image carries inside only when nothing was published for it.
    Enough,
}

/// What is known of an image before it is read.
#[derive(Clone, Copy)]
pub(crate) struct Known<'a> {
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
    pub(crate) fn of(against: &'a Against) -> Self {
        Self { against, expected: &[], keys: &[], sums: None, purpose: Purpose::Look, is_read: false }
    }
}

/// What was published for an image, and who vouches for it; of the image itself no more is read than a signature of all of
/// it needs, and where `image` is not there yet, such a signature is passed over.
///
/// A key that was good is remembered.
pub(crate) fn vouched_for(
    path: &Path,
    image: Option<&OpenedImage>,
    known: &Known<'_>,
    session: &Session<'_>,
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
    let mut remembered = match state_folder(session.common) {
        Some(state) => Remembered::load(&state)
            .map_err(|error| Failure::new(Exit::Checksum, crate::exit::chain(&error), error.next_step()))?,
        None => Remembered::default(),
    };
    let is_of_image = |signature: &PublishedSignature| matches!(signature.over.first(), Some(Over::Image { .. }));
    if published.signatures.iter().any(is_of_image) {
        if image.is_none() {
            published.signatures.retain(|signature| !is_of_image(signature));
            say(session.common, "the signature of the whole image can't be checked while it comes; its checksum is\n");
        } else {
            say(session.common, "checking the signature of the whole image\n");
        }
    }
    let system = image.and_then(|image| image.inspection.naming.system_or(image.inspection.label.as_deref()));
    let (system, now) = (system.as_deref(), Timestamp::now());
    let nothing: &dyn ReadAt = &Vec::new();
    let bytes = image.map_or(nothing, |image| &*image.file);
    let subject = Subject { image: bytes, system };
    let signatures =
        published::vouch(&published, subject, Keys { given: &keys, remembered: &remembered }, now, session.cancel);
    if session.cancel.is_set() {
        return Err(CheckError::Stopped.into());
    }
    let used = Used { signatures: &signatures, given: &keys, system };
    remember(&mut remembered, used, now, session.common);
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
pub(crate) fn examine(
    path: &Path,
    image: &OpenedImage,
    known: &Known<'_>,
    depth: Depth,
    session: &Session<'_>,
) -> Result<Report, Failure> {
    let (published, before) = vouched_for(path, Some(image), known, session)?;
    if !before.ok() {
        return Ok(before);
    }
    let may_keep = known.sums.is_none() && known.purpose == Purpose::Look;
    let kept = if may_keep { kept_sums(path, &published, session.common) } else { None };
    let are_enough = |sums: &&[Sum]| !published.expected.is_empty() && published::are_enough(sums, &published.expected);
    if let Some(sums) = known.sums.or(kept.as_deref()).filter(are_enough) {
        let found = published::compare(&published, sums.to_vec());
        return Ok(Report { signatures: before.signatures, missed_key: before.missed_key, ..found });
    }
    let is_wanted = depth == Depth::Everything || published.expected.is_empty();
    let embedded = if is_wanted { embedded(image)? } else { None };
    let list = if is_wanted { inside(image, session)? } else { None };
    let is_blind = published.is_empty() && embedded.is_none() && list.is_none();
    if depth == Depth::Enough && is_blind && !known.is_read {
        return Ok(before);
    }
    let mut progress = Progress::of_check("check", Some(image.file.size()), session.common);
    let done = &mut |done| progress.checked(done);
    let claims = Claims { published: &published, embedded: embedded.as_ref(), purpose: known.purpose };
    let found = published::check(&*image.file, claims, session.cancel, done)?;
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

/// The sum in the volume descriptor of an unpacked image.
fn embedded(image: &OpenedImage) -> Result<Option<Embedded>, Failure> {
    let Some(volume) = image.plain_volume() else { return Ok(None) };
    let found = published::embedded(&*image.file, volume);
    Ok(found.map_err(|source| CheckError::Image { at: 0, source })?)
}

/// Checks every file of an unpacked image against the list that lies in it, if there is one.
fn inside(image: &OpenedImage, session: &Session<'_>) -> Result<Option<FileList>, Failure> {
    let Some(volume) = image.plain_volume() else { return Ok(None) };
    let mut progress: Option<Progress> = None;
    let found = published::file_list(&*image.file, volume, session.cancel, &mut |done, total| {
        progress.get_or_insert_with(|| Progress::of_check("files", Some(total), session.common)).checked(done);
    })?;
    progress.into_iter().for_each(Progress::finish);
    Ok(found)
}
