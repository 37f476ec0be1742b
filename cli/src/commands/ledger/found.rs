//! Jobs that are meant, found by the index.

use std::io;
use std::path::Path;

use pyrotyp_core::ledger;
use pyrotyp_core::ledger::{Index, JobQuery, JobRow};
use pyrotyp_core::plan::SurveyError;
use pyrotyp_core::record::Record;
use pyrotyp_core::text::{Shown, shell};

use crate::asked::{Common, LedgerFilter};
use crate::exit::{Exit, Failure};
use crate::near::nearest;
use crate::out::say;

pub(super) fn unreadable(state: &Path, source: io::Error) -> Failure {
    SurveyError::Records { state: state.to_owned(), source }.into()
}

pub(super) fn wanted(filter: &LedgerFilter) -> Result<JobQuery, Failure> {
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
pub(super) fn index(state: &Path, common: &Common) -> Result<Index, Failure> {
    let index = Index::of(state).map_err(|error| unreadable(state, error))?;
    let unread = index.unreadable().map_err(|error| unreadable(state, error))?;
    if let Some(first) = unread.first() {
        let records = if unread.len() == 1 { "1 record".to_owned() } else { format!("{} records", unread.len()) };
        let file = state.join("jobs").join(format!("{first}.json"));
        say(common, &format!("{records} can't be read or come from a later version, such as {}\n", file.shown()));
    }
    Ok(index)
}

pub(super) fn jobs(state: &Path, wanted: &JobQuery, common: &Common) -> Result<Vec<JobRow>, Failure> {
    index(state, common)?.jobs(wanted).map_err(|error| unreadable(state, error))
}

/// The records of jobs, whole; one that was removed meanwhile is left out.
pub(super) fn records(state: &Path, jobs: &[JobRow]) -> Vec<Record> {
    jobs.iter().filter_map(|job| ledger::read(state, &job.job).ok().flatten()).collect()
}

/// The job with this name, or the only one whose name begins or ends like it; `last` is the newest.
fn find_row(state: &Path, asked: &str, common: &Common) -> Result<JobRow, Failure> {
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

/// The record of that job.
pub(super) fn find(state: &Path, asked: &str, common: &Common) -> Result<Record, Failure> {
    let job = find_row(state, asked, common)?;
    let gone =
        || Failure::new(Exit::Unexpected, "the record was removed meanwhile", "pyrotyp ledger lists what is there");
    ledger::read(state, &job.job).map_err(|error| unreadable(state, error))?.ok_or_else(gone)
}
