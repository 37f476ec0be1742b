//! Restores the original bytes of sectors that still hold the marks of a quick test, and of no other sector.

use std::ops::Range;
use std::path::{Path, PathBuf};

use crate::devices::{AlignedBuf, DriveFault, DriveIo, DriveWrite, Platform};
use crate::drive::Drive;
use crate::job::JobFault;
use crate::job::gauge::backup::{BackupExtent, MAX_EXTENT_BYTES, ProbeBackup};
use crate::job::gauge::marks::MARK_BYTES;
use crate::record::DriveIdentity;

/// Bytes of a torn sector that must be those of the mark, and not of the original: no chance makes so many equal.
const MIN_TORN_BYTES: usize = 16;
/// Sectors of one extent that may be unreadable before the rest of the extent is left alone.
const MAX_UNREADABLE: usize = 16;

/// Result of restoring one or more backups.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RestoreOutcome {
    /// Bytes of the drive that hold their original content again.
    pub restored_bytes: u64,
}

/// Whether a drive holds marks of this backup's run. Nothing is written.
///
/// # Errors
/// When the drive is gone, or no mark was found and a part of the extents can't be read.
pub fn has_marks(backup: &ProbeBackup, drive: &dyn DriveIo) -> Result<bool, DriveFault> {
    let marker = backup.marker();
    let mut buffer = AlignedBuf::new(MAX_EXTENT_BYTES);
    let mut unreadable = Ok(false);
    for extent in backup.extents() {
        let found = buffer.get_mut(..extent.len).unwrap_or_default();
        match drive.read_at(extent.offset, found) {
            Ok(()) if found.chunks(MARK_BYTES).any(|sector| marker.place_of(sector).is_some()) => return Ok(true),
            Ok(()) => {}
            Err(DriveFault::Gone) => return Err(DriveFault::Gone),
            Err(error) => unreadable = Err(error),
        }
    }
    unreadable
}

/// Restores every backup below `state` whose marks are on the drive, and deletes it once all of its marks are replaced.
/// A backup without a mark on this drive may belong to another drive with the same identity, so it stays.
///
/// # Errors
/// When the drive is gone, a backup can't be read, or marks stay on the drive: [`JobFault::RestorePending`].
pub fn restore_all(state: &Path, identity: &DriveIdentity, drive: &dyn DriveWrite) -> Result<RestoreOutcome, JobFault> {
    let backups = ProbeBackup::find_all(state, identity).map_err(|source| JobFault::BackupFailed { source })?;
    let mut all = RestoreOutcome::default();
    let mut pending: Option<PathBuf> = None;
    for backup in backups {
        match restore_backup(&backup, drive, &mut |_| ()) {
            Ok(done) => {
                all.restored_bytes = all.restored_bytes.saturating_add(done.restored_bytes);
                if done.restored_bytes > 0 {
                    backup.remove();
                }
            }
            // Unreadable sectors count as marked only where this run's marks were seen beside them.
            Err(JobFault::RestoreFailed { has_marks: false, .. }) => {}
            Err(JobFault::RestoreFailed { .. }) => pending = pending.or(Some(backup.path().to_owned())),
            Err(fault) => return Err(fault),
        }
    }
    match pending {
        Some(file) => Err(JobFault::RestorePending { file }),
        None => Ok(all),
    }
}

/// Whether an interrupted quick test may have left marks on this drive. It is only read, and only where backups for its identity exist.
pub fn is_restore_pending(state: &Path, drive: &Drive, platform: &dyn Platform) -> bool {
    // What can't be read may be marked: only a look at every extent tells that nothing is pending.
    let Ok(backups) = ProbeBackup::find_all(state, &DriveIdentity::of(drive)) else { return true };
    let has_some = |backup: &ProbeBackup| {
        let open = platform.open(drive).ok();
        open.is_none_or(|open| has_marks(backup, &*open).unwrap_or(true))
    };
    backups.iter().any(has_some)
}

