//! What is known of a drive while a job runs on it, as it is shown.

use std::time::{Duration, Instant};

use pyrotyp_core::job::{Estimate, Event, ReadBack};
use pyrotyp_core::record::{JobResult, Stage};

use super::progress::Pace;

/// Parts of the drive that are told apart.
pub(crate) const PARTS: usize = 60;

/// What is known of a part of the drive.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum PartOfDrive {
    /// What was there before.
    #[default]
    Old,
    /// Written, and not proven.
    Written,
    /// Read back, and equal.
    Proven,
}

/// One drive.
pub(crate) struct DriveState {
    pub tag: String,
    pub name: String,
    pub stage: Option<Stage>,
    pub total: u64,
    pub pace: Pace,
    /// What was there before, and whether the next that is heard of moving counts it.
    pub kept: u64,
    goes_on: bool,
    estimate: Estimate,
    pub parts: [PartOfDrive; PARTS],
    /// Bytes a second in each part, by the stage that was there last.
    pub speeds: [u64; PARTS],
    pub trouble: Trouble,
    pub result: Option<JobResult>,
}

/// What does not go as it should.
#[derive(Default)]
pub(crate) struct Trouble {
    /// Pieces that were written or read a second time.
    pub again: u32,
    /// The drive does not answer for so many seconds.
    pub stalled: Option<u64>,
    /// Why it differs is being found out.
    pub is_diagnosed: bool,
}

/// The stages that a person waits for, as they are called.
pub(crate) fn name_of(stage: Stage) -> &'static str {
    match stage {
        Stage::Claim => "claim",
        Stage::Blank => "blank",
        Stage::Body => "write",
        Stage::ReadBack => "read back",
        Stage::Seal => "seal",
        Stage::Probe => "look",
        Stage::Surface => "read",
        Stage::Save => "save",
        Stage::Release => "release",
    }
}

impl DriveState {
    pub(crate) fn new(tag: &str, name: &str, read_back: ReadBack) -> Self {
        Self {
            tag: tag.to_owned(),
            name: name.to_owned(),
            stage: None,
            total: 0,
            pace: Pace::new(),
            kept: 0,
            goes_on: false,
            estimate: Estimate::new(read_back),
            parts: [PartOfDrive::Old; PARTS],
            speeds: [0; PARTS],
            trouble: Trouble::default(),
            result: None,
        }
    }

    /// Takes in what happened, so long after the job began.
    pub(crate) fn heard(&mut self, event: &Event, since: Duration) {
        self.estimate.heard(event, since);
        match event {
            Event::Began { stage, bytes } => {
                (self.stage, self.total, self.pace) = (Some(*stage), bytes.unwrap_or(0), Pace::new());
                if matches!(stage, Stage::Body | Stage::ReadBack) {
                    self.speeds = [0; PARTS];
                }
            }
            Event::Moved { done, .. } => self.moved(*done),
            Event::GoingOn { from } => (self.kept, self.goes_on) = (*from, true),
            Event::Retried { .. } | Event::ReadAgain { .. } => {
                self.trouble.again = self.trouble.again.saturating_add(1)
            }
            Event::Stalled { seconds } => self.trouble.stalled = Some(*seconds),
            Event::Diagnosing => self.trouble.is_diagnosed = true,
            Event::Over { result } => self.result = Some(*result),
            _ => {}
        }
    }

    fn moved(&mut self, done: u64) {
        if std::mem::take(&mut self.goes_on) {
            // What an earlier job has brought there says nothing about how fast this one is.
            self.pace = Pace::from(done);
        }
        self.pace.mark(done);
        self.trouble.stalled = None;
        let part = match self.stage {
            Some(Stage::Body) => PartOfDrive::Written,
            Some(Stage::ReadBack) => PartOfDrive::Proven,
            _ => return,
        };
        let reached = share(done, self.total, PARTS);
        self.parts.iter_mut().take(reached).for_each(|old| *old = part);
        if let Some(rate) = self.pace.rate() {
            let fresh = self.speeds.iter_mut().take(reached).rev().take_while(|speed| **speed == 0);
            fresh.for_each(|speed| *speed = (rate as u64).max(1));
        }
    }

    /// How long it will still take, where that is known.
    pub(crate) fn left(&self, since: Duration) -> Option<f64> {
        self.estimate.left(since).map(|left| left.as_secs_f64())
    }

    /// Hundredths of the stage that are done.
    pub(crate) fn percent(&self) -> usize {
        share(self.pace.done(), self.total, 100)
    }
}

/// `done` of `total` as parts of `parts`.
fn share(done: u64, total: u64, parts: usize) -> usize {
    let scaled = u128::from(done).saturating_mul(parts as u128).checked_div(u128::from(total)).unwrap_or(0);
    usize::try_from(scaled).unwrap_or(parts).min(parts)
}

