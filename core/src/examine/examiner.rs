//! An image held against all that was published for it.

use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;

use crate::bytes::ReadAt;
use crate::examine::fault::ExamineError;
use crate::examine::opened::OpenedImage;
use crate::examine::shelf_notes::ShelfNotes;
use crate::examine::watch::{CheckEvent, CheckWatcher, Unkept, Work};
use crate::hash::Sum;
use crate::machine;
use crate::published::signature::{KEYS_BYTES_MOST, Key, Remembered};
use crate::published::{
    self, CheckError, Claims, Embedded, Expected, FileList, Given, Keys, Over, Published, PublishedSignature, Purpose,
    Report, Subject, Vouched,
};
use crate::shelf::{Identity, Shelf};
use crate::stop::Cancel;
use crate::text::plain;

/// How much is looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Depth {
    /// Everything that can be compared.
    Everything,
    /// What the image carries inside only when nothing was published for it.
    Enough,
}

/// What is known of an image before it is read.
#[derive(Clone, Copy, Debug)]
pub struct Known<'a> {
    /// What a person gives to compare with.
    pub given: Given<'a>,
    /// What was published for it, where that was read already.
    pub published: Option<&'a Published>,
    /// Files with public keys that a person gives.
    pub key_files: &'a [PathBuf],
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

impl Known<'_> {
    /// Nothing but what lies beside the image.
    pub const NOTHING: Self = Self {
        given: Given { sums: &[], list: None, signature: None },
        published: None,
        key_files: &[],
        expected: &[],
        keys: &[],
        sums: None,
        purpose: Purpose::Look,
        is_read: false,
    };
}

/// Examines images for one bench.
#[derive(Clone, Copy)]
pub struct Examiner<'a> {
    /// Where the bench keeps its shelf and its keys; `None` where there is no such place.
    pub state: Option<&'a Path>,
    /// Ends it.
    pub cancel: &'a Cancel,
    /// Hears what happens.
    pub watcher: &'a dyn CheckWatcher,
}

/// All keys in the files given.
///
/// # Errors
/// When one can't be read, or holds no key.
pub fn given_keys(files: &[PathBuf]) -> Result<Vec<Key>, ExamineError> {
    let mut all = Vec::new();
    for path in files {
        let fail = |why: String| ExamineError::Key { path: path.clone(), why };
        let bytes = machine::read_file_or_pipe(path, KEYS_BYTES_MOST).map_err(|error| fail(plain(&error)))?;
        all.extend(Key::read_all(&bytes).map_err(fail)?);
    }
    Ok(all)
}

