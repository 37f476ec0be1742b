//! What speaks against writing to a drive: values in, findings out, nothing read or written.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

use serde::{Deserialize, Serialize};
use std::path::Path;

use crate::bytes::human_bytes;
use crate::drive::{Choice, Drive, NamedBy, Openers, Role, Surface, Tag, Use, Volume};
use crate::text::foreign::{all_shown, quoted};
use crate::text::{Shown, shell};
use crate::{Finding, FindingId, Level};

/// A rule of the guard, as `--accept` and the documentation know it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Rule {
    /// Its id.
    pub id: FindingId,
    /// How much its finding weighs.
    pub level: Level,
    /// When it speaks.
    pub when: &'static str,
}

const fn rule(id: FindingId, level: Level, when: &'static str) -> Rule {
    Rule { id, level, when }
}

/// Every rule about drives, in the order in which they are looked at.
pub const RULES: [Rule; 27] = [
    rule(FindingId::SystemDisk, Level::Stop, "the running system needs the drive: root, boot, home or swap"),
    rule(FindingId::PartitionGiven, Level::Stop, "a partition was named in place of its drive"),
    rule(FindingId::NoProof, Level::Stop, "nobody confirms the drive, and it was not named by a tag that is its alone"),
    rule(FindingId::ImageOnTarget, Level::Stop, "the image itself lies on the drive"),
    rule(
        FindingId::BenchOnTarget,
        Level::Stop,
        "the shelf, the records or the settings of this bench lie on the drive",
    ),
    rule(FindingId::Protected, Level::Stop, "the drive is on the bench's list of protected ones"),
    rule(
        FindingId::InUse,
        Level::Stop,
        "a volume is mounted on purpose, or the drive is part of something larger that runs",
    ),
    rule(FindingId::NoMedium, Level::Stop, "the reader's slot is empty"),
    rule(FindingId::WriteProtected, Level::Stop, "the drive refuses to be written"),
    rule(FindingId::TooSmall, Level::Stop, "the image does not fit"),
    rule(FindingId::InternalDisk, Level::Ask, "the drive is inside the PC"),
    rule(FindingId::ExternalDisk, Level::Ask, "a disk on USB: not removable, or far larger than a stick"),
    rule(FindingId::VirtualDrive, Level::Ask, "a loop device or the like"),
    rule(FindingId::PartOfGroup, Level::Ask, "it is a member of something larger, to which other drives belong"),
    rule(FindingId::HeldOpen, Level::Ask, "a program has the drive open"),
    rule(
        FindingId::UseUnknown,
        Level::Ask,
        "what something that the system needs lies on can't be told; as a note: which programs have the drive open",
    ),
    rule(FindingId::SectorSize, Level::Ask, "the drive's sectors are not of the size for which the image is laid out"),
    rule(FindingId::FreshName, Level::Ask, "it was named by a kernel name that it was given seconds ago"),
    rule(FindingId::JustVerified, Level::Ask, "an earlier job has verified it within the last half hour"),
    rule(FindingId::UnfinishedJob, Level::Note, "the last job on the drive was begun and did not end"),
    rule(FindingId::RestorePending, Level::Note, "an interrupted quick test may have left test data on the drive"),
    rule(FindingId::NoSerial, Level::Note, "the drive has no serial number of its own, so that its tag may fit others"),
    rule(FindingId::Mounted, Level::Note, "the desktop mounted a volume, which the job will unmount"),
    rule(FindingId::SlowPort, Level::Note, "the drive could be faster than the port or hub that it is plugged into"),
    rule(FindingId::FarLarger, Level::Note, "the drive is far larger than the image needs"),
    rule(FindingId::OthersAttached, Level::Note, "other drives are attached that could be meant"),
    rule(FindingId::HasData, Level::Note, "there is something on the drive"),
];

/// Rules about images that stand in nobody's way for good.
pub const IMAGE_RULES: [Rule; 8] = [
    rule(FindingId::UnfinishedDownload, Level::Ask, "the file's name is that of a download under way"),
    rule(FindingId::NeedsLayingOut, Level::Ask, "the image's files must be laid out on a FAT stick"),
    rule(FindingId::OpticalOnly, Level::Ask, "the image starts from an optical disc only"),
    rule(FindingId::BareFilesystem, Level::Ask, "the image is a file system without a partition table"),
    rule(
        FindingId::NoSoundTable,
        Level::Ask,
        "neither copy of the image's GPT is sound, and a BIOS may start it all the same",
    ),
    rule(FindingId::NothingToStart, Level::Ask, "the image holds data only"),
    rule(FindingId::OutOfSupport, Level::Note, "by the catalogue, the image's release is no longer supported"),
    rule(FindingId::NewerRelease, Level::Note, "a newer release is on the shelf or in the catalogue"),
];

