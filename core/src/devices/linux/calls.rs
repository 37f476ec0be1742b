//! The calls that have no safe wrapper: the one place of `unsafe` in the project.
#![allow(unsafe_code)]

use std::ffi::c_void;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, FromRawFd, OwnedFd};
use std::os::unix::process::CommandExt;
use std::process::Command;

use nix::libc::c_long;
use nix::sys::signal::SigSet;
use rustix::io::{FdFlags, fcntl_setfd};
use rustix::ioctl::{Getter, Ioctl, IoctlOutput, NoArg, Opcode, ioctl, opcode};
use rustix::mm::{Advice, madvise};
use rustix::process::{Signal, set_parent_process_death_signal};

/// Read the partition table again: `BLKRRPART`, linux/fs.h.
const READ_TABLE: Opcode = opcode::none(0x12, 95);
/// Freeze a file system, and thaw it: `FIFREEZE`, `FITHAW`, linux/fs.h.
const FREEZE: Opcode = opcode::read_write::<i32>(b'X', 119);
const THAW: Opcode = opcode::read_write::<i32>(b'X', 120);
/// Number that grows with each medium: `BLKGETDISKSEQ`, linux/fs.h.
const DISK_SEQUENCE: Opcode = opcode::read::<u64>(0x12, 128);
/// Stop the unit and eject its medium: `CDROMEJECT`, linux/cdrom.h, which disks understand as well.
const EJECT: Opcode = 0x5309;
/// Let the medium out: `SCSI_IOCTL_DOORUNLOCK`, scsi/scsi_ioctl.h.
const UNLOCK: Opcode = 0x5381;

/// Has the kernel read the partition table of the open disk again.
pub(super) fn read_table(disk: impl AsFd) -> io::Result<()> {
    // SAFETY: BLKRRPART takes no argument and touches no memory of this process.
    Ok(unsafe { ioctl(disk, NoArg::<READ_TABLE>::new()) }?)
}

/// The sequence number of the medium in the open disk.
pub(super) fn disk_sequence(disk: impl AsFd) -> io::Result<u64> {
    // SAFETY: BLKGETDISKSEQ writes one u64 where it is told to, which is what `Getter` provides.
    Ok(unsafe { ioctl(disk, Getter::<DISK_SEQUENCE, u64>::new()) }?)
}

/// Returns true if the file system of this file is frozen. Freezes and thaws it to find out.
pub(super) fn is_frozen(file: impl AsFd) -> bool {
    // SAFETY: FIFREEZE and FITHAW read no argument and touch no memory of this process.
    match unsafe { ioctl(&file, NoArg::<FREEZE>::new()) } {
        // SAFETY: as above.
        Ok(()) => unsafe { ioctl(&file, NoArg::<THAW>::new()) }.is_err(),
        // Other errors: the file system does not support freezing, or this account may not freeze it.
        Err(error) => error == rustix::io::Errno::BUSY,
    }
}

/// Returns true if two threads share their table of open files; false if the kernel does not answer.
pub(super) fn share_open_files(one: u32, other: u32) -> bool {
    /// Compare tables of open files: `KCMP_FILES`, linux/kcmp.h.
    const FILES: c_long = 2;
    // SAFETY: kcmp takes five numbers and touches no memory of this process.
    unsafe { nix::libc::syscall(nix::libc::SYS_kcmp, c_long::from(one), c_long::from(other), FILES, 0, 0) == 0 }
}

/// Stops the open disk so that it can be pulled out. The kernel keeps it locked as long as it is open.
pub(super) fn eject(disk: impl AsFd) -> io::Result<()> {
    // SAFETY: SCSI_IOCTL_DOORUNLOCK takes no argument and touches no memory of this process.
    let unlocked = unsafe { ioctl(&disk, Telling::<UNLOCK>) };
    // SAFETY: CDROMEJECT takes no argument and touches no memory of this process.
    match unsafe { ioctl(&disk, Telling::<EJECT>) }? {
        0 => Ok(()),
        // Of a SCSI disk it is told by a number above zero that it refused.
        told => Err(unlocked.err().map_or_else(|| io::Error::other(format!("it refuses ({told:#x})")), Into::into)),
    }
}

/// A call without an argument that answers with a number.
struct Telling<const OPCODE: Opcode>;

// SAFETY: the call that it stands for gets no pointer, so that the kernel touches no memory of this process.
unsafe impl<const OPCODE: Opcode> Ioctl for Telling<OPCODE> {
    type Output = IoctlOutput;
    const IS_MUTATING: bool = false;

    fn opcode(&self) -> Opcode {
        OPCODE
    }

    fn as_ptr(&mut self) -> *mut c_void {
        std::ptr::null_mut()
    }

    unsafe fn output_from_ptr(told: IoctlOutput, _: *mut c_void) -> rustix::io::Result<IoctlOutput> {
        Ok(told)
    }
}

/// Asks for large pages behind a buffer: a drive's controller is told of few places in place of many.
pub(crate) fn advise_large_pages(buffer: &mut [u8]) {
    // SAFETY: the range is that of a slice that is borrowed for writing, and MADV_HUGEPAGE changes none of its bytes.
    let advised = unsafe { madvise(buffer.as_mut_ptr().cast(), buffer.len(), Advice::LinuxHugepage) };
    // Without large pages the same is done, a little slower.
    let _ = advised;
}

/// Has the program that this starts end when the thread ends that starts it, however that comes about.
pub(crate) fn end_with_this_thread(command: &mut Command) {
    // SAFETY: between fork and exec it makes one call of the system, prctl, and touches no memory that others have.
    unsafe { command.pre_exec(|| Ok(set_parent_process_death_signal(Some(Signal::KILL))?)) };
}

/// Has the program that this starts hear every signal.
pub(in crate::devices) fn unblock_signals(command: &mut Command) {
    // SAFETY: between fork and exec it makes one call of the system, and touches no memory that others have.
    unsafe { command.pre_exec(|| Ok(SigSet::empty().thread_set_mask()?)) };
}

/// The open file with this number that this process was started with; `None` where nothing is open there.
pub(in crate::devices) fn taken_over(number: i32) -> Option<OwnedFd> {
    if number <= 2 {
        return None;
    }
    // SAFETY: it is borrowed for one call of the system, which says so where nothing is open.
    let is_open = fcntl_setfd(unsafe { BorrowedFd::borrow_raw(number) }, FdFlags::CLOEXEC).is_ok();
    // SAFETY: it is open, and this runs before anything else of this process has opened a file: nobody else has it.
    is_open.then(|| unsafe { OwnedFd::from_raw_fd(number) })
}
