//! What holds where nobody asks otherwise, and where it came from.

use std::path::PathBuf;

use pyrotyp_core::machine;
use serde_json::{Value, json};

use super::folders::{state_folder, variable};
use super::settings_file::{self, Settings, SettingsFile};
use crate::asked::{Common, When};
use crate::exit::Failure;
use crate::show::settings::{SettingOrigin, SettingRow};

/// A setting that holds.
#[derive(Clone, Debug)]
pub(crate) struct Preference<T> {
    pub value: T,
    pub from: SettingOrigin,
    /// The file or the variable, where it is one.
    pub place: Option<String>,
}

/// All that a person can settle for good.
#[derive(Clone, Debug)]
pub(crate) struct Preferences {
    pub protect: Preference<Vec<String>>,
    pub color: Preference<When>,
    pub near: Preference<Option<String>>,
    pub eject: Preference<bool>,
    pub bell: Preference<bool>,
    pub state: Preference<Option<PathBuf>>,
}

/// Variables by which a person says whether colours are wanted, as far as programs have agreed on some.
const COLOUR_VARIABLES: [&str; 3] = ["NO_COLOR", "CLICOLOR_FORCE", "CLICOLOR"];

impl Preferences {
    /// As they hold in this call.
    pub(crate) fn of(common: &Common) -> Result<Self, Failure> {
        let files = settings_file::all()?;
        let protecting: Vec<&SettingsFile> = files.iter().filter(|file| !file.says.protect.is_empty()).collect();
        let place = protecting.iter().map(|file| file.path.to_string_lossy()).collect::<Vec<_>>().join(", ");
        let protect = Preference {
            value: protecting.iter().flat_map(|file| file.says.protect.clone()).collect(),
            from: if protecting.is_empty() { SettingOrigin::Default } else { SettingOrigin::File },
            place: Some(place).filter(|place| !place.is_empty()),
        };
        Ok(Self {
            protect,
            color: color(common, &files),
            near: by_file(&files, |says| says.near.clone().map(Some), None),
            eject: by_file(&files, |says| says.eject, false),
            bell: by_option(common.bell, || by_file(&files, |says| says.bell, false)),
            state: state(common),
        })
    }

    /// A line for each key, in the order of docs/settings.md.
    pub(crate) fn rows(&self) -> Vec<SettingRow> {
        let Self { protect, color, near, eject, bell, state } = self;
        vec![
            protect.row("protect", json!(protect.value)),
            color.row("color", json!(color.value.word())),
            near.row("near", json!(near.value)),
            eject.row("eject", json!(eject.value)),
            bell.row("bell", json!(bell.value)),
            SettingRow {
                key: "confined",
                value: json!(machine::is_confined()),
                from: SettingOrigin::Default,
                place: None,
            },
            SettingRow { key: "fenced", value: json!(machine::is_fenced()), from: SettingOrigin::Default, place: None },
            state.row("state", json!(state.value.as_ref().map(|folder| folder.to_string_lossy()))),
        ]
    }
}

impl<T> Preference<T> {
    fn row(&self, key: &'static str, value: Value) -> SettingRow {
        SettingRow { key, value, from: self.from, place: self.place.clone() }
    }
}

fn by_option<T>(asked: Option<T>, otherwise: impl FnOnce() -> Preference<T>) -> Preference<T> {
    asked.map_or_else(otherwise, |value| Preference { value, from: SettingOrigin::Option, place: None })
}

fn by_file<T>(files: &[SettingsFile], says: impl Fn(&Settings) -> Option<T>, default: T) -> Preference<T> {
    let found = files.iter().find_map(|file| Some((says(&file.says)?, file.path.to_string_lossy().into_owned())));
    match found {
        Some((value, place)) => Preference { value, from: SettingOrigin::File, place: Some(place) },
        None => Preference { value: default, from: SettingOrigin::Default, place: None },
    }
}

fn color(common: &Common, files: &[SettingsFile]) -> Preference<When> {
    let is_set = |name: &&str| std::env::var_os(name).is_some_and(|value| !value.is_empty());
    by_option(common.color, || match COLOUR_VARIABLES.into_iter().find(is_set) {
        // What is written to a terminal asks the variables itself.
        Some(name) => Preference { value: When::Auto, from: SettingOrigin::Environment, place: Some(name.to_owned()) },
        None => by_file(files, |says| says.color, When::Auto),
    })
}

fn state(common: &Common) -> Preference<Option<PathBuf>> {
    let value = state_folder(common);
    let (from, place) = match (common.state.is_some(), variable("XDG_STATE_HOME").is_some()) {
        (true, _) => (SettingOrigin::Option, None),
        (false, true) => (SettingOrigin::Environment, Some("XDG_STATE_HOME".to_owned())),
        (false, false) => (SettingOrigin::Default, None),
    };
    Preference { value, from, place }
}
