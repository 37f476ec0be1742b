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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::record::Difference;

    fn outcome(result: JobResult, conclusion: Option<Conclusion>, differences: &[(u64, u64, Cause)]) -> Outcome {
        let mut outcome = Outcome::of(crate::record::DriveOutcome::untouched(result));
        outcome.told.conclusion = conclusion;
        let difference = |(offset, bytes, cause): &(u64, u64, Cause)| Difference {
            offset: *offset,
            bytes: *bytes,
            cause: *cause,
            file: None,
        };
        outcome.told.differences = differences.iter().map(difference).collect();
        outcome
    }

    #[test]
    fn what_a_filled_drive_showed_is_told_by_its_places() {
        let told = |outcome: &Outcome| {
            let found = of_filled(outcome, 1000);
            let areas: Vec<_> = found.areas.iter().map(|area| (area.offset, area.bytes, area.state)).collect();
            (found.verdict, found.true_bytes, areas)
        };
        use AreaState::{Failing, Missing};
        let round = Conclusion::FalseCapacity { true_bytes: 600, claimed_bytes: 1000 };
        let sound = outcome(JobResult::Verified, None, &[]);
        assert_eq!(told(&sound), (Trust::Sound, Some(1000), vec![]));
        // Of a drive that counts round, what lies in the wrong place says nothing about that place; bits that are wrong do.
        let causes = [(100, 50, Cause::OtherPlace), (200, 9, Cause::OtherData), (300, 1, Cause::SingleBits)];
        let smaller = outcome(JobResult::Differs, Some(round), &causes);
        assert_eq!(told(&smaller), (Trust::Smaller, Some(600), vec![(300, 1, Failing), (600, 400, Missing)]));
        let across = outcome(JobResult::Differs, Some(round), &[(590, 100, Cause::Zeros), (700, 1, Cause::Zeros)]);
        assert_eq!(told(&across).2, [(590, 10, Failing), (600, 400, Missing)]);
        let failing = outcome(JobResult::Differs, Some(Conclusion::KeepsOther), &causes);
        assert_eq!((told(&failing).0, told(&failing).2.len()), (Trust::Failing, 3));
        assert_eq!(told(&outcome(JobResult::Stopped, None, &[])), (Trust::Unknown, None, vec![]));
        let mut broken = outcome(JobResult::Failed, None, &[]);
        let source = crate::devices::DriveFault::Failed(std::io::Error::other("a bad sector"));
        broken.fault = Some(crate::job::JobFault::Write { at: 512, bytes: 4096, source });
        assert_eq!(told(&broken), (Trust::Failing, Some(1000), vec![(512, 1, Failing)]));
    }

    #[test]
    fn speeds_are_told_between_two_marks() {
        let mark = |done, seconds| SpeedMark { done, seconds };
        let told = speeds(&[mark(0, 0.0), mark(100, 1.0), mark(100, 1.5), mark(400, 3.5), mark(500, 3.5)]);
        let told: Vec<_> = told.iter().map(|one| (one.offset, one.bytes_per_second)).collect();
        assert_eq!(told, [(0, 100), (100, 150)]);
    }
}
