//! What a station shows: a line for each stick that is being written, and a line for what happens.

use std::collections::HashMap;
use std::io::{self, BufRead, IsTerminal};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget};
use pyrotyp_core::drive::Drive;
use pyrotyp_core::guard::data_words;
use pyrotyp_core::job::Event;
use pyrotyp_core::record::Stage;
use pyrotyp_core::station::{StationNews, StationWatcher, Tally};

use super::drive_state::name_of;
use super::progress::{Pace, amount, style};
use crate::asked::Common;
use crate::out::{put_as_it_is, say, warn};
use crate::show::edge::edge;
use crate::show::{json, station};

/// A stick that is being written.
struct Slot {
    bar: ProgressBar,
    pace: Pace,
    total: u64,
    stage: Option<Stage>,
}

#[derive(Default)]
struct StationState {
    slots: HashMap<String, Slot>,
    made: u64,
    failed: u64,
    left: u64,
}

/// Shows a station.
pub(crate) struct StationView {
    common: Common,
    sticks: u64,
    lines: Option<MultiProgress>,
    /// The line below the sticks.
    below: ProgressBar,
    shown: Mutex<StationState>,
    /// What somebody typed.
    typed: Arc<Mutex<Vec<String>>>,
}

impl StationView {
    /// Of a plan for so many sticks, some of which are made and some have failed.
    pub(crate) fn new(sticks: u64, tally: &Tally, common: &Common) -> Self {
        let moving = io::stderr().is_terminal() && !common.quiet;
        let lines = moving.then(|| MultiProgress::with_draw_target(ProgressDrawTarget::stderr_with_hz(7)));
        let below = ProgressBar::hidden();
        let below = lines.as_ref().map_or(below.clone(), |lines| lines.add(ProgressBar::new_spinner()));
        below.enable_steady_tick(Duration::from_millis(250));
        let shown = StationState { made: tally.made(), failed: tally.failed(), ..StationState::default() };
        let view =
            Self { common: common.clone(), sticks, lines, below, shown: Mutex::new(shown), typed: Arc::default() };
        view.listen();
        view.tell_below(&view.shown());
        if view.lines.is_none() {
            say(common, "plug the first one in\n");
        }
        view
    }

    /// Hears what is typed at a terminal, until the program ends.
    fn listen(&self) {
        if !io::stdin().is_terminal() {
            return;
        }
        let typed = Arc::clone(&self.typed);
        std::thread::spawn(move || {
            for line in io::stdin().lock().lines().map_while(Result::ok) {
                typed.lock().unwrap_or_else(PoisonError::into_inner).push(line);
            }
        });
    }

    fn shown(&self) -> MutexGuard<'_, StationState> {
        self.shown.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Clears the lines that move. Tells how many drives were left alone.
    pub(crate) fn finish(self) -> u64 {
        self.below.finish_and_clear();
        let shown = self.shown();
        shown.slots.values().for_each(|slot| slot.bar.finish_and_clear());
        shown.left
    }

    /// Says something for good, above the lines that move.
    fn line(&self, text: &str) {
        match &self.lines {
            Some(lines) => lines.suspend(|| warn(&format!("  {text}\n"))),
            None => say(&self.common, &format!("{text}\n")),
        }
    }

    fn so_far(&self, shown: &StationState) -> String {
        format!("{} of {}", shown.made, self.sticks)
    }

    fn tell_below(&self, shown: &StationState) {
        let failed = if shown.failed > 0 { format!(", {} failed", shown.failed) } else { String::new() };
        let next = if shown.made + (shown.slots.len() as u64) < self.sticks { "; plug the next one in" } else { "" };
        self.below.set_message(edge(&format!("{} made{failed}{next}", self.so_far(shown))).into_owned());
    }

    fn begun(&self, drive: &Drive) {
        if let Some(lines) = &self.lines {
            let bar = lines.insert_before(&self.below, ProgressBar::new(0).with_style(style()));
            bar.set_prefix(edge(&format!("{:<6} {}", station::place(drive), drive.tag)).into_owned());
            let slot = Slot { bar, pace: Pace::new(), total: 0, stage: None };
            self.shown().slots.insert(drive.path.clone(), slot);
        } else {
            self.line(&format!("{}: begun", station::named(drive)));
        }
    }

    fn moved(&self, drive: &Drive, event: &Event) {
        let mut shown = self.shown();
        let Some(slot) = shown.slots.get_mut(&drive.path) else { return };
        match event {
            Event::Began { stage, bytes } => {
                let total = bytes.unwrap_or(0);
                (slot.stage, slot.total, slot.pace) = (Some(*stage), total, Pace::new());
                slot.bar.set_length(total);
                slot.bar.set_position(0);
            }
            Event::Moved { done, .. } => {
                slot.pace.mark(*done);
                slot.bar.set_position(*done);
                let far = amount(*done, slot.total, slot.pace.rate(), None);
                let stage = slot.stage.map_or("", name_of);
                slot.bar.set_message(edge(&format!("{stage}  {far}")).into_owned());
            }
            _ => {}
        }
    }
}

impl StationWatcher for StationView {
    fn news(&self, news: &StationNews<'_>) {
        match news {
            StationNews::Moved { drive, event } => self.moved(drive, event),
            StationNews::Begun { drive } => self.begun(drive),
            StationNews::Ended { drive, stick, fault, made } => {
                let mut shown = self.shown();
                shown.made = *made;
                if let Some(slot) = shown.slots.remove(&drive.path) {
                    slot.bar.finish_and_clear();
                }
                let so_far = format!("{}; plug the next one in there", self.so_far(&shown));
                let so_far = if *made >= self.sticks { self.so_far(&shown) } else { so_far };
                shown.failed += u64::from(stick.has_failed());
                self.tell_below(&shown);
                drop(shown);
                self.line(&station::ended(drive, stick, *fault, &so_far));
                if self.common.json {
                    // Whoever reads it sees by its end that it has ended.
                    let _ = put_as_it_is(&json::station(stick));
                }
            }
            StationNews::Left { drive, why } => {
                let mut shown = self.shown();
                shown.left += 1;
                if let Some(slot) = shown.slots.remove(&drive.path) {
                    slot.bar.finish_and_clear();
                }
                drop(shown);
                self.line(&format!("{}: left alone: {}", station::named(drive), station::left(why)));
            }
            StationNews::Asked { drive } => {
                let holds = data_words(drive).unwrap_or_else(|| "may hold something".to_owned());
                self.line(&format!(
                    "{} {holds}: type its tag to have it written, or pull it out",
                    station::named(drive)
                ));
            }
            StationNews::Finishing => {
                self.line("no further stick is begun; those under way go to their end (Ctrl-C once more stops them)");
            }
            StationNews::Gone { drive } if self.common.verbose => {
                self.line(&format!("{}: pulled out", station::named(drive)))
            }
            _ => {}
        }
    }

    fn taken(&self) -> Vec<String> {
        std::mem::take(&mut *self.typed.lock().unwrap_or_else(PoisonError::into_inner))
    }
}
