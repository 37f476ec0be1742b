//! The log of what is asked of the system: a line of JSON each, in a file.

use std::path::Path;
use std::sync::Mutex;

use pyrotyp_core::fetch::public_address;
use pyrotyp_core::machine;
use pyrotyp_core::text::Shown;
use tracing::Level;

use crate::exit::{Exit, Failure, plain};

/// From here on, the log goes into this file, which begins anew, as far as this level.
pub(crate) fn begin(file: &Path, level: Level) -> Result<(), Failure> {
    let fail = |why: &str| {
        let text = format!("can't write the log {}: {why}", file.shown());
        Failure::new(Exit::Usage, text, "name another file with --log")
    };
    let into = machine::begin_own(file).map_err(|error| fail(&plain(&error)))?;
    let log = tracing_subscriber::fmt().json().flatten_event(true).with_max_level(level).with_writer(Mutex::new(into));
    log.try_init().map_err(|error| fail(&error.to_string()))?;
    let words: Vec<String> = std::env::args_os().map(|word| public_word(&word.to_string_lossy())).collect();
    tracing::info!(version = env!("CARGO_PKG_VERSION"), ?words, "begun");
    Ok(())
}

/// Removes credentials, query and fragment from an address on the command line.
fn public_word(word: &str) -> String {
    match word.split_once('=') {
        Some((option, value)) if option.starts_with("--") => format!("{option}={}", public_word(value)),
        _ if word.contains("://") => public_address(word),
        _ => word.to_owned(),
    }
}
