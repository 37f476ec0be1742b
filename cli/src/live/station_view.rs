//! What a station shows: a line for each stick that is being written, and a line for what happens.

use std::collections::BTreeMap;
use std::io::{self, IsTerminal, Read};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressStyle};
use pyrotyp_core::drive::Drive;
use pyrotyp_core::guard::data_words;
use pyrotyp_core::job::Event;
use pyrotyp_core::machine::KeyByKey;
use pyrotyp_core::record::Stage;
use pyrotyp_core::station::{StationNews, StationWatcher, Tally, Try};
use pyrotyp_core::text::Shown;

use super::drive_state::name_of;
use super::progress::{Pace, amount, style};
use crate::asked::Common;
use crate::out::{put_as_it_is, say, warn};
use crate::show::edge::edge;
use crate::show::{json, station};

/// Ports that have a line of their own; what happens in others is said above.
const SLOTS_MOST: usize = 16;

/// A port, and what is in it.
struct Slot {
    bar: ProgressBar,
    pace: Pace,
    total: u64,
    stage: Option<Stage>,
}

#[derive(Default)]
struct StationState {
    /// By where the port is.
    slots: BTreeMap<String, Slot>,
    made: u64,
    failed: u64,
    left: u64,
    working: u64,
}

/// Shows a station.
pub(crate) struct StationView {
    common: Common,
    sticks: u64,
    lines: Option<MultiProgress>,
    /// The line below the ports.
    below: ProgressBar,
    shown: Mutex<StationState>,
    typing: Arc<Mutex<Typing>>,
    /// What is typed is shown here, and not where the cursor happens to be.
    _keys: Option<KeyByKey>,
}

/// What somebody types.
#[derive(Default)]
struct Typing {
    /// The line that is not ended yet.
    line: String,
    ended: Vec<String>,
}

impl Typing {
    /// Longest line, in characters.
    const MOST: usize = 40;

    fn key(&mut self, key: u8) {
        match key {
            b'\r' | b'\n' => self.ended.push(std::mem::take(&mut self.line)),
            // Backspace, and what other terminals send for it.
            0x7f | 0x08 => drop(self.line.pop()),
            b' '..=b'~' if self.line.len() < Self::MOST => self.line.push(char::from(key)),
            _ => {}
        }
    }
}

/// How the line of a port looks in which nothing is written.
fn idle_style() -> ProgressStyle {
    ProgressStyle::with_template("  {prefix:<12} {wide_msg}").unwrap_or_else(|_| ProgressStyle::default_bar())
}

/// How the line below the ports looks.
fn below_style() -> ProgressStyle {
    ProgressStyle::with_template("{spinner} {msg}  {prefix}").unwrap_or_else(|_| ProgressStyle::default_spinner())
}