/// What is to be written, as far as the guard is concerned.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ImageNeeds {
    /// What the image is called.
    pub image: String,
    /// Size that it needs, in bytes.
    pub bytes: u64,
    /// Size of the sectors in which its partition tables count, in bytes; `None` where it has none.
    pub laid_out_for: Option<u32>,
}

/// Something of this bench's own.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum BenchPlace {
    /// Images that are kept.
    Shelf,
    /// What jobs were done.
    Records,
    /// What holds for this bench.
    Settings,
}

impl BenchPlace {
    /// In words.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Shelf => "the shelf",
            Self::Records => "the records",
            Self::Settings => "the settings",
        }
    }
}

/// Who says yes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Confirmed {
    /// A person, who types the drive's tag.
    ByPerson,
    /// Nobody.
    ByNobody,
}

/// What the guard needs to know beside the drive itself. [`crate::plan::survey`] asks for all of it; nothing has a
/// default, since what was not asked for is not known.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Circumstances {
    /// [`Drive::path`] of the drives that hold the image.
    pub image_on: Vec<String>,
    /// [`Drive::path`] of the drives that hold the bench's own things, and which.
    pub bench_on: Vec<(String, BenchPlace)>,
    /// Tags of drives that must never be written, from the bench's settings.
    pub protected: Vec<Tag>,
    /// Tags of the drives that were verified lately, and how many minutes ago.
    pub verified: Vec<(Tag, u64)>,
    /// Tags of the drives on which a job was begun that did not end, and what its image is called.
    pub unfinished: Vec<(Tag, String)>,
    /// [`Drive::path`] of the drives on which an interrupted quick test may have left test data.
    pub restore_pending: Vec<String>,
    /// Tag and [`Drive::path`] of every drive that is attached.
    pub attached: Vec<(Tag, String)>,
    /// Tags of the other drives that could be meant as well.
    pub others: Vec<Tag>,
    /// [`Drive::path`] of drives that programs have open or may have open, and which programs.
    pub opened: Vec<(String, Openers)>,
    /// Who says yes.
    pub confirmed: Confirmed,
}

impl Circumstances {
    /// Nothing but the drive itself is known: for whoever may not ask for more, and leaves the rest to another.
    pub fn unknown(confirmed: Confirmed) -> Self {
        Self {
            image_on: Vec::new(),
            bench_on: Vec::new(),
            protected: Vec::new(),
            verified: Vec::new(),
            unfinished: Vec::new(),
            restore_pending: Vec::new(),
            attached: Vec::new(),
            others: Vec::new(),
            opened: Vec::new(),
            confirmed,
        }
    }

    /// Returns the name by which a command can select this drive: its tag, or its path where the tag fits other attached drives.
    fn name_of(&self, drive: &Drive) -> String {
        if self.namesakes(drive).next().is_some() { drive.path.clone() } else { drive.tag.to_string() }
    }

    /// Other attached drives to which the tag of this one belongs as well.
    pub fn namesakes<'a>(&'a self, drive: &'a Drive) -> impl Iterator<Item = &'a str> {
        let same = self.attached.iter().filter(|(tag, path)| *tag == drive.tag && *path != drive.path);
        same.map(|(_, path)| path.as_str())
    }
}

/// For so many seconds after it was plugged in, a drive's kernel name is no way to name it.
const FRESH_SECONDS: u64 = 10;

/// What speaks against a drive that was chosen by name, the partition's number included.
pub fn findings_for_choice(choice: &Choice, needs: Option<&ImageNeeds>, circumstances: &Circumstances) -> Vec<Finding> {
    let mut found = findings(&choice.drive, needs, circumstances);
    if let Some(number) = choice.partition {
        let Drive { tag, path, .. } = &choice.drive;
        let text = format!("that is partition {number} of drive {tag} ({path}, {}), not a drive", choice.drive.name());
        let next = format!("if the whole drive is meant, say --to {tag}");
        found.insert(0, Finding::stop(FindingId::PartitionGiven, text, next));
    }
    let Drive { tag, path, .. } = &choice.drive;
    if let Some(seconds) = choice.drive.attached_seconds.filter(|seconds| *seconds < FRESH_SECONDS)
        && choice.by == NamedBy::KernelName
    {
        let text =
            format!("the name {path} was given to it {seconds} seconds ago: another drive may have had it before");
        let next = format!("name the drive by its tag: {tag}; or name this finding with --accept fresh-name");
        found.push(Finding::ask(FindingId::FreshName, text, next));
    }
    if circumstances.confirmed == Confirmed::ByNobody {
        found.extend(no_proof(choice, circumstances));
    }
    // The heaviest first, and of those that weigh the same each in its turn.
    found.sort_by_key(|finding| std::cmp::Reverse(finding.level));
    found
}