/// Writes the original bytes over each mark of this run that is read on the drive. All other sectors stay as they are.
///
/// The last extent of the backup goes first: where two offsets of the drive are one place, the first extent holds the bytes from before
/// any mark. `on_moved` receives the bytes of each extent that was read or written.
///
/// # Errors
/// When the drive is gone, the backup can't be read, or a mark may still be on the drive: [`JobFault::RestoreFailed`].
pub fn restore_backup(
    backup: &ProbeBackup,
    drive: &dyn DriveWrite,
    on_moved: &mut dyn FnMut(u64),
) -> Result<RestoreOutcome, JobFault> {
    let marker = backup.marker();
    let [mut found, mut original, mut marks] = [(); 3].map(|()| AlignedBuf::new(MAX_EXTENT_BYTES));
    let mut done = RestoreOutcome::default();
    let mut failed = None;
    for extent in backup.extents().iter().rev() {
        let (Some(found), Some(original), Some(marks)) =
            (found.get_mut(..extent.len), original.get_mut(..extent.len), marks.get_mut(..extent.len))
        else {
            continue;
        };
        backup.read(extent, original).map_err(|source| JobFault::BackupFailed { source })?;
        marker.fill(extent.offset, marks);
        let unit = usize::try_from(drive.sector_bytes()).unwrap_or(MARK_BYTES).max(MARK_BYTES);
        let (readable, is_whole) = read_extent(drive, extent, unit, found)?;
        if !is_whole {
            failed = failed.or(Some(extent.offset));
        }
        on_moved(extent.len as u64);
        for range in readable {
            let marked = replace_marks(range, unit, Sectors { found, original, marks });
            for run in marked {
                let Some(bytes) = found.get(run.clone()) else { continue };
                let offset = extent.offset.saturating_add(run.start as u64);
                // A buffer of its own: direct I/O needs memory that is aligned.
                let mut aligned = AlignedBuf::new(bytes.len());
                aligned.copy_from_slice(bytes);
                match drive.write_at(offset, &aligned) {
                    Ok(()) => done.restored_bytes = done.restored_bytes.saturating_add(bytes.len() as u64),
                    Err(DriveFault::Gone) => return Err(gone(extent)),
                    Err(DriveFault::Failed(_)) => failed = failed.or(Some(offset)),
                }
            }
        }
        on_moved(extent.len as u64);
    }
    drive.flush().map_err(|source| JobFault::Flush { source })?;
    let left = first_marked(backup, drive, &mut found, on_moved)?;
    let has_marks = left.is_some() || done.restored_bytes > 0;
    match left.or(failed) {
        Some(at) => Err(JobFault::RestoreFailed { at, has_marks }),
        None => Ok(done),
    }
}

fn gone(extent: &BackupExtent) -> JobFault {
    JobFault::Write { at: extent.offset, bytes: extent.len as u64, source: DriveFault::Gone }
}

/// Reads an extent, unit by unit where it can't be read at once. Returns the readable ranges, and whether they are all of it.
fn read_extent(
    drive: &dyn DriveWrite,
    extent: &BackupExtent,
    unit: usize,
    into: &mut [u8],
) -> Result<(Vec<Range<usize>>, bool), JobFault> {
    match drive.read_at(extent.offset, into) {
        Ok(()) => return Ok((std::iter::once(0..into.len()).collect(), true)),
        Err(DriveFault::Gone) => return Err(gone(extent)),
        Err(DriveFault::Failed(_)) => {}
    }
    let (mut readable, mut unreadable) = (Vec::new(), 0usize);
    let mut buffer = AlignedBuf::new(unit);
    for (number, part) in into.chunks_exact_mut(unit).enumerate() {
        let start = number.saturating_mul(unit);
        match drive.read_at(extent.offset.saturating_add(start as u64), &mut buffer) {
            Ok(()) => {
                part.copy_from_slice(&buffer);
                readable.push(start..start.saturating_add(unit));
            }
            Err(DriveFault::Gone) => return Err(gone(extent)),
            Err(DriveFault::Failed(_)) => unreadable = unreadable.saturating_add(1),
        }
        if unreadable >= MAX_UNREADABLE {
            break;
        }
    }
    Ok((readable, false))
}

