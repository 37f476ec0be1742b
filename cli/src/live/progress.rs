//! Progress on standard error: a line that moves at a terminal, plain lines elsewhere.

use std::io::{self, IsTerminal};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use pyrotyp_core::bytes::{Rate, human_bytes};
use pyrotyp_core::fetch::{Listener, News, public_address};

use crate::asked::Common;
use crate::out::say;
use crate::show::edge::edge;
use crate::show::letters;
use crate::show::text::duration;

/// Plain lines come no more often than this.
pub(crate) const PLAIN_EVERY: Duration = Duration::from_secs(5);
/// Speed is what was moved in this last stretch.
const WINDOW: Duration = Duration::from_secs(8);
/// From less of it than this, no speed is told.
const SHORTEST: Duration = Duration::from_millis(50);
/// No time left is told before this much of a stage has gone by.
const MEANINGFUL_AFTER: Duration = Duration::from_secs(3);

/// Follows a check or a fetch.
pub(crate) struct Progress {
    common: Common,
    bar: Option<ProgressBar>,
    name: &'static str,
    total: u64,
    pace: Pace,
    said: Instant,
}

/// How fast something moves that began here.
pub(crate) struct Pace {
    began: Instant,
    rate: Rate,
}

impl Pace {
    /// Of something that begins now.
    pub(crate) fn new() -> Self {
        Self::from(0)
    }

    /// Of something that goes on now, with so much done before.
    pub(crate) fn from(done: u64) -> Self {
        let mut rate = Rate::over(WINDOW);
        rate.mark(Duration::ZERO, done);
        Self { began: Instant::now(), rate }
    }

    /// How long it has been going on.
    pub(crate) fn elapsed(&self) -> Duration {
        self.began.elapsed()
    }

    /// How much was moved so far.
    pub(crate) fn done(&self) -> u64 {
        self.rate.last().map_or(0, |(_, done)| done)
    }

    /// So much was moved by now.
    pub(crate) fn mark(&mut self, done: u64) {
        self.rate.mark(self.began.elapsed(), done);
    }

    /// Bytes a second lately.
    pub(crate) fn rate(&self) -> Option<f64> {
        self.rate.per_second(SHORTEST)
    }
}

/// Less time than this is not told in figures, in seconds.
const SOON: f64 = 5.0;

/// How far something is: bytes of a total (0 where nobody knows it), bytes a second, and seconds left, where these are known.
pub(crate) fn amount(done: u64, total: u64, rate: Option<f64>, left: Option<f64>) -> String {
    let total = if total > 0 { format!(" of {}", human_bytes(total)) } else { String::new() };
    let rate = rate.map_or(String::new(), |rate| format!("  {}/s", human_bytes(rate as u64)));
    let left = left.map_or(String::new(), |left| match left {
        ..SOON => "  a few seconds left".to_owned(),
        left => format!("  about {} left", duration(left)),
    });
    format!("{}{total}{rate}{left}", human_bytes(done))
}

/// How a line that moves looks.
pub(crate) fn style() -> ProgressStyle {
    let style = ProgressStyle::with_template("  {prefix:<10} {wide_bar:.green/dim} {msg}  ");
    let signs = if letters::are_unicode() { "■■·" } else { "##." };
    style.unwrap_or_else(|_| ProgressStyle::default_bar()).progress_chars(signs)
}

impl Progress {
    fn new(common: &Common) -> Self {
        let moving = io::stderr().is_terminal() && !common.quiet;
        let bar = moving.then(|| {
            let bar = ProgressBar::with_draw_target(Some(0), ProgressDrawTarget::stderr_with_hz(10));
            bar.with_style(style())
        });
        Self { common: common.clone(), bar, name: "", total: 0, pace: Pace::new(), said: Instant::now() }
    }

    /// For reading an image of `bytes` bytes before the job; `None` if nobody knows how many.
    pub(crate) fn of_check(name: &'static str, bytes: Option<u64>, common: &Common) -> Self {
        let mut progress = Self::new(common);
        progress.start(name, bytes.unwrap_or(0));
        progress
    }

