//! Where what is kept lies.

use std::path::PathBuf;

use pyrotyp_core::machine;

use crate::asked::Common;

/// Where records and remembered keys are kept: as asked, or where the system keeps such things.
pub(crate) fn state_folder(common: &Common) -> Option<PathBuf> {
    common.state.clone().or_else(|| own_folder("XDG_STATE_HOME", ".local/state"))
}

/// What a variable of the environment says. Nothing where it is empty.
pub(crate) fn variable(name: &str) -> Option<PathBuf> {
    std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from)
}

/// A folder of the person's own, named by a variable or below the home folder.
pub(crate) fn own_folder(by_variable: &str, below_home: &str) -> Option<PathBuf> {
    let home = || variable("HOME").or_else(machine::home_of_this);
    let base = variable(by_variable).or_else(|| home().map(|home| home.join(below_home)));
    base.map(|base| base.join("pyrotyp"))
}
