//! What was seen of a trial start at one time, and whose words are whose: the firmware's, and those of what lies on the stick.

use std::time::Duration;

use super::picture::PictureKind;
use crate::image::Firmware;

/// What SeaBIOS logs when it jumps to the boot code that it has read: SeaBIOS, src/boot.c, call_boot_entry.
const BIOS_HANDS_OVER: &str = "Booting from 0000:7c00";
/// How it says on the screen what it tries, before the boot code says anything.
const BIOS_TRIES: &str = "Booting from";
/// What it says when nothing is left to be tried.
const BIOS_GIVES_UP: &str = "No bootable device";
/// How its words of failure begin.
const BIOS_FAILS: &str = "Boot failed";
/// How the words of the boot manager of EDK II begin: MdeModulePkg, Universal/BdsDxe, and UefiBootManagerLib.
const UEFI_SAYS: &str = "BdsDxe:";
/// What it says when it starts a program.
const UEFI_STARTS: &str = "BdsDxe: starting";
/// What it says when a program can't be loaded, or has ended with a fault.
const UEFI_FAILS: [&str; 2] = ["BdsDxe: failed to load", "BdsDxe: failed to start"];
/// What it says when nothing is left to be tried.
const UEFI_GIVES_UP: &str = "BdsDxe: No bootable option";
/// How a drive on USB is called in its device paths: UEFI Specification, 10.3.4.5.
const UEFI_STICK: &str = "USB(";

/// All that was seen until now.
#[derive(Clone, Debug)]
pub(super) struct Evidence<'a> {
    pub firmware: Firmware,
    /// What the BIOS logged.
    pub bios_log: &'a str,
    /// What came over the serial line.
    pub serial: &'a str,
    /// The text screen; empty where the screen shows a picture.
    pub screen: &'a str,
    /// What the screen shows, where that is a picture that came after the firmware handed over.
    pub picture: PictureKind,
    /// How long it has shown one without a break.
    pub drawn: Duration,
    /// How long the screen has stood still, with nothing read meanwhile.
    pub still: Duration,
    /// How often the PC was reset from within.
    pub resets: u32,
    /// Whether it was switched off from within.
    pub is_off: bool,
    /// What the stick calls itself.
    pub names: &'a [String],
    /// Whether its bytes have what this firmware starts.
    pub has_start: bool,
    /// Whether nobody waits any longer.
    pub is_last: bool,
}

/// How far the firmware got with the stick.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Handover {
    /// It looks for something to start.
    Not,
    /// It has started what it found.
    Given,
    /// It found nothing, or has it back: nothing of the stick runs.
    Over,
}

impl Evidence<'_> {
    /// What the firmware said of the stick, a line each.
    pub(super) fn firmware_said(&self) -> Vec<String> {
        let mut said: Vec<String> = Vec::new();
        let mut add = |line: &str| {
            if said.last().is_none_or(|last| last != line) {
                said.push(line.to_owned());
            }
        };
        match self.firmware {
            Firmware::Bios => {
                let lines = self.bios_log.lines().map(str::trim);
                let begins = [BIOS_TRIES, BIOS_FAILS, BIOS_GIVES_UP];
                lines.filter(|line| begins.iter().any(|begin| line.starts_with(begin))).for_each(&mut add);
            }
            Firmware::Uefi => {
                let own = |line: &&str| {
                    line.starts_with(UEFI_SAYS) && (line.contains(UEFI_STICK) || line.starts_with(UEFI_GIVES_UP))
                };
                self.serial.lines().filter(own).for_each(&mut add);
            }
        }
        // A PC that starts again and again says the same again and again.
        said.truncate(12);
        said
    }

    /// How far the firmware got with the stick.
    pub(super) fn handover(&self) -> Handover {
        let last = |text: &str, all: &[&str]| all.iter().filter_map(|one| text.rfind(one)).max();
        let (given, over) = match self.firmware {
            Firmware::Bios => {
                (last(self.bios_log, &[BIOS_HANDS_OVER]), last(self.bios_log, &[BIOS_FAILS, BIOS_GIVES_UP]))
            }
            Firmware::Uefi => {
                let lines = || self.serial.lines().enumerate();
                let place = |is: &dyn Fn(&str) -> bool| lines().filter(|(_, line)| is(line)).map(|(at, _)| at).last();
                let given = place(&|line| line.starts_with(UEFI_STARTS) && line.contains(UEFI_STICK));
                // It starts programs of its own when it is done with the stick.
                let over = place(&|line| {
                    UEFI_FAILS.iter().any(|fails| line.starts_with(fails))
                        || line.starts_with(UEFI_GIVES_UP)
                        || line.starts_with(UEFI_STARTS) && !line.contains(UEFI_STICK)
                });
                (given, over)
            }
        };
        match (given, over) {
            (None, None) => Handover::Not,
            (given, over) if over > given => Handover::Over,
            _ => Handover::Given,
        }
    }

    /// What the stick's own programs said, on the serial line and the text screen: no word of the firmware's.
    pub(super) fn stick_said(&self) -> String {
        let serial = match self.firmware {
            Firmware::Bios => self.serial,
            Firmware::Uefi => behind(self.serial, |line| line.starts_with(UEFI_STARTS)).unwrap_or_default(),
        };
        let screen = match self.firmware {
            // One that was cleared holds nothing of the firmware's any more.
            Firmware::Bios => behind(self.screen, |line| line.starts_with(BIOS_TRIES)).unwrap_or(self.screen),
            Firmware::Uefi => self.screen,
        };
        // It may have said half of it.
        let own = |line: &&str| !line.starts_with(BIOS_TRIES) && !BIOS_TRIES.starts_with(line.trim());
        let lines = serial.lines().chain(screen.lines());
        lines.filter(own).collect::<Vec<_>>().join("\n")
    }
}

/// What comes after the last line of that kind.
fn behind(text: &str, is: impl Fn(&str) -> bool) -> Option<&str> {
    let mut found = None;
    let mut at = 0usize;
    for line in text.split_inclusive('\n') {
        at = at.saturating_add(line.len());
        if is(line) {
            found = text.get(at..);
        }
    }
    found
}
