//! Keys that sign images: those in files given, and those that are remembered.

use jiff::Timestamp;
use pyrotyp_core::machine;
use pyrotyp_core::published::Vouched;
use pyrotyp_core::published::signature::{KEYS_BYTES_MOST, Key, Remembered};
use pyrotyp_core::text::Shown;

use super::folders::state_folder;
use crate::asked::{Against, Common};
use crate::exit::{Exit, Failure, plain};
use crate::out::say;

/// Keys as they were used.
#[derive(Clone, Copy)]
pub(crate) struct Used<'a> {
    /// How the signatures came out.
    pub(crate) signatures: &'a [Vouched],
    /// The keys that were given.
    pub(crate) given: &'a [Key],
    /// Whose they are: the system that an image calls itself, or what else was signed.
    pub(crate) system: Option<&'a str>,
}

/// Keeps every key that was good, and what a known key that was given now tells of itself.
pub(crate) fn remember(remembered: &mut Remembered, used: Used<'_>, now: Timestamp, common: &Common) {
    let Used { signatures, given, system } = used;
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
pub(crate) fn given_keys(against: &Against) -> Result<Vec<Key>, Failure> {
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
