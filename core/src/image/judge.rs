//! From what was read to a verdict, with its reasons.

use crate::bytes::human_bytes;
use crate::image::architecture::Architecture;
use crate::image::facts::{Bios, EfiProgram, Facts, MBR_SECTOR, Trailing};
use crate::image::inspection::{Boot, Firmware, Inspection, Kind, Optical, Span, Tables, Verdict, Via, Whole};
use crate::image::packed::PackedFault;
use crate::image::recognise::Stranger;
use crate::text::Shown;
use crate::volume::bootcode::BootCode;
use crate::volume::{eltorito, gpt};
use crate::{Finding, FindingId, Level};

/// Drives come in whole sectors of this many bytes at least.
const SMALLEST_SECTOR: u64 = 512;

/// Notes because of which some PCs may not start.
const CAUTION: [FindingId; 6] = [
    FindingId::HalfATable,
    FindingId::NoPartitionTable,
    FindingId::Unseen,
    FindingId::OpticalEntry,
    FindingId::LargeSectors,
    FindingId::OtherProcessor,
];

/// What images are usually rounded up by at most, in bytes: a cylinder, and a partition's alignment.
const PADDING_USUAL: u64 = 16 << 20;

const CHECK_SUM: &str = "check the image's checksum";
const DOWNLOAD_AGAIN: &str = "download it again";

/// Judges the facts; reads nothing.
pub(super) fn judge(facts: Facts) -> Inspection {
    let kind = kind(&facts);
    let declared_bytes = facts.declared();
    let whole = whole(&facts, declared_bytes);
    let boots = boots(&facts);
    let mut findings = Vec::new();
    match kind {
        Kind::Empty => findings.push(Finding::stop(FindingId::Empty, "the file holds no bytes", DOWNLOAD_AGAIN)),
        Kind::Archive | Kind::Other => findings.push(not_an_image(&facts)),
        Kind::Iso9660 | Kind::Disk | Kind::Filesystem => {
            extent(&facts, declared_bytes, &mut findings);
            damage(&facts, &mut findings);
            starts(&facts, kind, &boots, &mut findings);
        }
    }
    let worst = findings.iter().map(|finding| finding.level).max();
    let verdict = match worst {
        Some(Level::Stop | Level::Ask) => Verdict::No,
        _ if findings.iter().any(|finding| CAUTION.contains(&finding.id)) => Verdict::Caution,
        _ => Verdict::Ready,
    };
    let needs = facts.bytes.unwrap_or(0).max(declared_bytes.unwrap_or(0));
    let counts_in = facts.counts_in();
    let volume = facts.optical.volume.and_then(Result::ok);
    let label = volume.as_ref().and_then(|volume| {
        // The label of the volume that holds the real files tells more.
        volume.udf.as_ref().and_then(|udf| udf.label.clone()).or_else(|| volume.label.clone())
    });
    let mut naming = facts.naming;
    naming.architecture = naming.architecture.or_else(|| started(&boots));
    Inspection {
        bytes: facts.bytes.unwrap_or_default(),
        kind,
        container: None,
        label: label.or_else(|| facts.filesystem.and_then(|system| system.label)),
        naming,
        span: Span {
            whole,
            declared_bytes,
            needs_bytes: needs.checked_next_multiple_of(SMALLEST_SECTOR).unwrap_or(u64::MAX),
        },
        verdict,
        findings,
        boots,
        optical: Optical {
            created: volume.as_ref().and_then(|volume| volume.created.clone()),
            volume,
            catalogue: facts.optical.catalogue,
        },
        esps: facts.programs.esps,
        tables: Tables {
            sector_bytes: counts_in,
            mbr: facts.mbr.map(|mbr| mbr.entries).unwrap_or_default(),
            gpt: facts.gpt.map(|gpt| gpt.entries).unwrap_or_default(),
            apm: facts.apm.unwrap_or_default(),
        },
    }
}

/// Whether all of it is there.
fn whole(facts: &Facts, declared_bytes: Option<u64>) -> Whole {
    match declared_bytes.zip(facts.bytes) {
        None => Whole::Unknown,
        Some((end, bytes)) if end > bytes => Whole::No,
        Some(_) if has_failed_checksum(facts) => Whole::No,
        Some(_) if has_lost_a_table(facts) || facts.end.zeros_from.is_some() => Whole::Unknown,
        Some(_) => Whole::Yes,
    }
}

