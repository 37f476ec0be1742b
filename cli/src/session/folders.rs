//! Where what is kept lies.

use std::path::PathBuf;

use pyrotyp_core::machine;

use crate::asked::Common;

/// Where records and remembered keys are kept: as asked, or where the system keeps such things.
pub(crate) fn state_folder(common: &Common) -> Option<PathBuf> {
    common.state.clone().or_else(|| own_folder("XDG_STATE_HOME", ".local/state"))
}

/// A folder of the person's own, named by a variable or below the home folder. Behind `sudo`, of the person who called.
pub(crate) fn own_folder(variable: &str, below_home: &str) -> Option<PathBuf> {
    let set = |name| std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let base = match machine::person() {
        // The variables are root's by now.
        Ok(Some(person)) => Some(person.variable(variable).map_or_else(|| person.home.join(below_home), PathBuf::from)),
        Ok(None) => {
            set(variable).or_else(|| set("HOME").or_else(machine::home_of_this).map(|home| home.join(below_home)))
        }
        // The guard says so before anything is written.
        Err(_) => None,
    };
    base.map(|base| base.join("pyrotyp"))
}
