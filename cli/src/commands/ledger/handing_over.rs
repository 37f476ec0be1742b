//! What goes with a stick: a page about its job, and a label.

use std::path::{Path, PathBuf};

use pyrotyp_core::ledger;
use pyrotyp_core::machine::{self, Existing};
use pyrotyp_core::record::{Record, TrialStart};
use pyrotyp_core::text::{Shown, shell};

use crate::asked::Common;
use crate::exit::{Exit, Failure, plain};
use crate::out::{put, put_document};
use crate::paper::{self, SleeveLabel};
use crate::show::json;

/// What a label is drawn as.
#[derive(Clone, Copy)]
enum LabelFormat {
    Svg,
    Png,
}

/// Puts a page about the job into a new file.
pub(super) fn report(record: &Record, state: &Path, into: &Path, common: &Common) -> Result<Exit, Failure> {
    // A page without a picture that is gone is better than none.
    let picture = |start: &TrialStart| ledger::picture(state, start.picture.as_deref()?).ok().flatten();
    let pictures: Vec<_> = record.starts.iter().map(picture).collect();
    let page = paper::page(record, &pictures).map_err(|error| not_made("page", &error))?;
    keep(into, page.as_bytes())?;
    told("page", "next: open it in a browser; it prints on a sheet of A4\n", record, &[into.to_owned()], common)
}

/// Puts a label for each stick that the job made into a new file.
pub(super) fn labels(record: &Record, into: &Path, common: &Common) -> Result<Exit, Failure> {
    let ending = into.extension().and_then(|ending| ending.to_str()).map(str::to_ascii_lowercase);
    let drawing = match ending.as_deref() {
        Some("svg") => LabelFormat::Svg,
        Some("png") => LabelFormat::Png,
        _ => {
            let text = format!("{} is no name for a label", into.shown());
            return Err(Failure::new(Exit::Usage, text, "let it end in .svg or .png"));
        }
    };
    let made = record.drives.iter().filter_map(|drive| Some((drive, paper::label(record, drive)?)));
    let made: Vec<_> = made.collect();
    if made.is_empty() {
        let (job, kind, result) = (record.job.shown(), record.kind.word(), record.result.word());
        let text = format!("job {job} made no stick that could be labelled: {kind}, {result}");
        let next = format!("pyrotyp ledger show {} tells why", shell::word(&record.job));
        return Err(Failure::new(Exit::Usage, text, next));
    }
    let several = record.drives.len() > 1;
    let mut files = Vec::new();
    for (drive, label) in &made {
        let file = if several { with_tag(into, &drive.drive.tag) } else { into.to_owned() };
        keep(&file, &drawn(label, drawing)?)?;
        files.push(file);
    }
    told("label", "", record, &files, common)
}

fn drawn(label: &SleeveLabel, drawing: LabelFormat) -> Result<Vec<u8>, Failure> {
    match drawing {
        LabelFormat::Svg => Ok(paper::svg(label).into_bytes()),
        LabelFormat::Png => paper::png(label).map_err(|error| not_made("label", &error)),
    }
}

/// `label.svg` of drive 590J1 is `label-590J1.svg`.
fn with_tag(into: &Path, tag: &str) -> PathBuf {
    let tag = paper::tag_in_name(tag);
    let (stem, ending) = (into.file_stem().unwrap_or_default(), into.extension().unwrap_or_default());
    into.with_file_name(format!("{}-{tag}.{}", stem.to_string_lossy(), ending.to_string_lossy()))
}

fn not_made(what: &str, error: &dyn std::error::Error) -> Failure {
    Failure::new(Exit::Unexpected, format!("the {what} can't be made: {error}"), "report this: it should not happen")
}

/// Writes a new file, whole or not at all; nothing that is there is replaced.
fn keep(file: &Path, bytes: &[u8]) -> Result<(), Failure> {
    match machine::put_file(file, bytes, Existing::Stays) {
        Ok(true) => Ok(()),
        Ok(false) => {
            let text = format!("{} is there already, and stays as it is", file.shown());
            Err(Failure::new(Exit::Usage, text, "name a new file with --into"))
        }
        Err(error) => {
            let text = format!("can't write {}: {}", file.shown(), plain(&error));
            Err(Failure::new(Exit::Unexpected, text, "name a file in another folder with --into"))
        }
    }
}

fn told(what: &str, next: &str, record: &Record, files: &[PathBuf], common: &Common) -> Result<Exit, Failure> {
    if common.json {
        put_document(&json::handed_over(record, files))?;
    } else {
        let job = record.job.shown();
        let lines: String = files.iter().map(|file| format!("{what} of job {job}: {}\n", file.shown())).collect();
        put(&(lines + if common.quiet { "" } else { next }))?;
    }
    Ok(Exit::Done)
}
