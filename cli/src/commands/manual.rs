//! `pyrotyp manual`: man pages and completions, made from the command line's own definitions.

use std::path::Path;

use clap::CommandFactory;
use clap_complete::env::Shells;
use clap_mangen::Man;
use pyrotyp_core::machine::{self, Existing};
use pyrotyp_core::text::Shown;

use crate::asked::{Asked, Common};
use crate::exit::{Exit, Failure, plain};
use crate::out::put;

/// The variable by which a shell asks for words; others ask other programs by others.
pub(crate) const VARIABLE: &str = "PYROTYP_COMPLETE";
/// Where shells look for completions, below a folder such as `/usr/share`.
const COMPLETIONS: [(&str, &str); 3] = [
    ("bash", "bash-completion/completions/pyrotyp"),
    ("zsh", "zsh/site-functions/_pyrotyp"),
    ("fish", "fish/vendor_completions.d/pyrotyp.fish"),
];

/// Writes all of them below this folder.
pub(crate) fn run(into: &Path, common: &Common) -> Result<Exit, Failure> {
    let mut pages = 0usize;
    for command in commands() {
        let mut page = Vec::new();
        let name = command.get_display_name().unwrap_or_else(|| command.get_name()).to_owned();
        Man::new(command).render(&mut page).map_err(|error| not_written(into, &plain(&error)))?;
        keep(&into.join("man/man1").join(format!("{name}.1")), &page)?;
        pages = pages.saturating_add(1);
    }
    let shells = Shells::builtins();
    for (shell, file) in COMPLETIONS {
        let Some(shell) = shells.completer(shell) else { continue };
        let mut script = Vec::new();
        let made = shell.write_registration(VARIABLE, "pyrotyp", "pyrotyp", "pyrotyp", &mut script);
        made.map_err(|error| not_written(into, &plain(&error)))?;
        keep(&into.join(file), &script)?;
    }
    let mut text = format!("{pages} man pages and completions for bash, zsh and fish are in {}\n", into.shown());
    if !common.quiet {
        text.push_str("next: put them below /usr/local/share, or ~/.local/share; then `man pyrotyp-write`\n");
    }
    put(&text)?;
    Ok(Exit::Done)
}

/// The program, and each of its commands by its full name.
fn commands() -> Vec<clap::Command> {
    let mut all = Asked::command();
    all.build();
    let mut found = Vec::new();
    gather(all, &mut found);
    found
}

fn gather(command: clap::Command, found: &mut Vec<clap::Command>) {
    let inner = command.get_subcommands().filter(|one| one.get_name() != "help" && !one.is_hide_set());
    let inner: Vec<_> = inner.cloned().collect();
    found.push(command);
    inner.into_iter().for_each(|one| gather(one, found));
}

fn not_written(into: &Path, why: &str) -> Failure {
    Failure::new(
        Exit::Unexpected,
        format!("can't write into {}: {why}", into.shown()),
        "name another folder with --into",
    )
}

fn keep(file: &Path, bytes: &[u8]) -> Result<(), Failure> {
    machine::put_file(file, bytes, Existing::Replaced).map(drop).map_err(|error| not_written(file, &plain(&error)))
}
