//! The catalogue: which systems there are, in which editions and releases, where they can be had and for how long they
//! are supported. The format is described in `docs/catalogue.md`.
//!
//! Promise: any bytes give an answer or an error, never a panic; an image is never guessed among several editions.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

use std::cmp::Ordering;

use jiff::civil::Date;
use serde::Deserialize;

use crate::fetch::{Mirror, Wanted};
use crate::hash::Sum;
use crate::image::Naming;
use crate::text::Shown;

/// Longest catalogue that is read, in bytes.
pub const CATALOGUE_BYTES_MOST: u64 = 2 << 20;
/// The only version of the format there is.
const VERSION: u32 = 1;

/// A catalogue.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Catalogue {
    /// Version of the format.
    catalogue: u32,
    /// Who made it.
    #[serde(default)]
    pub name: Option<String>,
    /// The systems.
    #[serde(default, rename = "system")]
    pub systems: Vec<System>,
}

/// A system, such as Larkspur Linux.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct System {
    /// As its images call themselves.
    pub name: String,
    /// Fingerprints of the keys that sign its images or lists; a key of minisign or signify may stand here whole.
    #[serde(default)]
    pub keys: Vec<String>,
    /// Where the key file can be had.
    #[serde(default)]
    pub key_address: Option<String>,
    /// Where it keeps its settings when it runs from a stick.
    #[serde(default)]
    pub settings: Option<LiveSettings>,
    /// Its releases.
    #[serde(default, rename = "release")]
    pub releases: Vec<Release>,
    /// Its images.
    #[serde(default, rename = "image")]
    pub images: Vec<Image>,
}

/// A partition in which a live system keeps its settings, as its documentation asks for it.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LiveSettings {
    /// What it is called.
    pub label: String,
    /// `fat32`, `exfat` or `ext4`.
    pub filesystem: String,
    /// Name of a file that marks it.
    #[serde(default)]
    pub file: Option<String>,
    /// What that file holds.
    #[serde(default)]
    pub text: Option<String>,
}

/// A release of a system.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Release {
    /// Such as `9.2`.
    pub version: String,
    /// The last day on which it is supported.
    #[serde(default, with = "day")]
    pub supported_until: Option<Date>,
    /// Whether it is supported for long.
    #[serde(default)]
    pub long_term: bool,
}

/// An image of a release.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Image {
    /// Of which release.
    pub version: String,
    /// Such as `Desktop`.
    #[serde(default)]
    pub edition: Option<String>,
    /// `x86`, `x86-64`, `arm`, `aarch64`, `riscv64` or `loongarch64`.
    pub architecture: String,
    /// Where the image lies, the best first.
    #[serde(default)]
    pub addresses: Vec<String>,
    /// Where its Metalink file lies.
    #[serde(default)]
    pub metalink: Option<String>,
    /// Its length.
    #[serde(default)]
    pub bytes: Option<u64>,
    /// Its checksums, each as `ALGORITHM:HEX`.
    #[serde(default)]
    pub sums: Vec<String>,
}

/// A TOML date.
mod day {
    use jiff::civil::Date;
    use serde::{Deserialize, Deserializer, de::Error};

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Date>, D::Error> {
        let read = Option::<toml::value::Datetime>::deserialize(from)?;
        read.map(|read| read.to_string().parse().map_err(|_| D::Error::custom("a day such as 2029-04-30 is expected")))
            .transpose()
    }
}

/// Why a catalogue, or a name in it, is of no use.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum CatalogueError {
    /// It is no catalogue.
    #[error("it is no catalogue: {}", why.shown())]
    Unreadable {
        /// In words.
        why: String,
    },
    /// It is of another version.
    #[error("it is a catalogue of version {found}, and only version {VERSION} is known here")]
    Version {
        /// Which one.
        found: u32,
    },
    /// An entry gives an address or a checksum that is none.
    #[error("the catalogue's entry of {} is of no use: {}", title.shown(), why.shown())]
    Entry {
        /// Which one.
        title: String,
        /// In words.
        why: String,
    },
    /// Nothing bears that name.
    #[error("the catalogue has nothing called `{}`", asked.shown())]
    Unknown {
        /// As asked.
        asked: String,
        /// Everything there is.
        known: Vec<String>,
    },
    /// Several do.
    #[error("`{}` may be any of these", asked.shown())]
    Several {
        /// As asked.
        asked: String,
        /// All of them.
        fit: Vec<String>,
    },
    /// What bears it is no longer supported.
    #[error("every release of {} in the catalogue is out of support", what.shown())]
    OutOfSupport {
        /// System and edition.
        what: String,
        /// Its newest release.
        newest: String,
    },
}

