//! Results for people, but for tables and the card.

use std::fmt::Write;
use std::path::Path;

use pyrotyp_core::drive::Drive;
use pyrotyp_core::image::{Boot, Container, Firmware, Inspection, Kind, Verdict, Via, Whole};
use pyrotyp_core::job::{Comparison, Difference, Head, JobResult, Outcome, Stage};
use pyrotyp_core::{Finding, human_bytes};

use super::style::{BAD, CARE, FAINT, GOOD, NAME, of_level, of_verdict};
use crate::asked::Common;

/// Most differences shown one by one.
const DIFFERENCES_SHOWN: usize = 12;

/// Writing to a string never fails, so the result of `write!` is dropped.
macro_rules! add {
    ($out:expr, $($arg:tt)*) => { let _ = write!($out, $($arg)*); };
}

/// What an image is, in a few lines.
pub fn inspection(path: &Path, inspection: &Inspection, common: &Common) -> String {
    let mut out = format!("{NAME}{}{NAME:#}\n", path.display());
    let verdict = inspection.verdict;
    let style = of_verdict(verdict);
    for (place, line) in headlines(inspection).iter().enumerate() {
        add!(out, "  {:<9}{line}\n", if place == 0 { "is" } else { "" });
    }
    add!(out, "  {:<9}{style}{}{style:#}\n", "verdict", verdict_words(verdict, inspection));
    for finding in &inspection.findings {
        out.push_str(&finding_line(finding));
    }
    if inspection.whole != Whole::Unknown {
        let whole = if inspection.whole == Whole::Yes { "yes, nothing is missing at the end" } else { "no" };
        add!(out, "  {:<9}{whole}\n", "whole");
    }
    if !inspection.boots.is_empty() && verdict != Verdict::No {
        add!(out, "  {:<9}{}\n", "starts", boots_line(inspection));
    }
    if verdict != Verdict::No && inspection.needs_bytes > 0 {
        let needs = human_bytes(inspection.needs_bytes);
        add!(out, "  {:<9}a drive of {needs} or more\n", "needs");
    }
    if common.verbose {
        if let Some(end) = inspection.declared_bytes {
            add!(out, "  {:<9}{} bytes in the file, {end} declared\n", "size", inspection.bytes);
        }
        for esp in &inspection.esps {
            let place = esp.partition.map_or("whole image".to_owned(), |number| format!("partition {number}"));
            let archs: Vec<&str> = esp.programs.iter().map(|program| program.arch).collect();
            let archs = if archs.is_empty() { "nothing to start".into() } else { archs.join(", ") };
            add!(out, "  {:<9}{place}, {} at byte {}: {archs}\n", "fat", human_bytes(esp.bytes), esp.start);
        }
    }
    if verdict != Verdict::No && !common.quiet {
        add!(out, "  {:<9}pyrotyp check {}\n", "next", path.display());
    }
    out
}

/// What the image calls itself, if it does, and what it is.
pub fn headlines(inspection: &Inspection) -> Vec<String> {
    let kind = match inspection.kind {
        Kind::Iso9660 => "optical disc image (ISO 9660)",
        Kind::Disk => "disk image",
        Kind::Filesystem => "file system image",
        Kind::Archive => "archive",
        Kind::Empty => "empty file",
        Kind::Other => "no image",
    };
    let hybrid = inspection.kind == Kind::Iso9660 && inspection.boots.iter().any(|boot| boot.via != Via::ElTorito);
    let kind = if hybrid { "hybrid image (ISO 9660 and disk)" } else { kind };
    let mut parts: Vec<String> = inspection.label.iter().cloned().collect();
    parts.extend([kind.to_owned(), size_words(inspection)]);
    parts.extend(inspection.created.as_ref().map(|created| format!("made {created}")));
    inspection.naming.name.iter().cloned().chain([parts.join(", ")]).collect()
}