/// Whether somebody wants a job to stop.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Stopping {
    /// Nobody does.
    No,
    /// Somebody does, and is asked how.
    Asked,
    /// It was told to: what it waits for is a drive.
    Begun,
}

/// The drives of a job, and what is asked of the person who watches them.
pub(crate) struct JobState {
    pub began: Instant,
    pub drives: Vec<DriveState>,
    pub stopping: Stopping,
}

impl JobState {
    /// Whether no drive is still to be claimed, and something goes on with one of them.
    pub(crate) fn are_claimed(&self) -> bool {
        let is_claimed = |drive: &DriveState| drive.stage.is_some_and(|stage| stage != Stage::Claim);
        let is_over = |drive: &DriveState| drive.result.is_some();
        self.drives.iter().all(|drive| is_claimed(drive) || is_over(drive)) && !self.drives.iter().all(is_over)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const MIB: u64 = 1 << 20;

    fn count(drive: &DriveState, part: PartOfDrive) -> usize {
        drive.parts.iter().filter(|one| **one == part).count()
    }

    #[test]
    fn a_drive_is_followed_through_its_stages() {
        let mut drive = DriveState::new("DBR7J", "Kestrin Pocket", ReadBack::Whole);
        let hear = |drive: &mut DriveState, event: Event| drive.heard(&event, Duration::from_secs(1));
        hear(&mut drive, Event::Began { stage: Stage::Blank, bytes: Some(2 * MIB) });
        hear(&mut drive, Event::Moved { stage: Stage::Blank, done: 2 * MIB });
        assert_eq!((count(&drive, PartOfDrive::Old), drive.percent()), (PARTS, 100));
        hear(&mut drive, Event::GoingOn { from: 15 * MIB });
        hear(&mut drive, Event::Began { stage: Stage::Body, bytes: Some(60 * MIB) });
        hear(&mut drive, Event::Moved { stage: Stage::Body, done: 15 * MIB });
        // What an earlier job has brought there is no speed of this one.
        assert_eq!((count(&drive, PartOfDrive::Written), drive.pace.rate(), drive.kept), (15, None, 15 * MIB));
        hear(&mut drive, Event::Stalled { seconds: 20 });
        hear(&mut drive, Event::Retried { at: 7 });
        assert_eq!((drive.trouble.stalled, drive.trouble.again), (Some(20), 1));
        std::thread::sleep(Duration::from_millis(600));
        hear(&mut drive, Event::Moved { stage: Stage::Body, done: 45 * MIB });
        assert_eq!((drive.trouble.stalled, drive.percent(), count(&drive, PartOfDrive::Written)), (None, 75, 45));
        assert!(drive.pace.rate().is_some_and(|rate| rate < 30.0 * MIB as f64 / 0.6));
        assert!(drive.speeds[44] > 0 && drive.speeds[45] == 0);
        hear(&mut drive, Event::Began { stage: Stage::ReadBack, bytes: Some(60 * MIB) });
        assert_eq!((drive.speeds, count(&drive, PartOfDrive::Written)), ([0; PARTS], 45));
        hear(&mut drive, Event::Moved { stage: Stage::ReadBack, done: 20 * MIB });
        assert_eq!((count(&drive, PartOfDrive::Proven), count(&drive, PartOfDrive::Written)), (20, 25));
        hear(&mut drive, Event::Over { result: JobResult::Stopped });
        assert_eq!(drive.result, Some(JobResult::Stopped));
    }

    #[test]
    fn shares_never_go_beyond_all_of_it() {
        let all = [share(0, 0, 60), share(7, 0, 60), share(1, 3, 60), share(9, 3, 60), share(u64::MAX, u64::MAX, 100)];
        assert_eq!(all, [0, 0, 20, 60, 100]);
    }

    #[test]
    fn nothing_is_drawn_while_a_drive_is_still_to_be_claimed() {
        let drives = ["AAAAA", "BBBBB"].map(|tag| DriveState::new(tag, "Kestrin Pocket", ReadBack::Whole)).into();
        let mut job = JobState { began: Instant::now(), drives, stopping: Stopping::No };
        let mut heard = |number: usize, event| {
            job.drives[number].heard(&event, Duration::ZERO);
            job.are_claimed()
        };
        let began = |stage| Event::Began { stage, bytes: None };
        assert!(!heard(0, began(Stage::Claim)) && !heard(1, began(Stage::Claim)));
        assert!(!heard(0, began(Stage::Blank)), "the other one is still asked about");
        assert!(heard(1, Event::Over { result: JobResult::Refused }));
        assert!(!heard(0, Event::Over { result: JobResult::Verified }), "nothing goes on any more");
    }
}
