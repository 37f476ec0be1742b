//! `pyrotyp settings`: what holds, and where it came from.

use crate::asked::Common;
use crate::exit::{Exit, Failure};
use crate::out::{put, put_document};
use crate::session::preferences::Preferences;
use crate::session::settings_file;
use crate::show::{json, settings};

/// Shows each key with its value.
pub(crate) fn run(common: &Common) -> Result<Exit, Failure> {
    let rows = Preferences::of(common)?.rows();
    match common.json {
        true => put_document(&json::settings(&rows))?,
        false => put(&settings::table(&rows, settings_file::own().as_deref(), common))?,
    }
    Ok(Exit::Done)
}
