//! The two ways out: results on standard output, everything else on standard error. All that is shown goes through here.

use std::io::{self, IsTerminal, Write};
use std::sync::atomic::{AtomicBool, Ordering};

use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::asked::{Common, OutputFor};
use crate::exit::{Exit, Failure, plain};
use crate::show::edge::edge;
use crate::show::{command, json, letters, style, wrap};

/// What is said to this program by another run of it: a line of JSON each.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Spoken {
    /// Something beside the result.
    Said(String),
    /// Why it gave up.
    Failed {
        /// [`Exit::id`].
        id: String,
        /// What went wrong.
        text: String,
        /// What to do next.
        next: String,
    },
}

static TO_A_PROGRAM: AtomicBool = AtomicBool::new(false);

/// From here on, what is said is [`Spoken`]: another run of this program listens, and tells it.
pub(crate) fn speak_to_a_program() {
    TO_A_PROGRAM.store(true, Ordering::Relaxed);
}

/// Says it to a program, if one listens.
fn spoken(what: impl FnOnce() -> Spoken) -> bool {
    let is_heard = TO_A_PROGRAM.load(Ordering::Relaxed);
    if is_heard && let Ok(mut line) = serde_json::to_string(&what()) {
        line.push('\n');
        // Nobody is left to tell when the one who called is gone.
        let _ = io::stderr().write_all(line.as_bytes());
    }
    is_heard
}

/// Tells a failure, as a document too where one is asked for.
pub(crate) fn failed(failure: &Failure, output_for: OutputFor) -> Exit {
    tell(failure);
    if output_for == OutputFor::Programs {
        // Whoever reads it is told by the exit status too.
        let _ = put_document(&json::failed(failure));
    }
    failure.exit
}

/// Says on standard error what went wrong and what to do next.
pub(crate) fn tell(failure: &Failure) {
    let Failure { exit, text, next, .. } = failure;
    if spoken(|| Spoken::Failed { id: exit.id().to_owned(), text: text.clone(), next: next.clone() }) {
        return;
    }
    let red = style::BAD;
    let mut text = format!("{red}pyrotyp:{red:#} {}\n", failure.text);
    if !failure.next.is_empty() {
        text.push_str(&format!("   next: {}\n", failure.next));
    }
    warn(&text);
}

/// Puts a result for people on standard output. A reader that has seen enough and went away is no error.
pub(crate) fn put(text: &str) -> Result<(), Failure> {
    put_while_read(text).map(|_| ())
}

/// Puts a result for programs on standard output.
pub(crate) fn put_document(document: &Value) -> Result<(), Failure> {
    put_as_it_is(&json::text(document)).map(|_| ())
}

/// Like [`put`], and tells whether anybody still reads: what has no end of its own ends when nobody does.
pub(crate) fn put_while_read(text: &str) -> Result<bool, Failure> {
    put_as_it_is(&for_people(&edge(text), wrap::width_of(&io::stdout())))
}

/// The same, of lines for programs, which no terminal's width breaks.
pub(crate) fn put_as_it_is(text: &str) -> Result<bool, Failure> {
    match anstream::stdout().write_all(text.as_bytes()) {
        Ok(()) => Ok(true),
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(false),
        Err(error) => Err(Failure::new(
            Exit::Unexpected,
            format!("can't write the result: {}", plain(&error)),
            "check where it goes",
        )),
    }
}

/// A text with its commands as they can be typed, in lines that fit.
fn for_people(text: &str, width: Option<usize>) -> String {
    let text = command::as_typed(text);
    let text = letters::plain(&text);
    width.map_or_else(|| text.to_string(), |width| wrap::wrap(&text, width).into_owned())
}

/// Says something that is not to be missed, beside the result.
pub(crate) fn warn(text: &str) {
    if spoken(|| Spoken::Said(text.to_owned())) {
        return;
    }
    let text = for_people(&edge(text), wrap::width_of(&io::stderr()));
    // Nobody is left to tell when standard error itself is closed.
    let _ = anstream::stderr().write_all(text.as_bytes());
}

/// Whether the terminal, if there is one, moves its cursor when it is told to.
pub(crate) fn terminal_is_able() -> bool {
    std::env::var_os("TERM").is_some_and(|term| !term.is_empty() && term != "dumb")
}

/// Rings the terminal's bell, if there is one.
pub(crate) fn ring() {
    if io::stderr().is_terminal() {
        // Nobody is left to hear it otherwise.
        let _ = io::stderr().write_all(b"\x07");
    }
}

/// Says something beside the result, unless told to be quiet.
pub(crate) fn say(common: &Common, text: &str) {
    if !common.quiet {
        warn(text);
    }
}
