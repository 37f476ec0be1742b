//! The EFI system partition of the samples.

use std::io::{Cursor, Write};

use crate::boot;

/// Size of the partition, in bytes: small enough for FAT12.
const SIZE: usize = 2 << 20;

/// A FAT file system with `EFI/BOOT/BOOTX64.EFI` in it, the path that UEFI starts from removable drives.
pub fn build(name: &str) -> Vec<u8> {
    let mut disk = Cursor::new(vec![0u8; SIZE]);
    fill(&mut disk, &boot::efi_program(name)).expect("a file system in memory has no reason to fail");
    disk.into_inner()
}

fn fill(disk: &mut Cursor<Vec<u8>>, program: &[u8]) -> std::io::Result<()> {
    let options = fatfs::FormatVolumeOptions::new().volume_id(0x5052_5459).volume_label(*b"START      ");
    fatfs::format_volume(&mut *disk, options)?;
    let volume = fatfs::FileSystem::new(disk, fatfs::FsOptions::new())?;
    let folder = volume.root_dir().create_dir("EFI")?.create_dir("BOOT")?;
    folder.create_file("BOOTX64.EFI")?.write_all(program)?;
    volume.root_dir().create_file("STARTUP.TXT")?.write_all(b"The PC starts from EFI/BOOT.\r\n")
}
