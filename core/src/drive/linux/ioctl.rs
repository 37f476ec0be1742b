//! The calls that have no safe wrapper: the one place of `unsafe` in the project.
#![allow(unsafe_code)]

use std::io;
use std::os::fd::AsFd;

use rustix::ioctl::{Getter, NoArg, Opcode, ioctl, opcode};

/// Read the partition table again: `BLKRRPART`, linux/fs.h.
const READ_TABLE: Opcode = opcode::none(0x12, 95);
/// Number that grows with each medium: `BLKGETDISKSEQ`, linux/fs.h.
const DISK_SEQUENCE: Opcode = opcode::read::<u64>(0x12, 128);
/// Stop the unit and eject its medium: `CDROMEJECT`, linux/cdrom.h, which disks understand as well.
const EJECT: Opcode = 0x5309;

/// Has the kernel read the partition table of the open disk again.
pub fn read_table(disk: impl AsFd) -> io::Result<()> {
    // SAFETY: BLKRRPART takes no argument and touches no memory of this process.
    Ok(unsafe { ioctl(disk, NoArg::<READ_TABLE>::new()) }?)
}

/// The sequence number of the medium in the open disk.
pub fn disk_sequence(disk: impl AsFd) -> io::Result<u64> {
    // SAFETY: BLKGETDISKSEQ writes one u64 where it is told to, which is what `Getter` provides.
    Ok(unsafe { ioctl(disk, Getter::<DISK_SEQUENCE, u64>::new()) }?)
}

/// Stops the open disk so that it can be pulled out.
pub fn eject(disk: impl AsFd) -> io::Result<()> {
    // SAFETY: CDROMEJECT takes no argument and touches no memory of this process.
    Ok(unsafe { ioctl(disk, NoArg::<EJECT>::new()) }?)
}
