//! Keys that were used before: trusted on first use, shown then, and refused when another takes their place.

use std::io;
use std::path::{Path, PathBuf};

use data_encoding::BASE64;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::published::signature::{Fault, KEYS_BYTES_MOST, Key};
use crate::store::Store;
use crate::text::{Shown, shell};

/// Most keys that are looked at.
const ENTRIES_MOST: usize = 1000;

/// The keys that this bench knows, each a file of TOML in one folder.
#[derive(Debug, Default)]
pub struct Remembered {
    store: Store,
    entries: Vec<KeyNote>,
    keys: Vec<Key>,
}

#[derive(Debug)]
struct KeyNote {
    path: PathBuf,
    note: Note,
}

/// What is kept of a key.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct Note {
    fingerprint: String,
    owner: Option<String>,
    first_used: String,
    /// Systems whose images or lists it has signed.
    signed: Vec<String>,
    /// The key itself, in base64.
    key: String,
}

/// Why the remembered keys can't be had.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RememberedError {
    /// The folder or a file in it can't be read.
    #[error("can't read the remembered key {}", path.shown())]
    Unreadable {
        /// Which one.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// A file holds no key.
    #[error("the remembered key {} is damaged: {}", path.shown(), why.shown())]
    Damaged {
        /// Which one.
        path: PathBuf,
        /// In words.
        why: String,
    },
}

impl RememberedError {
    /// What to do about it.
    pub fn next_step(&self) -> String {
        match self {
            Self::Unreadable { .. } => "make it readable for yourself".to_owned(),
            Self::Damaged { path, .. } => {
                format!("remove it (rm {}) and give the key again with --key", shell::path(path))
            }
        }
    }
}

impl Remembered {
    /// Reads all keys in the folder `keys` of `state`; none if there is no such folder yet.
    ///
    /// # Errors
    /// When one can't be read: a key that is passed over could be taken for a new one.
    pub fn load(state: &Path) -> Result<Self, RememberedError> {
        let mut found = Self { store: Store::in_folder(state.join("keys")), ..Self::default() };
        let unreadable = |path: &Path| {
            let path = path.to_owned();
            move |source| RememberedError::Unreadable { path, source }
        };
        let mut names = found.store.names(ENTRIES_MOST).map_err(unreadable(found.store.folder()))?;
        names.retain(|name| name.ends_with(".toml"));
        names.sort();
        for name in names {
            let path = found.store.path(&name);
            // One that was removed meanwhile is none.
            let Some(kept) = found.store.get(&name, KEYS_BYTES_MOST).map_err(unreadable(&path))? else { continue };
            let text = String::from_utf8_lossy(&kept.bytes);
            let damaged = |why: String| RememberedError::Damaged { path: path.clone(), why };
            let note: Note = toml::from_str(&text).map_err(|error| damaged(error.message().to_owned()))?;
            let bytes = BASE64.decode(note.key.as_bytes()).map_err(|error| damaged(error.to_string()))?;
            let key = Key::read_all(&bytes).map_err(damaged)?.into_iter().next();
            let Some(key) = key.filter(|key| key.fingerprint() == note.fingerprint) else {
                return Err(damaged("the key in it is not the one that it names".to_owned()));
            };
            found.entries.push(KeyNote { path, note });
            found.keys.push(key);
        }
        Ok(found)
    }

    /// The keys themselves.
    pub fn keys(&self) -> &[Key] {
        &self.keys
    }

    /// Whether `key` may speak for `system`, and if so, whether it does for the first time on this bench.
    ///
    /// # Errors
    /// When its owner or that system had another key until now.
    pub fn admit(&self, key: &Key, system: Option<&str>) -> Result<bool, Fault> {
        let (given, owner) = (key.fingerprint(), key.owner());
        if let Some(known) = self.known(&given) {
            // An older copy of the key does not undo what the newer one has told.
            let is_revoked = known.is_revoked();
            let reason = ": a copy of it that was given before says so".to_owned();
            return if is_revoked { Err(Fault::Revoked { key: given, reason }) } else { Ok(false) };
        }
        for KeyNote { path, note } in &self.entries {
            let same_owner = owner.as_ref().filter(|owner| note.owner.as_ref() == Some(*owner));
            let same_system = system.filter(|system| note.signed.iter().any(|signed| signed == system));
            if let Some(who) = same_owner.map(String::as_str).or(same_system) {
                return Err(Fault::ChangedKey {
                    who: who.to_owned(),
                    known: note.fingerprint.clone(),
                    since: note.first_used.chars().take(10).collect(),
                    given,
                    file: shell::path(path),
                });
            }
        }
        Ok(true)
    }

    fn known(&self, fingerprint: &str) -> Option<&Key> {
        let entries = self.entries.iter().zip(&self.keys);
        entries.into_iter().find(|(entry, _)| entry.note.fingerprint == fingerprint).map(|(_, key)| key)
    }

    /// Takes in what a key that is known already tells now: that it was renewed, or taken back.
    ///
    /// # Errors
    /// When the folder can't be written.
    pub fn renew(&mut self, given: &Key, now: Timestamp) -> io::Result<()> {
        let is_news = self.known(&given.fingerprint()).is_some_and(|known| !known.is_revoked());
        if is_news { self.keep(given, None, now) } else { Ok(()) }
    }

