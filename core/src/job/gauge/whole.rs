//! A drive that was filled and read back as a whole, told as one that was looked at.

use crate::job::Outcome;
use crate::record::{Area, AreaState, Cause, Conclusion, Gauged, JobResult, SpeedAt, SpeedMark, Trust};

/// What filling a drive of this size with a [`Pattern`](crate::job::gauge::Pattern) tells of it.
pub fn of_filled(outcome: &Outcome, claimed_bytes: u64) -> Gauged {
    let told = &outcome.told;
    let missing = match told.conclusion {
        Some(Conclusion::FalseCapacity { true_bytes, .. }) => Some(true_bytes),
        _ => None,
    };
    let true_bytes = missing.unwrap_or(claimed_bytes);
    // Where a drive counts round, what was written behind its end is no failure of the place that it came to lie in.
    let is_round = |cause: Cause| missing.is_some() && matches!(cause, Cause::OtherPlace | Cause::OtherData);
    let different = told.differences.iter().filter(|one| one.offset < true_bytes && !is_round(one.cause));
    let mut areas: Vec<Area> = different
        .map(|one| Area {
            offset: one.offset,
            bytes: one.bytes.min(true_bytes.saturating_sub(one.offset)),
            state: AreaState::Failing,
        })
        .collect();
    if let Some(at) = outcome.fault.as_ref().and_then(|fault| fault.place()).filter(|at| *at < true_bytes)
        && areas.is_empty()
    {
        areas.push(Area { offset: at, bytes: 1, state: AreaState::Failing });
    }
    let verdict = match (missing, told.result) {
        (Some(_), _) => Trust::Smaller,
        (None, JobResult::Verified) => Trust::Sound,
        (None, _) if !areas.is_empty() || told.result == JobResult::Differs => Trust::Failing,
        (None, _) => Trust::Unknown,
    };
    if true_bytes < claimed_bytes {
        let bytes = claimed_bytes.saturating_sub(true_bytes);
        areas.push(Area { offset: true_bytes, bytes, state: AreaState::Missing });
    }
    let (write, read) = (speeds(&told.speeds.body), speeds(&told.speeds.read_back));
    let true_bytes = (verdict != Trust::Unknown).then_some(true_bytes);
    Gauged { claimed_bytes, true_bytes, verdict, areas, write, read }
}

/// From marks along a stage to the speed of each stretch between two.
fn speeds(marks: &[SpeedMark]) -> Vec<SpeedAt> {
    let between = |(from, to): (&SpeedMark, &SpeedMark)| {
        let (bytes, seconds) = (to.done.saturating_sub(from.done), to.seconds - from.seconds);
        let bytes_per_second = (bytes as f64 / seconds.max(1e-9)) as u64;
        (bytes > 0 && seconds > 0.0).then_some(SpeedAt { offset: from.done, bytes_per_second })
    };
    marks.iter().zip(marks.iter().skip(1)).filter_map(between).collect()
}
