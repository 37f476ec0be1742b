//! Whether something started: what was seen → a word and a sentence. Where it is not certain, it is not `yes`.

use std::time::Duration;

use super::evidence::{Evidence, Handover};
use super::picture::PictureKind;
use crate::image::Firmware;
use crate::record::Started;

/// So long a screen stands still that nothing will come of any more, unless somebody does something.
pub(super) const STILL: Duration = Duration::from_secs(5);
/// So long something is drawn, moving all the while, that it is no mere beginning.
const DRAWN: Duration = Duration::from_secs(15);
/// So long nothing comes of a stick that has nothing to start.
const NOTHING: Duration = Duration::from_secs(8);
/// Resets after which more of them are to be expected.
const RESETS_MOST: u32 = 3;
/// A name is not known by a few letters of it.
const NAME_LETTERS_LEAST: usize = 6;
/// A program says in few lines that it can't go on.
const SHORT: usize = 10;

/// How UEFI ends what it says of a program that Secure Boot refuses: UEFI Specification, appendix D, EFI_ACCESS_DENIED.
const UEFI_REFUSES: &str = "Access Denied";
/// What is in words of the firmware that say why.
const SAYS_WHY: [&str; 2] = ["failed", "No bootable"];

/// What boot code, boot loaders and systems say when they can't go on. In small letters.
const ENDS: [&str; 39] = [
    "kernel panic",
    "x64 exception type",
    "grub rescue>",
    "minimal bash-like line editing",
    "entering rescue mode",
    "dropping to a shell",
    "dropping to debug shell",
    "(initramfs)",
    "emergency mode",
    "emergency shell",
    "unable to find a medium",
    "unable to mount root",
    "cannot mount root",
    "no root device",
    "gave up waiting for",
    "missing operating system",
    "missing or corrupt",
    "operating system not found",
    "no operating system",
    "error loading operating system",
    "invalid partition table",
    "no active partition",
    "not a bootable",
    "not bootable",
    "no bootable",
    "non-system disk",
    "boot error",
    "boot failed",
    "boot failure",
    "no default or ui configuration",
    "could not find kernel image",
    "failed to load ldlinux",
    "bootmgr is missing",
    "ntldr is missing",
    "security violation",
    "access denied",
    "bad shim signature",
    "verification failed",
    "system halted",
];

/// What boot loaders and systems say of themselves once they run. In small letters.
const STARTS: [&str; 13] = [
    "gnu grub",
    "press [tab] to edit options",
    "automatic boot in",
    "use the arrow keys to",
    "use the ^ and v keys",
    "press enter to boot",
    "memtest86+ v",
    "linux version ",
    "login:",
    "freedos kernel",
    "reached target",
    "run /init as init process",
    "select an entry",
];

/// Words of which nobody can tell whether the one who says them goes on. In small letters.
const DOUBTS: [&str; 20] = [
    "error",
    "fail",
    "missing",
    "not found",
    "invalid",
    "cannot",
    "can't",
    "can not",
    "could not",
    "unable",
    "corrupt",
    "denied",
    "insert",
    "replace",
    "halt",
    "no such",
    "unknown",
    "unsupported",
    "not ",
    "abort",
];

/// Whether something started, and what tells so.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Judgement {
    pub started: Started,
    pub reason: String,
}

fn told(started: Started, reason: impl Into<String>) -> Judgement {
    Judgement { started, reason: reason.into() }
}

/// The last line that holds one of these.
fn line_with<'a>(text: &'a str, words: &[&str]) -> Option<&'a str> {
    text.lines().rfind(|line| {
        let line = line.to_lowercase();
        words.iter().any(|word| line.contains(word))
    })
}

fn short(line: &str) -> String {
    const MOST: usize = 100;
    let line = line.trim();
    match line.char_indices().nth(MOST) {
        Some((end, _)) => format!("{}…", line.get(..end).unwrap_or(line)),
        None => line.to_owned(),
    }
}

/// Judges what was seen.
pub(super) fn judge(seen: &Evidence<'_>) -> Judgement {
    let called = match seen.firmware {
        Firmware::Bios => "the BIOS",
        Firmware::Uefi => "UEFI",
    };
    if seen.resets >= RESETS_MOST {
        return told(Started::No, "the PC resets itself again and again");
    }
    match seen.handover() {
        Handover::Not => told(Started::Unknown, format!("{called} has not tried the stick in that time")),
        Handover::Over => {
            let said = seen.firmware_said();
            if said.iter().any(|line| line.ends_with(UEFI_REFUSES)) {
                let reason = "Secure Boot does not start its program: no key that it knows has signed it";
                return told(Started::No, reason);
            }
            let failed = |line: &&String| SAYS_WHY.iter().any(|word| line.contains(word));
            match said.iter().find(failed) {
                Some(line) => told(Started::No, format!("{called} says: {}", without_path(line))),
                None if said.is_empty() => told(Started::No, format!("{called} found nothing to start on it")),
                None => told(Started::No, format!("its program ended, and {called} went on to something else")),
            }
        }
        Handover::Given => of_stick(seen, called),
    }
}