/// Whether a copy of the GPT is not what it was when its checksum was made.
fn has_failed_checksum(facts: &Facts) -> bool {
    let faults = facts.gpt.iter().flat_map(|gpt| [&gpt.primary, &gpt.backup]);
    faults.into_iter().any(|copy| matches!(copy, Err(gpt::GptFault::Crc { .. })))
}

/// Whether a volume or a whole GPT is there that can't be read: it may have declared a later end.
fn has_lost_a_table(facts: &Facts) -> bool {
    let gpt = facts.gpt.as_ref().is_some_and(|gpt| gpt.primary.is_err() && gpt.backup.is_err());
    gpt || matches!(facts.optical.volume, Some(Err(_)))
}

fn kind(facts: &Facts) -> Kind {
    if facts.bytes == Some(0) {
        Kind::Empty
    } else if facts.optical.volume.is_some() {
        Kind::Iso9660
    } else if matches!(facts.stranger, Some(Stranger::Archive(_))) {
        Kind::Archive
    } else if facts.gpt.is_some()
        || facts.apm.is_some()
        || facts.mbr.as_ref().is_some_and(|mbr| !mbr.entries.is_empty())
        || facts.has_bare_code()
    {
        Kind::Disk
    } else if facts.filesystem.is_some() {
        Kind::Filesystem
    } else {
        Kind::Other
    }
}

fn boots(facts: &Facts) -> Vec<Boot> {
    let mut boots = Vec::new();
    if facts.bios == Bios::Yes {
        boots.push(Boot { firmware: Firmware::Bios, arch: Architecture::X86, via: Via::Mbr, signed: None });
    }
    let uefi = |program: &EfiProgram, via| Boot {
        firmware: Firmware::Uefi,
        arch: program.arch,
        via,
        signed: Some(program.signed),
    };
    let found = |program: &&EfiProgram| program.is_found;
    boots.extend(
        facts.programs.esps.iter().flat_map(|esp| &esp.programs).filter(found).map(|program| uefi(program, Via::Esp)),
    );
    let entries = facts.optical.catalogue.iter().flat_map(|catalogue| &catalogue.entries);
    if entries.clone().any(|entry| entry.bootable && entry.platform == eltorito::PlatformId::BIOS) {
        boots.push(Boot { firmware: Firmware::Bios, arch: Architecture::X86, via: Via::ElTorito, signed: None });
    }
    boots.extend(facts.programs.optical.iter().filter(found).map(|program| uefi(program, Via::ElTorito)));
    boots.sort();
    boots.dedup();
    boots
}

/// The processors that the image's programs for UEFI are made for; a PC's 64-bit one if there are several.
fn started(boots: &[Boot]) -> Option<Architecture> {
    let uefi = || boots.iter().filter(|boot| boot.firmware == Firmware::Uefi).map(|boot| boot.arch);
    let first = uefi().next()?;
    let all_same = uefi().all(|arch| arch == first);
    if all_same { Some(first) } else { uefi().find(|arch| *arch == Architecture::X86Of64) }
}

fn not_an_image(facts: &Facts) -> Finding {
    match facts.stranger {
        Some(Stranger::Archive(what)) => {
            Finding::stop(FindingId::NotAnImage, format!("this is {what}"), "unpack it, then give the image inside")
        }
        Some(Stranger::Other { what, next }) => Finding::stop(FindingId::NotAnImage, format!("this is {what}"), next),
        Some(Stranger::Zeros) => {
            Finding::stop(FindingId::NotAnImage, "it begins with zeros where an image has its tables", DOWNLOAD_AGAIN)
        }
        None => Finding::stop(
            FindingId::NotAnImage,
            "it holds no volume, partition table or file system that is known here",
            "check that this is the right file; a download may have failed at its start",
        ),
    }
}

/// Whether the file ends where it says.
fn extent(facts: &Facts, declared: Option<u64>, findings: &mut Vec<Finding>) {
    let (Some(end), Some(bytes)) = (declared, facts.bytes) else { return };
    if let Some(missing) = end.checked_sub(bytes).filter(|missing| *missing > 0) {
        let place = facts.end.cut_in.as_ref().map(|file| format!("; the file ends within {}", file.shown()));
        let place = place.unwrap_or_default();
        findings.push(Finding::stop(
            FindingId::CutShort,
            format!("{missing} of the declared {end} bytes are missing{place}"),
            format!("finish the download ({} to go), or start it again", human_bytes(missing)),
        ));
    } else if let Some(trailing) = facts.end.trailing.filter(|_| !has_lost_a_table(facts)) {
        findings.push(behind_the_end(trailing));
    }
}

