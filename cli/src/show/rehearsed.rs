//! How trial starts came out, for people.

use std::fmt::Write;

use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::image::Firmware;
use pyrotyp_core::record::{DriveIdentity, ImageRecord, Started, TrialStart};
use pyrotyp_core::text::{Shown, shell};

use super::style::{BAD, CARE, FAINT, GOOD, NAME};
use super::text::duration;
use crate::asked::Common;

/// What trial starts prove, and what they do not.
pub(crate) fn proof(starts: &[TrialStart]) -> [&'static str; 2] {
    let any = |started| starts.iter().any(|one| one.started == started);
    if any(Started::Yes) {
        [
            "tried in an emulated PC: its firmware finds the stick, and what it starts runs as far as the picture shows",
            "the firmware, graphics and USB port of a real PC may still not get along with it",
        ]
    } else if any(Started::Unknown) {
        ["tried in an emulated PC: nothing is proven", "a real PC may start it or not"]
    } else {
        ["tried in an emulated PC: it did not start", "a real PC may differ from the emulated one"]
    }
}

/// Firmware as people call it.
pub(crate) fn called(firmware: Firmware) -> &'static str {
    match firmware {
        Firmware::Bios => "BIOS",
        Firmware::Uefi => "UEFI",
    }
}

/// The firmware of a start, and what it was told.
pub(crate) fn by(start: &TrialStart) -> String {
    let secure = if start.secure_boot { ", Secure Boot" } else { "" };
    format!("{}{secure}", called(start.firmware))
}

/// Whether it started, in words.
pub(crate) fn word(started: Started) -> &'static str {
    match started {
        Started::Yes => "starts",
        Started::No => "does not start",
        Started::Unknown => "unknown",
    }
}

/// Trial starts of one image or drive.
pub(crate) struct Rehearsed<'a> {
    pub image: &'a ImageRecord,
    pub drive: Option<&'a DriveIdentity>,
    pub starts: &'a [TrialStart],
}

/// How a start came out, in lines that go below its firmware's name.
pub(crate) fn lines(start: &TrialStart) -> Vec<String> {
    let style = match start.started {
        Started::Yes => GOOD,
        Started::No => BAD,
        Started::Unknown => CARE,
    };
    let mut lines = vec![format!("{style}{}{style:#}: {}", word(start.started), start.reason.shown())];
    let read = human_bytes(start.read_bytes);
    let how = if start.accelerated { "" } else { "; without the processor's help, so slower than a PC" };
    lines.push(format!("{FAINT}watched for {}, {read} read from it{how}{FAINT:#}", duration(start.seconds)));
    lines.extend(start.picture.as_ref().map(|file| format!("picture {}", file.shown())));
    lines
}

/// How they came out, and what to do next.
pub(crate) fn rehearsed(of: &Rehearsed<'_>, common: &Common) -> String {
    let name = of.image.called().shown();
    let mut out = match of.drive {
        Some(drive) => format!("drive {NAME}{}{NAME:#} ({}): {name}\n", drive.tag.shown(), drive.name()),
        None => format!("{NAME}{name}{NAME:#}\n"),
    };
    // Writing to a string never fails.
    let width = of.starts.iter().map(|start| by(start).chars().count()).max().unwrap_or_default();
    for start in of.starts {
        let mut by = by(start);
        let said = start.firmware_said.iter().map(|line| format!("{FAINT}firmware: {}{FAINT:#}", line.shown()));
        let text = start.serial.lines().chain(start.screen.lines());
        let text = text.map(|line| format!("{FAINT}| {}{FAINT:#}", line.shown()));
        let more = said.chain(text).filter(|_| common.verbose);
        for line in lines(start).into_iter().chain(more) {
            let _ = writeln!(out, "  {by:<width$}  {line}");
            by.clear();
        }
    }
    if !common.quiet {
        let _ = writeln!(out, "  {}", proof(of.starts).join(";\n  "));
        let _ = writeln!(out, "  next: {}", next(of));
    }
    out
}

fn next(of: &Rehearsed<'_>) -> String {
    let any = |started| of.starts.iter().any(|one| one.started == started);
    let file = || shell::path(std::path::Path::new(&of.image.file));
    match of.drive {
        _ if !any(Started::Yes) && any(Started::Unknown) => {
            "look at the picture; with a longer --wait, more may come".to_owned()
        }
        Some(drive) if any(Started::Yes) => {
            format!("pyrotyp compare {} tells whether all of it is as written", shell::word(&drive.tag))
        }
        Some(drive) => format!("pyrotyp contents {} tells what is on it", shell::word(&drive.tag)),
        None if any(Started::Yes) => format!("pyrotyp write {} --to TAG", file()),
        None => format!("pyrotyp inspect {} tells what it is", file()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn starts_are_told_each_with_its_reason_and_what_to_do_next() {
        let start = |firmware, started, reason: &str| TrialStart {
            firmware,
            secure_boot: firmware == Firmware::Uefi,
            started,
            reason: reason.to_owned(),
            firmware_said: vec!["Booting from Hard Disk...".to_owned()],
            screen: "GNU GRUB".to_owned(),
            serial: "a line\u{1b}[2J".to_owned(),
            picture: Some("/srv/jobs/a.png".to_owned()),
            seconds: 7.25,
            read_bytes: 512,
            accelerated: started == Started::Yes,
        };
        let yes = start(Firmware::Bios, Started::Yes, "it says: GNU GRUB");
        let no = start(Firmware::Uefi, Started::No, "UEFI says: failed to load Boot0001: Not Found");
        let unknown = start(Firmware::Bios, Started::Unknown, "it says: Loading");
        let image = ImageRecord { file: "/srv/a b.iso".to_owned(), ..ImageRecord::default() };
        let vendor = Some("Kestrin".to_owned());
        let drive = DriveIdentity { tag: "590J1".to_owned(), vendor, ..DriveIdentity::default() };
        let told = |drive, starts: &[TrialStart], verbose| {
            let of = Rehearsed { image: &image, drive, starts };
            rehearsed(&of, &Common { verbose, ..Common::default() })
        };
        let next = |drive, starts: &[TrialStart]| told(drive, starts, false).lines().last().unwrap().to_owned();
        let all = [
            told(None, &[yes.clone(), no.clone()], true),
            next(Some(&drive), &[yes.clone(), no.clone()]),
            next(Some(&drive), std::slice::from_ref(&no)),
            next(None, std::slice::from_ref(&no)),
            next(None, &[no, unknown]),
        ];
        insta::assert_snapshot!(anstream::adapter::strip_str(&all.join("\n")));
    }
}
