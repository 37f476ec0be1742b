//! Slips of the hand: what was probably meant by a word that nothing here has, and errors of the command line in the shape of all others.

use std::io::Write as _;

use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{CommandFactory, Error};
use pyrotyp_core::drive::Tag;
use pyrotyp_core::text::{Shown, shell};

use crate::asked::{Asked, OutputFor};
use crate::exit::{Exit, Failure};
use crate::near::nearest;
use crate::out::failed;

/// Words that people use for what is called otherwise here.
const OTHER_WORDS: [(&str, &[&str]); 11] = [
    ("save", &["backup", "dump", "clone", "read"]),
    ("gauge", &["test", "probe", "health", "bench", "benchmark", "scan", "capacity"]),
    ("reclaim", &["format", "wipe", "erase", "reset", "clean", "restore"]),
    ("write", &["flash", "burn", "copy", "put", "make", "create", "install"]),
    ("drives", &["list", "ls", "devices", "disks", "usb"]),
    ("compare", &["verify", "diff", "readback"]),
    ("check", &["checksum", "hash", "sum", "sha256"]),
    ("inspect", &["info", "identify", "file", "show"]),
    ("contents", &["look", "files", "dir"]),
    ("fetch", &["download", "get", "pull"]),
    ("shelf", &["images", "library", "store"]),
];
/// Tells an error of the command line; help and version are no errors.
pub(crate) fn told(error: &Error) -> Exit {
    match error.kind() {
        ErrorKind::DisplayHelp | ErrorKind::DisplayVersion => {
            // Nobody reads it.
            let _ = error.print();
            Exit::Done
        }
        ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand => {
            let _ = write!(anstream::stderr(), "{}", error.render().ansi());
            Exit::Usage
        }
        _ => {
            let is_json = std::env::args_os().any(|word| word == "--json");
            failed(&failure(error), if is_json { OutputFor::Programs } else { OutputFor::People })
        }
    }
}

fn context(error: &Error, kind: ContextKind) -> Vec<String> {
    match error.get(kind) {
        Some(ContextValue::String(one)) => vec![one.clone()],
        Some(ContextValue::Strings(all)) => all.clone(),
        _ => Vec::new(),
    }
}

fn failure(error: &Error) -> Failure {
    let of = |kind| context(error, kind);
    let first = |kind| of(kind).into_iter().next().unwrap_or_default();
    let words: Vec<String> = std::env::args_os().skip(1).map(|word| word.to_string_lossy().into_owned()).collect();
    let commands = Asked::command();
    let is_verb = |word: &&String| commands.get_subcommands().any(|command| command.get_name() == word.as_str());
    let verb = words.iter().find(is_verb);
    let help = verb.map_or("pyrotyp --help".to_owned(), |verb| format!("pyrotyp {verb} --help"));
    let (arg, value) = (first(ContextKind::InvalidArg), first(ContextKind::InvalidValue));
    let (text, meant) = match error.kind() {
        ErrorKind::InvalidSubcommand => {
            let asked = first(ContextKind::InvalidSubcommand);
            let other = OTHER_WORDS.iter().find(|(_, words)| words.contains(&asked.as_str()));
            let names = commands.get_subcommands().map(clap::Command::get_name);
            let meant = other.map(|(verb, _)| *verb).or_else(|| nearest(&asked, names));
            (format!("there is no command `{}`", asked.shown()), meant.map(|verb| format!("pyrotyp {verb}")))
        }
        ErrorKind::UnknownArgument if arg.starts_with('-') => {
            let meant = of(ContextKind::SuggestedArg).into_iter().next();
            (format!("there is no option `{}`", arg.shown()), meant)
        }
        ErrorKind::UnknownArgument => {
            let is_write = verb.is_some_and(|verb| verb == "write");
            let is_drive = arg.parse::<Tag>().is_ok() || arg.starts_with("/dev/");
            let meant = (is_write && is_drive).then(|| format!("--to {}", shell::word(&arg)));
            (format!("`{}` is a word too many", arg.shown()), meant)
        }
        ErrorKind::InvalidValue | ErrorKind::ValueValidation => {
            let why = std::error::Error::source(error).map(|why| format!(": {}", why.to_string().shown()));
            let valid = of(ContextKind::ValidValue);
            let valid = if valid.is_empty() { String::new() } else { format!("; it takes {}", valid.join(", ")) };
            let text = match value.as_str() {
                "" => format!("{arg} needs a value{valid}"),
                value => format!("`{}` can't be given for {arg}{}{valid}", value.shown(), why.unwrap_or_default()),
            };
            (text, of(ContextKind::SuggestedValue).into_iter().next())
        }
        ErrorKind::MissingRequiredArgument => {
            (format!("something is missing: {}", of(ContextKind::InvalidArg).join(" ")), None)
        }
        ErrorKind::ArgumentConflict => {
            let other = of(ContextKind::PriorArg).join(", ");
            (
                if other.is_empty() || other == arg {
                    format!("{arg} is given twice")
                } else {
                    format!("{arg} and {other} exclude each other")
                },
                None,
            )
        }
        _ => {
            let text = error.to_string();
            let line = text.lines().next().unwrap_or_default();
            (line.trim_start_matches("error: ").shown(), None)
        }
    };
    let next = meant.map_or(help.clone(), |meant| format!("did you mean {meant}? Else see {help}"));
    Failure::new(Exit::Usage, text, next)
}