fn behind_the_end(Trailing { bytes, is_zero }: Trailing) -> Finding {
    let size = human_bytes(bytes);
    let text = match (is_zero, bytes <= PADDING_USUAL) {
        (true, true) => {
            return Finding::note(
                FindingId::Padding,
                format!("{bytes} bytes of zeros follow the declared end; that is usual"),
            );
        }
        (true, false) => format!("{size} of zeros follow the declared end: the drive needs room for them as well"),
        (false, _) => format!("{size} follow the declared end that belong to no table or volume"),
    };
    Finding { next: "compare its checksum with the published one".into(), ..Finding::note(FindingId::Padding, text) }
}

/// Contradictions and failed CRCs.
fn damage(facts: &Facts, findings: &mut Vec<Finding>) {
    if let Some(Err(fault)) = &facts.optical.volume {
        let text = format!("the ISO 9660 volume descriptor is damaged: {fault}");
        findings.push(Finding::stop(FindingId::Damaged, text, DOWNLOAD_AGAIN));
    }
    if facts.optical.catalogue.as_ref().is_some_and(|catalogue| !catalogue.checksum_ok) {
        let text = "the El Torito boot catalogue's checksum is wrong; an optical disc may not start";
        findings.push(Finding::note(FindingId::CatalogueChecksum, text));
    }
    if let Some((one, other)) = facts.mbr.as_ref().and_then(|mbr| mbr.overlapping()) {
        let text =
            format!("partitions {one} and {other} of its MBR overlap; a computer may show either of them wrongly");
        findings.push(Finding::note(FindingId::Overlapping, text));
    }
    if let Some(from) = facts.end.zeros_from {
        findings.push(Finding::ask(
            FindingId::UnfinishedDownload,
            format!("from about byte {from} on its files hold nothing but zeros: the download probably stopped there"),
            "start the download again, or compare the checksum",
        ));
    }
    let Some(gpt) = &facts.gpt else { return };
    match (&gpt.primary, &gpt.backup) {
        (Ok(_), Ok(_)) => {}
        // The end of the file is missing, which is said already.
        (Ok(_), Err(gpt::GptFault::BehindEnd { .. })) => {}
        (Ok(_), Err(fault)) => findings.push(half_a_table("backup", fault)),
        (Err(fault), Ok(_)) => findings.push(half_a_table("primary", fault)),
        (Err(first), Err(second)) => {
            let text = format!("neither copy of the GPT can be used: {first}; {second}");
            // Code for a BIOS does not need that table, and a volume beside it may be sound.
            findings.push(
                if facts.bios == Bios::Yes && facts.mbr.as_ref().is_some_and(|mbr| mbr.claims().next().is_some()) {
                    Finding::ask(
                        FindingId::NoSoundTable,
                        format!("{text}; a BIOS may start it all the same"),
                        CHECK_SUM,
                    )
                } else {
                    Finding::stop(FindingId::Damaged, text, DOWNLOAD_AGAIN)
                },
            );
        }
    }
}

fn half_a_table(which: &str, fault: &gpt::GptFault) -> Finding {
    let text = format!("the {which} GPT can't be used, and some firmware then starts nothing: {fault}");
    Finding { next: CHECK_SUM.into(), ..Finding::note(FindingId::HalfATable, text) }
}

impl Facts {
    /// Whether there is code for a BIOS and no partition, such as that of a test program that is nothing else.
    fn has_bare_code(&self) -> bool {
        self.stranger.is_none() && self.mbr.as_ref().is_some_and(|mbr| mbr.code == BootCode::Loader)
    }
}

/// Adds what is wrong with the file around the image.
pub(super) fn broken_container(inspection: &mut Inspection, fault: &PackedFault) {
    inspection.span.whole = Whole::No;
    inspection.verdict = Verdict::No;
    // What lies behind the fault is not missing of its own.
    inspection.findings.retain(|finding| finding.id != FindingId::Unseen);
    inspection.findings.insert(0, Finding::stop(id_of(fault), fault.to_string(), fault.next_step()));
}

fn id_of(fault: &PackedFault) -> FindingId {
    match fault {
        PackedFault::SeveralImages { .. } => FindingId::SeveralImages,
        PackedFault::NoImage { .. } | PackedFault::Unusual { .. } => FindingId::NotAnImage,
        PackedFault::NeedsMemory { .. } => FindingId::NeedsMemory,
        PackedFault::Cut { .. } => FindingId::CutShort,
        _ => FindingId::Damaged,
    }
}