/// The bytes of one extent: as read from the drive, as backed up, and as marked.
struct Sectors<'a> {
    found: &'a mut [u8],
    original: &'a [u8],
    marks: &'a [u8],
}

/// Replaces each mark in `range` by the original, also one that a power cut tore. Returns what to write, as runs of whole units.
fn replace_marks(range: Range<usize>, unit: usize, sectors: Sectors<'_>) -> Vec<Range<usize>> {
    let Sectors { found, original, marks } = sectors;
    let mut runs: Vec<Range<usize>> = Vec::new();
    for start in range.step_by(unit) {
        let end = start.saturating_add(unit);
        let (Some(found), Some(original), Some(marks)) =
            (found.get_mut(start..end), original.get(start..end), marks.get(start..end))
        else {
            continue;
        };
        let parts = found.chunks_mut(MARK_BYTES).zip(original.chunks(MARK_BYTES)).zip(marks.chunks(MARK_BYTES));
        let mut is_marked = false;
        for ((found, original), mark) in parts {
            if is_mark(found, original, mark) {
                found.copy_from_slice(original);
                is_marked = true;
            }
        }
        match runs.last_mut() {
            Some(last) if is_marked && last.end == start => last.end = end,
            _ if is_marked => runs.push(start..end),
            _ => {}
        }
    }
    runs
}

/// Whether a sector holds its own mark, whole or torn.
fn is_mark(found: &[u8], original: &[u8], mark: &[u8]) -> bool {
    if found == mark {
        return found != original;
    }
    let bytes = || found.iter().zip(original.iter().zip(mark));
    let of_mark = bytes().filter(|(found, (original, mark))| found == mark && found != original).count();
    of_mark >= MIN_TORN_BYTES && bytes().all(|(found, (original, mark))| found == original || found == mark)
}

