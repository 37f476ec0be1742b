//! What an image is, for people: one by one, or several side by side.

use std::fmt::Write;
use std::path::Path;

use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::image::{Architecture, Boot, Container, Firmware, Inspection, Kind, Verdict, Via, Way, Whole};
use pyrotyp_core::text::{Shown, shell};
use pyrotyp_core::volume::eltorito::{Emulation, PlatformId};
use pyrotyp_core::volume::mbr::PartitionType;
use pyrotyp_core::{Finding, FindingId, Level};
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

use super::style::{FAINT, NAME, of_level, of_verdict};
use crate::asked::Common;

/// Columns narrower than this can't be read, and more than so many images are shown one by one.
const COLUMN_LEAST: usize = 24;
pub(crate) const BESIDE_MOST: usize = 6;
const HEADING: usize = 14;
/// Place of the verdict among the rows.
const VERDICT_ROW: usize = 9;

/// Writing to a string never fails, so the result of `write!` is dropped.
macro_rules! add {
    ($out:expr, $($arg:tt)*) => { let _ = write!($out, $($arg)*); };
}

/// Several images side by side, on `width` columns: what differs is marked.
pub(crate) fn side_by_side(seen: &[(&Path, Inspection)], width: usize, common: &Common) -> String {
    let mut out = String::new();
    let fit = (width.saturating_sub(HEADING) / COLUMN_LEAST).clamp(1, seen.len());
    let bands = seen.len().div_ceil(fit);
    let each = seen.len().div_ceil(bands);
    let column = (width.saturating_sub(HEADING) / each).max(COLUMN_LEAST);
    let rows: Vec<Vec<(&str, String)>> = seen.iter().map(|(path, inspection)| row_cells(path, inspection)).collect();
    let differs = |row: usize| rows.iter().any(|cells| rows.first().is_some_and(|first| first[row].1 != cells[row].1));
    for (band, images) in rows.chunks(each).enumerate() {
        if band > 0 {
            out.push('\n');
        }
        let count = images.first().map_or(0, Vec::len);
        for row in 0..count {
            if images.iter().all(|cells| cells[row].1.is_empty()) {
                continue;
            }
            let wrapped: Vec<Vec<String>> = images.iter().map(|cells| wrap(&cells[row].1, column - 2)).collect();
            let lines = wrapped.iter().map(Vec::len).max().unwrap_or(1);
            for line in 0..lines {
                let (heading, mark) = match (line, row, differs(row)) {
                    (0, 0, _) => (images[0][row].0, ' '),
                    (0, _, true) => (images[0][row].0, '*'),
                    (0, _, false) => (images[0][row].0, ' '),
                    _ => ("", ' '),
                };
                let mut text = format!("{mark} {heading:<0$}", HEADING - 2);
                let mut gap = 0;
                for cell in &wrapped {
                    let part = cell.get(line).map_or("", String::as_str);
                    let style = match (row, part) {
                        (0, _) => NAME,
                        (VERDICT_ROW, "ready") => of_verdict(Verdict::Ready),
                        (VERDICT_ROW, "caution") => of_verdict(Verdict::Caution),
                        (VERDICT_ROW, "no") => of_verdict(Verdict::No),
                        _ => anstyle::Style::new(),
                    };
                    if !part.is_empty() {
                        add!(text, "{}{style}{part}{style:#}", " ".repeat(gap));
                        gap = 0;
                    }
                    gap += column - part.width();
                }
                add!(out, "{}\n", text.trim_end());
            }
        }
    }
    let verdict = if (1..rows[0].len()).any(differs) {
        "* differs"
    } else {
        "nothing here tells them apart; only their checksums can"
    };
    add!(out, "{FAINT}{verdict}{FAINT:#}\n");
    for (path, inspection) in seen.iter().filter(|(_, inspection)| !inspection.findings.is_empty()) {
        add!(out, "\n{NAME}{}{NAME:#}\n", path.shown());
        inspection.findings.iter().for_each(|finding| out.push_str(&finding_line(finding)));
    }
    if !common.quiet && seen.iter().any(|(_, inspection)| inspection.verdict != Verdict::No) {
        out.push_str("\nnext: pyrotyp check IMAGE; -v shows each by itself with its tables\n");
    }
    out
}

