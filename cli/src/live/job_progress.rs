//! How far a job is on each of its drives: drawn at a terminal, plain lines elsewhere.

use std::io::{self, IsTerminal};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use anstream::{AutoStream, ColorChoice};
use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::job::{Event, ReadBack, Watcher};
use pyrotyp_core::machine::Awake;
use pyrotyp_core::record::{DriveIdentity, JobResult, Stage};
use pyrotyp_core::stop::Cancel;

use super::awake::awake;
use super::drive_state::{DriveState, JobState, Stopping, name_of};
use super::job_draw::Look;
use super::job_screen::JobScreen;
use super::progress::{PLAIN_EVERY, amount};
use crate::asked::Common;
use crate::out::{self, say, warn};
use crate::show::edge::edge;
use crate::show::letters;
use crate::show::text::duration;

/// Follows a job.
pub(crate) struct JobProgress {
    common: Common,
    job: Arc<Mutex<JobState>>,
    /// When each drive was told of last, where lines are plain.
    said: Vec<Mutex<Instant>>,
    look: Option<Look>,
    cancel: Option<Cancel>,
    /// Begun once all drives are claimed: before that, the system may ask at the terminal.
    screen: OnceLock<Option<JobScreen>>,
    _awake: Option<Awake>,
}

/// How a terminal is drawn on; `None` where it can't be, or nobody wants to see it.
fn look(common: &Common) -> Option<Look> {
    (out::terminal_is_able() && !common.quiet && io::stderr().is_terminal()).then(|| Look {
        has_colour: AutoStream::choice(&io::stderr()) != ColorChoice::Never,
        is_unicode: letters::are_unicode(),
    })
}

impl JobProgress {
    /// For writing these drives, which `cancel` stops; `read_back` says whether what is written will be read back.
    pub(crate) fn writing(common: &Common, cancel: &Cancel, drives: &[DriveIdentity], read_back: ReadBack) -> Self {
        Self::new(common, Some(cancel), drives, read_back)
    }

    /// For comparing a drive. Nothing is lost when that is stopped, so nobody is asked how.
    pub(crate) fn comparing(common: &Common, drive: &DriveIdentity) -> Self {
        Self::new(common, None, std::slice::from_ref(drive), ReadBack::Skip)
    }

    fn new(common: &Common, cancel: Option<&Cancel>, drives: &[DriveIdentity], read_back: ReadBack) -> Self {
        let state = |drive: &DriveIdentity| DriveState::new(&edge(&drive.tag), &edge(&drive.name()), read_back);
        let began = Instant::now();
        let drives: Vec<DriveState> = drives.iter().map(state).collect();
        let said = drives.iter().map(|_| Mutex::new(began)).collect();
        let job = Arc::new(Mutex::new(JobState { began, drives, stopping: Stopping::No }));
        let (look, screen) = (look(common), OnceLock::new());
        Self { common: common.clone(), job, said, look, cancel: cancel.cloned(), screen, _awake: awake(common) }
    }

    /// Clears what was drawn.
    pub(crate) fn finish(self) {}

    fn begin_screen(&self) {
        let begin = || self.look.and_then(|look| JobScreen::begin(&self.job, look, self.cancel.as_ref()));
        self.screen.get_or_init(begin);
    }

    fn screen(&self) -> Option<&JobScreen> {
        self.screen.get()?.as_ref()
    }

    fn state(&self) -> MutexGuard<'_, JobState> {
        self.job.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Says what is not to be missed, above what is drawn.
    fn warn(&self, text: &str) {
        match self.screen() {
            Some(screen) => screen.line(letters::plain(&edge(&format!("  {text}"))).into_owned()),
            None => warn(&format!("{text}\n")),
        }
    }

    /// Says something for good, above what is drawn.
    pub(crate) fn remark(&self, text: &str) {
        match self.screen() {
            Some(_) => self.warn(text),
            None => say(&self.common, &format!("{text}\n")),
        }
    }

    /// What a drive is called in a line of its own: nothing where there is one only.
    fn called(job: &JobState, drive: &DriveState) -> String {
        if job.drives.len() > 1 { format!("{} ", drive.tag) } else { String::new() }
    }

    /// A plain line now and then.
    fn moved(&self, number: usize) {
        let Some(said) = self.said.get(number).filter(|_| self.screen().is_none()) else { return };
        let mut said = said.lock().unwrap_or_else(PoisonError::into_inner);
        if said.elapsed() < PLAIN_EVERY {
            return;
        }
        *said = Instant::now();
        let job = self.state();
        let Some((drive, stage)) = job.drives.get(number).and_then(|drive| Some((drive, drive.stage?))) else { return };
        let left = drive.left(job.began.elapsed());
        let far = amount(drive.pace.done(), drive.total, drive.pace.rate(), left);
        let line = format!("{}{}: {far}\n", Self::called(&job, drive), name_of(stage));
        drop(job);
        say(&self.common, &line);
    }
}

