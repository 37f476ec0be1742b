//! A station's sticks as one page that stands alone.

use askama::Template;
use pyrotyp_core::record::{JobResult, Record};
use pyrotyp_core::station::Tally;
use pyrotyp_core::text::Shown;

use crate::show::ledger::local;
use crate::show::text::duration;

#[derive(Template)]
#[template(path = "station.html")]
struct StationPage {
    image: String,
    sha256: Option<String>,
    when: String,
    made: u64,
    wanted: u64,
    failed: u64,
    sticks: Vec<StickRow>,
    version: &'static str,
}

/// A stick.
struct StickRow {
    number: u64,
    tag: String,
    name: String,
    serial: String,
    port: String,
    class: &'static str,
    result: String,
    took: String,
    fault: Option<String>,
    job: String,
}

/// The page of all sticks that were begun, with the records of their jobs in the same order.
///
/// # Errors
/// When it can't be put together, which no tally brings about.
pub(crate) fn station_page(tally: &Tally, records: &[Option<Record>], wanted: u64) -> Result<String, askama::Error> {
    let known = || records.iter().flatten();
    let row = |(number, one): (usize, &pyrotyp_core::station::Try)| {
        let record = records.get(number).and_then(Option::as_ref);
        let outcome = record.and_then(|record| record.drives.first()).map(|drive| &drive.outcome);
        let seconds: f64 = outcome.map_or(0.0, |outcome| outcome.stages.iter().map(|stage| stage.seconds).sum());
        StickRow {
            number: one.number,
            tag: one.drive.tag.shown(),
            name: one.drive.name(),
            serial: one.drive.serial.as_ref().map_or(String::new(), |serial| serial.shown()),
            port: one.port.as_ref().map_or(String::new(), |port| port.shown()),
            class: match one.result {
                Some(JobResult::Verified) => "good",
                _ if one.has_failed() => "bad",
                _ => "care",
            },
            result: one.result.map_or("cut off", JobResult::word).to_owned(),
            took: if seconds > 0.0 { duration(seconds) } else { String::new() },
            fault: outcome.and_then(|outcome| outcome.fault.as_ref()).map(|fault| fault.shown()),
            job: one.job.shown(),
        }
    };
    let first = known().next();
    let last = known().last();
    let when =
        first.zip(last).map_or(String::new(), |(first, last)| match (local(&first.started), local(&last.started)) {
            (from, to) if from == to => from,
            (from, to) => format!("{from} to {to}"),
        });
    let page = StationPage {
        image: first.map_or(String::new(), |record| record.image.called().shown()),
        sha256: known().find_map(|record| record.image.sha256.as_ref()).map(|hex| hex.shown()),
        when,
        made: tally.made(),
        wanted,
        failed: tally.failed(),
        sticks: tally.tries().iter().enumerate().map(row).collect(),
        version: env!("CARGO_PKG_VERSION"),
    };
    page.render()
}
