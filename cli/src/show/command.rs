//! Commands in texts, as they can be typed here: everywhere else they are written `pyrotyp VERB …`, and this makes of them what works on
//! this bench: with the program's own path, behind `sudo` where that is how it was called, and with the folders that were named.

use std::borrow::Cow;
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use clap::CommandFactory;
use pyrotyp_core::text::shell;

use crate::asked::{Asked, Common};

/// The program's name, as texts have it.
const NAME: &str = "pyrotyp ";
/// Commands that look at drives.
const OF_DRIVES: [&str; 7] = ["drives", "contents", "write", "compare", "reclaim", "gauge", "save"];

/// How this program was called.
#[derive(Clone, Debug, Default)]
struct Call {
    program: String,
    tray: String,
    state: String,
}

static CALL: Mutex<Option<Call>> = Mutex::new(None);

/// From here on, commands are told as they can be typed beside this one.
pub(crate) fn told_beside(common: &Common) {
    let own = std::env::args_os().next().unwrap_or_default();
    let has_path = Path::new(&own).components().count() > 1;
    let program = if has_path { shell::path(Path::new(&own)) } else { NAME.trim_end().to_owned() };
    let sudo = if std::env::var_os("SUDO_UID").is_some() { "sudo " } else { "" };
    let option = |name: &str, folder: &Option<std::path::PathBuf>| {
        folder.as_ref().map_or(String::new(), |folder| format!(" --{name} {}", shell::path(folder)))
    };
    *CALL.lock().unwrap_or_else(PoisonError::into_inner) = Some(Call {
        program: format!("{sudo}{program}"),
        tray: option("tray", &common.tray),
        state: option("state", &common.state),
    });
}

/// The text with its commands as they can be typed here.
pub(crate) fn as_typed(text: &str) -> Cow<'_, str> {
    let call = CALL.lock().unwrap_or_else(PoisonError::into_inner).clone();
    match call {
        Some(call) if text.contains(NAME) => Cow::Owned(rewrite(text, &call)),
        _ => Cow::Borrowed(text),
    }
}

fn rewrite(text: &str, call: &Call) -> String {
    let commands = Asked::command();
    let verbs: Vec<&str> = commands.get_subcommands().map(clap::Command::get_name).collect();
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find(NAME) {
        let (before, after) = rest.split_at(at);
        let (_, arguments) = after.split_at(NAME.len());
        let verb = arguments.split(|c: char| !c.is_ascii_alphabetic()).next().unwrap_or_default();
        // Part of a path, or of a sentence.
        let is_shown_as_typed = before.ends_with("$ ");
        let is_word = !is_shown_as_typed && !before.ends_with(|c: char| c.is_alphanumeric() || "/-_.".contains(c));
        out.push_str(before);
        if is_word && verbs.contains(&verb) {
            let tray = if OF_DRIVES.contains(&verb) { call.tray.as_str() } else { "" };
            let state = if verb == "demo" { "" } else { call.state.as_str() };
            // Where a verb has words of its own, the options go behind them.
            let below = arguments.get(verb.len()..).unwrap_or_default();
            let next =
                below.trim_start_matches(' ').split(|c: char| !c.is_ascii_alphabetic()).next().unwrap_or_default();
            let has_next = commands.find_subcommand(verb).is_some_and(|verb| verb.find_subcommand(next).is_some());
            let next = if has_next && below.starts_with(' ') { format!(" {next}") } else { String::new() };
            out.push_str(&format!("{} {verb}{next}{tray}{state}", call.program));
            rest = below.get(next.len()..).unwrap_or_default();
        } else {
            out.push_str(NAME);
            rest = arguments;
        }
    }
    out.push_str(rest);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_command_is_told_as_it_works_here_and_other_words_are_left_alone() {
        let call = Call {
            program: "sudo ./pyrotyp".to_owned(),
            tray: " --tray 'my tray'".to_owned(),
            state: " --state s".to_owned(),
        };
        let text = "next: pyrotyp write a.iso --to DBR7J, `pyrotyp drives`; pyrotyp shelf remove a\n/opt/pyrotyp write; a pyrotyp user";
        assert_eq!(
            rewrite(text, &call),
            "next: sudo ./pyrotyp write --tray 'my tray' --state s a.iso --to DBR7J, \
             `sudo ./pyrotyp drives --tray 'my tray' --state s`; sudo ./pyrotyp shelf remove --state s a\n\
             /opt/pyrotyp write; a pyrotyp user"
        );
    }
}
