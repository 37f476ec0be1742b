//! What is shown while something is started on trial: a line that moves at a terminal, plain lines elsewhere.

use std::io::{self, IsTerminal};
use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use indicatif::{ProgressBar, ProgressDrawTarget};
use pyrotyp_core::rehearse::TrialNews;

use super::progress::{PLAIN_EVERY, style};
use crate::asked::Common;
use crate::out::say;
use crate::show::edge::edge;
use crate::show::rehearsed::called;

/// Shows one trial start.
pub(crate) struct TrialProgress {
    common: Common,
    bar: Option<ProgressBar>,
    said: Mutex<Instant>,
}

impl TrialProgress {
    /// Of a start that is watched for so many seconds at most.
    pub(crate) fn new(wait: u64, common: &Common) -> Self {
        let moving = io::stderr().is_terminal() && !common.quiet;
        let bar = moving.then(|| {
            let bar = ProgressBar::with_draw_target(Some(wait), ProgressDrawTarget::stderr_with_hz(10));
            bar.with_style(style())
        });
        Self { common: common.clone(), bar, said: Mutex::new(Instant::now()) }
    }

    /// So far it is.
    pub(crate) fn tell(&self, news: &TrialNews) {
        let message = format!("{:.0} s  {}", news.seconds, news.known);
        match &self.bar {
            Some(bar) => {
                bar.set_prefix(called(news.firmware));
                bar.set_position(news.seconds as u64);
                bar.set_message(edge(&message).into_owned());
            }
            None => {
                let mut said = self.said.lock().unwrap_or_else(PoisonError::into_inner);
                if said.elapsed() >= PLAIN_EVERY {
                    *said = Instant::now();
                    say(&self.common, &format!("{}: {message}\n", called(news.firmware)));
                }
            }
        }
    }

    /// Clears the line.
    pub(crate) fn finish(self) {
        if let Some(bar) = self.bar {
            bar.finish_and_clear();
        }
    }
}