impl Examiner<'_> {
    /// What was published for an image, and who vouches for it; of the image itself no more is read than a signature of all of
    /// it needs, and where `image` is not there yet, such a signature is passed over.
    ///
    /// A key that was good is remembered.
    ///
    /// # Errors
    /// When what was published or a key can't be read, or when told to stop.
    pub fn vouched_for(
        &self,
        path: &Path,
        image: Option<&OpenedImage>,
        known: &Known<'_>,
    ) -> Result<(Published, Report), ExamineError> {
        let read = || published::published(path, &known.given);
        let mut published = known.published.cloned().map_or_else(read, Ok)?;
        published.expected.extend_from_slice(known.expected);
        let mut keys = given_keys(known.key_files)?;
        if !keys.is_empty() && published.signatures.is_empty() {
            return Err(ExamineError::NothingSigned);
        }
        keys.extend_from_slice(known.keys);
        let mut remembered = self.state.map(Remembered::load).transpose()?.unwrap_or_default();
        let is_of_image = |signature: &PublishedSignature| matches!(signature.over.first(), Some(Over::Image { .. }));
        if published.signatures.iter().any(is_of_image) {
            self.watcher.heard(if image.is_some() {
                &CheckEvent::WholeSignature
            } else {
                published.signatures.retain(|signature| !is_of_image(signature));
                &CheckEvent::WholeSignatureLater
            });
        }
        let system = image.and_then(|image| image.inspection.naming.system_or(image.inspection.label.as_deref()));
        let (system, now) = (system.as_deref(), Timestamp::now());
        let nothing: &dyn ReadAt = &Vec::new();
        let bytes = image.map_or(nothing, |image| &*image.file);
        let is_given_only = !known.key_files.is_empty();
        let by = Keys { given: &keys, remembered: &remembered, is_given_only };
        let subject = Subject { image: bytes, system };
        let signatures = published::vouch(&published, subject, by, now, self.cancel);
        if self.cancel.is_set() {
            return Err(CheckError::Stopped.into());
        }
        self.remember(&mut remembered, &signatures, &keys, system);
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

    /// Keeps every key that was good, and what a known key that was given now tells of itself. `system` is whose they are.
    pub fn remember(&self, remembered: &mut Remembered, signatures: &[Vouched], given: &[Key], system: Option<&str>) {
        if self.state.is_none() {
            if signatures.iter().any(|vouched| vouched.is_first_use) {
                self.watcher.heard(&CheckEvent::Unkept(Unkept::KeyHasNoPlace));
            }
            return;
        }
        let now = Timestamp::now();
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
                self.watcher.heard(&CheckEvent::Unkept(Unkept::Key(error)));
            }
        }
    }

    /// Checks signatures, published checksums and what the image carries inside.
    ///
    /// A signature that refuses ends it at once. Without anything to compare with, [`Depth::Enough`] does not read the image.
    ///
    /// # Errors
    /// When the image or what was published can't be read, or when told to stop.
    pub fn examine(
        &self,
        path: &Path,
        image: &OpenedImage,
        known: &Known<'_>,
        depth: Depth,
    ) -> Result<Report, ExamineError> {
        let (published, before) = self.vouched_for(path, Some(image), known)?;
        if !before.ok() {
            return Ok(before);
        }
        let may_keep = known.sums.is_none() && known.purpose == Purpose::Look;
        let kept = if may_keep { self.kept_sums(path, &published) } else { None };
        let are_enough =
            |sums: &&[Sum]| !published.expected.is_empty() && published::are_enough(sums, &published.expected);
        if let Some(sums) = known.sums.or(kept.as_deref()).filter(are_enough) {
            let found = published::compare(&published, sums.to_vec());
            return Ok(Report { signatures: before.signatures, missed_key: before.missed_key, ..found });
        }
        let is_wanted = depth == Depth::Everything || published.expected.is_empty();
        let embedded = if is_wanted { embedded(image)? } else { None };
        let list = if is_wanted { self.inside(image)? } else { None };
        let is_blind = published.is_empty() && embedded.is_none() && list.is_none();
        if depth == Depth::Enough && is_blind && !known.is_read {
            return Ok(before);
        }
        let claims = Claims { published: &published, embedded: embedded.as_ref(), purpose: known.purpose };
        let found = self.compare(image, claims)?;
        Ok(Report { signatures: before.signatures, missed_key: before.missed_key, inside: list, ..found })
    }

    /// Reads all of the image once, and compares.
    ///
    /// # Errors
    /// When it can't be read, or when told to stop.
    pub fn compare(&self, image: &OpenedImage, claims: Claims<'_>) -> Result<Report, CheckError> {
        self.watcher.heard(&CheckEvent::Began { work: Work::Compare, bytes: Some(image.bytes()) });
        let moved = &mut |done| self.watcher.heard(&CheckEvent::Moved { done });
        let found = published::check(&*image.file, claims, self.cancel, moved);
        self.watcher.heard(&CheckEvent::Ended);
        found
    }

    /// Keeps on the shelf what a check has found of an image that lies there; `identity` is the file's from before.
    pub fn note_found(&self, path: &Path, identity: io::Result<Identity>, report: &Report) {
        self.notes(path).found(identity, report);
    }

    /// Keeps on the shelf that an image that lies there is not what it should be.
    pub fn note_damage(&self, path: &Path) {
        self.notes(path).damage();
    }

    /// Keeps on the shelf the SHA-256 that was computed while an image was written, if the file is still what it was `before`.
    pub fn note_written(&self, path: &Path, sha256: &str, before: &Identity) {
        self.notes(path).learn(sha256, before);
    }

    pub(super) fn notes<'b>(&'b self, path: &'b Path) -> ShelfNotes<'b> {
        ShelfNotes { path, state: self.state, watcher: self.watcher }
    }

    /// The checksums of an image on the shelf that has not changed since they were computed, if they are all that is asked for.
    fn kept_sums(&self, path: &Path, published: &Published) -> Option<Vec<Sum>> {
        let shelf = Shelf::open(self.state?).ok()?;
        let item = shelf.at(path).filter(|item| shelf.is_unchanged(item))?;
        let sums = item.sums();
        let are_enough = published::are_enough(&sums, &published.expected);
        if published.expected.is_empty() || !published.torrents.is_empty() || !are_enough {
            return None;
        }
        let day = item.checked.as_deref().unwrap_or_default().get(..10).unwrap_or_default();
        self.watcher.heard(&CheckEvent::Kept { day });
        Some(sums)
    }

    /// Checks every file of an unpacked image against the list that lies in it, if there is one.
    fn inside(&self, image: &OpenedImage) -> Result<Option<FileList>, CheckError> {
        let Some(volume) = image.plain_volume() else { return Ok(None) };
        let mut has_begun = false;
        let found = published::file_list(&*image.file, volume, self.cancel, &mut |done, total| {
            if !std::mem::replace(&mut has_begun, true) {
                self.watcher.heard(&CheckEvent::Began { work: Work::Files, bytes: Some(total) });
            }
            self.watcher.heard(&CheckEvent::Moved { done });
        });
        if has_begun {
            self.watcher.heard(&CheckEvent::Ended);
        }
        found
    }
}

/// The sum in the volume descriptor of an unpacked image.
fn embedded(image: &OpenedImage) -> Result<Option<Embedded>, CheckError> {
    let Some(volume) = image.plain_volume() else { return Ok(None) };
    published::embedded(&*image.file, volume).map_err(|source| CheckError::Image { at: 0, source })
}
