//! What a look at a drive has found, for people.

use std::fmt::Write;

use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::drive::Drive;
use pyrotyp_core::record::{AreaState, Gauged, SpeedAt, Trust};
use pyrotyp_core::text::shell;

use super::style::{BAD, CARE, GOOD, NAME};
use crate::asked::Common;

/// Areas that are told one by one.
const AREAS_TOLD: usize = 8;
/// Fewer speeds tell no range.
const SPEEDS_LEAST: usize = 3;

/// How a drive was looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LookDepth {
    /// A few places, which are as before.
    Quick,
    /// All of it was read.
    Read,
    /// All of it was written and read back.
    Whole,
}

impl LookDepth {
    /// What a job of this kind is called on record.
    pub(crate) fn called(self) -> &'static str {
        match self {
            Self::Quick => "quick look",
            Self::Read => "surface check",
            Self::Whole => "whole test",
        }
    }

    /// How it was, by what a record calls it.
    pub(crate) fn of_record(called: &str) -> Self {
        [Self::Read, Self::Whole].into_iter().find(|one| one.called() == called).unwrap_or(Self::Quick)
    }
}

/// A drive that was looked at.
pub(crate) struct LookedAt<'a> {
    /// Its tag.
    pub tag: &'a str,
    /// What it calls itself.
    pub name: &'a str,
    /// How it was looked at.
    pub depth: LookDepth,
    /// How long that took.
    pub seconds: f64,
}

/// The result of `gauge --restore`.
pub(crate) fn restored(drive: &Drive, restored_bytes: u64) -> String {
    let (tag, name) = (&drive.tag, drive.name());
    match restored_bytes {
        0 => format!("nothing to restore: drive {tag} ({name}) holds no test data\n"),
        bytes => format!("restored: {} of original data is back on drive {tag} ({name})\n", human_bytes(bytes)),
    }
}

/// The one sentence, without the drive.
pub(crate) fn sentence(gauged: &Gauged, depth: LookDepth) -> String {
    let claimed = human_bytes(gauged.claimed_bytes);
    let bad = gauged.areas.iter().filter(|area| area.state == AreaState::Failing);
    match (gauged.verdict, gauged.true_bytes) {
        (Trust::Sound, _) => match depth {
            LookDepth::Quick => {
                format!("it keeps what it is given wherever it was looked, up to the end of its {claimed}")
            }
            LookDepth::Read => format!("all of its {claimed} can be read"),
            LookDepth::Whole => format!("it keeps what it is given, all of its {claimed}"),
        },
        (Trust::Smaller, Some(bytes)) => {
            format!("it has room for {} ({bytes} bytes), not for the {claimed} that it claims", human_bytes(bytes))
        }
        (Trust::Failing, _) if bad.clone().map(|area| area.bytes).sum::<u64>() >= gauged.claimed_bytes => {
            "it keeps nothing of what it is given".to_owned()
        }
        (Trust::Failing, _) => {
            let (count, bytes) = (bad.clone().count(), bad.map(|area| area.bytes).sum());
            let places = if count == 1 { "1 place".to_owned() } else { format!("{count} places") };
            let how = if depth == LookDepth::Read {
                "can't be read"
            } else {
                "can't be read, or does not keep what it is given"
            };
            format!("{} in {places} of it {how}", human_bytes(bytes))
        }
        (Trust::Smaller | Trust::Unknown, _) => "there is nothing to go by".to_owned(),
    }
}

/// What to do next.
fn next(gauged: &Gauged, of: &LookedAt<'_>) -> String {
    let tag = shell::word(of.tag);
    match (gauged.verdict, gauged.true_bytes) {
        (Trust::Sound, _) if of.depth == LookDepth::Quick => {
            format!("to test all of it, which erases it: pyrotyp gauge {tag} --whole")
        }
        (Trust::Sound, _) if of.depth == LookDepth::Whole => {
            format!("it holds a test pattern now; plain storage again: pyrotyp reclaim {tag}")
        }
        (Trust::Sound, _) => format!("whether it keeps what it is given: pyrotyp gauge {tag}"),
        (Trust::Smaller, Some(bytes)) => {
            format!("give it back, or use what is there: pyrotyp reclaim {tag} --limit {bytes}")
        }
        (Trust::Failing, _) => format!(
            "try another port once; if it fails there too, keep what can be read and discard it: pyrotyp save {tag} FILE"
        ),
        (Trust::Smaller | Trust::Unknown, _) => "try it in another port".to_owned(),
    }
}