/// An image that a name led to.
#[derive(Clone, Copy, Debug)]
pub struct Pick<'a> {
    /// Its system.
    pub system: &'a System,
    /// The image.
    pub image: &'a Image,
    /// Its release, if the catalogue tells of it.
    pub release: Option<&'a Release>,
}

impl Pick<'_> {
    /// Such as `Larkspur Linux 9.2 Desktop (x86-64)`.
    pub fn title(&self) -> String {
        let parts = [Some(self.system.name.as_str()), Some(&self.image.version), self.image.edition.as_deref()];
        format!("{} ({})", parts.into_iter().flatten().collect::<Vec<_>>().join(" "), self.image.architecture)
    }

    fn kind(&self) -> String {
        [Some(self.system.name.as_str()), self.image.edition.as_deref()]
            .into_iter()
            .flatten()
            .collect::<Vec<_>>()
            .join(" ")
    }

    /// Whether it was still supported on that day; a release without a day always is.
    pub fn is_supported(&self, today: Date) -> bool {
        self.release.and_then(|release| release.supported_until).is_none_or(|until| today <= until)
    }

    /// What is to be fetched, if the catalogue names an address of the image itself.
    ///
    /// # Errors
    /// When an address or a checksum can't be read.
    pub fn wanted(&self) -> Result<Option<Wanted>, CatalogueError> {
        let Some(first) = self.image.addresses.first() else { return Ok(None) };
        let fail = |why: String| CatalogueError::Entry { title: self.title(), why };
        let mut wanted = Wanted::at(first).map_err(|fault| fail(fault.to_string()))?;
        wanted.mirrors = self
            .image
            .addresses
            .iter()
            .zip(1..)
            .map(|(address, priority)| Mirror { address: address.clone(), priority, location: None })
            .collect();
        (wanted.bytes, wanted.sums) = (self.image.bytes, self.sums()?);
        Ok(Some(wanted))
    }

    /// The checksums that the catalogue gives.
    ///
    /// # Errors
    /// When one can't be read.
    pub fn sums(&self) -> Result<Vec<Sum>, CatalogueError> {
        let read = self.image.sums.iter().map(|sum| sum.parse());
        read.collect::<Result<_, _>>().map_err(|error: crate::hash::SumError| CatalogueError::Entry {
            title: self.title(),
            why: error.to_string(),
        })
    }
}

impl Catalogue {
    /// Reads a catalogue.
    ///
    /// # Errors
    /// When it is none, or of a version that is not known here.
    pub fn read(bytes: &[u8]) -> Result<Self, CatalogueError> {
        let fail = |why: &str| CatalogueError::Unreadable { why: why.lines().next().unwrap_or_default().to_owned() };
        let text = std::str::from_utf8(bytes).map_err(|error| fail(&error.to_string()))?;
        let read: Self = toml::from_str(text).map_err(|error| fail(error.message()))?;
        if read.catalogue == VERSION { Ok(read) } else { Err(CatalogueError::Version { found: read.catalogue }) }
    }

