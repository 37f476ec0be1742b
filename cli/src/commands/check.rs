//! `pyrotyp check`: does the image match its published checksums?

use std::path::Path;

use pyrotyp_core::Cancel;
use pyrotyp_core::digest::{self, Expected, FileList, Report, SumsBeside};
use pyrotyp_core::image::{ImageFile, ReadAt};

use super::{OpenedImage, open_image};
use crate::asked::{Against, Common};
use crate::exit::{Exit, Failure};
use crate::put;
use crate::show::progress::Progress;
use crate::show::{json, text};

/// Most damaged files that are named.
const NAMES_TOLD: usize = 8;

/// All checksums that are expected of the image: typed, listed in a file given, or listed beside it.
pub fn expected(path: &Path, against: &Against) -> Result<SumsBeside, Failure> {
    let typed = against.sum.iter().map(|sum| Expected { sum: sum.clone(), source: "--sum".to_owned() });
    let mut all = SumsBeside { expected: typed.collect(), unlisted: Vec::new() };
    let listed = match &against.sums {
        Some(list) => {
            let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
            digest::sums_in(list, name)?
        }
        None => digest::sums_beside(path)?,
    };
    all.expected.extend(listed.expected);
    all.unlisted.extend(listed.unlisted);
    Ok(all)
}

/// Computes what is expected and compares.
pub fn compute(image: &ImageFile, expected: SumsBeside, common: &Common, cancel: &Cancel) -> Result<Report, Failure> {
    let mut progress = Progress::of_check("check", Some(image.size()), common);
    let (sums, checked) = digest::check(image, &expected.expected, cancel, &mut |done| progress.checked(done))?;
    progress.finish();
    Ok(Report { sums, checked, unlisted: expected.unlisted, inside: None })
}

/// Checks every file of an unpacked image against the list that lies in it, if there is one.
pub fn inside(image: &OpenedImage, common: &Common, cancel: &Cancel) -> Result<Option<FileList>, Failure> {
    let Some(volume) = image.inspection.volume.as_ref().filter(|_| image.inspection.container.is_none()) else {
        return Ok(None);
    };
    let mut progress: Option<Progress> = None;
    let found = digest::file_list(&*image.file, volume, cancel, &mut |done, total| {
        progress.get_or_insert_with(|| Progress::of_check("files", Some(total), common)).checked(done);
    })?;
    progress.into_iter().for_each(Progress::finish);
    Ok(found)
}

/// The failure that a damaged file inside the image makes.
pub fn damaged_inside(path: &Path, list: &FileList) -> Option<Failure> {
    let damaged = list.damaged.iter().chain(&list.missing);
    let names: Vec<&str> = damaged.map(String::as_str).take(NAMES_TOLD).collect();
    let more = (list.damaged.len() + list.missing.len()).saturating_sub(names.len());
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let text = format!("{}: damaged by its own list {}: {}{more}", path.display(), list.source, names.join(", "));
    (!list.ok()).then(|| Failure::new(Exit::Checksum, text, "download the image again"))
}

/// The failure that a checksum makes, both values shown.
pub fn mismatch(path: &Path, findings: &Report) -> Option<Failure> {
    let wrong = findings.checked.iter().find(|checked| !checked.matches())?;
    let text = format!(
        "{}: the {} does not match {}\n   published  {}\n   this file  {}",
        path.display(),
        wrong.found.algorithm,
        wrong.expected.source,
        wrong.expected.sum.hex,
        wrong.found.hex
    );
    let next = "download the image again; if it stays so, the list may be for another release";
    Some(Failure::new(Exit::Checksum, text, next))
}

/// Checks one image.
pub fn run(path: &Path, against: &Against, common: &Common, cancel: &Cancel) -> Result<Exit, Failure> {
    let image = open_image(path)?;
    let mut findings = compute(&image.file, expected(path, against)?, common, cancel)?;
    findings.inside = inside(&image, common, cancel)?;
    if common.json {
        put(&json::check(path, &findings))?;
    } else {
        put(&text::check(path, &findings, common))?;
    }
    let damaged = findings.inside.as_ref().and_then(|list| damaged_inside(path, list));
    match mismatch(path, &findings).or(damaged) {
        Some(failure) => Err(failure),
        None => Ok(Exit::Done),
    }
}