impl StationView {
    /// Of a plan for so many sticks, some of which are made and some have failed.
    pub(crate) fn new(sticks: u64, tally: &Tally, common: &Common) -> Self {
        let moving = io::stderr().is_terminal() && !common.quiet;
        let lines = moving.then(|| MultiProgress::with_draw_target(ProgressDrawTarget::stderr_with_hz(7)));
        let below = ProgressBar::new_spinner().with_style(below_style());
        let below = match &lines {
            Some(lines) => lines.add(below),
            None => ProgressBar::hidden(),
        };
        below.enable_steady_tick(Duration::from_millis(250));
        let shown = StationState { made: tally.made(), failed: tally.failed(), ..StationState::default() };
        let view = Self {
            common: common.clone(),
            sticks,
            _keys: lines.as_ref().and_then(|_| KeyByKey::begin()),
            lines,
            below,
            shown: Mutex::new(shown),
            typing: Arc::default(),
        };
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
        let (typing, below) = (Arc::clone(&self.typing), self.below.clone());
        std::thread::spawn(move || {
            for key in io::stdin().lock().bytes().map_while(Result::ok) {
                let mut typing = typing.lock().unwrap_or_else(PoisonError::into_inner);
                typing.key(key);
                let shown = if typing.line.is_empty() { String::new() } else { format!("> {}", typing.line) };
                below.set_prefix(shown);
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
        let next = if shown.made + shown.working < self.sticks { "; plug the next one in" } else { "" };
        self.below.set_message(edge(&format!("{} made{failed}{next}", self.so_far(shown))).into_owned());
    }

    /// The line of the port in which a drive is, where there is one for it.
    fn slot<'a>(&self, shown: &'a mut StationState, drive: &Drive) -> Option<&'a mut Slot> {
        let lines = self.lines.as_ref()?;
        let place = station::place(drive);
        if !shown.slots.contains_key(&place) && shown.slots.len() < SLOTS_MOST {
            // In the order of the ports.
            let bar = ProgressBar::new(0).with_style(idle_style());
            let bar = match shown.slots.range(place.clone()..).next() {
                Some((_, after)) => lines.insert_before(&after.bar, bar),
                None => lines.insert_before(&self.below, bar),
            };
            shown.slots.insert(place.clone(), Slot { bar, pace: Pace::new(), total: 0, stage: None });
        }
        shown.slots.get_mut(&place)
    }

    /// The line of a port says something, and nothing moves there.
    fn rest(&self, shown: &mut StationState, drive: &Drive, text: &str) {
        let place = station::place(drive);
        let Some(slot) = self.slot(shown, drive) else { return };
        slot.bar.set_style(idle_style());
        slot.bar.set_prefix(edge(&place).into_owned());
        slot.bar.set_message(edge(text).into_owned());
    }

    fn begun(&self, drive: &Drive) {
        let mut shown = self.shown();
        shown.working += 1;
        self.tell_below(&shown);
        if let Some(slot) = self.slot(&mut shown, drive) {
            (slot.stage, slot.total, slot.pace) = (None, 0, Pace::new());
            slot.bar.set_style(style());
            slot.bar.set_prefix(edge(&format!("{:<6} {}", station::place(drive), drive.tag)).into_owned());
            slot.bar.set_message("");
            return;
        }
        drop(shown);
        self.line(&format!("{}: begun", station::named(drive)));
    }

    fn moved(&self, drive: &Drive, event: &Event) {
        let mut shown = self.shown();
        let Some(slot) = self.slot(&mut shown, drive) else { return };
        match event {
            Event::Began { stage, bytes } => {
                let total = bytes.unwrap_or(0);
                (slot.stage, slot.total, slot.pace) = (Some(*stage), total, Pace::new());
                slot.bar.set_length(total);
                slot.bar.set_position(0);
                slot.bar.set_message(edge(name_of(*stage)).into_owned());
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

    fn ended(&self, drive: &Drive, stick: &Try, fault: Option<&str>, made: u64) {
        let mut shown = self.shown();
        shown.made = made;
        shown.working = shown.working.saturating_sub(1);
        shown.failed += u64::from(stick.has_failed());
        let so_far = self.so_far(&shown);
        let is_done = made >= self.sticks;
        let so_far = if is_done { so_far } else { format!("{so_far}; plug the next one in there") };
        self.tell_below(&shown);
        self.rest(&mut shown, drive, &format!("{}: {}", drive.tag, station::what_next(stick)));
        drop(shown);
        self.line(&station::ended(drive, stick, fault, &so_far));
        if self.common.json {
            // Whoever reads it sees by its end that it has ended.
            let _ = put_as_it_is(&json::station(stick));
        }
    }

    fn asked(&self, drive: &Drive, word: &str, why: &str) {
        let next = match io::stdin().is_terminal() {
            true => format!("type {word} to have it written, or pull it out"),
            false => "left alone, since nobody can be asked".to_owned(),
        };
        self.rest(&mut self.shown(), drive, &next);
        self.line(&format!("{} {why}: {next}", station::named(drive)));
    }
}

impl StationWatcher for StationView {
    fn news(&self, news: &StationNews<'_>) {
        match news {
            StationNews::Moved { drive, event } => self.moved(drive, event),
            StationNews::Begun { drive } => self.begun(drive),
            StationNews::Ended { drive, stick, fault, made } => self.ended(drive, stick, *fault, *made),
            StationNews::Left { drive, why } => {
                let mut shown = self.shown();
                shown.left += 1;
                let why = station::left(why);
                self.rest(&mut shown, drive, &format!("{}: left alone: {why}", drive.tag));
                drop(shown);
                self.line(&format!("{}: left alone: {why}", station::named(drive)));
            }
            StationNews::Asked { drive, word, was_there: true } => {
                self.asked(drive, word, "was attached before, and has come again");
            }
            StationNews::Asked { drive, word, was_there: false } => {
                self.asked(drive, word, data_words(drive).as_deref().unwrap_or("may hold something"));
            }
            StationNews::Unknown { typed } => {
                self.line(&format!("no stick that is asked about is `{}`", typed.trim().shown()))
            }
            StationNews::Finishing => {
                self.line("no further stick is begun; those under way go to their end (Ctrl-C once more stops them)");
            }
            StationNews::Stopping => {
                self.line("stopping as soon as each stick answers (Ctrl-C once more ends at once)")
            }
            StationNews::Waits { drive } => {
                self.rest(&mut self.shown(), drive, &format!("{}: waits until another one is done", drive.tag));
            }
            StationNews::Gone { drive } => self.rest(&mut self.shown(), drive, "empty"),
        }
    }

    fn typed(&self) -> Vec<String> {
        std::mem::take(&mut self.typing.lock().unwrap_or_else(PoisonError::into_inner).ended)
    }
}
