//! Test data that an interrupted quick test left on a drive: told by whoever reads the drive, restored on request.

use pyrotyp_core::devices::{After, DriveIo, Platform};
use pyrotyp_core::drive::Drive;
use pyrotyp_core::job::gauge::{ProbeBackup, has_marks, is_restore_pending, restore_all};
use pyrotyp_core::record::{DriveIdentity, JobKind};
use pyrotyp_core::text::{chain, shell};

use super::claim::claim_without_confirmation;
use super::folders::state_folder;
use crate::asked::Common;
use crate::exit::{Exit, Failure, plain};
use crate::out::warn;

/// Warns where what is read from this drive may be test data.
pub(crate) fn warn_if_pending(drive: &Drive, platform: &dyn Platform, common: &Common) {
    let Some(state) = state_folder(common) else { return };
    if is_restore_pending(&state, drive, platform) {
        let tag = &drive.tag;
        warn(&format!("drive {tag}: an interrupted quick test may have left test data on it\n"));
        warn(&format!("   next: pyrotyp gauge {} --restore\n", shell::word(tag.as_str())));
    }
}

/// Restores what interrupted quick tests left on this drive, and returns how many bytes that were. Without marks on the drive,
/// it is not even claimed.
pub(crate) fn restore_drive(drive: &Drive, platform: &dyn Platform, common: &Common) -> Result<u64, Failure> {
    let Some(state) = state_folder(common) else { return Ok(0) };
    let identity = DriveIdentity::of(drive);
    let backups = ProbeBackup::find_all(&state, &identity).map_err(|error| {
        let text = format!("can't read a backup of drive {}: {}", drive.tag, plain(&error));
        Failure::new(Exit::Unexpected, text, "make the file readable, then run the same command again")
    })?;
    if backups.is_empty() || !is_marked(&backups, &*platform.open(drive)?) {
        return Ok(0);
    }
    let claimed = claim_without_confirmation(JobKind::Gauge, "original bytes", drive, platform, common)?;
    let restored = restore_all(&state, &identity, &*claimed);
    // It is released whatever came of it.
    let _ = claimed.release(After::Keep);
    let restored = restored.map_err(|fault| {
        Failure::new(Exit::Drive, format!("drive {}: {}", drive.tag, chain(&fault)), fault.next_step())
    })?;
    Ok(restored.restored_bytes)
}

fn is_marked(backups: &[ProbeBackup], drive: &dyn DriveIo) -> bool {
    backups.iter().any(|backup| has_marks(backup, drive).unwrap_or(true))
}