/// Why the way in which a drive was named is no proof that it is the one that is meant.
fn no_proof(choice: &Choice, circumstances: &Circumstances) -> Option<Finding> {
    let Drive { tag, path, .. } = &choice.drive;
    let at_terminal = "without a technician to confirm it, it can't be written: run the command at a terminal";
    let (text, next) = if tag.is_unsure() {
        let text = format!("the tag {tag} proves nothing: it may belong to another drive or card");
        (text, at_terminal.to_owned())
    } else if circumstances.namesakes(&choice.drive).next().is_some() {
        (format!("the tag {tag} fits another attached drive as well"), at_terminal.to_owned())
    } else if choice.by == NamedBy::Arriving {
        let text = "that a drive was plugged in just now proves nothing".to_owned();
        (text, format!("without a technician to confirm it, name the drive by its tag: {tag}"))
    } else if choice.by != NamedBy::Tag {
        let text = format!("the name {path} proves nothing: the next drive plugged in may get it");
        (text, format!("without a technician to confirm it, name the drive by its tag: {tag}"))
    } else {
        return None;
    };
    Some(Finding::stop(FindingId::NoProof, text, next))
}

/// What speaks against a drive, the heaviest first.
pub fn findings(drive: &Drive, needs: Option<&ImageNeeds>, circumstances: &Circumstances) -> Vec<Finding> {
    let mut found = Vec::new();
    uses(drive, &mut found);
    if circumstances.image_on.contains(&drive.path) {
        let text = "the image itself lies on this drive";
        found.push(Finding::stop(FindingId::ImageOnTarget, text, "copy the image to another disk first"));
    }
    bench(drive, circumstances, &mut found);
    if drive.bytes == 0 {
        found.push(Finding::stop(FindingId::NoMedium, "there is no card in the reader", "put the card in"));
    } else if let Some(least) = needs.map(|needs| whole_sectors(needs.bytes, drive.sector_bytes))
        && least > drive.bytes
    {
        let (need, have) = (human_bytes(least), human_bytes(drive.bytes));
        let text = format!("the image needs {least} bytes ({need}), the drive has {} ({have})", drive.bytes);
        found.push(Finding::stop(FindingId::TooSmall, text, format!("choose a drive of {need} or more")));
    }
    if drive.write_protected {
        let next = "slide the lock switch of the card or stick; without one, it has given up for good";
        found.push(Finding::stop(FindingId::WriteProtected, "the drive is write-protected", next));
    }
    let groups: Vec<String> = drive.volumes().filter_map(Volume::group).collect();
    if !groups.is_empty() {
        let text = format!("it is a member of {}: other drives belong to it", groups.join(" and "));
        let next = "make sure that nobody needs it any more, and name this finding with --accept part-of-group";
        found.push(Finding::ask(FindingId::PartOfGroup, text, next));
    }
    for (_, openers) in circumstances.opened.iter().filter(|(path, _)| *path == drive.path) {
        if !openers.programs.is_empty() {
            let text = format!("{} has it open: it may be copying it", all_shown(&openers.programs));
            let next = "wait until that has ended, or name this finding with --accept held-open";
            found.push(Finding::ask(FindingId::HeldOpen, text, next));
        }
        if !openers.is_complete {
            let text = "not all running programs could be inspected: one may have the drive open; sudo inspects all";
            found.push(Finding::note(FindingId::UseUnknown, text));
        }
    }
    kind(drive, &mut found);
    let laid_out_for = needs.and_then(|needs| needs.laid_out_for);
    if let Some(image) = laid_out_for.filter(|image| *image != drive.sector_bytes && drive.bytes > 0) {
        found.push(Finding::ask(
            FindingId::SectorSize,
            format!(
                "its sectors have {} bytes, and the image counts in {image}: no PC would start from it",
                drive.sector_bytes
            ),
            "use another stick, or name this finding with --accept sector-size",
        ));
    }
    notes(drive, needs, circumstances, &mut found);
    found.sort_by_key(|finding| std::cmp::Reverse(finding.level));
    found
}