/// What is told of one image, in the same order for all.
fn row_cells(path: &Path, inspection: &Inspection) -> Vec<(&'static str, String)> {
    let naming = &inspection.naming;
    let or_nothing = |part: &Option<String>| part.as_ref().map(|part| part.shown()).unwrap_or_default();
    let is_no = inspection.verdict == Verdict::No;
    let Starts { uefi, bios, secure } = if is_no { Starts::default() } else { starts(inspection) };
    vec![
        ("image", path.shown()),
        ("system", or_nothing(&naming.system)),
        ("version", or_nothing(&naming.version)),
        ("edition", or_nothing(&naming.edition)),
        ("processor", naming.architecture.map_or_else(String::new, |known| known.to_string())),
        ("label", or_nothing(&inspection.label)),
        ("kind", kind_words(inspection).to_owned()),
        ("made", or_nothing(&inspection.optical.created)),
        ("size", format!("{}, {} bytes", size_words(inspection), inspection.bytes)),
        ("verdict", verdict_word(inspection.verdict).to_owned()),
        ("UEFI", uefi),
        ("BIOS", bios.to_owned()),
        ("Secure Boot", secure),
        ("needs", if is_no { String::new() } else { human_bytes(inspection.span.needs_bytes) }),
    ]
}

/// Breaks a text into lines of at most `width` columns, at spaces and dashes where it can.
fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines = Vec::new();
    let (mut line, mut used) = (String::new(), 0);
    for c in text.chars() {
        let wide = c.width().unwrap_or(0);
        if used + wide > width {
            // A word of a name stays whole as long as its line has another place.
            let place = line.rfind([' ', '-', '/']).or_else(|| line.rfind('_'));
            let cut = place.map_or(line.len(), |place| place + 1);
            let rest = line.split_off(cut);
            lines.push(std::mem::replace(&mut line, rest));
            used = line.width();
        }
        line.push(c);
        used += wide;
    }
    lines.push(line);
    lines
}

/// What an image is, in a few lines.
pub(crate) fn inspection(path: &Path, inspection: &Inspection, common: &Common) -> String {
    let mut out = format!("{NAME}{}{NAME:#}\n", path.shown());
    let verdict = inspection.verdict;
    let style = of_verdict(verdict);
    for (place, line) in headlines(inspection).iter().enumerate() {
        add!(out, "  {:<9}{line}\n", if place == 0 { "is" } else { "" });
    }
    add!(out, "  {:<9}{style}{}{style:#}\n", "verdict", verdict_words(verdict, inspection));
    for finding in &inspection.findings {
        out.push_str(&finding_line(finding));
    }
    if let Some(words) = way_words(inspection) {
        add!(out, "  {:<9}{words}\n", "way");
    }
    if inspection.span.whole != Whole::Unknown {
        let whole = if inspection.span.whole == Whole::Yes { "yes, nothing is missing at the end" } else { "no" };
        add!(out, "  {:<9}{whole}\n", "whole");
    }
    if !inspection.boots.is_empty() && verdict != Verdict::No {
        add!(out, "  {:<9}{}\n", "starts", boots_line(inspection));
    }
    if verdict != Verdict::No && inspection.span.needs_bytes > 0 {
        let needs = human_bytes(inspection.span.needs_bytes);
        add!(out, "  {:<9}a drive of {needs} or more\n", "needs");
    }
    if common.verbose {
        out.push_str(&details(inspection));
    }
    if verdict != Verdict::No && !common.quiet {
        add!(out, "  {:<9}pyrotyp check {}\n", "next", shell::path(path));
    }
    out
}

/// Sizes and tables.
fn details(inspection: &Inspection) -> String {
    let mut out = String::new();
    if let Some(end) = inspection.span.declared_bytes {
        add!(out, "  {:<9}{} bytes in the file, {end} declared\n", "size", inspection.bytes);
    }
    for entry in inspection.tables.mbr.iter().filter(|entry| entry.kind != PartitionType::GPT_PROTECTIVE) {
        let (number, kind, size) = (entry.number, entry.kind.0, human_bytes(entry.bytes));
        let active = if entry.active { ", active" } else { "" };
        add!(out, "  {:<9}partition {number}, type {kind:02X}, {size} at byte {}{active}\n", "mbr", entry.start);
    }
    for entry in &inspection.tables.gpt {
        let (number, size) = (entry.number, human_bytes(entry.bytes));
        let name = entry.name.as_deref().unwrap_or("without a name").shown();
        let esp = if entry.is_esp { ", EFI system partition" } else { "" };
        add!(out, "  {:<9}partition {number}, {name}{esp}, {size} at byte {}\n", "gpt", entry.start);
    }
    for partition in &inspection.tables.apm {
        let (number, kind, size) = (partition.number, &partition.kind, human_bytes(partition.bytes));
        add!(out, "  {:<9}partition {number}, {kind}, {size} at byte {}\n", "apple", partition.start);
    }
    for esp in &inspection.esps {
        let place = esp.partition.map_or("whole image".to_owned(), |number| format!("partition {number}"));
        let archs: Vec<&str> = esp.programs.iter().map(|program| program.arch.word()).collect();
        let archs = if archs.is_empty() { "nothing to start".into() } else { archs.join(", ") };
        add!(out, "  {:<9}{place}, {} at byte {}: {archs}\n", "fat", human_bytes(esp.bytes), esp.start);
    }
    for entry in inspection.optical.catalogue.iter().flat_map(|catalogue| &catalogue.entries) {
        let platform = match entry.platform {
            PlatformId::BIOS => "BIOS".to_owned(),
            PlatformId::EFI => "UEFI".to_owned(),
            PlatformId(other) => format!("platform {other:02X}"),
        };
        let emulation = match entry.emulation {
            Emulation::None => "no emulation",
            Emulation::Floppy => "as a floppy disk",
            Emulation::HardDisk => "as a hard disk",
            Emulation::Other(_) => "of no known kind",
        };
        add!(out, "  {:<9}{platform}, {emulation}, at byte {}\n", "optical", entry.start);
    }
    out
}

