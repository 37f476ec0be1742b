//! What a look at a drive left when it was cut off is put back, by whichever command sees the drive next.

use pyrotyp_core::devices::{After, Platform, PlatformError};
use pyrotyp_core::drive::Drive;
use pyrotyp_core::job::JobFault;
use pyrotyp_core::job::gauge::{KeptPlaces, kept_path, put_back};
use pyrotyp_core::machine;
use pyrotyp_core::record::JobKind;
use pyrotyp_core::text::chain;

use super::folders::state_folder;
use super::unasked::{Unclaimed, claim_unasked};
use crate::asked::Common;
use crate::exit::plain;
use crate::out::{say, warn};

/// Most names in the folder of what is under way that are looked at.
const NAMES_MOST: usize = 10_000;

/// Puts back what is kept of the attached drives, if anything is.
pub(crate) fn put_back_pending(platform: &dyn Platform, common: &Common) {
    let Some(state) = state_folder(common) else { return };
    let names = machine::names_in(&state.join("under-way"), NAMES_MOST).unwrap_or_default();
    if !names.iter().any(|name| name.to_string_lossy().ends_with(".kept")) {
        return;
    }
    for drive in platform.drives().unwrap_or_default() {
        match KeptPlaces::find(&kept_path(&state, &drive.tag)) {
            Ok(Some(kept)) if kept.is_about(&drive.tag, drive.bytes) => one(&drive, kept, platform, common),
            Ok(_) => {}
            Err(error) => warn(&format!(
                "what was kept of drive {} while it was looked at can't be read: {}\n",
                drive.tag,
                plain(&error)
            )),
        }
    }
}

fn one(drive: &Drive, kept: KeptPlaces, platform: &dyn Platform, common: &Common) {
    // The marks prove that it is the drive.
    let claimed = claim_unasked(JobKind::Gauge, "what was there before", drive, platform, common);
    let (text, next) = match claimed {
        // The look goes on just now.
        Err(Unclaimed::Claim(PlatformError::Held { .. })) => return,
        Err(unclaimed) => unclaimed.words(),
        Ok(claimed) => {
            let done = put_back(&kept, &*claimed, &mut |_| ());
            // It is given back whatever came of it.
            let _ = claimed.release(After::Keep);
            match done {
                // Another drive may have the same tag.
                Ok(done) if done.bytes == 0 && drive.tag.is_unsure() && !kept.is_empty() => return,
                Ok(done) => {
                    kept.remove();
                    if done.bytes > 0 {
                        let text = "a look at it was cut off, and what lay there before is on it again";
                        say(common, &format!("drive {}: {text} ({} bytes)\n", drive.tag, done.bytes));
                    }
                    return;
                }
                Err(fault) => words(&fault),
            }
        }
    };
    warn(&format!("drive {}: a look at it was cut off, and its marks are still there: {text}\n", drive.tag));
    warn(&format!("   next: {next}\n"));
}

fn words(fault: &JobFault) -> (String, String) {
    (chain(fault), fault.next_step().to_owned())
}