/// What kind of drive it is, where that is not one for installer images.
fn kind(drive: &Drive, found: &mut Vec<Finding>) {
    match drive.role() {
        Role::Internal => found.push(Finding::ask(
            FindingId::InternalDisk,
            format!("this is a disk inside the PC ({})", drive.link.bus.name()),
            "choose a stick, or name this finding with --accept internal-disk",
        )),
        Role::External => found.push(Finding::ask(
            FindingId::ExternalDisk,
            if drive.says.removable {
                format!(
                    "{} is far larger than a stick: probably a disk with somebody's files",
                    human_bytes(drive.bytes)
                )
            } else {
                "this is a disk on USB, not a stick: probably one with somebody's files".to_owned()
            },
            "choose a stick, or name this finding with --accept external-disk",
        )),
        Role::Virtual => found.push(Finding::ask(
            FindingId::VirtualDrive,
            format!("this is made by software from {}", drive.says.serial.as_deref().unwrap_or("a file").shown()),
            "for tests and trials, name this finding with --accept virtual-drive",
        )),
        Role::Stick | Role::Card | Role::System => {}
    }
}

/// What the bench itself knows of the drive.
fn bench(drive: &Drive, circumstances: &Circumstances, found: &mut Vec<Finding>) {
    let own = circumstances.bench_on.iter().filter(|(path, _)| *path == drive.path).map(|(_, what)| what.word());
    let own: Vec<&str> = own.collect();
    // Of the disk that all of this system lies on, it is no news.
    if !own.is_empty() && drive.role() != Role::System {
        let text = format!("{} of this bench lie on it", own.join(" and "));
        found.push(Finding::stop(
            FindingId::BenchOnTarget,
            text,
            "choose another, or keep them elsewhere with --state",
        ));
    }
    if circumstances.protected.contains(&drive.tag) {
        let text = "it is on this bench's list of protected drives";
        let next = "choose another; `protect` in the settings file holds the list";
        found.push(Finding::stop(FindingId::Protected, text, next));
    }
    if let Some((_, minutes)) = circumstances.verified.iter().find(|(tag, _)| *tag == drive.tag) {
        let when = match minutes {
            0 => "less than a minute ago".to_owned(),
            1 => "a minute ago".to_owned(),
            more => format!("{more} minutes ago"),
        };
        let text = format!("an earlier job has verified it {when}: it may belong to the finished ones");
        let next = "take another, or name this finding with --accept just-verified";
        found.push(Finding::ask(FindingId::JustVerified, text, next));
    }
}

/// What a USB 2 port carries at best, in bytes.
const USB_2_BYTES_PER_MINUTE: u64 = 60 * 40_000_000;
/// From this size on, in bytes, and for an image so many times smaller, a drive may be the wrong one.
const LARGE_BYTES: u64 = 64_000_000_000;
const LARGE_TIMES: u64 = 16;

/// What stands in nobody's way.
fn notes(drive: &Drive, needs: Option<&ImageNeeds>, circumstances: &Circumstances, found: &mut Vec<Finding>) {
    let needs_bytes = needs.map(|needs| needs.bytes);
    if let Some((_, image)) = circumstances.unfinished.iter().find(|(tag, _)| *tag == drive.tag) {
        let text = format!("the last job on it did not end: {} was being written to it", image.shown());
        found.push(Finding::note(FindingId::UnfinishedJob, text));
    }
    if circumstances.restore_pending.contains(&drive.path) {
        let text = "an interrupted quick test may have left test data on it; the original bytes are backed up";
        let next = format!("pyrotyp gauge {} --restore", shell::word(&circumstances.name_of(drive)));
        found.push(Finding { next, ..Finding::note(FindingId::RestorePending, text) });
    }
    if drive.tag.is_unsure() && drive.bytes > 0 {
        let text = match drive.link.slot {
            Some(slot) => format!(
                "it is a card in a reader (slot {}): another card there may have the same tag",
                slot.saturating_add(1)
            ),
            None => "it has no usable serial number: another drive may have the same tag".to_owned(),
        };
        found.push(Finding::note(FindingId::NoSerial, text));
    }
    if drive.link.could_be_faster {
        let minutes = needs_bytes.map(|needs| needs.div_ceil(USB_2_BYTES_PER_MINUTE));
        let time = match minutes {
            Some(0 | 1) | None => String::new(),
            Some(minutes) => format!("; writing alone takes {minutes} minutes or more there"),
        };
        let text = format!("it could be several times faster: it is plugged into a USB 2 port or hub{time}");
        found.push(Finding::note(FindingId::SlowPort, text));
    }
    if let Some(needs) = needs_bytes.filter(|needs| *needs > 0)
        && drive.bytes >= LARGE_BYTES
        && drive.bytes.checked_div(LARGE_TIMES).is_some_and(|part| part >= needs)
    {
        let (has, needs) = (human_bytes(drive.bytes), human_bytes(needs));
        found.push(Finding::note(
            FindingId::FarLarger,
            format!("it has {has} and the image needs {needs}: is it the right one?"),
        ));
    }
    if !circumstances.others.is_empty() {
        let others: Vec<&str> = circumstances.others.iter().map(Tag::as_str).collect();
        let others = others.join(", ");
        found.push(Finding::note(
            FindingId::OthersAttached,
            format!("other drives that could be meant are attached: {others}"),
        ));
    }
    if let Some(what) = data_words(drive) {
        found.push(Finding::note(FindingId::HasData, what));
    }
}

