//! `pyrotyp check`: does the image match its published checksums?

use std::path::Path;

use pyrotyp_core::Cancel;
use pyrotyp_core::digest::{self, Checked, Expected, Sum, SumsBeside};
use pyrotyp_core::image::{ImageFile, ReadAt};

use super::open_image;
use crate::asked::{Against, Common};
use crate::exit::{Exit, Failure};
use crate::put;
use crate::show::progress::Progress;
use crate::show::{json, text};

/// What was found out about an image's checksums.
pub struct Findings {
    /// Everything computed.
    pub sums: Vec<Sum>,
    /// What was expected, beside what was found.
    pub checked: Vec<Checked>,
    /// Lists that do not name the image.
    pub unlisted: Vec<std::path::PathBuf>,
}

impl Findings {
    /// Whether nothing speaks against the image.
    pub fn ok(&self) -> bool {
        self.checked.iter().all(Checked::matches)
    }
}

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
pub fn compute(image: &ImageFile, expected: SumsBeside, common: &Common, cancel: &Cancel) -> Result<Findings, Failure> {
    let mut progress = Progress::of_check("check", Some(image.size()), common);
    let (sums, checked) = digest::check(image, &expected.expected, cancel, &mut |done| progress.checked(done))?;
    progress.finish();
    Ok(Findings { sums, checked, unlisted: expected.unlisted })
}

/// The failure that a checksum makes, both values shown.
pub fn mismatch(path: &Path, findings: &Findings) -> Option<Failure> {
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
    let image = open_image(path)?.file;
    let findings = compute(&image, expected(path, against)?, common, cancel)?;
    if common.json {
        put(&json::check(path, &findings))?;
    } else {
        put(&text::check(path, &findings, common))?;
    }
    match mismatch(path, &findings) {
        Some(failure) => Err(failure),
        None => Ok(Exit::Done),
    }
}
