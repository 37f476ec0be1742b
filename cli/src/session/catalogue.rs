//! The catalogue: given once, remembered, and asked for the age of every image.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use pyrotyp_core::catalogue::{CATALOGUE_BYTES_MOST, Catalogue, CatalogueError};
use pyrotyp_core::examine::given_keys;
use pyrotyp_core::fetch::Web;
use pyrotyp_core::published::signature::{KEYS_BYTES_MOST, Key, Remembered, SIGNATURE_BYTES_MOST, SignatureFile};
use pyrotyp_core::published::{Keys, Over, Published, PublishedSignature, Subject, vouch};
use pyrotyp_core::stop::Cancel;
use pyrotyp_core::store::Store;

use super::examining::Examining;
use super::folders::state_folder;
use super::refusal::signature_refusal;
use super::release::{KEPT, kept, read};
use crate::asked::Against;
use crate::exit::{Exit, Failure, chain, plain};
use crate::out::say;
use crate::session::Session;

fn unusable(name: &str, error: &CatalogueError) -> Failure {
    let next = "docs/catalogue.md describes the format";
    Failure::new(Exit::Usage, format!("can't use the catalogue {name}: {error}"), next)
}

/// The catalogue that is named, or else the one that was used last. One that is named is remembered.
pub(crate) fn load(
    named: Option<&str>,
    against: &Against,
    web: &Web,
    session: &Session<'_>,
) -> Result<Catalogue, Failure> {
    let Some(name) = named else {
        let bytes = kept(session.common).and_then(|path| read(&path).ok()).ok_or_else(|| {
            let next = "give one with --catalogue FILE, or the address of the image itself";
            Failure::new(Exit::Usage, "there is no catalogue on this bench yet", next)
        })?;
        return Catalogue::read(&bytes).map_err(|error| unusable("that is remembered here", &error));
    };
    let bytes = if name.contains("://") {
        from_network(name, against, web, session)?
    } else {
        read(Path::new(name)).map_err(|error| {
            Failure::new(Exit::Usage, format!("can't read the catalogue {name}: {}", plain(&error)), "check the name")
        })?
    };
    let catalogue = Catalogue::read(&bytes).map_err(|error| unusable(name, &error))?;
    if let Some(state) = state_folder(session.common)
        && let Err(error) = Store::in_folder(state).put(KEPT, &bytes)
    {
        say(session.common, &format!("the catalogue could not be remembered: {}\n", plain(&error)));
    }
    Ok(catalogue)
}

/// A catalogue from a server must be signed with minisign, by a key that is given or was used for it before.
fn from_network(address: &str, against: &Against, web: &Web, session: &Session<'_>) -> Result<Vec<u8>, Failure> {
    let signed = format!("{address}.minisig");
    let get = |address: &str, most| {
        let fail = |text: String, next: &str| Failure::new(Exit::Stopped, text, next);
        let found = web
            .file(address, most, session.cancel)
            .map_err(|fault| fail(format!("{address}: {fault}"), fault.next_step()))?;
        found.ok_or_else(|| fail(format!("there is no {address}"), "look up the catalogue's address again"))
    };
    let is_safe = address.starts_with("https://") || address.starts_with("http://127.0.0.1:");
    if !is_safe {
        let text = format!("a catalogue comes from an https address or a file, not from {address}");
        return Err(Failure::new(Exit::Usage, text, "give its https address"));
    }
    let bytes = get(address, CATALOGUE_BYTES_MOST)?;
    let signature = get(&signed, SIGNATURE_BYTES_MOST).map_err(|failure| {
        let next = "a catalogue from the network needs its signature beside it; a file of your own does not";
        Failure::new(Exit::Checksum, format!("the catalogue is not signed: {failure}"), next)
    })?;
    let over = vec![Over::List { path: PathBuf::from(address), bytes: bytes.clone() }];
    let one = PublishedSignature { file: signed.into(), read: SignatureFile::read(&signature), over, is_asked: true };
    let published = Published { signatures: vec![one], ..Published::default() };
    let keys = given_keys(&against.key)?;
    let mut remembered = match state_folder(session.common) {
        Some(state) => {
            Remembered::load(&state).map_err(|error| Failure::new(Exit::Checksum, chain(&error), error.next_step()))?
        }
        None => Remembered::default(),
    };
    let whose = format!("the catalogue {address}");
    let nothing: Vec<u8> = Vec::new();
    let now = Timestamp::now();
    let subject = Subject { image: &nothing, system: Some(&whose) };
    let by = Keys { given: &keys, remembered: &remembered, is_given_only: false };
    let signatures = vouch(&published, subject, by, now, session.cancel);
    if let Some(failure) = signature_refusal(&signatures) {
        return Err(failure);
    }
    if let Some(first) = signatures.iter().find(|vouched| vouched.is_first_use) {
        let key = first.key.as_ref().map(Key::fingerprint).unwrap_or_default();
        say(session.common, &format!("first use of the catalogue's key {key}; it is remembered from now on\n"));
    }
    Examining::of(session).examiner(session).remember(&mut remembered, &signatures, &keys, Some(&whose));
    Ok(bytes)
}

/// The keys that a system's images are signed with: those that stand in the catalogue whole, and those of the key file
/// that have one of its fingerprints.
pub(crate) fn keys_of(
    system: &pyrotyp_core::catalogue::System,
    web: &Web,
    cancel: &Cancel,
) -> Result<Vec<Key>, Failure> {
    let mut found = Vec::new();
    for text in &system.keys {
        let file = format!("untrusted comment: {} public key\n{text}\n", system.name);
        found.extend(Key::read_all(file.as_bytes()).unwrap_or_default());
    }
    let Some(address) = system.key_address.as_ref().filter(|_| found.len() < system.keys.len()) else {
        return Ok(found);
    };
    let bytes = web
        .file(address, KEYS_BYTES_MOST, cancel)
        .map_err(|fault| Failure::new(Exit::Stopped, format!("{address}: {fault}"), fault.next_step()))?;
    let read = Key::read_all(&bytes.unwrap_or_default()).unwrap_or_default();
    let plain = |text: &str| text.chars().filter(char::is_ascii_alphanumeric).collect::<String>().to_ascii_lowercase();
    let is_named = |key: &Key| system.keys.iter().any(|text| plain(text) == plain(&key.fingerprint()));
    let named: Vec<Key> = read.into_iter().filter(is_named).collect();
    if named.is_empty() {
        let text = format!("{address} holds no key with a fingerprint that the catalogue names");
        return Err(Failure::new(
            Exit::Checksum,
            text,
            "somebody may have put another key there; ask who keeps the catalogue",
        ));
    }
    found.extend(named);
    Ok(found)
}
