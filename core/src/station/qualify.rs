//! Whether a drive that was plugged in is taken: pure.

use super::station_plan::{FilesRule, StationPlan};
use super::tally::Tally;
use crate::drive::{Drive, Holds, Surface, Volume};

/// What a station has read of a stick, through one handle.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StickContents {
    /// Its volumes, or its surface where there are none.
    pub holds: Holds,
    /// Whether it begins with the first block of the plan's image.
    pub has_image_head: bool,
    /// Whether it holds what an interrupted job of this image leaves.
    pub is_half_made: bool,
}

impl StickContents {
    /// Of a stick that can't be read: it may hold anything.
    pub fn unreadable() -> Self {
        let holds = Holds { partitions: Vec::new(), whole: None, surface: Surface::Unread };
        Self { holds, has_image_head: false, is_half_made: false }
    }

    fn volumes(&self) -> impl Iterator<Item = &Volume> {
        self.holds.whole.iter().chain(self.holds.partitions.iter().map(|partition| &partition.volume))
    }
}

/// What becomes of a drive that was plugged in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum StickOffer {
    /// It is taken.
    Take,
    /// Somebody says whether it is taken: something lies on it.
    Ask,
    /// It is left alone.
    Leave(Left),
}

/// Why a drive is left alone.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Left {
    /// It does not qualify, or the guard refuses it.
    Unfit {
        /// Why, in words.
        why: String,
    },
    /// Something lies on it.
    HoldsFiles,
    /// It was made already.
    Made {
        /// As which stick.
        number: u64,
    },
    /// It holds the image already, and nobody can tell it from others.
    HoldsImage,
    /// Its contents changed after the station had looked at it: another program writes to it.
    Changed,
    /// It failed before: it is put aside.
    Failed {
        /// As which try.
        number: u64,
    },
}

/// Returns every volume of a stick, as the system lists it and as it was read.
fn all_volumes<'a>(drive: &'a Drive, contents: &'a StickContents) -> impl Iterator<Item = &'a Volume> {
    drive.volumes().chain(contents.volumes())
}

/// Whether anything is on the stick that somebody may miss.
fn holds_anything(drive: &Drive, contents: &StickContents) -> bool {
    let is_empty = [drive.holds.surface, contents.holds.surface].iter().all(|surface| *surface == Surface::Empty);
    all_volumes(drive, contents).next().is_some() || !is_empty
}

/// Whether a label is one of those of the plan: `*` at its end stands for anything.
fn fits(pattern: &str, label: &str) -> bool {
    match pattern.strip_suffix('*') {
        Some(beginning) => label.starts_with(beginning),
        None => label == pattern,
    }
}

