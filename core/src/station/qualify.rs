//! Whether a drive that was plugged in is taken: pure.

use super::station_plan::{FilesRule, StationPlan};
use super::tally::Tally;
use crate::drive::{Drive, Surface};

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
    /// It failed before: it is put aside.
    Failed {
        /// As which try.
        number: u64,
    },
}

/// Whether anything lies on it that somebody may miss.
fn holds_anything(drive: &Drive) -> bool {
    drive.volumes().next().is_some() || drive.holds.surface != Surface::Empty
}

/// Whether a label is one of those of the plan: `*` at its end stands for anything.
fn fits(pattern: &str, label: &str) -> bool {
    match pattern.strip_suffix('*') {
        Some(beginning) => label.starts_with(beginning),
        None => label == pattern,
    }
}

/// Whether a drive is taken, by the plan and by what was done already; what the guard says comes on top.
pub fn qualify(plan: &StationPlan, tally: &Tally, drive: &Drive) -> StickOffer {
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
    let has_known_labels = drive.volumes().next().is_some() && drive.volumes().all(|volume| is_known(&volume.label));
    let is_half_made = tally.was_cut_off(drive) && drive.volumes().next().is_none();
    match plan.files {
        _ if is_half_made => StickOffer::Take,
        _ if !holds_anything(drive) || has_known_labels => StickOffer::Take,
        FilesRule::Take => StickOffer::Take,
        FilesRule::Refuse => StickOffer::Leave(Left::HoldsFiles),
        FilesRule::Ask => StickOffer::Ask,
    }
}