    /// For a fetch.
    pub(crate) fn of_fetch(common: &Common) -> Self {
        let mut progress = Self::new(common);
        progress.start("fetch", 0);
        progress
    }

    /// Says what is waited for.
    pub(crate) fn waiting(&mut self, what: &str) {
        if let Some(bar) = &self.bar {
            bar.set_message(edge(what).into_owned());
        }
    }

    /// Says something for good, above the line that moves.
    fn remark(&self, text: &str) {
        match &self.bar {
            Some(bar) => bar.suspend(|| say(&self.common, &format!("  {text}\n"))),
            None => say(&self.common, &format!("{text}\n")),
        }
    }

    /// So much was read.
    pub(crate) fn checked(&mut self, done: u64) {
        self.to(done);
    }

    /// Clears the line.
    pub(crate) fn finish(self) {
        if let Some(bar) = self.bar {
            bar.finish_and_clear();
        }
    }

    fn start(&mut self, name: &'static str, total: u64) {
        (self.name, self.total, self.pace, self.said) = (name, total, Pace::new(), Instant::now());
        if let Some(bar) = &self.bar {
            bar.set_prefix(name);
            bar.set_length(total);
            bar.set_position(0);
            bar.set_message("");
        }
    }

    fn to(&mut self, done: u64) {
        let now = Instant::now();
        self.pace.mark(done);
        let due = now - self.said >= PLAIN_EVERY;
        if self.bar.is_none() && !due {
            return;
        }
        let rate = self.pace.rate();
        let is_known = self.total > 0 && self.pace.elapsed() >= MEANINGFUL_AFTER;
        let left = rate.filter(|_| is_known).map(|rate| self.total.saturating_sub(done) as f64 / rate);
        let message = amount(done, self.total, rate, left);
        match &self.bar {
            Some(bar) => {
                bar.set_position(done);
                bar.set_message(edge(&message).into_owned());
            }
            None => {
                self.said = now;
                say(&self.common, &format!("{}: {message}\n", self.name));
            }
        }
    }
}

/// An address without the file's name.
fn place(address: &str) -> String {
    let address = public_address(address);
    address.rsplit_once('/').map_or(address.as_str(), |(place, _)| place).to_owned()
}

impl Listener for Progress {
    fn moved(&mut self, done: u64, total: Option<u64>) {
        let total = total.unwrap_or(0);
        if self.total != total {
            self.total = total;
            if let Some(bar) = &self.bar {
                bar.set_length(total);
            }
        }
        // What was there before says nothing of the line.
        if self.pace.done() > done || self.pace.rate.marks() == 1 {
            self.pace.rate.clear();
            self.pace.mark(done);
        }
        if done > 0 {
            self.to(done);
        }
    }

    fn told(&mut self, news: &News<'_>) {
        match news {
            News::Asking { address } => self.waiting(&format!("asking {}", place(address))),
            News::Again { address, .. } => {
                self.remark(&news_words(news).unwrap_or_default());
                self.waiting(&format!("waiting for {}", place(address)));
            }
            other => news_words(other).iter().for_each(|text| self.remark(text)),
        }
    }
}

/// What is worth a line of its own.
pub(crate) fn news_words(news: &News<'_>) -> Option<String> {
    Some(match news {
        News::Sending { address, from: 0 } => format!("from {}", place(address)),
        News::Sending { address, from } => format!("from {}, on from {}", place(address), human_bytes(*from)),
        News::Again { address, fault, seconds } => {
            let when = if *seconds < 1.0 { String::new() } else { format!(" in {}", duration(*seconds)) };
            format!("{}: {fault}; trying again{when}", place(address))
        }
        News::Dropped { address, fault } => format!("{} is left out: {fault}", place(address)),
        News::StartedOver { why } => format!("starting over: {why}"),
        _ => return None,
    })
}
