//! What the bench knows of its drives: the settings in the person's configuration folder, the records, and where its own
//! things lie.

use std::fs::File;
use std::io::{self, Read};
use std::path::PathBuf;

use jiff::Timestamp;
use pyrotyp_core::drive::{Platform, Tag};
use pyrotyp_core::guard::Circumstances;
use pyrotyp_core::ledger;
use serde::Deserialize;

use super::{own_folder, state_folder};
use crate::asked::Common;
use crate::exit::{Exit, Failure, plain};

/// Longest file that is read, in bytes.
const BYTES_MOST: u64 = 1 << 20;

/// What the file says.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Settings {
    /// Tags of drives that must never be written.
    #[serde(default)]
    pub protect: Vec<String>,
}

/// Reads the settings; without such a file there are none.
///
/// A list that can't be read protects nobody, so that is an error and not passed over.
pub fn load() -> Result<Settings, Failure> {
    let Some(path) = own_folder("XDG_CONFIG_HOME", ".config").map(|folder| folder.join("settings.toml")) else {
        return Ok(Settings::default());
    };
    let fail = |why: String| {
        let text = format!("can't use the settings in {}: {why}", path.display());
        Failure::new(Exit::Usage, text, "correct the file, for example: protect = [\"AGCHS\"]")
    };
    let mut text = String::new();
    match File::open(&path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Settings::default()),
        opened => opened.and_then(|file| file.take(BYTES_MOST).read_to_string(&mut text)),
    }
    .map_err(|error| fail(plain(&error)))?;
    let read: Settings = toml::from_str(&text).map_err(|error| fail(error.message().to_owned()))?;
    let tags = read.protect.iter().map(|text| text.parse::<Tag>().map(|tag| tag.to_string()).map_err(|_| text));
    let protect = tags.collect::<Result<_, _>>().map_err(|text| fail(format!("`{text}` is no tag")))?;
    Ok(Settings { protect })
}

/// A drive that was verified within so many minutes may be one of the finished ones.
const LATELY_MINUTES: u64 = 30;

/// Everything that the guard is told for every drive, whatever the image.
pub fn known_to_bench(platform: &dyn Platform, common: &Common) -> Result<Circumstances, Failure> {
    let state = state_folder(common);
    let lately = |state: &PathBuf| ledger::verified_lately(state, Timestamp::now(), LATELY_MINUTES);
    Ok(Circumstances {
        bench_on: bench_on(platform, state.as_ref()),
        protected: load()?.protect,
        verified: state.as_ref().map(lately).unwrap_or_default(),
        ..Circumstances::default()
    })
}

/// The drives that hold what belongs to the bench, as far as that is there yet.
fn bench_on(platform: &dyn Platform, state: Option<&PathBuf>) -> Vec<(String, &'static str)> {
    let shelf = state.map(|state| (state.join("shelf"), "the shelf"));
    let records = state.map(|state| (state.clone(), "the records"));
    let settings = own_folder("XDG_CONFIG_HOME", ".config").map(|folder| (folder, "the settings"));
    let places = [shelf, records, settings].into_iter().flatten();
    places
        .flat_map(|(place, what)| {
            platform.drives_holding(&place).unwrap_or_default().into_iter().map(move |path| (path, what))
        })
        .collect()
}
