//! The lines at a terminal in which a job is drawn, at most seven times a second, by a thread of their own.

use std::io::{self, Stderr};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use pyrotyp_core::machine;
use pyrotyp_core::stop::Cancel;
use ratatui::backend::CrosstermBackend;
use ratatui::crossterm::Command;
use ratatui::crossterm::cursor::Show;
use ratatui::crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers, poll, read};
use ratatui::crossterm::terminal::{Clear, ClearType, disable_raw_mode, enable_raw_mode, size};
use ratatui::text::Text;
use ratatui::widgets::{Paragraph, Widget, Wrap};
use ratatui::{Terminal, TerminalOptions, Viewport};

use super::drive_state::{JobState, Stopping};
use super::job_draw::{Look, draw, height};
use crate::out;

/// Between two frames.
const FRAME: Duration = Duration::from_millis(150);

/// What is told to the thread that draws.
enum ToScreen {
    /// A line for good, above what is drawn.
    Line(String),
    /// The job is over.
    Over,
}

/// The lines, as long as a job runs.
pub(crate) struct JobScreen {
    told: Sender<ToScreen>,
    thread: Option<JoinHandle<()>>,
}

impl JobScreen {
    /// Begins to draw; `None` where the terminal can't be drawn on. Where there is a `cancel`, Ctrl-C has it ask how to stop.
    pub(crate) fn begin(job: &Arc<Mutex<JobState>>, look: Look, cancel: Option<&Cancel>) -> Option<Self> {
        let (columns, rows) = size().ok()?;
        let drives = job.lock().unwrap_or_else(PoisonError::into_inner).drives.len();
        let viewport = Viewport::Inline(height(drives, columns, rows));
        let terminal =
            Terminal::with_options(CrosstermBackend::new(io::stderr()), TerminalOptions { viewport }).ok()?;
        let (told, hears) = channel();
        let (job, cancel) = (Arc::clone(job), cancel.cloned());
        let mut drawing = Drawing { terminal, job, look, cancel, is_raw: false };
        let thread = std::thread::Builder::new().name("screen".to_owned()).spawn(move || drawing.run(&hears)).ok()?;
        Some(Self { told, thread: Some(thread) })
    }

    /// Says something for good, above what is drawn.
    pub(crate) fn line(&self, text: String) {
        // Nobody draws any more: then nobody sees it either.
        let _ = self.told.send(ToScreen::Line(text));
    }
}

impl Drop for JobScreen {
    fn drop(&mut self) {
        let _ = self.told.send(ToScreen::Over);
        // A thread that died has nothing left to draw.
        let _ = self.thread.take().map(JoinHandle::join);
    }
}

struct Drawing {
    terminal: Terminal<CrosstermBackend<Stderr>>,
    job: Arc<Mutex<JobState>>,
    look: Look,
    cancel: Option<Cancel>,
    /// While somebody is asked, keys come one by one.
    is_raw: bool,
}

impl Drawing {
    fn run(&mut self, hears: &Receiver<ToScreen>) {
        self.cancel.iter().for_each(Cancel::ask);
        self.handle_queued_keys();
        loop {
            match hears.recv_timeout(FRAME) {
                Ok(ToScreen::Line(text)) => {
                    self.above(&text);
                    continue;
                }
                Ok(ToScreen::Over) | Err(RecvTimeoutError::Disconnected) => break,
                Err(RecvTimeoutError::Timeout) => {}
            }
            self.question();
            self.frame();
        }
        self.cancel.iter().for_each(Cancel::ask_no_more);
        self.cooked();
        // What comes after is written where the lines were.
        let corner = self.terminal.get_frame().area().as_position();
        let _ = self.terminal.clear();
        let _ = self.terminal.set_cursor_position(corner);
        let _ = self.terminal.show_cursor();
    }

    /// A terminal that can't be drawn on any more ends no job.
    fn frame(&mut self) {
        let (job, look) = (&self.job, self.look);
        let rows = size().map_or(u16::MAX, |(_, rows)| rows);
        let _ = self.terminal.draw(|frame| {
            // No longer than this: a terminal that takes nothing for a while must not hold up the job.
            let job = job.lock().unwrap_or_else(PoisonError::into_inner);
            draw(&job, job.began.elapsed(), look, rows, frame.buffer_mut());
        });
    }

    fn above(&mut self, text: &str) {
        let columns = size().map_or(80, |(columns, _)| columns);
        let words = Paragraph::new(Text::raw(text.trim_end().to_owned())).wrap(Wrap { trim: false });
        let lines = text.trim_end().chars().count().div_ceil(usize::from(columns.max(1))).clamp(1, 12);
        let _ = self.terminal.insert_before(lines as u16, |buffer| words.render(buffer.area, buffer));
        self.handle_queued_keys();
    }

    /// Handles Ctrl-C that was pressed during a cursor position query: in raw mode it arrives as a key, not as a signal.
    fn handle_queued_keys(&self) {
        while !self.is_raw && poll(Duration::ZERO).unwrap_or(false) {
            if let Ok(Event::Key(key)) = read()
                && is_ctrl_c(&key)
            {
                machine::raise_interrupt();
            }
        }
    }

    /// Asks whoever pressed Ctrl-C what is wanted; the job goes on meanwhile.
    fn question(&mut self) {
        let Some(cancel) = self.cancel.clone() else { return };
        let stopping = match cancel.is_open() {
            true => Stopping::Asked,
            false if cancel.is_set() => Stopping::Begun,
            false => Stopping::No,
        };
        self.job.lock().unwrap_or_else(PoisonError::into_inner).stopping = stopping;
        if stopping != Stopping::Asked {
            self.cooked();
            return;
        }
        if !self.is_raw {
            // What was typed before the question is no answer to it.
            machine::terminal().into_iter().for_each(machine::forget_typed);
            self.is_raw = enable_raw_mode().is_ok();
            if !self.is_raw {
                cancel.set();
                return;
            }
        }
        while poll(Duration::ZERO).unwrap_or(false) {
            if let Ok(Event::Key(key)) = read() {
                answered(key, &cancel);
            }
        }
    }

    fn cooked(&mut self) {
        if std::mem::take(&mut self.is_raw) {
            let _ = disable_raw_mode();
        }
    }
}

/// What takes back what was drawn: the cursor is seen again, on a line of its own with nothing below. Nothing where nothing is drawn.
pub(crate) fn taking_back() -> String {
    let mut words = String::new();
    if out::terminal_is_able() {
        // Nothing keeps text from being written into memory.
        let _ = Show.write_ansi(&mut words);
        words.push_str("\r\n");
        let _ = Clear(ClearType::FromCursorDown).write_ansi(&mut words);
    }
    words
}

fn is_ctrl_c(key: &KeyEvent) -> bool {
    key.code == KeyCode::Char('c') && key.modifiers.contains(KeyModifiers::CONTROL)
}

/// Does what the key stands for.
fn answered(key: KeyEvent, cancel: &Cancel) {
    match key.code {
        _ if is_ctrl_c(&key) => cancel.set(),
        KeyCode::Char('n' | 'N') => cancel.set(),
        KeyCode::Char('s' | 'S') => cancel.set_after_stage(),
        KeyCode::Char('g' | 'G') | KeyCode::Enter | KeyCode::Esc => cancel.go_on(),
        _ => {}
    }
}
