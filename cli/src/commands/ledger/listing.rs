//! `pyrotyp ledger`: what was done, and what is on which stick.

use std::path::Path;

use pyrotyp_core::ledger::JobQuery;

use super::found::{find, index, jobs, records, unreadable, wanted};
use super::handing_over;
use crate::asked::{Common, Ledger, LedgerCommand, LedgerFilter, Table};
use crate::exit::{Exit, Failure};
use crate::out::{put, put_as_it_is, put_document};
use crate::session::folders::state_folder;
use crate::show::{json, ledger as words, rows};

/// So many are listed where nobody says how many.
const LISTED: usize = 20;

/// Does what is asked with the records; lists them when nothing is.
pub(crate) fn run(asked: &Ledger, common: &Common) -> Result<Exit, Failure> {
    let state = state_folder(common).ok_or_else(|| {
        Failure::new(Exit::Usage, "there is no home folder for records", "name a folder with --state")
    })?;
    match &asked.command {
        None => list(&state, &asked.filter, common),
        Some(LedgerCommand::Show { job }) => show(&state, job, common),
        Some(LedgerCommand::Drive { tag }) => drive(&state, tag, common),
        Some(LedgerCommand::Report { job, into }) => {
            handing_over::report(&find(&state, job, common)?, &state, into, common)
        }
        Some(LedgerCommand::Label { job, into }) => handing_over::labels(&find(&state, job, common)?, into, common),
        Some(LedgerCommand::Export { table, filter }) => export(&state, *table, filter, common),
    }
}

fn list(state: &Path, filter: &LedgerFilter, common: &Common) -> Result<Exit, Failure> {
    let wanted = JobQuery { most: Some(filter.most.unwrap_or(LISTED)), ..wanted(filter)? };
    let index = index(state, common)?;
    let found = index.jobs(&wanted).map_err(|error| unreadable(state, error))?;
    let all = index.count(&wanted).map_err(|error| unreadable(state, error))?;
    let more = all.saturating_sub(found.len());
    match common.json {
        true => put_document(&json::records(&records(state, &found)))?,
        false => put(&words::list(&found, more, common))?,
    }
    Ok(Exit::Done)
}

fn show(state: &Path, asked: &str, common: &Common) -> Result<Exit, Failure> {
    let record = find(state, asked, common)?;
    match common.json {
        true => put_document(&json::record(&record))?,
        false => put(&words::show(&record, common))?,
    }
    Ok(Exit::Done)
}

fn drive(state: &Path, tag: &pyrotyp_core::drive::Tag, common: &Common) -> Result<Exit, Failure> {
    let wanted = JobQuery { tag: Some(tag.to_string()), ..JobQuery::default() };
    let found = jobs(state, &wanted, common)?;
    match common.json {
        true => put_document(&json::records(&records(state, &found)))?,
        false => put(&words::history(tag.as_str(), &found, common))?,
    }
    Ok(Exit::Done)
}

fn export(state: &Path, table: Table, filter: &LedgerFilter, common: &Common) -> Result<Exit, Failure> {
    let wanted = JobQuery { most: filter.most, ..wanted(filter)? };
    let found = jobs(state, &wanted, common)?;
    match table {
        Table::Json => put_document(&json::records(&records(state, &found)))?,
        Table::Csv => {
            let text = rows::csv(&found).map_err(|error| {
                Failure::new(
                    Exit::Unexpected,
                    format!("can't make the table: {error}"),
                    "report this: it should not happen",
                )
            })?;
            put_as_it_is(&text)?;
        }
    }
    Ok(Exit::Done)
}