/// With several drives, whoever waits for one of them need not wait for all.
fn over(result: JobResult) -> &'static str {
    match result {
        JobResult::Verified => "is verified: pull it out",
        JobResult::Written => "is written, and was not read back: pull it out",
        JobResult::Differs => "differs from the image",
        JobResult::Failed => "failed",
        JobResult::Refused => "was refused",
        JobResult::Stopped => "was stopped",
    }
}

/// What a stage that was waited for has moved.
fn ended(drive: &DriveState, stage: Stage) -> Option<String> {
    if !matches!(stage, Stage::Body | Stage::ReadBack | Stage::Seal | Stage::Surface | Stage::Save) {
        return None;
    }
    let took = drive.pace.elapsed().as_secs_f64();
    let total = drive.total.max(drive.pace.done());
    let kept = if stage == Stage::Body { drive.kept } else { 0 };
    let (moved, took) = (human_bytes(total.saturating_sub(kept)), duration(took));
    let beside = if kept > 0 { format!(", {} were there", human_bytes(kept)) } else { String::new() };
    Some(format!("{}: {moved} in {took}{beside}", name_of(stage)))
}

/// What is worth a line of its own.
fn remark_on(event: &Event) -> Option<String> {
    Some(match event {
        Event::GoingOn { from } => format!("going on: the drive has {} already", human_bytes(*from)),
        Event::StartsOver { why } => format!("starting over: {why}"),
        Event::Retried { at } => format!("a write failed at byte {at} at first, and was taken in smaller pieces"),
        Event::ReadAgain { at } => {
            format!("read right only the second time at byte {at}: the plug, the cable or the port")
        }
        Event::Diagnosing => "it differs: finding out why".to_owned(),
        Event::LeftBehind => "far slower than the others: it goes on by itself".to_owned(),
        Event::Stalled { seconds } => {
            format!("no answer for {}: the port or the stick", duration(Duration::from_secs(*seconds).as_secs_f64()))
        }
        Event::Restored { bytes } => {
            format!("restored what an interrupted quick test had replaced ({})", human_bytes(*bytes))
        }
        Event::RestoreFailed { why } => format!("test data of an interrupted quick test stays on the drive: {why}"),
        Event::Unnoted { why } => format!("no notes can be kept ({why}): if it stops, it starts over"),
        _ => return None,
    })
}

impl Watcher for JobProgress {
    fn heard(&self, number: usize, event: &Event) {
        let mut job = self.state();
        let since = job.began.elapsed();
        let Some(drive) = job.drives.get_mut(number) else { return };
        drive.heard(event, since);
        let is_one_of_several = job.drives.len() > 1;
        let Some(drive) = job.drives.get(number) else { return };
        let text = match event {
            Event::Ended { stage } => ended(drive, *stage),
            Event::Over { result } if is_one_of_several => Some(over(*result).to_owned()),
            other => remark_on(other),
        };
        let text = text.map(|text| format!("{}{text}", Self::called(&job, drive)));
        let is_claimed = job.are_claimed();
        drop(job);
        if is_claimed {
            self.begin_screen();
        }
        match (event, text) {
            (Event::Moved { .. }, _) => self.moved(number),
            // A loss is never hidden.
            (Event::Unnoted { .. } | Event::RestoreFailed { .. }, Some(text)) => self.warn(&text),
            (_, Some(text)) => self.remark(&text),
            (_, None) => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_happens_on_the_way_is_said_in_a_line() {
        let all = [
            Event::GoingOn { from: 12 << 20 },
            Event::StartsOver { why: "no job on this drive has stopped half-way".into() },
            Event::Retried { at: 4096 },
            Event::ReadAgain { at: 4096 },
            Event::Diagnosing,
            Event::LeftBehind,
            Event::Stalled { seconds: 20 },
            Event::Restored { bytes: 12 << 20 },
            Event::RestoreFailed { why: "can't restore the original bytes at byte 4096".into() },
            Event::Unnoted { why: "No space left on device".into() },
        ];
        insta::assert_snapshot!(all.iter().filter_map(remark_on).collect::<Vec<_>>().join("\n"), @"
        going on: the drive has 12.6 MB already
        starting over: no job on this drive has stopped half-way
        a write failed at byte 4096 at first, and was taken in smaller pieces
        read right only the second time at byte 4096: the plug, the cable or the port
        it differs: finding out why
        far slower than the others: it goes on by itself
        no answer for 20 s: the port or the stick
        restored what an interrupted quick test had replaced (12.6 MB)
        test data of an interrupted quick test stays on the drive: can't restore the original bytes at byte 4096
        no notes can be kept (No space left on device): if it stops, it starts over
        ");
    }
}