    /// The key that has signed for `system` before.
    pub fn key_of(&self, system: &str) -> Option<&Key> {
        let entries = self.entries.iter().zip(&self.keys);
        entries.into_iter().find(|(entry, _)| entry.note.signed.iter().any(|known| known == system)).map(|(_, key)| key)
    }

    /// Keeps `key`, and that it signed for `system`.
    ///
    /// # Errors
    /// When the folder can't be made or written.
    pub fn keep(&mut self, key: &Key, system: Option<&str>, now: Timestamp) -> io::Result<()> {
        let fingerprint = key.fingerprint();
        let old = self.entries.iter().find(|entry| entry.note.fingerprint == fingerprint).map(|entry| &entry.note);
        let mut note = Note {
            owner: key.owner(),
            first_used: old.map_or_else(|| now.to_string(), |old| old.first_used.clone()),
            signed: old.map(|old| old.signed.clone()).unwrap_or_default(),
            key: BASE64.encode(&key.to_bytes()?),
            fingerprint,
        };
        note.signed.extend(system.filter(|system| !note.signed.iter().any(|known| known == system)).map(str::to_owned));
        let text = toml::to_string(&note).map_err(io::Error::other)?;
        let name: String = note.fingerprint.chars().filter(char::is_ascii_alphanumeric).take(64).collect();
        self.store.put(&format!("{name}.toml"), text.as_bytes())
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    fn key(letter: char, comment: &str) -> Key {
        let number = BASE64.encode(&[b"Ed".as_slice(), &[letter as u8; 40]].concat());
        Key::read_all(format!("untrusted comment: {comment}\n{number}\n").as_bytes()).unwrap().remove(0)
    }

    #[test]
    fn what_is_kept_is_read_again_and_stands_against_another_key() {
        let state = tempfile::tempdir().unwrap();
        let (first, second) = (key('a', "Larkspur releases public key"), key('b', "someone"));
        let mut remembered = Remembered::load(state.path()).unwrap();
        assert_eq!(remembered.admit(&first, Some("Larkspur Linux")), Ok(true), "never seen: first use");
        remembered.keep(&first, Some("Larkspur Linux"), Timestamp::UNIX_EPOCH).unwrap();
        let mut remembered = Remembered::load(state.path()).unwrap();
        assert_eq!(remembered.admit(&first, Some("Wrenfield Rescue")), Ok(false));
        // Another owner, and still not for a system that has a key.
        let refused = remembered.admit(&second, Some("Larkspur Linux")).unwrap_err();
        assert!(
            matches!(&refused, Fault::ChangedKey { who, since, .. } if who == "Larkspur Linux" && since == "1970-01-01")
        );
        assert_eq!(remembered.admit(&second, Some("Wrenfield Rescue")), Ok(true));
        assert!(remembered.admit(&key('c', "Larkspur releases"), None).is_err(), "the same owner with another key");
        remembered.keep(&first, Some("Wrenfield Rescue"), Timestamp::now()).unwrap();
        let remembered = Remembered::load(state.path()).unwrap();
        assert!(remembered.admit(&second, Some("Wrenfield Rescue")).is_err());
        assert_eq!(remembered.entries[0].note.first_used, Timestamp::UNIX_EPOCH.to_string(), "the first use stays");
    }

    #[test]
    fn a_damaged_note_is_an_error_and_not_passed_over() {
        let state = tempfile::tempdir().unwrap();
        let mut remembered = Remembered::load(state.path()).unwrap();
        remembered.keep(&key('a', "x"), None, Timestamp::UNIX_EPOCH).unwrap();
        let path = fs::read_dir(state.path().join("keys")).unwrap().next().unwrap().unwrap().path();
        let text = fs::read_to_string(&path).unwrap();
        for damaged in [text.replace("YWFh", "YmJi"), text.replace("key = ", "kay = "), String::new()] {
            fs::write(&path, damaged).unwrap();
            let error = Remembered::load(state.path()).unwrap_err();
            assert!(error.next_step().starts_with("remove it (rm "), "{error}");
        }
    }

    #[test]
    fn a_key_that_was_taken_back_stays_so_whatever_older_copy_is_given() {
        let state = tempfile::tempdir().unwrap();
        let revoked = Key::read_all(include_bytes!("../../../../sample/signed/revoked.key")).unwrap().remove(0);
        let mut older = revoked.clone();
        if let super::super::key::KeyKind::OpenPgp(certificate) = &mut older.0 {
            certificate.details.revocation_signatures.clear();
        }
        assert!(revoked.is_revoked() && !older.is_revoked() && revoked.fingerprint() == older.fingerprint());
        let load = || Remembered::load(state.path()).unwrap();
        load().renew(&revoked, Timestamp::UNIX_EPOCH).unwrap();
        assert!(load().keys().is_empty(), "a key that was never good is not remembered");
        load().keep(&older, None, Timestamp::UNIX_EPOCH).unwrap();
        assert_eq!(load().admit(&older, None), Ok(false));
        load().renew(&revoked, Timestamp::UNIX_EPOCH).unwrap();
        load().renew(&older, Timestamp::UNIX_EPOCH).unwrap();
        assert!(load().keys()[0].is_revoked());
        assert!(matches!(load().admit(&older, None), Err(Fault::Revoked { .. })));
    }
}