/// Size of the file, and of what is inside where that is known.
fn size_words(inspection: &Inspection) -> String {
    let size = human_bytes(inspection.bytes);
    match &inspection.container {
        None => size,
        Some(Container { format, unpacked_bytes: Some(bytes) }) => {
            format!("{} packed as {format} in {size}", human_bytes(*bytes))
        }
        Some(Container { format, unpacked_bytes: None }) => format!("packed as {format} in {size}"),
    }
}

fn verdict_words(verdict: Verdict, inspection: &Inspection) -> &'static str {
    let liftable = inspection.findings.iter().all(|finding| finding.level != pyrotyp_core::Level::Stop);
    match verdict {
        Verdict::Ready => "ready: a stick made from it starts a PC",
        Verdict::Caution => "caution: a stick made from it may not start every PC",
        Verdict::No if inspection.findings.iter().any(|finding| finding.id == "unfinished-download") => {
            "no: it may not be whole yet"
        }
        Verdict::No if liftable => "no: a stick made from it starts no PC",
        Verdict::No => "no: it can't be written",
    }
}

fn finding_line(finding: &Finding) -> String {
    let style = of_level(finding.level);
    let mut out = format!("  {:<9}{style}{}{style:#}: {}\n", "", finding.id, finding.text);
    if !finding.next.is_empty() {
        add!(out, "  {:<11}next: {}\n", "", finding.next);
    }
    out
}

/// Which PCs start from a stick made of the image.
pub fn boots_line(inspection: &Inspection) -> String {
    let boots: &[Boot] = &inspection.boots;
    let is_unseen = inspection.findings.iter().any(|finding| finding.id == "unseen");
    let from_stick = |firmware| boots.iter().filter(move |b| b.via != Via::ElTorito && b.firmware == firmware);
    let archs: Vec<&str> = from_stick(Firmware::Uefi).map(|boot| boot_arch_words(boot.arch)).collect();
    let uefi = match archs.as_slice() {
        [] if is_unseen => "UEFI: probably".to_owned(),
        [] => "UEFI: no".to_owned(),
        archs => format!("UEFI {}: yes", archs.join(", ")),
    };
    let bios = if from_stick(Firmware::Bios).next().is_some() { "BIOS: yes" } else { "BIOS: no" };
    let optical = if boots.iter().any(|boot| boot.via == Via::ElTorito) { "; optical disc: yes" } else { "" };
    // A signature says nothing of whether the PC trusts it, so that likely is all that can be said.
    let secure = match from_stick(Firmware::Uefi).map(|boot| boot.signed == Some(true)).reduce(|a, b| a && b) {
        Some(true) => "; Secure Boot: likely",
        Some(false) => "; Secure Boot: unlikely",
        None => "",
    };
    format!("{uefi}; {bios}{secure}{optical}")
}

fn boot_arch_words(arch: &str) -> &str {
    match arch {
        "x86-64" => "64-bit",
        "x86" => "32-bit",
        "aarch64" => "ARM 64-bit",
        "arm" => "ARM 32-bit",
        other => other,
    }
}

/// How a comparison came out.
pub fn compared(drive: &Drive, path: &Path, compared: &Comparison, common: &Common) -> String {
    let (name, file) = (drive.name(), path.display());
    if compared.result == JobResult::Verified {
        let size = human_bytes(compared.bytes);
        return format!(
            "{GOOD}verified{GOOD:#}: drive {} ({name}) holds {file}, {size} read and equal byte for byte\n",
            drive.tag
        );
    }
    let mut out = format!("{BAD}differs{BAD:#}: drive {} ({name}) does not hold {file}\n", drive.tag);
    out.push_str(&differences(&compared.differences, compared.more_differences));
    if !common.quiet {
        add!(out, "  next: write it again: pyrotyp write {file} --to {}\n", drive.tag);
    }
    out
}

