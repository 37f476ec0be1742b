//! Where what is kept lies.

use std::path::PathBuf;

use pyrotyp_core::machine;

use crate::asked::Common;

/// Where records and remembered keys are kept: as asked, or where the system keeps such things.
pub(crate) fn state_folder(common: &Common) -> Option<PathBuf> {
    common.state.clone().or_else(|| own_folder("XDG_STATE_HOME", ".local/state"))
}

/// What a variable of the person's environment says; behind `sudo`, of the person who called. Nothing where it is empty.
pub(crate) fn variable(name: &str) -> Option<PathBuf> {
    match machine::person() {
        // The variables are root's by now.
        Ok(Some(person)) => person.variable(name).map(PathBuf::from),
        Ok(None) => std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from),
        // The guard says so before anything is written.
        Err(_) => None,
    }
}

/// A folder of the person's own, named by a variable or below the home folder. Behind `sudo`, of the person who called.
pub(crate) fn own_folder(by_variable: &str, below_home: &str) -> Option<PathBuf> {
    let home = || match machine::person() {
        Ok(Some(person)) => Some(person.home.clone()),
        Ok(None) => variable("HOME").or_else(machine::home_of_this),
        Err(_) => None,
    };
    let base = variable(by_variable).or_else(|| home().map(|home| home.join(below_home)));
    base.map(|base| base.join("pyrotyp"))
}
