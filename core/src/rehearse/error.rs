//! Why a trial start can't be had.

use std::io;

/// Why nothing was tried.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RehearseError {
    /// The emulator is not installed.
    #[error("this system has no {program}, the emulator in which a stick is tried")]
    NoEmulator {
        /// Its program.
        program: &'static str,
    },
    /// No UEFI for the emulator is installed.
    #[error("this system has no UEFI firmware for the emulator")]
    NoFirmware,
    /// None is installed that has the keys of Secure Boot.
    #[error("this system has no UEFI firmware for the emulator with the keys of Secure Boot in it")]
    NoKeys,
    /// The emulator ended by itself, or does not answer.
    #[error("the emulator failed: {said}")]
    Emulator {
        /// What it said, or what it did not do.
        said: String,
    },
    /// What it works with can't be made or read.
    #[error("the emulated PC can't be made")]
    Scratch(#[from] io::Error),
    /// Somebody stopped it.
    #[error("the trial start was stopped")]
    Stopped,
}

impl RehearseError {
    /// What to do about it.
    pub fn next_step(&self) -> &'static str {
        match self {
            Self::NoEmulator { .. } => "install it: the package is called qemu-system-x86, or qemu-x86",
            Self::NoFirmware | Self::NoKeys => {
                "install it: the package is called ovmf, edk2-ovmf or qemu-ovmf-x86_64; or try --firmware bios"
            }
            Self::Scratch(_) => "make room in the folder for temporary files, then run the same command again",
            Self::Emulator { .. } | Self::Stopped => "run the same command again",
        }
    }
}