/// Decides whether a drive is taken, by the plan, the tally and what is on the drive. The guard decides separately.
pub fn qualify(plan: &StationPlan, tally: &Tally, drive: &Drive, contents: &StickContents) -> StickOffer {
    if let Some(why) = plan.drives.against(drive) {
        return StickOffer::Leave(Left::Unfit { why });
    }
    if let Some(number) = tally.made_as(drive) {
        return StickOffer::Leave(Left::Made { number });
    }
    if let Some(number) = tally.failed_as(drive) {
        return StickOffer::Leave(Left::Failed { number });
    }
    let is_known = |label: &Option<String>| {
        label.as_deref().is_some_and(|label| plan.known_labels.iter().any(|pattern| fits(pattern, label)))
    };
    let mut volumes = all_volumes(drive, contents).peekable();
    let has_volumes = volumes.peek().is_some();
    let has_known_labels = has_volumes && volumes.all(|volume| is_known(&volume.label));
    // An interrupted job left blocks of the image, or sealed the stick and could not say so any more.
    let is_ours = tally.was_cut_off(drive) && (contents.is_half_made && !has_volumes || contents.has_image_head);
    match plan.files {
        _ if is_ours => StickOffer::Take,
        _ if drive.tag.is_unsure() && contents.has_image_head => StickOffer::Leave(Left::HoldsImage),
        _ if !holds_anything(drive, contents) || has_known_labels => StickOffer::Take,
        FilesRule::Take => StickOffer::Take,
        FilesRule::Refuse => StickOffer::Leave(Left::HoldsFiles),
        FilesRule::Ask => StickOffer::Ask,
    }
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;
    use crate::drive::{Tag, Volume};
    use crate::record::JobResult;
    use crate::station::{TallyFrom, TryEnd};

    fn plan(drives: &str, files: &str) -> StationPlan {
        let text = format!("image = \"a.iso\"\nsticks = 2\n[drives]\n{drives}\n[files]\n{files}\n");
        StationPlan::parse(&text, Path::new("")).unwrap()
    }

    fn tally(state: &Path) -> Tally {
        Tally::of(state, Path::new("/srv/plan.toml"), "aa", TallyFrom::On).unwrap()
    }

    fn holding(labels: &[Option<&str>]) -> Drive {
        let mut drive = Drive::sample("590J1");
        let volume = |label: &Option<&str>| Volume { label: label.map(str::to_owned), ..Volume::default() };
        drive.holds.partitions = labels
            .iter()
            .zip(1..)
            .map(|(label, number)| crate::drive::Partition { number, volume: volume(label) })
            .collect();
        drive
    }

    /// What is read of a drive that holds what the system lists.
    fn read(drive: &Drive) -> StickContents {
        StickContents { holds: drive.holds.clone(), ..StickContents::unreadable() }
    }

    #[test]
    fn a_plan_takes_what_it_names_and_nothing_else() {
        let state = tempfile::tempdir().unwrap();
        let none = tally(state.path());
        let mut stick = Drive::sample("590J1");
        stick.link.port = Some("1-2.3".parse().unwrap());
        let taken =
            |drives: &str, drive: &Drive| qualify(&plan(drives, ""), &none, drive, &read(drive)) == StickOffer::Take;
        for drives in [
            "",
            "ports = [\"1-2\"]",
            "ports = [\"3-1\", \"1-2.3\"]",
            "tags = [\"590J1\"]",
            "smallest = \"16GB\"",
            "largest = \"16008609792\"",
            "roles = [\"card\", \"stick\"]",
        ] {
            assert!(taken(drives, &stick), "{drives}");
        }
        for drives in [
            "ports = [\"1-3\"]",
            "tags = [\"65387\"]",
            "smallest = \"17GB\"",
            "largest = \"16GB\"",
            "roles = [\"card\"]",
        ] {
            assert!(!taken(drives, &stick), "{drives}");
        }
        stick.link.port = None;
        assert!(!taken("ports = [\"1-2\"]", &stick));
        let disk = Drive { bytes: 1_000_204_886_016, ..stick };
        assert!(!taken("", &disk));
    }

    #[test]
    fn what_holds_anything_is_asked_about_refused_or_taken() {
        let state = tempfile::tempdir().unwrap();
        let none = tally(state.path());
        let offer = |files: &str, drive: &Drive| qualify(&plan("", files), &none, drive, &read(drive));
        let unread = {
            let mut drive = Drive::sample("590J1");
            drive.holds.surface = Surface::Unread;
            drive
        };
        for drive in [holding(&[Some("HOLIDAY")]), holding(&[None]), unread] {
            assert_eq!(offer("", &drive), StickOffer::Ask);
            assert_eq!(offer("rule = \"refuse\"", &drive), StickOffer::Leave(Left::HoldsFiles));
            assert_eq!(offer("rule = \"take\"", &drive), StickOffer::Take);
        }
        let known = "rule = \"refuse\"\nknown-labels = [\"OLD*\", \"CLASS\"]";
        let is_taken = |labels: &[Option<&str>]| offer(known, &holding(labels)) == StickOffer::Take;
        assert!(is_taken(&[Some("OLD 1")]) && is_taken(&[Some("CLASS"), Some("OLD")]));
        assert!(!is_taken(&[Some("CLASS 2")]) && !is_taken(&[Some("CLASS"), None]) && !is_taken(&[Some("MY OLD")]));
    }

    #[test]
    fn a_tally_knows_what_was_made_what_failed_and_what_may_be_made_yet() {
        let state = tempfile::tempdir().unwrap();
        let all = plan("", "rule = \"refuse\"");
        let mut counted = tally(state.path());
        let stick = |tag: &str| Drive::sample(tag);
        let ends = [
            ("590J1", JobResult::Verified, TryEnd::Job),
            ("65387", JobResult::Failed, TryEnd::Job),
            ("NX2T8", JobResult::Failed, TryEnd::CutOff),
            ("AGCHS", JobResult::Stopped, TryEnd::Job),
            ("DBR7J", JobResult::Differs, TryEnd::Job),
        ];
        for (tag, result, how) in ends {
            let number = counted.begin(&format!("job-{tag}"), &stick(tag)).unwrap();
            counted.end(number, result, how).unwrap();
        }
        let offer = |tally: &Tally, tag: &str| qualify(&all, tally, &stick(tag), &read(&stick(tag)));
        assert_eq!((counted.made(), counted.failed()), (1, 2));
        assert_eq!(offer(&counted, "590J1"), StickOffer::Leave(Left::Made { number: 1 }));
        assert_eq!(offer(&counted, "65387"), StickOffer::Leave(Left::Failed { number: 2 }));
        assert_eq!(offer(&counted, "DBR7J"), StickOffer::Leave(Left::Failed { number: 5 }));
        // What is half made is data of no kind, and its own.
        for tag in ["NX2T8", "AGCHS"] {
            let mut half = stick(tag);
            half.holds.surface = Surface::Data;
            let proven = StickContents { is_half_made: true, ..read(&half) };
            assert_eq!(qualify(&all, &counted, &half, &proven), StickOffer::Take, "{tag}");
            // What nobody can prove may be somebody's encrypted files, on a stick that was cut off once.
            assert_eq!(qualify(&all, &counted, &half, &read(&half)), StickOffer::Leave(Left::HoldsFiles), "{tag}");
            half.tag = format!("{}?", &tag[..4]).parse::<Tag>().unwrap();
            assert_eq!(qualify(&all, &counted, &half, &proven), StickOffer::Leave(Left::HoldsFiles), "{tag}");
        }
        // Read again without records, nothing is made, and what was cut off still was. Another counts for the same plan no more.
        let again = tally(state.path());
        assert_eq!((again.tries().len(), again.made(), again.tries()[2].cut_off), (5, 0, true));
        let mut other = tally(state.path());
        counted.begin("job-6", &stick("65387")).unwrap();
        assert!(other.begin("job-7", &stick("65387")).is_err() && other.tries().len() == 5);
        let of = |sha256, from| Tally::of(state.path(), Path::new("/srv/plan.toml"), sha256, from);
        assert!(matches!(of("bb", TallyFrom::On), Err(crate::station::TallyFault::OtherImage { made: 0 })));
        assert!(of("bb", TallyFrom::Anew).unwrap().tries().is_empty());
    }
}