fn uses(drive: &Drive, found: &mut Vec<Finding>) {
    let each = |pick: fn(&Use) -> Option<&str>| drive.uses.iter().filter_map(pick).collect::<Vec<_>>();
    let all = |pick: fn(&Use) -> Option<&str>| all_shown(&each(pick));
    let unmount = |places: &[&str]| {
        let places: Vec<String> = places.iter().map(|at| shell::path(Path::new(at))).collect();
        format!("make sure that it is not needed, then unmount it: umount {}", places.join(" "))
    };
    let system = all(|use_| if let Use::System { what } = use_ { Some(what) } else { None });
    let mounted = each(|use_| if let Use::Mounted { at } = use_ { Some(at) } else { None });
    let shared = each(|use_| if let Use::Shared { at } = use_ { Some(at) } else { None });
    let held = all(|use_| if let Use::Held { by } = use_ { Some(by) } else { None });
    let taken = all(|use_| if let Use::Taken { by } = use_ { Some(by) } else { None });
    let unknown = all(|use_| if let Use::Unknown { what } = use_ { Some(what) } else { None });
    let removable = all(|use_| if let Use::Removable { at } = use_ { Some(at) } else { None });
    if !system.is_empty() {
        let text = format!("this system runs from it ({system})");
        found.push(Finding::stop(FindingId::SystemDisk, text, "choose another; no option opens the way to this one"));
    } else if !mounted.is_empty() {
        found.push(Finding::stop(
            FindingId::InUse,
            format!("it is mounted at {}", all_shown(&mounted)),
            unmount(&mounted),
        ));
    } else if !shared.is_empty() {
        let text = format!("it holds a part of what is mounted at {}, and so do other drives", all_shown(&shared));
        found.push(Finding::stop(FindingId::InUse, text, unmount(&shared)));
    } else if !held.is_empty() {
        let text = format!("it is part of {held}");
        found.push(Finding::stop(
            FindingId::InUse,
            text,
            "make sure that it is not needed, then take that apart first",
        ));
    } else if !taken.is_empty() {
        let text = format!("it is used by {taken}");
        found.push(Finding::stop(FindingId::InUse, text, "make sure that it is not needed, then end that first"));
    }
    if !unknown.is_empty() {
        let text = format!("what {unknown} lies on can't be told: it may be this drive");
        let next = "make sure that it is another one, and name this finding with --accept use-unknown";
        found.push(Finding::ask(FindingId::UseUnknown, text, next));
    }
    if !removable.is_empty() {
        found.push(Finding::note(
            FindingId::Mounted,
            format!("it is in use at {removable}, and the job will unmount it"),
        ));
    }
}

/// `bytes` as the whole sectors that it takes; what no number holds fits on no drive.
fn whole_sectors(bytes: u64, sector_bytes: u32) -> u64 {
    bytes.checked_next_multiple_of(u64::from(sector_bytes.max(1))).unwrap_or(u64::MAX)
}

/// Most volumes that are named one by one.
const VOLUMES_NAMED: usize = 4;

