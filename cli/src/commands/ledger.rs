//! `pyrotyp ledger`: what was done, and what is on which stick.

use std::io;
use std::path::Path;

use pyrotyp_core::ledger;
use pyrotyp_core::ledger::{Index, JobQuery, JobRow};
use pyrotyp_core::plan::SurveyError;
use pyrotyp_core::record::Record;
use pyrotyp_core::text::{Shown, shell};

use crate::asked::{Common, Ledger, LedgerCommand, LedgerFilter, Table};
use crate::exit::{Exit, Failure};
use crate::near::nearest;
use crate::out::{put, put_as_it_is, put_document, say};
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
        Some(LedgerCommand::Export { table, filter }) => export(&state, *table, filter, common),
    }
}

fn unreadable(state: &Path, source: io::Error) -> Failure {
    SurveyError::Records { state: state.to_owned(), source }.into()
}

fn wanted(filter: &LedgerFilter) -> Result<JobQuery, Failure> {
    let image = [filter.words.join(" "), filter.image.clone().unwrap_or_default()].join(" ").trim().to_owned();
    let since = filter.since.map(|day| day.to_zoned(jiff::tz::TimeZone::system())).transpose();
    let since = since.map_err(|error| {
        Failure::new(Exit::Usage, format!("that day is none here: {error}"), "give it as YYYY-MM-DD")
    })?;
    Ok(JobQuery {
        tag: filter.drive.as_ref().map(|tag| tag.to_string()),
        image: Some(image).filter(|words| !words.is_empty()),
        result: filter.result,
        since: since.map(|since| since.timestamp().to_string()),
        ..JobQuery::default()
    })
}

/// The index; records that it could not take in are told.
fn index(state: &Path, common: &Common) -> Result<Index, Failure> {
    let index = Index::of(state).map_err(|error| unreadable(state, error))?;
    let unread = index.unreadable().map_err(|error| unreadable(state, error))?;
    if let Some(first) = unread.first() {
        let records = if unread.len() == 1 { "1 record".to_owned() } else { format!("{} records", unread.len()) };
        let file = state.join("jobs").join(format!("{first}.json"));
        say(common, &format!("{records} can't be read or come from a later version, such as {}\n", file.shown()));
    }
    Ok(index)
}

fn jobs(state: &Path, wanted: &JobQuery, common: &Common) -> Result<Vec<JobRow>, Failure> {
    index(state, common)?.jobs(wanted).map_err(|error| unreadable(state, error))
}

/// The records of jobs, whole; one that was removed meanwhile is left out.
fn records(state: &Path, jobs: &[JobRow]) -> Vec<Record> {
    jobs.iter().filter_map(|job| ledger::read(state, &job.job).ok().flatten()).collect()
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

/// The job with this name, or the only one whose name begins or ends like it; `last` is the newest.
fn find(state: &Path, asked: &str, common: &Common) -> Result<JobRow, Failure> {
    let all = jobs(state, &JobQuery::default(), common)?;
    if asked == "last" {
        return all.into_iter().next().ok_or_else(|| {
            Failure::new(Exit::Usage, "no job is on record yet", "pyrotyp write IMAGE --to TAG makes the first one")
        });
    }
    let fits = |job: &&JobRow| job.job == asked || job.job.starts_with(asked) || job.job.ends_with(asked);
    let exact = all.iter().find(|job| job.job == asked);
    let fit: Vec<&JobRow> = exact.map_or_else(|| all.iter().filter(fits).collect(), |one| vec![one]);
    match fit.as_slice() {
        [one] => Ok((*one).clone()),
        [] => {
            let meant = nearest(asked, all.iter().map(|job| job.job.as_str()));
            let next = meant.map_or("pyrotyp ledger lists them".to_owned(), |meant| {
                format!("did you mean {}? pyrotyp ledger lists them all", shell::word(meant))
            });
            Err(Failure::new(Exit::Usage, format!("no job is called {}", asked.shown()), next))
        }
        [first, ..] => {
            let text = format!("{} jobs may be meant by {}, the newest is {}", fit.len(), asked.shown(), first.job);
            Err(Failure::new(
                Exit::Usage,
                text,
                format!("say more of it: pyrotyp ledger show {}", shell::word(&first.job)),
            ))
        }
    }
}

fn show(state: &Path, asked: &str, common: &Common) -> Result<Exit, Failure> {
    let job = find(state, asked, common)?;
    let gone =
        || Failure::new(Exit::Unexpected, "the record was removed meanwhile", "pyrotyp ledger lists what is there");
    let record = ledger::read(state, &job.job).map_err(|error| unreadable(state, error))?.ok_or_else(gone)?;
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