/// The inspection of a packed image that can't be looked into.
pub(super) fn unpackable(fault: &PackedFault) -> Inspection {
    let mut inspection = judge(Facts { stranger: Some(Stranger::Archive("packed")), ..Facts::default() });
    inspection.findings = vec![Finding::stop(id_of(fault), fault.to_string(), fault.next_step())];
    inspection
}

/// Whether anything on a stick would start.
fn starts(facts: &Facts, kind: Kind, boots: &[Boot], findings: &mut Vec<Finding>) {
    let programs = || facts.programs.esps.iter().flat_map(|esp| &esp.programs).chain(&facts.programs.optical);
    if let Some(program) = programs().find(|program| !program.is_found) {
        let EfiProgram { name, arch, .. } = program;
        let text = format!("{name} is made for another processor ({arch}) than firmware that looks for this name has");
        findings.push(Finding::note(FindingId::OtherProcessor, text));
    }
    if facts.counts_in().is_some_and(|sector_bytes| sector_bytes != MBR_SECTOR) {
        let text = "it is laid out for drives with sectors of 4096 bytes; most sticks have 512, and no PC starts it from these";
        findings.push(Finding::note(FindingId::LargeSectors, text));
    }
    if !facts.programs.unseen.is_empty() {
        let text = "what starts a PC lies behind the part that was looked into; which PCs that are shows once all of it is there";
        findings.push(Finding::note(FindingId::Unseen, text));
        return;
    }
    if boots.iter().any(|boot| boot.via != Via::ElTorito) {
        if kind == Kind::Filesystem {
            let text = "it has no partition table: some PCs start nothing from such a stick";
            findings.push(Finding::note(FindingId::NoPartitionTable, text));
        }
        return;
    }
    if facts.bios == Bios::Unknown {
        let text = "its boot code starts a file of a volume that is not read here; if that is there, a BIOS starts it";
        findings.push(Finding::note(FindingId::Unseen, text));
        return;
    }
    findings.push(nothing_for_a_stick(facts, kind, boots));
}

