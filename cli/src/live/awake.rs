//! A system that does not sleep while something runs.

use pyrotyp_core::machine::{self, Awake};

use crate::asked::Common;
use crate::exit::plain;
use crate::out::say;

/// Asks the system not to sleep until what comes back is dropped; where it can't be asked, it goes on all the same.
pub(crate) fn awake(common: &Common) -> Option<Awake> {
    if common.tray.is_some() {
        // Drives that are files lose nothing by it.
        return None;
    }
    let asked = machine::stay_awake("a USB drive is being worked on");
    let word = match &asked {
        Ok(_) => "the system does not sleep or shut down by itself while this runs".to_owned(),
        Err(error) => format!("this system can't be asked not to sleep while this runs: {}", plain(error)),
    };
    tracing::debug!(word);
    if common.verbose {
        say(common, &format!("{word}\n"));
    }
    asked.ok()
}
