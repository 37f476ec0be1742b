//! How old an image's release is, by the catalogue that was used last and by the shelf.

use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use jiff::tz::TimeZone;
use pyrotyp_core::catalogue::{CATALOGUE_BYTES_MOST, Catalogue, by_version};
use pyrotyp_core::image::{Architecture, Naming};
use pyrotyp_core::shelf::Shelf;
use pyrotyp_core::text::Shown;
use pyrotyp_core::{Finding, FindingId, machine};

use super::folders::state_folder;
use crate::asked::Common;

/// Where the catalogue that was used last is kept, below the state folder.
pub(crate) const KEPT: &str = "catalogue.toml";

/// Today, where the bench is.
pub(crate) fn today() -> jiff::civil::Date {
    Timestamp::now().to_zoned(TimeZone::system()).date()
}

/// A catalogue's file.
pub(crate) fn read(path: &Path) -> io::Result<Vec<u8>> {
    machine::read_regular(path, CATALOGUE_BYTES_MOST)
}

/// Where it is kept on this bench.
pub(crate) fn kept(common: &Common) -> Option<PathBuf> {
    state_folder(common).map(|state| state.join(KEPT))
}

/// What the catalogue and the shelf say of an image's release: out of support, or a newer one is at hand.
pub(crate) fn age(naming: &Naming, common: &Common) -> Vec<Finding> {
    let Some(state) = state_folder(common) else { return Vec::new() };
    let catalogue = read(&state.join(KEPT)).ok().and_then(|bytes| Catalogue::read(&bytes).ok());
    let age = catalogue.and_then(|catalogue| catalogue.look_up(naming, today()));
    let mut found = Vec::new();
    if let Some(ended) = age.as_ref().and_then(|age| age.ended) {
        let text = format!("its release is out of support since {ended}: it gets no security updates any more");
        found.push(Finding::note(FindingId::OutOfSupport, text));
    }
    let shelved = Shelf::open(&state).ok().and_then(|shelf| newer_on_shelf(&shelf, naming));
    let published = age.and_then(|age| age.newer);
    let text = match (shelved, published) {
        (Some((version, name)), _) => {
            Some(format!("release {} of the same edition is on the shelf: {}", version.shown(), name.shown()))
        }
        (None, Some(version)) => {
            Some(format!("release {} of the same edition is in the catalogue: pyrotyp fetch", version.shown()))
        }
        (None, None) => None,
    };
    found.extend(text.map(|text| Finding::note(FindingId::NewerRelease, text)));
    found
}

/// Version and name of the newest image on the shelf that is the same but for a higher version.
fn newer_on_shelf(shelf: &Shelf, naming: &Naming) -> Option<(String, String)> {
    let (system, version) = (naming.system.as_ref()?, naming.version.as_ref()?);
    let alike = shelf.items().iter().filter(|item| {
        item.system.as_ref() == Some(system)
            && item.edition == naming.edition
            && item.architecture.as_deref() == naming.architecture.map(Architecture::word)
    });
    let versions = alike.filter_map(|item| Some((item.version.as_ref()?, item.name())));
    let newest = versions.max_by(|(a, _), (b, _)| by_version(a, b))?;
    by_version(newest.0, version).is_gt().then(|| (newest.0.clone(), newest.1.to_owned()))
}
