//! What an examination of an image tells on its way: a line that moves, and a sentence here and there.

use std::sync::{Mutex, PoisonError};

use pyrotyp_core::examine::{CheckEvent, CheckWatcher, Unkept, Work};
use pyrotyp_core::text::Shown;

use super::progress::Progress;
use crate::asked::Common;
use crate::exit::plain;
use crate::out::{say, warn};

/// Shows an examination, or keeps what it says while somebody answers a question.
pub(crate) struct CheckProgress {
    common: Common,
    /// What reading the whole image is called.
    comparing: &'static str,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    progress: Option<Progress>,
    /// While a question is open: what would have been shown.
    held: Option<Held>,
}

#[derive(Default)]
struct Held {
    said: Vec<(Voice, String)>,
    work: Option<(Work, Option<u64>)>,
}

/// How loud something is said.
#[derive(Clone, Copy)]
enum Voice {
    /// Unless told to be quiet.
    Say,
    /// Always.
    Warn,
}

impl CheckProgress {
    /// An examination by a command of this session.
    pub(crate) fn new(common: &Common) -> Self {
        Self::called("check", common)
    }

    /// The same, where reading the image is called otherwise.
    pub(crate) fn called(comparing: &'static str, common: &Common) -> Self {
        Self { common: common.clone(), comparing, state: Mutex::default() }
    }

    /// Says nothing from here on.
    pub(crate) fn hold(&self) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.progress.take().into_iter().for_each(Progress::finish);
        state.held.get_or_insert_default();
    }

    /// Says what was held, and goes on aloud.
    pub(crate) fn go_on(&self) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(held) = state.held.take() else { return };
        for (voice, text) in held.said {
            self.speak(voice, &text);
        }
        if let Some((work, bytes)) = held.work {
            state.progress = Some(self.progress(work, bytes));
        }
    }

    fn progress(&self, work: Work, bytes: Option<u64>) -> Progress {
        let name = match work {
            Work::Compare => self.comparing,
            Work::Files => "files",
            Work::Unpack => "unpack",
        };
        Progress::of_check(name, bytes, &self.common)
    }

    fn speak(&self, voice: Voice, text: &str) {
        match voice {
            Voice::Say => say(&self.common, text),
            Voice::Warn => warn(text),
        }
    }
}

/// What is worth a sentence.
fn words(event: &CheckEvent<'_>) -> Option<(Voice, String)> {
    let said = |text: &str| Some((Voice::Say, format!("{text}\n")));
    match event {
        CheckEvent::WholeSignature => said("checking the signature of the whole image"),
        CheckEvent::WholeSignatureLater => {
            said("the signature of the whole image can't be checked while it comes; its checksum is")
        }
        CheckEvent::Kept { day } => {
            said(&format!("checksums of {day}, the file being unchanged since; to read it again: pyrotyp shelf verify"))
        }
        CheckEvent::Unkept(Unkept::KeyHasNoPlace) => {
            said("the key could not be remembered: there is no home folder; --state names another")
        }
        CheckEvent::Unkept(Unkept::Key(error)) => said(&format!("the key could not be remembered: {}", plain(error))),
        CheckEvent::Unkept(Unkept::Shelf(error)) => {
            said(&format!("the shelf's index could not be kept: {}", plain(error)))
        }
        CheckEvent::ShelfUnread { state, error } => {
            let text = format!("what the shelf in {} knows can't be looked at: {}\n", state.shown(), plain(*error));
            Some((Voice::Warn, text))
        }
        CheckEvent::Began { .. } | CheckEvent::Moved { .. } | CheckEvent::Ended => None,
    }
}

impl CheckWatcher for CheckProgress {
    fn heard(&self, event: &CheckEvent<'_>) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let told = words(event);
        if let Some(held) = &mut state.held {
            held.said.extend(told);
            match event {
                CheckEvent::Began { work, bytes } => held.work = Some((*work, *bytes)),
                CheckEvent::Ended => held.work = None,
                _ => {}
            }
            return;
        }
        if let Some((voice, text)) = told {
            self.speak(voice, &text);
        }
        match event {
            CheckEvent::Began { work, bytes } => state.progress = Some(self.progress(*work, *bytes)),
            CheckEvent::Moved { done } => state.progress.iter_mut().for_each(|progress| progress.checked(*done)),
            CheckEvent::Ended => state.progress.take().into_iter().for_each(Progress::finish),
            _ => {}
        }
    }
}