/// Differences, a line each.
fn differences(all: &[Difference], more: u64) -> String {
    let mut out = String::new();
    for difference in all.iter().take(DIFFERENCES_SHOWN) {
        let Difference { offset, bytes, cause, file } = difference;
        let unit = if *bytes == 1 { "byte" } else { "bytes" };
        add!(out, "  at byte {offset}, {bytes} {unit}: {}", cause.words());
        match file {
            Some(file) => {
                add!(out, ", in {file}\n");
            }
            None => out.push('\n'),
        }
    }
    let hidden = all.len().saturating_sub(DIFFERENCES_SHOWN) as u64 + more;
    if hidden > 0 {
        add!(out, "  {FAINT}and {hidden} more; --json lists {}{FAINT:#}\n", all.len());
    }
    out
}

/// How a job ended.
pub fn written(path: &Path, inspection: &Inspection, drive: &Drive, outcome: &Outcome, common: &Common) -> String {
    let (name, tag) = (drive.name(), &drive.tag);
    let what = inspection.naming.name.as_ref().or(inspection.label.as_ref()).cloned();
    let what = what.unwrap_or_else(|| path.display().to_string());
    let mut out = match outcome.result {
        JobResult::Verified => {
            format!("{GOOD}verified{GOOD:#}: {what} is on drive {tag} ({name}), read back and equal byte for byte\n")
        }
        JobResult::Written => {
            format!(
                "{CARE}written{CARE:#}: {what} is on drive {tag} ({name}); it was not read back, nothing is proven\n"
            )
        }
        JobResult::Differs => {
            let mut out = format!("{BAD}differs{BAD:#}: drive {tag} ({name}) does not keep what is written to it\n");
            out.push_str(&differences(&outcome.differences, outcome.more_differences));
            out
        }
        JobResult::Refused | JobResult::Failed | JobResult::Stopped => String::new(),
    };
    if !matches!(outcome.result, JobResult::Verified | JobResult::Written) {
        return out;
    }
    let seconds = |wanted: Stage| {
        let stage = outcome.stages.iter().find(|stage| stage.name == wanted);
        stage.map_or(0.0, |stage| stage.seconds)
    };
    let took: f64 = outcome.stages.iter().map(|stage| stage.seconds).sum();
    let moved = outcome.stages.iter().filter(|stage| matches!(stage.name, Stage::Body | Stage::Seal));
    add!(out, "  {} in {}", human_bytes(moved.map(|stage| stage.bytes).sum()), duration(took));
    add!(out, ": writing {}", duration(seconds(Stage::Body)));
    if outcome.result == JobResult::Verified {
        add!(out, ", reading back {}", duration(seconds(Stage::ReadBack)));
    }
    out.push('\n');
    if let Some(sum) = &outcome.sha256 {
        add!(out, "  SHA-256 {sum}\n");
    }
    if !common.quiet {
        match outcome.result {
            JobResult::Verified => out.push_str(
                "  next: pull the stick out; on the other PC, choose it in the one-time boot menu (F12, F11, F9 or Esc)\n",
            ),
            _ => {
                add!(out, "  next: pyrotyp compare {tag} {}\n", path.display());
            }
        }
    }
    out
}

/// What the start of the drive holds after a job that did not end well.
pub fn head_words(outcome: &Outcome) -> &'static str {
    match outcome.head {
        Head::Untouched => "\n   nothing on it was changed",
        Head::Blank => "\n   its head is blank: no PC starts from it",
        Head::Sealed => "",
        Head::Unknown => "\n   what its head holds is unknown: do not start a PC from it",
    }
}

/// A duration as one says it.
///
/// Below ten seconds with a tenth; above a minute without fractions.
pub fn duration(seconds: f64) -> String {
    let whole = seconds.round() as u64;
    if seconds < 9.95 {
        format!("{seconds:.1} s")
    } else if whole < 60 {
        format!("{whole} s")
    } else if whole < 3600 {
        format!("{} min {:02} s", whole / 60, whole % 60)
    } else {
        format!("{} h {:02} min", whole / 3600, whole % 3600 / 60)
    }
}