/// What the image calls itself, if it does, and what it is.
pub(crate) fn headlines(inspection: &Inspection) -> Vec<String> {
    let mut parts: Vec<String> = inspection.label.iter().map(|label| label.shown()).collect();
    parts.extend([kind_words(inspection).to_owned(), size_words(inspection)]);
    parts.extend(inspection.optical.created.as_ref().map(|created| format!("made {created}")));
    inspection.naming.name.iter().map(|name| name.shown()).chain([parts.join(", ")]).collect()
}

fn kind_words(inspection: &Inspection) -> &'static str {
    match inspection.kind {
        Kind::Iso9660 if inspection.boots.iter().any(|boot| boot.via != Via::ElTorito) => {
            "hybrid image (ISO 9660 and disk)"
        }
        Kind::Iso9660 => "optical disc image (ISO 9660)",
        Kind::Disk => "disk image",
        Kind::Filesystem => "file system image",
        Kind::Archive => "archive",
        Kind::Empty => "empty file",
        Kind::Other => "no image",
    }
}

/// Size of the file, and of what is inside where that is known.
fn size_words(inspection: &Inspection) -> String {
    let size = human_bytes(inspection.bytes);
    match &inspection.container {
        // Of what comes through a pipe, only what it declares itself is known.
        None if inspection.bytes == 0 && inspection.kind != Kind::Empty => inspection
            .span
            .declared_bytes
            .map_or("of unknown length".to_owned(), |bytes| format!("{} by its own tables", human_bytes(bytes))),
        Some(Container { format, .. }) if inspection.bytes == 0 => format!("packed as {format}"),
        None => size,
        Some(Container { format, unpacked_bytes: Some(bytes) }) => {
            format!("{} packed as {format} in {size}", human_bytes(*bytes))
        }
        Some(Container { format, unpacked_bytes: None }) => format!("packed as {format} in {size}"),
    }
}

fn verdict_word(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Ready => "ready",
        Verdict::Caution => "caution",
        Verdict::No => "no",
    }
}

pub(crate) fn verdict_words(verdict: Verdict, inspection: &Inspection) -> &'static str {
    let liftable = inspection.findings.iter().all(|finding| finding.level != Level::Stop);
    match verdict {
        Verdict::Ready => "ready: a stick made from it starts a PC",
        Verdict::Caution => "caution: a stick made from it may not start every PC",
        Verdict::No if inspection.findings.iter().any(|finding| finding.id == FindingId::UnfinishedDownload) => {
            "no: it may not be whole yet"
        }
        Verdict::No if inspection.findings.iter().any(|finding| finding.id == FindingId::NoSoundTable) => {
            "no: its partition table is damaged"
        }
        Verdict::No if liftable => "no: a stick made from it starts no PC",
        Verdict::No => "no: it can't be written",
    }
}

/// How it is brought to a stick, in words; nothing where that is no question yet.
fn way_words(inspection: &Inspection) -> Option<&'static str> {
    let starts_nothing = [FindingId::OpticalOnly, FindingId::BareFilesystem, FindingId::NothingToStart];
    let starts_nothing = inspection.findings.iter().any(|finding| starts_nothing.contains(&finding.id));
    match inspection.way() {
        Way::Raw => Some("raw, as it is (write)"),
        Way::Unpack => Some("its files laid out, so that UEFI starts them (unpack)"),
        Way::Neither => starts_nothing.then_some("neither raw nor unpacked: nothing of it starts a PC from a stick"),
    }
}

/// A finding and its next step.
pub(crate) fn finding_line(finding: &Finding) -> String {
    let style = of_level(finding.level);
    let mut out = format!("  {:<9}{style}{}{style:#}: {}\n", "", finding.id, finding.text);
    if !finding.next.is_empty() {
        add!(out, "  {:<11}next: {}\n", "", finding.next);
    }
    out
}

