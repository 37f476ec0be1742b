//! What the bench knows of its drives: the settings of this machine and of whoever sits at it, and where its own things lie.

use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use pyrotyp_core::devices::Platform;
use pyrotyp_core::drive::Tag;
use pyrotyp_core::guard::{BenchPlace, Circumstances};
use pyrotyp_core::machine::PersonError;
use pyrotyp_core::plan::{Bench, Intent, SurveyError};
use pyrotyp_core::text::Shown;
use pyrotyp_core::{machine, plan};
use serde::Deserialize;

use super::folders::{own_folder, state_folder};
use crate::asked::Common;
use crate::exit::{Exit, Failure, chain, plain};

/// Longest file that is read, in bytes.
const BYTES_MOST: u64 = 1 << 20;
/// Settings that hold for everybody at this machine.
const OF_THE_MACHINE: &str = "/etc/pyrotyp";

/// What the file says.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Settings {
    /// Tags of drives that must never be written.
    #[serde(default)]
    protect: Vec<String>,
}

/// Where settings may lie: those of whoever runs this, of the person behind root, and of the machine.
fn folders() -> Result<Vec<PathBuf>, Failure> {
    let mut folders: Vec<PathBuf> = own_folder("XDG_CONFIG_HOME", ".config").into_iter().collect();
    for person in machine::people()? {
        folders.push(person.home.join(".config/pyrotyp"));
        folders.extend(person.variable("XDG_CONFIG_HOME").map(|folder| PathBuf::from(folder).join("pyrotyp")));
    }
    folders.push(PathBuf::from(OF_THE_MACHINE));
    folders.sort();
    folders.dedup();
    Ok(folders)
}

/// Tags of drives that must never be written, by the settings in one folder; without such a file there are none.
///
/// A list that can't be read protects nobody, so that is an error and not passed over.
fn protected_by(folder: &Path) -> Result<Vec<Tag>, Failure> {
    let path = folder.join("settings.toml");
    let fail = |why: String| {
        let text = format!("can't use the settings in {}: {why}", path.shown());
        Failure::new(Exit::Usage, text, "correct the file, for example: protect = [\"AGCHS\"]")
    };
    let bytes = if folder == Path::new(OF_THE_MACHINE) {
        machine::read_regular(&path, BYTES_MOST)
    } else {
        machine::read_linked(&path, BYTES_MOST)
    };
    let bytes = match bytes {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        bytes => bytes.map_err(|error| fail(plain(&error)))?,
    };
    let text = String::from_utf8(bytes).map_err(|_| fail("it is no text (UTF-8)".to_owned()))?;
    let read: Settings = toml::from_str(&text).map_err(|error| fail(error.message().shown()))?;
    let tags = read.protect.iter().map(|text| text.parse::<Tag>().map_err(|_| text));
    tags.collect::<Result<_, _>>().map_err(|text| fail(format!("`{}` is no tag", text.shown())))
}

impl From<PersonError> for Failure {
    fn from(fault: PersonError) -> Self {
        Self::new(Exit::Refused, fault.to_string(), fault.next_step())
    }
}

impl From<SurveyError> for Failure {
    fn from(error: SurveyError) -> Self {
        match error {
            SurveyError::Platform(error) => error.into(),
            other => Self::new(Exit::Unexpected, chain(&other), other.next_step()),
        }
    }
}

/// What this bench has of its own.
pub(crate) fn bench(common: &Common) -> Result<Bench, Failure> {
    let state = state_folder(common);
    let folders = folders()?;
    let mut protected = Vec::new();
    for folder in &folders {
        protected.extend(protected_by(folder)?);
    }
    let of_state =
        state.iter().flat_map(|state| [(state.join("shelf"), BenchPlace::Shelf), (state.clone(), BenchPlace::Records)]);
    let places = of_state.chain(folders.into_iter().map(|folder| (folder, BenchPlace::Settings))).collect();
    Ok(Bench { state, protected, places })
}

/// What the guard must know of a drive that nobody has chosen yet.
pub(crate) fn survey(platform: &dyn Platform, common: &Common) -> Result<Circumstances, Failure> {
    Ok(plan::survey(platform, &bench(common)?, &Intent::NONE, Timestamp::now())?)
}