fn range(speeds: &[SpeedAt]) -> Option<String> {
    if speeds.len() < SPEEDS_LEAST {
        return None;
    }
    let mut rates: Vec<u64> = speeds.iter().map(|one| one.bytes_per_second).collect();
    rates.sort_unstable();
    // One place in ten may be out of line on either side.
    let tenth = rates.len() / 10;
    let (low, high) = (rates.get(tenth)?, rates.get(rates.len() - 1 - tenth)?);
    let (low, high) = (human_bytes(*low), human_bytes(*high));
    Some(if low == high { format!("{low}/s") } else { format!("{low}/s to {high}/s") })
}

/// How fast it was along its length.
pub(crate) fn speeds(gauged: &Gauged) -> Option<String> {
    let lines = [("writing", range(&gauged.write)), ("reading", range(&gauged.read))];
    let words: Vec<String> = lines.into_iter().filter_map(|(what, range)| Some(format!("{what} {}", range?))).collect();
    (!words.is_empty()).then(|| words.join(", "))
}

/// What is not as it should be, a line each.
pub(crate) fn areas(gauged: &Gauged) -> Vec<String> {
    let told = gauged.areas.iter().take(AREAS_TOLD).map(|area| {
        let what = match area.state {
            AreaState::Failing => "fails",
            AreaState::Slow => "is slow",
            AreaState::Missing => "is not there",
        };
        format!("{} from byte {} on {what}", human_bytes(area.bytes), area.offset)
    });
    let mut told: Vec<String> = told.collect();
    let more = gauged.areas.len().saturating_sub(AREAS_TOLD);
    if more > 0 {
        told.push(format!("{more} more places"));
    }
    told
}

/// What was found, and the next step.
pub(crate) fn gauged(gauged: &Gauged, of: &LookedAt<'_>, common: &Common) -> String {
    let (style, word) = match gauged.verdict {
        Trust::Sound => (GOOD, "sound"),
        Trust::Smaller => (BAD, "smaller"),
        Trust::Failing => (BAD, "failing"),
        Trust::Unknown => (CARE, "unknown"),
    };
    let mut out = format!("{style}{word}{style:#}: drive {NAME}{}{NAME:#} ({}): ", of.tag, of.name);
    // Writing to a string never fails.
    let _ = writeln!(out, "{}", sentence(gauged, of.depth));
    for line in areas(gauged) {
        let _ = writeln!(out, "  {line}");
    }
    let took = super::text::duration(of.seconds);
    let back = if of.depth == LookDepth::Quick { "; what was on it is on it" } else { "" };
    let speeds = speeds(gauged).map_or(String::new(), |speeds| format!("{speeds}; "));
    let _ = writeln!(out, "  {speeds}{} in {took}{back}", of.depth.called());
    if !common.quiet {
        let _ = writeln!(out, "  next: {}", next(gauged, of));
    }
    out
}

#[cfg(test)]
mod tests {
    use pyrotyp_core::record::Area;

    use super::*;

    #[test]
    fn each_verdict_has_its_sentence_and_its_next_step() {
        let speed = |offset, mega: u64| SpeedAt { offset, bytes_per_second: mega * 1_000_000 };
        let sound = Gauged {
            claimed_bytes: 64_023_257_088,
            true_bytes: Some(64_023_257_088),
            verdict: Trust::Sound,
            areas: Vec::new(),
            write: vec![speed(0, 11), speed(1, 12), speed(2, 10)],
            read: (0..20).map(|place| speed(place, if place == 3 { 1 } else { 90 })).collect(),
        };
        let area = |offset, bytes, state| Area { offset, bytes, state };
        let smaller = Gauged {
            true_bytes: Some(7_948_206_080),
            verdict: Trust::Smaller,
            areas: vec![area(7_948_206_080, 56_075_051_008, AreaState::Missing)],
            ..sound.clone()
        };
        let places = (0..10).map(|place| area(place << 20, 4096, AreaState::Failing));
        let failing = Gauged {
            verdict: Trust::Failing,
            areas: places.chain([area(99 << 20, 4096, AreaState::Slow)]).collect(),
            ..sound.clone()
        };
        let nothing_kept = Gauged { areas: vec![area(0, 64_023_257_088, AreaState::Failing)], ..failing.clone() };
        let unknown =
            Gauged { true_bytes: None, verdict: Trust::Unknown, write: Vec::new(), read: Vec::new(), ..sound.clone() };
        let all = [
            (&sound, LookDepth::Quick),
            (&sound, LookDepth::Read),
            (&sound, LookDepth::Whole),
            (&smaller, LookDepth::Quick),
            (&failing, LookDepth::Quick),
            (&failing, LookDepth::Read),
            (&nothing_kept, LookDepth::Quick),
            (&unknown, LookDepth::Quick),
        ];
        let told = all.map(|(found, depth)| {
            let of = LookedAt { tag: "DBR7J", name: "Kestrin Pocket", depth, seconds: 31.0 };
            anstream::adapter::strip_str(&gauged(found, &of, &Common::default())).to_string()
        });
        insta::assert_snapshot!(told.join("\n"));
    }
}
