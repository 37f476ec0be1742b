//! What a shell completes: words of the command line, tags of attached drives, names on the shelf, ids of findings, jobs.

use std::ffi::OsStr;
use std::path::PathBuf;

use clap::{Command, CommandFactory};
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};
use clap_complete::env::CompleteEnv;
use pyrotyp_core::drive::Role;
use pyrotyp_core::guard::{IMAGE_RULES, RULES};
use pyrotyp_core::ledger::{Index, JobQuery};
use pyrotyp_core::shelf::Shelf;

use crate::asked::{Asked, Common};
use crate::commands::manual::VARIABLE;
use crate::session::attached::platform;
use crate::session::folders::state_folder;

/// Jobs that are offered.
const JOBS: usize = 50;

/// Answers a shell that asks for words, and ends; does nothing for everybody else.
pub(crate) fn answer() {
    CompleteEnv::with_factory(command).var(VARIABLE).complete();
}

/// The command line, with what completes its arguments.
pub(crate) fn command() -> Command {
    let mut command = Asked::command();
    for (verb, argument, completer) in completers() {
        let words: Vec<&str> = verb.split(' ').collect();
        command = with_completer(command, &words, argument, &completer);
    }
    command
}

/// Which argument of which command is completed by what.
fn completers() -> Vec<(&'static str, &'static str, ArgValueCompleter)> {
    let drives = || ArgValueCompleter::new(drives);
    let shelved = || ArgValueCompleter::new(images);
    let jobs = || ArgValueCompleter::new(jobs);
    let known = || ArgValueCompleter::new(known_drives);
    vec![
        ("contents", "drive", drives()),
        ("drives", "blink", drives()),
        ("write", "to", drives()),
        ("write", "image", shelved()),
        ("write", "accept", ArgValueCompleter::new(findings)),
        ("unpack", "image", shelved()),
        ("unpack", "to", drives()),
        ("unpack", "accept", ArgValueCompleter::new(findings)),
        ("reclaim", "drive", drives()),
        ("reclaim", "accept", ArgValueCompleter::new(findings)),
        ("gauge", "drive", drives()),
        ("gauge", "accept", ArgValueCompleter::new(findings)),
        ("save", "drive", drives()),
        ("rehearse", "what", shelved()),
        ("fetch", "straight_to", drives()),
        ("fetch", "accept", ArgValueCompleter::new(findings)),
        ("compare", "drive", drives()),
        ("compare", "image", shelved()),
        ("check", "image", shelved()),
        ("inspect", "images", shelved()),
        ("shelf verify", "names", ArgValueCompleter::new(names)),
        ("shelf remove", "names", ArgValueCompleter::new(names)),
        ("ledger", "drive", known()),
        ("ledger drive", "tag", known()),
        ("ledger export", "drive", known()),
        ("ledger show", "job", jobs()),
        ("ledger report", "job", jobs()),
        ("ledger label", "job", jobs()),
    ]
}

fn with_completer(command: Command, verb: &[&str], argument: &str, completer: &ArgValueCompleter) -> Command {
    match verb {
        [] => command.mut_arg(argument, |argument| argument.add(completer.clone())),
        [first, rest @ ..] => command.mut_subcommand(first, |inner| with_completer(inner, rest, argument, completer)),
    }
}

/// The options of every command, as far as they were typed.
fn typed() -> Common {
    let words: Vec<_> = std::env::args_os().collect();
    let after = |name: &str| {
        let at = words.iter().position(|word| word == name)?;
        words.get(at.saturating_add(1)).map(PathBuf::from)
    };
    Common { tray: after("--tray"), state: after("--state"), ..Common::default() }
}

fn candidates(all: impl IntoIterator<Item = (String, String)>, typed: &OsStr) -> Vec<CompletionCandidate> {
    let beginning = typed.to_string_lossy().to_ascii_lowercase();
    let fits = |(word, _): &(String, String)| word.to_ascii_lowercase().starts_with(&beginning);
    let one = |(word, help): (String, String)| CompletionCandidate::new(word).help(Some(help.into()));
    all.into_iter().filter(fits).map(one).collect()
}

/// Attached drives that a person may mean. Whatever can't be asked now is not offered.
fn drives(current: &OsStr) -> Vec<CompletionCandidate> {
    let attached = platform(&typed()).ok().and_then(|platform| platform.drives().ok()).unwrap_or_default();
    let meant = attached.into_iter().filter(|drive| !matches!(drive.role(), Role::System | Role::Virtual));
    candidates(meant.map(|drive| (drive.tag.to_string(), drive.name())), current)
}

fn known_drives(current: &OsStr) -> Vec<CompletionCandidate> {
    let mut all: Vec<(String, String)> = rows()
        .into_iter()
        .flat_map(|row| row.drives)
        .map(|one| {
            let name = one.drive.name();
            (one.drive.tag, name)
        })
        .collect();
    all.sort();
    all.dedup();
    candidates(all, current)
}

fn findings(current: &OsStr) -> Vec<CompletionCandidate> {
    let all = RULES.iter().chain(&IMAGE_RULES);
    candidates(all.map(|rule| (rule.id.word().to_owned(), rule.when.to_owned())), current)
}

fn names(current: &OsStr) -> Vec<CompletionCandidate> {
    let items = state_folder(&typed()).and_then(|state| Shelf::open(&state).ok()).map(|shelf| shelf.items().to_vec());
    let one = |item: pyrotyp_core::shelf::Item| (item.name().to_owned(), item.system.clone().unwrap_or_default());
    candidates(items.unwrap_or_default().into_iter().map(one), current)
}

/// Names on the shelf, and files.
fn images(current: &OsStr) -> Vec<CompletionCandidate> {
    let files = clap_complete::engine::PathCompleter::file();
    let files = clap_complete::engine::ValueCompleter::complete(&files, current);
    names(current).into_iter().chain(files).collect()
}

fn rows() -> Vec<pyrotyp_core::ledger::JobRow> {
    let wanted = JobQuery { most: Some(JOBS), ..JobQuery::default() };
    let index = state_folder(&typed()).and_then(|state| Index::of(&state).ok());
    index.and_then(|index| index.jobs(&wanted).ok()).unwrap_or_default()
}

fn jobs(current: &OsStr) -> Vec<CompletionCandidate> {
    let all = rows().into_iter().map(|row| {
        let called = row.called().to_owned();
        (row.job, called)
    });
    candidates(std::iter::once(("last".to_owned(), "the newest".to_owned())).chain(all), current)
}