/// Which PCs start from a stick made of the image.
pub(crate) fn boots_line(inspection: &Inspection) -> String {
    let Starts { uefi, bios, secure } = starts(inspection);
    let uefi = match uefi.strip_prefix("yes, ") {
        Some(archs) => format!("UEFI {archs}: yes"),
        None => format!("UEFI: {uefi}"),
    };
    let secure = if secure.is_empty() { String::new() } else { format!("; Secure Boot: {secure}") };
    let is_optical = inspection.boots.iter().any(|boot| boot.via == Via::ElTorito);
    let optical = if is_optical { "; optical disc: yes" } else { "" };
    format!("{uefi}; BIOS: {bios}{secure}{optical}")
}

/// Whether UEFI, BIOS and Secure Boot start a stick made of the image, in words.
#[derive(Default)]
struct Starts {
    uefi: String,
    bios: &'static str,
    secure: String,
}

fn starts(inspection: &Inspection) -> Starts {
    let boots: &[Boot] = &inspection.boots;
    let is_unseen = inspection.findings.iter().any(|finding| finding.id == FindingId::Unseen);
    let is_optical = inspection.findings.iter().any(|finding| finding.id == FindingId::OpticalEntry);
    let from_stick = |firmware| {
        boots.iter().filter(move |boot| (boot.via == Via::ElTorito) == is_optical && boot.firmware == firmware)
    };
    // Each processor by itself: firmware never looks at the other's program.
    let mut programs: Vec<(Architecture, bool)> = Vec::new();
    for boot in from_stick(Firmware::Uefi) {
        let is_signed = boot.signed == Some(true);
        match programs.iter_mut().find(|(arch, _)| *arch == boot.arch) {
            Some((_, signed)) => *signed |= is_signed,
            None => programs.push((boot.arch, is_signed)),
        }
    }
    let words = |programs: &mut dyn Iterator<Item = &(Architecture, bool)>| {
        programs.map(|(arch, _)| boot_arch_words(*arch)).collect::<Vec<_>>().join(", ")
    };
    let uefi = match (words(&mut programs.iter()), is_optical) {
        (archs, _) if archs.is_empty() => if is_unseen { "probably" } else { "no" }.to_owned(),
        (archs, true) => format!("some PCs, {archs}"),
        (archs, false) => format!("yes, {archs}"),
    };
    let bios = match from_stick(Firmware::Bios).next() {
        Some(_) if !is_optical => "yes",
        _ if is_unseen => "perhaps",
        _ => "no",
    };
    // A signature says nothing of whether the PC trusts it, so that likely is all that can be said.
    let signed = words(&mut programs.iter().filter(|(_, signed)| *signed));
    let unsigned = words(&mut programs.iter().filter(|(_, signed)| !signed));
    let secure = match (signed.as_str(), unsigned.as_str()) {
        ("", "") => String::new(),
        (_, "") => "likely".to_owned(),
        ("", _) => "unlikely".to_owned(),
        (signed, unsigned) => format!("{signed} likely, {unsigned} unlikely"),
    };
    Starts { uefi, bios, secure }
}

fn boot_arch_words(arch: Architecture) -> &'static str {
    match arch {
        Architecture::X86Of64 => "64-bit",
        Architecture::X86 => "32-bit",
        Architecture::Aarch64 => "ARM 64-bit",
        Architecture::Arm => "ARM 32-bit",
        other => other.word(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secure_boot_is_told_of_each_processor_by_itself() {
        let mut inspection = pyrotyp_core::image::inspect(&pyrotyp_sample::disk_image("A disk")).unwrap();
        let boot = |arch, signed| Boot { firmware: Firmware::Uefi, arch, via: Via::Esp, signed: Some(signed) };
        let mut told = |boots: &[Boot]| {
            inspection.boots = boots.to_vec();
            let Starts { uefi, bios, secure } = starts(&inspection);
            format!("{uefi}; {bios}; {secure}")
        };
        let (signed, unsigned) = (boot(Architecture::X86Of64, true), boot(Architecture::X86, false));
        assert_eq!(told(&[unsigned, signed]), "yes, 32-bit, 64-bit; no; 64-bit likely, 32-bit unlikely");
        assert_eq!(
            told(&[boot(Architecture::X86Of64, false), signed]),
            "yes, 64-bit; no; likely",
            "one of two partitions"
        );
        assert_eq!(told(&[unsigned]), "yes, 32-bit; no; unlikely");
        assert_eq!(told(&[]), "no; no; ");
    }
}