/// A line of UEFI's without what it calls the stick, and where that is plugged in.
fn without_path(line: &str) -> String {
    let line = line.strip_prefix("BdsDxe: ").unwrap_or(line);
    let Some((what, rest)) = line.split_once(" \"") else { return line.to_owned() };
    let why = rest.rsplit_once(": ").map_or(String::new(), |(_, why)| format!(": {why}"));
    format!("{what}{why}")
}

/// Of what was started, since the firmware has handed over.
fn of_stick(seen: &Evidence<'_>, called: &str) -> Judgement {
    let said = seen.stick_said();
    if let Some(line) = line_with(&said, &ENDS) {
        return told(Started::No, format!("it says: {}", short(line)));
    }
    if seen.is_off {
        return told(Started::Unknown, "it switched the PC off");
    }
    if let Some(line) = line_with(&said, &STARTS) {
        return told(Started::Yes, format!("it says: {}", short(line)));
    }
    let is_short = said.lines().count() < SHORT;
    if let Some(line) = line_with(&said, &DOUBTS).filter(|_| is_short) {
        return told(Started::Unknown, format!("it says what may be an error: {}", short(line)));
    }
    let is_name = |line: &str| {
        let line = line.to_lowercase();
        let names = seen.names.iter().map(|name| name.to_lowercase().replace('_', " "));
        names.into_iter().any(|name| name.chars().count() >= NAME_LETTERS_LEAST && line.contains(&name))
    };
    if let Some(line) = said.lines().rfind(|line| is_name(line)) {
        return told(Started::Yes, format!("it gives its name: {}", short(line)));
    }
    let stands = seen.still >= STILL || seen.is_last;
    match seen.picture {
        PictureKind::Drawn if seen.still >= STILL => return told(Started::Yes, "its picture stands still"),
        PictureKind::Drawn if seen.is_last || seen.drawn >= DRAWN => {
            return told(Started::Yes, "it draws on the screen");
        }
        PictureKind::Letters if stands => {
            return told(Started::Unknown, "it writes on the screen: whether that is a start, its picture tells");
        }
        _ => {}
    }
    match said.lines().last() {
        Some(line) => told(Started::Unknown, format!("it says: {}", short(line))),
        None if !seen.has_start && seen.still >= NOTHING => told(
            Started::No,
            format!("{called} ran the first sector, and nothing came of it: nothing in it looks like boot code"),
        ),
        None => told(Started::Unknown, format!("{called} started it, and nothing is to be seen of it")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const HANDED: &str = "enter handle_19:\n  NULL\nBooting from Hard Disk...\nBooting from 0000:7c00\n";
    const STARTED: &str = "BdsDxe: loading Boot0001 \"UEFI QEMU\" from PciRoot(0x0)/Pci(0x2,0x0)/USB(0x0,0x0)\n\
        BdsDxe: starting Boot0001 \"UEFI QEMU\" from PciRoot(0x0)/Pci(0x2,0x0)/USB(0x0,0x0)\n";

    fn bios<'a>(log: &'a str, screen: &'a str) -> Evidence<'a> {
        Evidence {
            firmware: Firmware::Bios,
            bios_log: log,
            serial: "",
            screen,
            picture: PictureKind::Blank,
            drawn: Duration::ZERO,
            still: STILL,
            resets: 0,
            is_off: false,
            names: &[],
            has_start: true,
            is_last: false,
        }
    }

    fn uefi(serial: &str) -> Evidence<'_> {
        Evidence { firmware: Firmware::Uefi, serial, ..bios("", "") }
    }

    fn line(seen: &Evidence<'_>) -> String {
        let Judgement { started, reason } = judge(seen);
        format!("{}: {reason}", started.word())
    }

    #[test]
    fn a_bios_start_is_one_where_what_runs_says_so() {
        let names = ["LARKSPUR_92".to_owned(), "Lark".to_owned()];
        let tried = "Booting from Hard Disk...\n";
        let screen = |text: &str| format!("SeaBIOS (version 1.16.2)\n{tried}{text}");
        let say = |text: &str| line(&Evidence { names: &names, ..bios(HANDED, &screen(text)) });
        let log = |more: &str| format!("{HANDED}{more}");
        let over = log("Boot failed: not a bootable disk\n\nNo bootable device.\n");
        let mine = bios(HANDED, "");
        let told = [
            line(&bios("", "")),
            line(&bios(&over, "GNU GRUB")),
            line(&bios(&over.replace("7c00", ""), "")),
            line(&bios(&log("enter handle_18:\nNo bootable device.\nBooting from 0000:7c00\n"), "GNU GRUB")),
            say("Missing operating system"),
            say("Welcome to GRUB!\nerror: no such partition.\ngrub rescue>"),
            say("ISOLINUX 6.04\nError 1: cannot read"),
            say("Loading"),
            say("Larkspur 92: started by BIOS"),
            say("Lark: something with a short name"),
            say("GNU GRUB  version 2.06\nLarkspur Linux\nerrors are told here"),
            // Words that stood there before count for nothing.
            line(&bios(HANDED, "GNU GRUB\nBooting from Hard Disk...")),
            line(&Evidence { is_off: true, ..bios(HANDED, "GNU GRUB") }),
            line(&Evidence { resets: 2, ..bios(HANDED, "GNU GRUB") }),
            line(&Evidence { resets: 3, ..bios(HANDED, "GNU GRUB") }),
            line(&Evidence { has_start: false, ..mine.clone() }),
            line(&Evidence { has_start: false, still: NOTHING, ..mine.clone() }),
            line(&Evidence { still: NOTHING, ..mine.clone() }),
        ];
        insta::assert_snapshot!(told.join("\n"));
        let shows = |picture, still, is_last| judge(&Evidence { picture, still, is_last, ..mine.clone() }).started;
        let early = STILL - Duration::from_millis(1);
        assert_eq!(shows(PictureKind::Drawn, STILL, false), Started::Yes);
        assert_eq!(shows(PictureKind::Drawn, early, false), Started::Unknown);
        assert_eq!(shows(PictureKind::Drawn, early, true), Started::Yes);
        let moves = |drawn| Evidence { picture: PictureKind::Drawn, still: Duration::ZERO, drawn, ..mine.clone() };
        let told = [DRAWN - Duration::from_millis(1), DRAWN].map(|drawn| judge(&moves(drawn)).started);
        assert_eq!(told, [Started::Unknown, Started::Yes]);
        assert_eq!(shows(PictureKind::Letters, STILL, true), Started::Unknown);
        let letters = |still, is_last| {
            let seen = Evidence { picture: PictureKind::Letters, still, is_last, ..mine.clone() };
            judge(&seen).reason.starts_with("it writes on the screen")
        };
        assert_eq!(
            [(STILL, false), (early, true), (early, false)].map(|(still, last)| letters(still, last)),
            [true, true, false]
        );
        assert_eq!(shows(PictureKind::Blank, STILL, true), Started::Unknown);
        // Words that may be an error weigh where little else is said.
        let said = |lines: usize| format!("Error 17{}", "\nreading on".repeat(lines - 1));
        let draws = |lines| judge(&Evidence { picture: PictureKind::Drawn, ..bios(HANDED, &said(lines)) }).started;
        assert_eq!([SHORT - 1, SHORT].map(draws), [Started::Unknown, Started::Yes]);
        // What says that it can't go on is believed, whatever is drawn.
        let panics = Evidence { picture: PictureKind::Drawn, ..bios(HANDED, "Kernel panic - not syncing: VFS") };
        assert_eq!(judge(&panics).started, Started::No);
    }

    #[test]
    fn a_uefi_start_is_one_of_the_stick_and_not_of_the_firmware() {
        let after = |text: &str| format!("{STARTED}{text}");
        let failed = |why: &str| {
            format!(
                "BdsDxe: failed to load Boot0001 \"UEFI QEMU\" from PciRoot(0x0)/Pci(0x2,0x0)/USB(0x0,0x0): {why}\n"
            )
        };
        let shell = "BdsDxe: starting Boot0002 \"EFI Internal Shell\" from Fv(7CB8BDC9)\nUEFI Interactive Shell v2.2\nPress ESC\n";
        let told = [
            line(&uefi("UEFI firmware\n")),
            line(&uefi(&failed("Not Found"))),
            line(&uefi(&failed("Access Denied"))),
            line(&uefi(&(failed("Not Found") + shell))),
            line(&uefi(&after(shell))),
            line(&uefi(&after(
                "BdsDxe: failed to start Boot0001 \"UEFI QEMU\" from PciRoot(0x0)/USB(0x0,0x0): Load Error\n",
            ))),
            line(&uefi(&after("BdsDxe: No bootable option or device was found.\nGNU GRUB\n"))),
            line(&uefi(&after("GNU GRUB  version 2.06\n"))),
            line(&uefi(&after("!!!! X64 Exception Type - 06(#UD)  CPU Apic ID - 00000000 !!!!\n"))),
            line(&uefi(&after("GNU GRUB  version 2.06\nMinimal BASH-like line editing is supported.\ngrub>\n"))),
            line(&uefi(&after(""))),
            line(&uefi(shell)),
        ];
        insta::assert_snapshot!(told.join("\n"));
        let said = uefi(&(failed("Not Found") + shell)).firmware_said();
        assert_eq!(said.len(), 1, "what the firmware does on its own account is none of the stick's: {said:?}");
    }

    proptest! {
        #[test]
        fn nothing_that_never_got_the_stick_starts(log in "[A-Za-z :.0\n]{0,200}", words in ".{0,200}", last: bool) {
            let log = log.replace("7c00", "");
            let names = [words.clone()];
            for seen in [bios(&log, &words), Evidence { serial: &words, ..uefi("") }] {
                let seen = Evidence { names: &names, is_last: last, picture: PictureKind::Drawn, ..seen };
                prop_assert!(judge(&seen).started != Started::Yes);
                let _ = (seen.firmware_said(), seen.stick_said());
            }
        }
    }
}