/// Returns the offset of the first extent that still holds a mark of this run.
fn first_marked(
    backup: &ProbeBackup,
    drive: &dyn DriveIo,
    buffer: &mut AlignedBuf,
    on_moved: &mut dyn FnMut(u64),
) -> Result<Option<u64>, JobFault> {
    let marker = backup.marker();
    for extent in backup.extents() {
        let found = buffer.get_mut(..extent.len).unwrap_or_default();
        on_moved(extent.len as u64);
        match drive.read_at(extent.offset, found) {
            Ok(()) => {}
            Err(DriveFault::Gone) => return Err(gone(extent)),
            Err(DriveFault::Failed(_)) => continue,
        }
        if found.chunks(MARK_BYTES).any(|sector| marker.place_of(sector).is_some()) {
            return Ok(Some(extent.offset));
        }
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex;

    use super::*;
    use crate::devices::ALIGNMENT;
    use crate::record::DriveIdentity;

    /// A drive whose two halves are the same place; offsets in `unreadable` fail.
    struct WrappingDrive {
        bytes: Mutex<Vec<u8>>,
        unreadable: Range<u64>,
    }

    impl DriveIo for WrappingDrive {
        fn bytes(&self) -> u64 {
            2 * ALIGNMENT as u64
        }

        fn sector_bytes(&self) -> u32 {
            512
        }

        fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
            if at < self.unreadable.end && at + into.len() as u64 > self.unreadable.start {
                return Err(DriveFault::Failed(std::io::ErrorKind::Other.into()));
            }
            let at = at as usize % ALIGNMENT;
            into.copy_from_slice(&self.bytes.lock().unwrap()[at..at + into.len()]);
            Ok(())
        }
    }

    impl DriveWrite for WrappingDrive {
        fn write_at(&self, at: u64, from: &[u8]) -> Result<(), DriveFault> {
            let at = at as usize % ALIGNMENT;
            self.bytes.lock().unwrap()[at..at + from.len()].copy_from_slice(from);
            Ok(())
        }

        fn flush(&self) -> Result<(), DriveFault> {
            Ok(())
        }
    }

    fn identity() -> DriveIdentity {
        DriveIdentity { tag: "DBR7J".into(), path: String::new(), vendor: None, model: None, serial: None, bytes: 8192 }
    }

    /// A marked drive and its backup.
    fn marked(folder: &Path) -> (WrappingDrive, ProbeBackup, Vec<u8>) {
        let original = vec![0x5A; ALIGNMENT];
        let drive = WrappingDrive { bytes: Mutex::new(original.clone()), unreadable: 0..0 };
        let mut backup = ProbeBackup::create(folder, &identity(), "seed").unwrap();
        let mut bytes = vec![0; ALIGNMENT];
        // The second extent is backed up when it shows the marks of the first already.
        for at in [0, ALIGNMENT as u64] {
            drive.read_at(at, &mut bytes).unwrap();
            backup.append(at, &bytes).unwrap();
            backup.marker().fill(at, &mut bytes);
            drive.write_at(at, &bytes).unwrap();
        }
        (drive, backup, original)
    }

    #[test]
    fn restore_on_wrapping_drive_keeps_the_original() {
        let folder = tempfile::tempdir().unwrap();
        let (drive, backup, original) = marked(folder.path());
        assert!(has_marks(&backup, &drive).unwrap());
        let mut moved = 0;
        let done = restore_backup(&backup, &drive, &mut |bytes| moved += bytes).unwrap();
        assert!(*drive.bytes.lock().unwrap() == original && !has_marks(&backup, &drive).unwrap());
        assert_eq!((done.restored_bytes, moved), (2 * ALIGNMENT as u64, 6 * ALIGNMENT as u64));
        // A mark that stays is an error.
        let mut marks = vec![0; ALIGNMENT];
        backup.marker().fill(ALIGNMENT as u64 * 7, &mut marks);
        drive.write_at(0, &marks).unwrap();
        let again = restore_backup(&backup, &drive, &mut |_| ());
        assert!(matches!(again, Err(JobFault::RestoreFailed { at: 0, has_marks: true })));
    }

    #[test]
    fn unreadable_sector_is_never_written() {
        let folder = tempfile::tempdir().unwrap();
        let (mut drive, backup, _) = marked(folder.path());
        // Another stick's bytes, of which two sectors can't be read.
        let other: Vec<u8> = (0..ALIGNMENT).map(|at| at as u8).collect();
        drive.bytes = Mutex::new(other.clone());
        drive.unreadable = 512..1536;
        let fault = restore_backup(&backup, &drive, &mut |_| ()).unwrap_err();
        assert!(matches!(fault, JobFault::RestoreFailed { has_marks: false, .. }), "{fault}");
        assert!(*drive.bytes.lock().unwrap() == other);
        assert!(has_marks(&backup, &drive).is_err(), "what can't be read is not known");
        let path = backup.path().to_owned();
        drop(backup);
        assert_eq!(restore_all(folder.path(), &identity(), &drive).unwrap(), RestoreOutcome::default());
        assert!(path.exists());
    }

    #[test]
    fn sector_that_equals_a_few_bytes_of_a_mark_is_no_mark() {
        let [original, mark] = [0x5A, 0xC3].map(|byte| [byte; MARK_BYTES]);
        let torn = |bytes: usize| [&mark[..bytes], &original[bytes..]].concat();
        assert!(is_mark(&mark, &original, &mark) && is_mark(&torn(256), &original, &mark));
        assert!(!is_mark(&torn(MIN_TORN_BYTES - 1), &original, &mark) && !is_mark(&original, &original, &mark));
        let mut other = torn(256);
        other[400] = 1;
        assert!(!is_mark(&other, &original, &mark));
    }
}