/// Why no stick that is made from it as it is starts a PC.
fn nothing_for_a_stick(facts: &Facts, kind: Kind, boots: &[Boot]) -> Finding {
    if facts.optical.volume.iter().flatten().any(|volume| volume.udf.is_some()) {
        Finding::ask(
            FindingId::NeedsLayingOut,
            "its files are in a UDF volume for optical discs, and hardly any PC starts a stick from that: they must be laid out on a FAT stick",
            "lay them out with `pyrotyp unpack`, or use the tool that its maker offers for sticks",
        )
    } else if boots.iter().any(|boot| boot.firmware == Firmware::Uefi) {
        let text = "its program for UEFI is found through the boot catalogue of optical discs alone; only some PCs look there on a stick";
        Finding {
            next: "look for the hybrid or USB edition of this image".into(),
            ..Finding::note(FindingId::OpticalEntry, text)
        }
    } else if let Some(program) = facts.programs.tree.first() {
        Finding::ask(
            FindingId::NeedsLayingOut,
            format!(
                "its program for UEFI ({}) lies in the optical volume alone, and no stick starts from that: its files must be laid out on a FAT stick",
                program.arch
            ),
            "lay them out with `pyrotyp unpack`, or look for the hybrid or USB edition of this image",
        )
    } else if !boots.is_empty() {
        Finding::ask(
            FindingId::OpticalOnly,
            "it starts from an optical disc only: there is no boot code and no EFI system partition for a stick",
            "look for the hybrid or USB edition of this image",
        )
    } else if kind == Kind::Filesystem {
        let name = facts.filesystem.as_ref().map_or("unknown", |system| system.name);
        Finding::ask(
            FindingId::BareFilesystem,
            format!("this is a bare {name} file system without a partition table: no PC starts from it"),
            "check that this is the image meant for drives",
        )
    } else {
        Finding::ask(
            FindingId::NothingToStart,
            "it holds data only: neither boot code for a BIOS nor a program for UEFI",
            "check that this is the installer's image",
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::image::facts::{End, OpticalFacts, Programs};
    use crate::image::inspect;
    use crate::volume::{apm, filesystem, mbr};

    #[test]
    fn a_volume_that_claims_more_than_any_drive_has_is_cut_short_and_no_more() {
        let mut image = vec![0u8; 80 << 10];
        image[0x1_0040..0x1_0048].copy_from_slice(b"_BHRfS_M"); // btrfs
        image[0x1_0070..0x1_0078].fill(0xFF); // its total size
        let inspection = inspect(&image).unwrap();
        assert_eq!(inspection.span.needs_bytes, u64::MAX);
        assert_eq!(inspection.findings[0].id, FindingId::CutShort);
    }

    #[test]
    fn zeros_behind_the_end_are_usual_up_to_16_mib_and_nothing_else_is() {
        let told = |bytes, is_zero| {
            let found = behind_the_end(Trailing { bytes, is_zero });
            format!("{}{}{}", found.text, if found.next.is_empty() { "" } else { " -> " }, found.next)
        };
        insta::assert_snapshot!([told(16 << 20, true), told((16 << 20) + 1, true), told(512, false)].join("\n"), @"
        16777216 bytes of zeros follow the declared end; that is usual
        16.8 MB of zeros follow the declared end: the drive needs room for them as well -> compare its checksum with the published one
        512 bytes follow the declared end that belong to no table or volume -> compare its checksum with the published one
        ");
    }

    /// What is said of an image, and through what it starts a PC.
    fn told(image: &Vec<u8>) -> String {
        let seen = inspect(image).unwrap();
        let ids: Vec<&str> = seen.findings.iter().map(|finding| finding.id.word()).collect();
        let boot = |boot: &Boot| format!("{:?}/{}/{:?}", boot.firmware, boot.arch, boot.via);
        let boots: Vec<String> = seen.boots.iter().map(boot).collect();
        let (kind, whole, verdict) = (seen.kind, seen.span.whole, seen.verdict);
        let (arch, boots) = (seen.naming.architecture.map_or("any", Architecture::word), boots.join(" "));
        let first = seen.findings.iter().find(|finding| finding.id == FindingId::NotAnImage);
        let why = first.map_or(String::new(), |finding| format!(": {} -> {}", finding.text, finding.next));
        format!("{kind:?} for {arch}, whole {whole:?}, {verdict:?}; {}; {boots}{why}", ids.join(" "))
    }

    #[test]
    fn each_kind_of_damage_has_its_verdict() {
        use pyrotyp_sample::{cafe, disk_image};
        let spoilt = |image: &[u8], spoil: &dyn Fn(&mut Vec<u8>)| {
            let mut image = image.to_vec();
            spoil(&mut image);
            told(&image)
        };
        let (desktop, rescue, compact) = (cafe::desktop().build(), cafe::rescue().build(), cafe::compact().build());
        let disk = disk_image("x");
        let flip = |at: usize| move |image: &mut Vec<u8>| image[at] ^= 1;
        let (primary, backup) = (512 + 40, desktop.len() - 512 + 40);
        let both = |image: &mut Vec<u8>| [primary, backup].iter().for_each(|at| image[*at] ^= 1);
        let all = [
            ("desktop", told(&desktop)),
            ("cut by a sector", spoilt(&desktop, &|image| image.truncate(image.len() - 512))),
            ("a sector more", spoilt(&desktop, &|image| image.extend([0; 512]))),
            ("primary table changed", spoilt(&desktop, &flip(primary))),
            ("backup table changed", spoilt(&desktop, &flip(backup))),
            ("both tables changed", spoilt(&desktop, &both)),
            (
                "and nothing beside them",
                spoilt(&desktop, &|image| {
                    both(image);
                    image[..512].fill(0);
                }),
            ),
            ("no boot code", spoilt(&desktop, &|image| image[..440].fill(0))),
            ("volume changed", spoilt(&desktop, &flip(16 * 2048 + 80))),
            ("rescue", told(&rescue)),
            ("ends in zeros", spoilt(&desktop, &|image| image[9_000_000..].fill(0))),
            ("compact", told(&compact)),
            ("disk", told(&disk)),
            ("its volume alone", told(&disk[1 << 20..].to_vec())),
            (
                "two entries over each other",
                spoilt(&disk, &|image| {
                    let first = image[446..462].to_vec();
                    image[462..478].copy_from_slice(&first);
                }),
            ),
            ("zeros", told(&vec![0; 1 << 20])),
            ("nothing", told(&Vec::new())),
            ("7z", told(&b"7z\xBC\xAF\x27\x1C and so on".to_vec())),
            ("text", told(&b"not found".to_vec())),
            ("noise", told(&pyrotyp_sample::noise(1 << 16, 7))),
        ];
        let lines: Vec<String> = all.iter().map(|(name, told)| format!("{name}: {told}")).collect();
        insta::assert_snapshot!(lines.join("\n"), @"
        desktop: Iso9660 for x86-64, whole Yes, Ready; ; Bios/x86/Mbr Bios/x86/ElTorito Uefi/x86-64/Esp Uefi/x86-64/ElTorito
        cut by a sector: Iso9660 for x86-64, whole No, No; cut-short; Bios/x86/Mbr Bios/x86/ElTorito Uefi/x86-64/Esp Uefi/x86-64/ElTorito
        a sector more: Iso9660 for x86-64, whole Yes, Ready; padding; Bios/x86/Mbr Bios/x86/ElTorito Uefi/x86-64/Esp Uefi/x86-64/ElTorito
        primary table changed: Iso9660 for x86-64, whole No, Caution; half-a-table; Bios/x86/Mbr Bios/x86/ElTorito Uefi/x86-64/Esp Uefi/x86-64/ElTorito
        backup table changed: Iso9660 for x86-64, whole No, Caution; half-a-table; Bios/x86/Mbr Bios/x86/ElTorito Uefi/x86-64/Esp Uefi/x86-64/ElTorito
        both tables changed: Iso9660 for x86-64, whole No, No; damaged; Bios/x86/Mbr Bios/x86/ElTorito Uefi/x86-64/ElTorito
        and nothing beside them: Iso9660 for x86-64, whole No, No; damaged optical-entry; Bios/x86/ElTorito Uefi/x86-64/ElTorito
        no boot code: Iso9660 for x86-64, whole Yes, Ready; ; Bios/x86/ElTorito Uefi/x86-64/Esp Uefi/x86-64/ElTorito
        volume changed: Iso9660 for x86-64, whole Unknown, No; damaged; Bios/x86/Mbr Uefi/x86-64/Esp
        rescue: Iso9660 for x86-64, whole Yes, Ready; ; Bios/x86/Mbr Bios/x86/ElTorito Uefi/x86-64/Esp Uefi/x86-64/ElTorito
        ends in zeros: Iso9660 for x86-64, whole Unknown, No; unfinished-download half-a-table; Bios/x86/Mbr Bios/x86/ElTorito
        compact: Iso9660 for x86, whole Yes, Ready; ; Bios/x86/Mbr Bios/x86/ElTorito
        disk: Disk for x86-64, whole Yes, Ready; ; Bios/x86/Mbr Uefi/x86-64/Esp
        its volume alone: Filesystem for x86-64, whole Yes, Caution; no-partition-table; Uefi/x86-64/Esp
        two entries over each other: Disk for any, whole Unknown, Ready; ; Bios/x86/Mbr
        zeros: Other for any, whole Unknown, No; not-an-image; : it begins with zeros where an image has its tables -> download it again
        nothing: Empty for any, whole Unknown, No; empty; 
        7z: Archive for any, whole Unknown, No; not-an-image; : this is a 7z archive -> unpack it, then give the image inside
        text: Other for any, whole Unknown, No; not-an-image; : this is a text file -> open it to see what was downloaded in place of the image
        noise: Other for any, whole Unknown, No; not-an-image; : it holds no volume, partition table or file system that is known here -> check that this is the right file; a download may have failed at its start
        ");
    }

    /// Kind, sector size, whole, verdict, and what is said with what to do next.
    fn line(seen: &Inspection) -> String {
        let told = seen.findings.iter().map(|found| {
            let text = found.text.split([':', ';']).next().unwrap();
            format!("{}: {text}{}{}", found.id, if found.next.is_empty() { "" } else { " -> " }, found.next)
        });
        let told: Vec<String> = told.collect();
        let sector = seen.tables.sector_bytes.map_or("none".to_owned(), |bytes| bytes.to_string());
        format!(
            "{:?}, sectors {sector}, whole {:?}, {:?}\n   {}",
            seen.kind,
            seen.span.whole,
            seen.verdict,
            told.join("\n   ")
        )
    }

    #[test]
    fn each_table_by_itself_makes_a_disk_and_each_way_to_start_nothing_has_its_sentence() {
        let missing = |at| Err(gpt::GptFault::Missing { at });
        let header = || Ok(gpt::Header { at: 512, other_at: 4096 });
        let gpt = |primary, backup| Some(gpt::Gpt { sector_bytes: 4096, primary, backup, entries: Vec::new() });
        let mbr = |code, claims: bool| {
            let kind = mbr::PartitionType(0x0C);
            let entry = mbr::MbrPartition { number: 1, active: true, kind, start: 4096, bytes: 4096 };
            Some(mbr::Mbr { code, disk_signature: 0, entries: if claims { vec![entry] } else { Vec::new() } })
        };
        let apm = |start| apm::ApmPartition { number: 2, start, bytes: 4096, kind: "Apple_HFS".into() };
        let program = |arch| EfiProgram { name: "BOOTX64.EFI".into(), arch, is_found: true, signed: false };
        let of = |facts: Facts| line(&judge(Facts { bytes: Some(8192), ..facts }));
        let trailing = Some(Trailing { bytes: 512, is_zero: true });
        let loader = BootCode::Loader;
        let filesystem = Some(filesystem::FileSystem { name: "ext4", label: None, bytes: None, drives: None });
        let entry = eltorito::BootEntry {
            platform: eltorito::PlatformId::BIOS,
            bootable: true,
            emulation: eltorito::Emulation::None,
            start: 0,
            bytes: 512,
        };
        let catalogue = eltorito::BootCatalogue { checksum_ok: true, entries: vec![entry] };
        let all = [
            (
                "GPT",
                of(Facts { gpt: gpt(header(), header()), end: End { trailing, ..End::default() }, ..Facts::default() }),
            ),
            (
                "one copy of it",
                of(Facts {
                    gpt: gpt(header(), missing(4096)),
                    end: End { trailing, ..End::default() },
                    ..Facts::default()
                }),
            ),
            (
                "neither",
                of(Facts {
                    gpt: gpt(missing(512), missing(4096)),
                    end: End { trailing, ..End::default() },
                    ..Facts::default()
                }),
            ),
            (
                "neither, and a BIOS starts it",
                of(Facts {
                    gpt: gpt(missing(512), missing(4096)),
                    mbr: mbr(loader, true),
                    bios: Bios::Yes,
                    ..Facts::default()
                }),
            ),
            (
                "neither, and no partition beside them",
                of(Facts {
                    gpt: gpt(missing(512), missing(4096)),
                    mbr: mbr(loader, false),
                    bios: Bios::Yes,
                    ..Facts::default()
                }),
            ),
            ("MBR", of(Facts { mbr: mbr(loader, true), bios: Bios::Yes, ..Facts::default() })),
            ("no entries in it", of(Facts { mbr: mbr(BootCode::Absent, false), ..Facts::default() })),
            ("Apple's", of(Facts { apm: Some(vec![apm(4096)]), ..Facts::default() })),
            ("code alone", of(Facts { mbr: mbr(loader, false), bios: Bios::Yes, ..Facts::default() })),
            ("a file system", of(Facts { filesystem, ..Facts::default() })),
            (
                "for discs",
                of(Facts {
                    apm: Some(vec![apm(0)]),
                    optical: OpticalFacts { catalogue: Some(catalogue), volume: None },
                    ..Facts::default()
                }),
            ),
            (
                "in the tree",
                of(Facts {
                    apm: Some(vec![apm(0)]),
                    programs: Programs { tree: vec![program(Architecture::Arm)], ..Programs::default() },
                    ..Facts::default()
                }),
            ),
            (
                "by the catalogue",
                of(Facts {
                    apm: Some(vec![apm(0)]),
                    programs: Programs { optical: vec![program(Architecture::Arm)], ..Programs::default() },
                    ..Facts::default()
                }),
            ),
        ];
        let lines: Vec<String> = all.iter().map(|(name, told)| format!("{name}: {told}")).collect();
        insta::assert_snapshot!(lines.join("\n"), @"
        GPT: Disk, sectors 4096, whole Yes, No
           padding: 512 bytes of zeros follow the declared end
           large-sectors: it is laid out for drives with sectors of 4096 bytes
           nothing-to-start: it holds data only -> check that this is the installer's image
        one copy of it: Disk, sectors 4096, whole Yes, No
           padding: 512 bytes of zeros follow the declared end
           half-a-table: the backup GPT can't be used, and some firmware then starts nothing -> check the image's checksum
           large-sectors: it is laid out for drives with sectors of 4096 bytes
           nothing-to-start: it holds data only -> check that this is the installer's image
        neither: Disk, sectors 4096, whole Unknown, No
           damaged: neither copy of the GPT can be used -> download it again
           large-sectors: it is laid out for drives with sectors of 4096 bytes
           nothing-to-start: it holds data only -> check that this is the installer's image
        neither, and a BIOS starts it: Disk, sectors 4096, whole Unknown, No
           no-sound-table: neither copy of the GPT can be used -> check the image's checksum
           large-sectors: it is laid out for drives with sectors of 4096 bytes
        neither, and no partition beside them: Disk, sectors 4096, whole Unknown, No
           damaged: neither copy of the GPT can be used -> download it again
           large-sectors: it is laid out for drives with sectors of 4096 bytes
        MBR: Disk, sectors 512, whole Yes, Ready
           
        no entries in it: Other, sectors none, whole Unknown, No
           not-an-image: it holds no volume, partition table or file system that is known here -> check that this is the right file; a download may have failed at its start
        Apple's: Disk, sectors none, whole Yes, No
           nothing-to-start: it holds data only -> check that this is the installer's image
        code alone: Disk, sectors none, whole Unknown, Ready
           
        a file system: Filesystem, sectors none, whole Unknown, No
           bare-filesystem: this is a bare ext4 file system without a partition table -> check that this is the image meant for drives
        for discs: Disk, sectors none, whole Yes, No
           optical-only: it starts from an optical disc only -> look for the hybrid or USB edition of this image
        in the tree: Disk, sectors none, whole Yes, No
           needs-laying-out: its program for UEFI (arm) lies in the optical volume alone, and no stick starts from that -> lay them out with `pyrotyp unpack`, or look for the hybrid or USB edition of this image
        by the catalogue: Disk, sectors none, whole Yes, Caution
           optical-entry: its program for UEFI is found through the boot catalogue of optical discs alone -> look for the hybrid or USB edition of this image
        ");
    }

    #[test]
    fn what_is_wrong_with_the_file_around_an_image_is_said_of_the_image() {
        use crate::image::packed::Format;
        let format = Format::Zst;
        let faults = [
            PackedFault::SeveralImages { all: 2, names: vec!["a.iso".into(), "b.iso".into()] },
            PackedFault::NoImage { files: 3 },
            PackedFault::NeedsMemory { format, bytes: 1 << 30 },
            PackedFault::Cut { format },
            PackedFault::Damaged { format, at: 7, source: std::io::ErrorKind::InvalidData.into() },
        ];
        let lines = faults.iter().map(|fault| line(&unpackable(fault)));
        let mut within = judge(Facts {
            programs: Programs { unseen: Vec::from([std::ops::Range { start: 0, end: 1 }]), ..Programs::default() },
            bios: Bios::Yes,
            ..Facts::default()
        });
        within.findings = vec![Finding::note(FindingId::Unseen, "x"), Finding::note(FindingId::Padding, "y")];
        broken_container(&mut within, &PackedFault::Cut { format });
        let lines: Vec<String> = lines.chain([line(&within)]).collect();
        insta::assert_snapshot!(lines.join("\n"), @"
        Archive, sectors none, whole Unknown, No
           several-images: the zip file holds 2 images -> unpack it, then give the one that is meant
        Archive, sectors none, whole Unknown, No
           not-an-image: the zip file holds no image among its 3 files -> unpack it and look at what is inside
        Archive, sectors none, whole Unknown, No
           needs-memory: the zst file needs 1.1 GB of memory to unpack, and 268 MB are given here -> unpack it first with its own program, then give the image
        Archive, sectors none, whole Unknown, No
           cut-short: the zst file ends before its own end -> finish the download, or start it again
        Archive, sectors none, whole Unknown, No
           damaged: the zst file is damaged or cut short -> download it again, and check its checksum
        Other, sectors none, whole No, No
           cut-short: the zst file ends before its own end -> finish the download, or start it again
           padding: y
        ");
    }

    #[test]
    fn a_pcs_own_processor_counts_and_an_entry_that_is_marked_for_its_firmware() {
        let uefi = |arch| Boot { firmware: Firmware::Uefi, arch, via: Via::Esp, signed: Some(false) };
        let bios = Boot { firmware: Firmware::Bios, arch: Architecture::X86, via: Via::Mbr, signed: None };
        assert_eq!(started(&[bios, uefi(Architecture::Aarch64)]), Some(Architecture::Aarch64));
        assert_eq!(started(&[uefi(Architecture::Aarch64), uefi(Architecture::X86Of64)]), Some(Architecture::X86Of64));
        assert_eq!(
            [started(&[uefi(Architecture::Aarch64), uefi(Architecture::Riscv64)]), started(&[bios])],
            [None, None]
        );
        let offers = |platform, bootable| {
            let emulation = eltorito::Emulation::None;
            let entry = eltorito::BootEntry { platform, bootable, emulation, start: 0, bytes: 512 };
            let catalogue = eltorito::BootCatalogue { checksum_ok: true, entries: vec![entry] };
            boots(&Facts { optical: OpticalFacts { catalogue: Some(catalogue), volume: None }, ..Facts::default() })
                .len()
        };
        let (bios, efi) = (eltorito::PlatformId::BIOS, eltorito::PlatformId::EFI);
        assert_eq!([offers(bios, true), offers(bios, false), offers(efi, true)], [1, 0, 0]);
    }
}