/// What would be lost, in a line; `None` for a blank drive.
pub fn data_words(drive: &Drive) -> Option<String> {
    let mut names: Vec<String> = Vec::new();
    if let Some(whole) = drive.holds.whole.as_ref().filter(|whole| whole.filesystem.is_some()) {
        names.push(volume_words(whole, whole.filesystem.as_deref().unwrap_or_default().shown()));
    }
    let (known, unknown): (Vec<_>, Vec<_>) = drive
        .holds
        .partitions
        .iter()
        .map(|partition| &partition.volume)
        .partition(|volume| volume.filesystem.is_some());
    // Beside an image's own volume, what its table makes of the same bytes is no news.
    let unknown = if names.is_empty() { unknown } else { Vec::new() };
    for volume in known.into_iter().chain(unknown) {
        let system = match (&volume.filesystem, volume.surface) {
            (Some(system), _) => system.shown(),
            (None, Surface::Empty) => "nothing in it".to_owned(),
            (None, Surface::Data) => "data of no kind that is known here".to_owned(),
            (None, Surface::Unread) => "not looked into".to_owned(),
        };
        names.push(volume_words(volume, format!("{system}, {}", human_bytes(volume.bytes))));
    }
    let shown = names.get(..names.len().min(VOLUMES_NAMED)).unwrap_or_default().join(", ");
    match names.len().saturating_sub(VOLUMES_NAMED) {
        _ if names.is_empty() => {
            (drive.holds.surface == Surface::Data).then(|| "holds data of no kind that is known here".to_owned())
        }
        0 => Some(format!("holds {shown}")),
        more => Some(format!("holds {shown} and {more} more")),
    }
}

fn volume_words(volume: &Volume, what: String) -> String {
    match &volume.label {
        Some(label) => format!("{} ({what})", quoted(label)),
        None => format!("an unnamed volume ({what})"),
    }
}

/// A drive, and what speaks against it as this bench is now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Judged {
    /// The drive.
    pub drive: Drive,
    /// The heaviest first.
    pub findings: Vec<Finding>,
}

impl Judged {
    /// Of a drive that nobody has chosen yet.
    pub fn of(drive: Drive, circumstances: &Circumstances) -> Self {
        let findings = findings(&drive, None, circumstances);
        Self { drive, findings }
    }
}

/// Proof that the guard let one job onto one drive, and no other. Only [`clear`] makes one, and claiming spends it.
#[derive(Debug)]
pub struct Cleared {
    drive: Drive,
    needs: ImageNeeds,
    opened_by: Vec<String>,
}

impl Cleared {
    /// The drive as it was when it was cleared.
    pub fn drive(&self) -> &Drive {
        &self.drive
    }

    /// What it was cleared for.
    pub fn needs(&self) -> &ImageNeeds {
        &self.needs
    }

    /// Programs that were known to have it open, and accepted.
    pub fn opened_by(&self) -> &[String] {
        &self.opened_by
    }
}

/// The guard's no: every finding that stands.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("drive {tag} stays as it is: {}", ids(.standing))]
pub struct Refused {
    /// The drive's tag.
    pub tag: String,
    /// [`Drive::path`] of the drive.
    pub path: String,
    /// What stands in the way, the heaviest first.
    pub standing: Vec<Finding>,
}

fn ids(standing: &[Finding]) -> String {
    standing.iter().map(|finding| finding.id.word()).collect::<Vec<_>>().join(", ")
}

/// Lets a job onto the chosen drive, or says what stands in the way. Reads and writes nothing.
///
/// The findings about the drive are made here, so that none can be left out; `about_image` adds those of the image.
/// A finding at level `stop` stands whatever `accepted` names; one at level `ask` is lifted by its id.
///
/// # Errors
/// [`Refused`] names every finding that stands.
pub fn clear(
    choice: &Choice,
    needs: &ImageNeeds,
    circumstances: &Circumstances,
    about_image: &[Finding],
    accepted: &[FindingId],
) -> Result<Cleared, Refused> {
    let stands = |finding: &Finding| match finding.level {
        Level::Stop => true,
        Level::Ask => !accepted.contains(&finding.id),
        Level::Note => false,
    };
    let about_drive = findings_for_choice(choice, Some(needs), circumstances);
    let all = about_image.iter().cloned().chain(about_drive);
    let mut standing: Vec<Finding> = all.filter(stands).collect();
    standing.sort_by_key(|finding| std::cmp::Reverse(finding.level));
    if standing.is_empty() {
        let opened = circumstances.opened.iter().filter(|(path, _)| *path == choice.drive.path);
        let opened_by = opened.flat_map(|(_, openers)| openers.programs.clone()).collect();
        Ok(Cleared { drive: choice.drive.clone(), needs: needs.clone(), opened_by })
    } else {
        Err(Refused { tag: choice.drive.tag.to_string(), path: choice.drive.path.clone(), standing })
    }
}