    fn all(&self) -> impl Iterator<Item = Pick<'_>> {
        self.systems.iter().flat_map(|system| {
            system.images.iter().map(move |image| {
                let release = system.releases.iter().find(|release| release.version == image.version);
                Pick { system, image, release }
            })
        })
    }

    /// The image that loose words mean, such as `larkspur desktop`: of one edition the newest supported long-term release,
    /// or else the newest supported one, for the architecture that is named, or else for `here`.
    ///
    /// # Errors
    /// When nothing fits, or more than one edition or architecture does.
    pub fn find(&self, asked: &str, here: &str, today: Date) -> Result<Pick<'_>, CatalogueError> {
        let asked = asked.trim().to_owned();
        let words: Vec<String> = asked.split_whitespace().map(str::to_lowercase).collect();
        let fits = |pick: &Pick<'_>| words.iter().all(|word| is_named(pick, word));
        let fit: Vec<Pick<'_>> = self.all().filter(fits).collect();
        let titles = |picks: &[Pick<'_>]| picks.iter().map(Pick::title).collect();
        if words.is_empty() || fit.is_empty() {
            let known: Vec<Pick<'_>> = self.all().collect();
            return Err(CatalogueError::Unknown { asked, known: titles(&known) });
        }
        let several = |picks: &[Pick<'_>]| CatalogueError::Several { asked: asked.clone(), fit: titles(picks) };
        let is_mixed = |picks: &[Pick<'_>], what: fn(&Pick<'_>) -> String| {
            picks.first().is_some_and(|first| picks.iter().any(|pick| what(pick) != what(first)))
        };
        if is_mixed(&fit, |pick| pick.kind()) {
            return Err(several(&fit));
        }
        let says_version = |pick: &Pick<'_>| words.contains(&pick.image.version.to_lowercase());
        let named: Vec<Pick<'_>> = fit.iter().copied().filter(says_version).collect();
        let fit = if named.is_empty() { fit } else { named.clone() };
        // The architecture of this PC is taken where it is among them; of the others, none is more likely.
        let local: Vec<Pick<'_>> = fit.iter().copied().filter(|pick| pick.image.architecture == here).collect();
        let fit = if local.is_empty() { fit } else { local };
        if is_mixed(&fit, |pick| pick.image.architecture.clone()) {
            return Err(several(&fit));
        }
        let supported = fit.iter().copied().filter(|pick| pick.is_supported(today) || !named.is_empty());
        let best = supported.max_by(|a, b| {
            let is_long = |pick: &Pick<'_>| pick.release.is_some_and(|release| release.long_term);
            is_long(a).cmp(&is_long(b)).then(by_version(&a.image.version, &b.image.version))
        });
        best.ok_or_else(|| {
            let newest = fit.iter().max_by(|a, b| by_version(&a.image.version, &b.image.version));
            let what = newest.map(Pick::kind).unwrap_or_default();
            CatalogueError::OutOfSupport { what, newest: newest.map(Pick::title).unwrap_or_default() }
        })
    }

    /// Where the system of an image that calls itself `naming` keeps its settings.
    pub fn settings_of(&self, naming: &Naming) -> Option<&LiveSettings> {
        let system = naming.system.as_deref()?;
        self.systems.iter().find(|known| known.name.eq_ignore_ascii_case(system))?.settings.as_ref()
    }

    /// What the catalogue says of an image that calls itself `naming`.
    pub fn look_up(&self, naming: &Naming, today: Date) -> Option<Age> {
        let (system, version) = (naming.system.as_deref()?, naming.version.as_deref()?);
        let same = |one: Option<&str>, other: Option<&str>| match (one, other) {
            (Some(one), Some(other)) => one.eq_ignore_ascii_case(other),
            (one, other) => one.is_none() && other.is_none(),
        };
        let system = self.systems.iter().find(|known| known.name.eq_ignore_ascii_case(system))?;
        let release = system.releases.iter().find(|release| release.version == version);
        let ended = release.and_then(|release| release.supported_until).filter(|until| *until < today);
        let alike = self.all().filter(|pick| {
            pick.system.name == system.name
                && same(pick.image.edition.as_deref(), naming.edition.as_deref())
                && naming.architecture.is_none_or(|architecture| pick.image.architecture == architecture.word())
                && pick.is_supported(today)
        });
        // Who chose a release that is supported for long does not want a shorter one.
        let is_long = release.is_some_and(|release| release.long_term) && ended.is_none();
        let fit = alike.filter(|pick| !is_long || pick.release.is_some_and(|release| release.long_term));
        let newest = fit.max_by(|a, b| by_version(&a.image.version, &b.image.version));
        let newer = newest.filter(|pick| by_version(&pick.image.version, version) == Ordering::Greater);
        let age = Age { ended, newer: newer.map(|pick| pick.image.version.clone()) };
        (age.ended.is_some() || age.newer.is_some()).then_some(age)
    }
}

/// What there is to say of an image's release.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Age {
    /// The last day of its support, which has gone by.
    pub ended: Option<Date>,
    /// The newest release of the same edition, if it is newer.
    pub newer: Option<String>,
}

/// Whether a word is the beginning of a word of the image's name, or its version.
fn is_named(pick: &Pick<'_>, word: &str) -> bool {
    let texts = [Some(pick.system.name.as_str()), pick.image.edition.as_deref()];
    let mut words = texts.into_iter().flatten().flat_map(str::split_whitespace);
    let begins = words.any(|part| part.to_lowercase().starts_with(word));
    begins || pick.image.version.eq_ignore_ascii_case(word) || pick.image.architecture == word
}

/// The order of versions: numbers by their value, all else by its letters.
pub fn by_version(one: &str, other: &str) -> Ordering {
    let parts = |text: &str| {
        let mut parts: Vec<(u64, String)> = Vec::new();
        for part in text.split(['.', '-', '_', ' ', '+']) {
            let digits = part.chars().take_while(char::is_ascii_digit).collect::<String>();
            let rest = part.chars().skip(digits.len()).collect();
            parts.push((digits.parse().unwrap_or(0), rest));
        }
        parts
    };
    parts(one).cmp(&parts(other))
}

#[cfg(test)]
mod tests {
    use super::*;

