//! How far a job is on each of its drives: a line that moves for each at a terminal, plain lines elsewhere.

use std::io::{self, IsTerminal};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget};
use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::job::{Estimate, Event, ReadBack, Watcher};
use pyrotyp_core::record::{JobResult, Stage};

use super::progress::{PLAIN_EVERY, Pace, amount, style};
use crate::asked::Common;
use crate::out::{say, warn};
use crate::show::text::duration;

/// Follows a job.
pub(crate) struct JobProgress {
    common: Common,
    began: Instant,
    /// What all lines are drawn by, at a terminal.
    lines: Option<MultiProgress>,
    drives: Vec<Mutex<DriveLine>>,
}

/// One drive.
struct DriveLine {
    /// Its tag, where there are several.
    tag: String,
    bar: Option<ProgressBar>,
    stage: &'static str,
    total: u64,
    pace: Pace,
    /// What was there before, and whether the next that is heard of moving counts it.
    kept: u64,
    goes_on: bool,
    estimate: Estimate,
    said: Instant,
}

fn name_of(stage: Stage) -> &'static str {
    match stage {
        Stage::Claim => "claim",
        Stage::Blank => "blank",
        Stage::Body => "write",
        Stage::ReadBack => "read back",
        Stage::Seal => "seal",
        Stage::Release => "release",
    }
}

impl JobProgress {
    /// For a job on these drives; `reads_back` says whether what is written will be read back.
    pub(crate) fn new(common: &Common, tags: &[&str], read_back: ReadBack) -> Self {
        let is_moving = io::stderr().is_terminal() && !common.quiet;
        let lines = is_moving.then(|| MultiProgress::with_draw_target(ProgressDrawTarget::stderr_with_hz(10)));
        let line = |tag: &&str| {
            let bar = lines.as_ref().map(|lines| lines.add(ProgressBar::new(0).with_style(style())));
            Mutex::new(DriveLine {
                tag: if tags.len() > 1 { format!("{tag} ") } else { String::new() },
                bar,
                stage: "",
                total: 0,
                pace: Pace::new(),
                kept: 0,
                goes_on: false,
                estimate: Estimate::new(read_back),
                said: Instant::now(),
            })
        };
        let drives = tags.iter().map(line).collect();
        Self { common: common.clone(), began: Instant::now(), lines, drives }
    }

    /// Clears the lines.
    pub(crate) fn finish(self) {
        for line in self.drives {
            if let Some(bar) = line.into_inner().unwrap_or_else(PoisonError::into_inner).bar {
                bar.finish_and_clear();
            }
        }
    }

    /// Says what is not to be missed, above the lines that move.
    fn warn(&self, text: &str) {
        match &self.lines {
            Some(lines) => lines.suspend(|| warn(&format!("  {text}\n"))),
            None => warn(&format!("{text}\n")),
        }
    }

    /// Says something for good, above the lines that move.
    pub(crate) fn remark(&self, text: &str) {
        match &self.lines {
            Some(lines) => lines.suspend(|| say(&self.common, &format!("  {text}\n"))),
            None => say(&self.common, &format!("{text}\n")),
        }
    }

    fn moved(&self, line: &mut DriveLine, done: u64) {
        let now = Instant::now();
        if std::mem::take(&mut line.goes_on) {
            // What an earlier job has brought there says nothing about how fast this one is.
            line.pace = Pace::from(done);
        }
        line.pace.mark(done);
        if line.bar.is_none() && now - line.said < PLAIN_EVERY {
            return;
        }
        let left = line.estimate.left(self.began.elapsed()).map(|left| left.as_secs_f64());
        let message = amount(done, line.total, line.pace.rate(), left);
        match &line.bar {
            Some(bar) => {
                bar.set_position(done);
                bar.set_message(message);
            }
            None => {
                line.said = now;
                say(&self.common, &format!("{}{}: {message}\n", line.tag, line.stage));
            }
        }
    }

    /// With several drives, whoever waits for one of them need not wait for all.
    fn over(&self, line: &DriveLine, result: JobResult) {
        if let Some(bar) = &line.bar {
            bar.finish_and_clear();
        }
        if !line.tag.is_empty() {
            let words = match result {
                JobResult::Verified => "is verified: pull it out",
                JobResult::Written => "is written, and was not read back: pull it out",
                JobResult::Differs => "differs from the image",
                JobResult::Failed => "failed",
                JobResult::Refused => "was refused",
                JobResult::Stopped => "was stopped",
            };
            self.remark(&format!("{}{words}", line.tag));
        }
    }

    fn ended(&self, line: &DriveLine, stage: Stage) {
        if matches!(stage, Stage::Body | Stage::ReadBack | Stage::Seal) {
            let took = line.pace.elapsed().as_secs_f64();
            let total = line.total.max(line.pace.done());
            let kept = if stage == Stage::Body { line.kept } else { 0 };
            let (moved, took) = (human_bytes(total.saturating_sub(kept)), duration(took));
            let beside = if kept > 0 { format!(", {} were there", human_bytes(kept)) } else { String::new() };
            self.remark(&format!("{}{}: {moved} in {took}{beside}", line.tag, line.stage));
        }
    }
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
        Event::Unnoted { why } => format!("no notes can be kept ({why}): if it stops, it starts over"),
        _ => return None,
    })
}

impl Watcher for JobProgress {
    fn heard(&self, drive: usize, event: &Event) {
        let Some(line) = self.drives.get(drive) else { return };
        let mut line = line.lock().unwrap_or_else(PoisonError::into_inner);
        line.estimate.heard(event, self.began.elapsed());
        match event {
            Event::Began { stage, bytes } => {
                (line.stage, line.total) = (name_of(*stage), bytes.unwrap_or(0));
                (line.pace, line.said) = (Pace::new(), Instant::now());
                if let Some(bar) = &line.bar {
                    bar.set_prefix(format!("{}{}", line.tag, line.stage));
                    bar.set_length(line.total);
                    bar.set_position(0);
                    bar.set_message("");
                }
            }
            Event::Moved { done, .. } => self.moved(&mut line, *done),
            Event::Ended { stage } => self.ended(&line, *stage),
            other => {
                if let Event::GoingOn { from } = other {
                    (line.kept, line.goes_on) = (*from, true);
                }
                if let Event::Over { result } = other {
                    self.over(&line, *result);
                }
                if let Some(text) = remark_on(other) {
                    let text = format!("{}{text}", line.tag);
                    // That notes were lost is never hidden.
                    if matches!(other, Event::Unnoted { .. }) { self.warn(&text) } else { self.remark(&text) }
                }
            }
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
        no notes can be kept (No space left on device): if it stops, it starts over
        ");
    }
}
