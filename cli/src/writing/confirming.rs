//! The one question: the tags of the drives, typed.

use std::fs::File;
use std::io::{self, BufRead, BufReader, IsTerminal, Read};
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::Duration;

use pyrotyp_core::machine;
use pyrotyp_core::plan::Plan;
use pyrotyp_core::stop::Cancel;
use pyrotyp_core::text::Shown;

use crate::asked::Job;
use crate::exit::{Exit, Failure};
use crate::out::warn;
use crate::show::card::{self, OnDrives};

/// How often it is looked whether the question still stands.
const LOOK_EVERY: Duration = Duration::from_millis(50);

/// Who can say yes.
pub(crate) enum Confirming {
    /// Nobody needs to.
    Unattended,
    /// Whoever sits at the terminal, on standard input.
    Input,
    /// Whoever sits at the terminal, although something else comes on standard input.
    Terminal(File),
}

/// Where the image comes from, as far as the question goes.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum ImageFrom {
    /// Where the question is answered.
    StandardInput,
    /// Anywhere else.
    Elsewhere,
}

impl Confirming {
    /// Beside an image that comes from there.
    pub(crate) fn find(asked: &Job, from: ImageFrom) -> Result<Self, Failure> {
        if asked.unattended {
            return Ok(Self::Unattended);
        }
        let takes_input = from == ImageFrom::StandardInput;
        let is_shown = io::stderr().is_terminal();
        if takes_input
            && is_shown
            && let Some(terminal) = machine::terminal()
        {
            return Ok(Self::Terminal(terminal));
        }
        if !takes_input && is_shown && io::stdin().is_terminal() {
            return Ok(Self::Input);
        }
        Err(Failure::new(
            Exit::Refused,
            "nobody can confirm the drive: this is no terminal",
            "run it at a terminal, or add --unattended and name the drive by its tag",
        ))
    }
}

/// What the card asks about.
#[derive(Clone, Copy)]
pub(crate) struct Question<'a> {
    /// What will be done.
    pub(crate) plan: &'a Plan,
    /// What will be on the drives.
    pub(crate) content: OnDrives<'a>,
    /// What a job on each drive would go on with, in words.
    pub(crate) resuming: &'a [String],
}

/// Shows the card and waits for the tags to be typed: one question, which can't be answered by habit. `still_stands` is asked all the
/// while: what it fails with takes the question's place.
pub(crate) fn confirm(
    question: Question<'_>,
    confirming: Confirming,
    cancel: &Cancel,
    still_stands: &mut dyn FnMut() -> Result<(), Failure>,
) -> Result<(), Failure> {
    let Question { plan, content, resuming } = question;
    let on_card = |(number, drive)| card::OnCard {
        drive,
        resuming: resuming.get(number).map(String::as_str),
        word: plan.word_for(&drive.choice.drive),
    };
    let on_card: Vec<card::OnCard<'_>> = plan.drives.iter().enumerate().map(on_card).collect();
    let shown = card::card(content, &on_card, plan.how.read_back);
    if let Confirming::Unattended = confirming {
        return Ok(());
    }
    // The card is the question: it is shown even when told to be quiet.
    warn(&shown);
    // What was typed before the card was shown answers nothing on it.
    let input: Box<dyn Read + Send> = if let Confirming::Terminal(terminal) = confirming {
        machine::forget_typed(&terminal);
        Box::new(terminal)
    } else {
        machine::forget_typed(io::stdin());
        Box::new(io::stdin())
    };
    warn(&card::question(content, &on_card));
    let typed = ask(input, cancel, still_stands)?;
    if plan.is_confirmed_by(&typed) {
        return Ok(());
    }
    let what = match (on_card.len() > 1, card::has_places(&on_card)) {
        (false, false) => "the drive's tag",
        (false, true) => "the drive's place",
        (true, false) => "the tags of the drives",
        (true, true) => "what stands for each of the drives",
    };
    let text = match typed.trim() {
        "" => "not confirmed: no tag was typed, and nothing was changed".to_owned(),
        other => format!("not confirmed: `{}` is not {what}, and nothing was changed", other.shown()),
    };
    Err(Failure::new(Exit::Refused, text, "look at `pyrotyp drives`, then run the same command again"))
}

/// What is typed below a card; without a terminal, nobody can.
pub(crate) fn typed_at_terminal(card: &str, question: &str, cancel: &Cancel) -> Result<String, Failure> {
    if !io::stderr().is_terminal() || !io::stdin().is_terminal() {
        let text = "nobody can confirm the plan: this is no terminal";
        return Err(Failure::new(
            Exit::Refused,
            text,
            "run it at a terminal, or give the number of sticks with --sticks",
        ));
    }
    warn(card);
    machine::forget_typed(io::stdin());
    warn(question);
    ask(Box::new(io::stdin()), cancel, &mut || Ok(()))
}

/// A line from the terminal; Ctrl-C ends the wait, and so does a question that no longer stands.
fn ask(
    input: Box<dyn Read + Send>,
    cancel: &Cancel,
    still_stands: &mut dyn FnMut() -> Result<(), Failure>,
) -> Result<String, Failure> {
    let (sender, receiver) = channel();
    std::thread::spawn(move || {
        let mut line = String::new();
        let _ = BufReader::new(input).read_line(&mut line);
        // Nobody listens any more after Ctrl-C.
        let _ = sender.send(line);
    });
    loop {
        match receiver.recv_timeout(LOOK_EVERY) {
            Ok(line) => return Ok(line),
            Err(RecvTimeoutError::Timeout) if !cancel.is_set() => still_stands().inspect_err(|_| {
                // The cursor stands behind the question.
                warn("\n");
            })?,
            Err(_) => {
                return Err(Failure::new(Exit::Stopped, "stopped; nothing was changed", "run the same command again"));
            }
        }
    }
}