    const CATALOGUE: &str = r#"
        catalogue = 1
        [[system]]
        name = "Larkspur Linux"
        release = [
            { version = "8.9", supported_until = 2026-01-31, long_term = true },
            { version = "9.2", supported_until = 2029-04-30, long_term = true },
            { version = "10.1", supported_until = 2027-02-28 },
        ]
        image = [
            { version = "8.9", edition = "Desktop", architecture = "x86-64", addresses = ["https://a.example/8.iso"] },
            { version = "9.2", edition = "Desktop", architecture = "x86-64", addresses = ["https://a.example/9.iso"] },
            { version = "9.2", edition = "Desktop", architecture = "aarch64" },
            { version = "10.1", edition = "Desktop", architecture = "x86-64" },
            { version = "9.2", edition = "Compact", architecture = "x86" },
        ]
        [[system]]
        name = "Wrenfield Rescue"
        release = [{ version = "2", supported_until = 2025-01-01 }]
        image = [{ version = "2", architecture = "x86" }, { version = "2", architecture = "arm" }]
    "#;

    fn today() -> Date {
        "2026-11-23".parse().unwrap()
    }

    #[test]
    fn loose_words_lead_to_one_image_or_to_a_choice_and_never_to_a_guess() {
        let catalogue = Catalogue::read(CATALOGUE.as_bytes()).unwrap();
        let told: Vec<String> = [
            "larkspur desktop",
            "LARK desk 8.9",
            "larkspur",
            "larkspur desktop 10.1",
            "larkspur compact",
            "desktop aarch64",
            "wrenfield",
            "wrenfield arm",
            "wrenfield x86 2",
            "ubik",
            "",
        ]
        .map(|asked| match catalogue.find(asked, "x86-64", today()) {
            Ok(pick) => format!("{asked}: {}", pick.title()),
            Err(CatalogueError::Several { fit, .. }) => format!("{asked}: any of {}", fit.join(", ")),
            Err(error) => format!("{asked}: {error}"),
        })
        .into();
        insta::assert_snapshot!(told.join("\n"), @"
        larkspur desktop: Larkspur Linux 9.2 Desktop (x86-64)
        LARK desk 8.9: Larkspur Linux 8.9 Desktop (x86-64)
        larkspur: any of Larkspur Linux 8.9 Desktop (x86-64), Larkspur Linux 9.2 Desktop (x86-64), Larkspur Linux 9.2 Desktop (aarch64), Larkspur Linux 10.1 Desktop (x86-64), Larkspur Linux 9.2 Compact (x86)
        larkspur desktop 10.1: Larkspur Linux 10.1 Desktop (x86-64)
        larkspur compact: Larkspur Linux 9.2 Compact (x86)
        desktop aarch64: Larkspur Linux 9.2 Desktop (aarch64)
        wrenfield: any of Wrenfield Rescue 2 (x86), Wrenfield Rescue 2 (arm)
        wrenfield arm: every release of Wrenfield Rescue in the catalogue is out of support
        wrenfield x86 2: Wrenfield Rescue 2 (x86)
        ubik: the catalogue has nothing called `ubik`
        : the catalogue has nothing called ``
        ");
    }

    #[test]
    fn age_is_told_by_the_day_and_by_the_releases_of_the_same_edition() {
        let catalogue = Catalogue::read(CATALOGUE.as_bytes()).unwrap();
        let age = |version: &str, edition: Option<&str>| {
            let naming = Naming {
                system: Some("larkspur linux".into()),
                version: Some(version.into()),
                edition: edition.map(str::to_owned),
                ..Naming::default()
            };
            catalogue.look_up(&naming, today()).map(|age| (age.ended.is_some(), age.newer))
        };
        assert_eq!(age("8.9", Some("Desktop")), Some((true, Some("10.1".into()))));
        assert_eq!(age("9.2", Some("Desktop")), None, "a long-term release has no newer one but of its kind");
        assert_eq!(age("9.1", Some("Compact")), Some((false, Some("9.2".into()))));
        assert_eq!(age("9.1", None), None, "another edition says nothing");
    }

    #[test]
    fn what_is_no_catalogue_is_told_so_and_versions_are_numbers() {
        for wrong in ["", "catalogue = 2", "catalogue = 1\nsystems = 3", "catalogue = 1\n[[system]]\nname = 1", "\u{0}"]
        {
            assert!(Catalogue::read(wrong.as_bytes()).is_err(), "{wrong:?}");
        }
        assert!(Catalogue::read(b"\xFF").is_err());
        for (older, newer) in [("9.2", "10"), ("9.2", "9.2.1"), ("24.04", "24.10"), ("9", "9.1"), ("7-rc1", "7-rc2")] {
            assert_eq!(by_version(older, newer), Ordering::Less, "{older} {newer}");
        }
    }
}
