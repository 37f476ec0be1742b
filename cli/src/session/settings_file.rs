//! `settings.toml`: where it may lie, and what it may say. docs/settings.md describes every key.

use std::io;
use std::path::{Path, PathBuf};

use pyrotyp_core::drive::Tag;
use pyrotyp_core::machine;
use pyrotyp_core::text::Shown;
use serde::Deserialize;

use super::folders::own_folder;
use crate::asked::When;
use crate::exit::{Exit, Failure, plain};

/// Longest file that is read, in bytes.
const BYTES_MOST: u64 = 1 << 20;
/// Settings that hold for everybody at this machine.
const OF_THE_MACHINE: &str = "/etc/pyrotyp";
const NAME: &str = "settings.toml";

/// What a file says. What it does not say is left to the next one, but for `protect`, of which all count.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Settings {
    /// Tags of drives that must never be written.
    #[serde(default)]
    pub protect: Vec<String>,
    /// When to use colour.
    pub color: Option<When>,
    /// Take mirrors in this country first.
    pub near: Option<String>,
    /// Eject drives at the end.
    pub eject: Option<bool>,
    /// Ring when what took long is over.
    pub bell: Option<bool>,
}

/// A file that is there.
#[derive(Clone, Debug)]
pub(crate) struct SettingsFile {
    pub path: PathBuf,
    pub says: Settings,
}

fn wrong(path: &Path, why: &str) -> Failure {
    let text = format!("can't use the settings in {}: {why}", path.shown());
    Failure::new(
        Exit::Usage,
        text,
        "correct the file, for example: protect = [\"AGCHS\"]; docs/settings.md has every key",
    )
}

impl Settings {
    /// The drives that must never be written. A list that can't be read protects nobody, so that is an error.
    pub(crate) fn protected(&self, path: &Path) -> Result<Vec<Tag>, Failure> {
        let tags = self.protect.iter().map(|text| text.parse::<Tag>().map_err(|_| text));
        tags.collect::<Result<_, _>>().map_err(|text| wrong(path, &format!("`{}` is no tag", text.shown())))
    }
}

/// Where settings may lie, the weightiest first: those of whoever runs this, of who logged in before a shell of root's, and of the machine.
pub(crate) fn folders() -> Vec<PathBuf> {
    let mut folders: Vec<PathBuf> = own_folder("XDG_CONFIG_HOME", ".config").into_iter().collect();
    if let Some(person) = machine::logged_in() {
        folders.extend(person.variable("XDG_CONFIG_HOME").map(|folder| PathBuf::from(folder).join("pyrotyp")));
        folders.push(person.home.join(".config/pyrotyp"));
    }
    folders.push(PathBuf::from(OF_THE_MACHINE));
    let mut seen = Vec::new();
    folders.retain(|folder| {
        let is_new = !seen.contains(folder);
        seen.push(folder.clone());
        is_new
    });
    folders
}

/// The file in which a person's settings belong, whether it is there or not.
pub(crate) fn own() -> Option<PathBuf> {
    own_folder("XDG_CONFIG_HOME", ".config").map(|folder| folder.join(NAME))
}

/// All files that are there, the weightiest first.
pub(crate) fn all() -> Result<Vec<SettingsFile>, Failure> {
    let read = folders().into_iter().map(|folder| read(&folder));
    read.filter_map(Result::transpose).collect()
}

fn read(folder: &Path) -> Result<Option<SettingsFile>, Failure> {
    let path = folder.join(NAME);
    let fail = |why: &str| wrong(&path, why);
    let bytes = match machine::read_regular(&path, BYTES_MOST) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        bytes => bytes.map_err(|error| fail(&plain(&error)))?,
    };
    let text = String::from_utf8(bytes).map_err(|_| fail("it is no text (UTF-8)"))?;
    let says = toml::from_str(&text).map_err(|error| fail(&error.message().shown()))?;
    Ok(Some(SettingsFile { path, says }))
}
