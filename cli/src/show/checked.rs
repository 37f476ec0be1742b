//! How a check came out, for people.

use std::fmt::Write;
use std::path::Path;

use pyrotyp_core::Level;
use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::image::Inspection;
use pyrotyp_core::published::signature::{Fault, Key};
use pyrotyp_core::published::{EmbeddedReport, PiecesReport, Proof, Report, Unusable, Vouched};
use pyrotyp_core::text::{Shown, shell};

use super::inspected::{finding_line, verdict_words};
use super::style::{BAD, CARE, GOOD, NAME, of_verdict};
use crate::asked::Common;
use crate::exit::Failure;

/// Most damaged places that are told one by one.
const PLACES_TOLD: usize = 6;

/// Writing to a string never fails, so the result of `write!` is dropped.
macro_rules! line {
    ($out:expr, $head:expr, $($arg:tt)*) => {
        let _ = writeln!($out, "  {:<9}{}", $head, format_args!($($arg)*));
    };
}

/// All that was found out, what it proves, and what to do next with an image that is fit to be written.
pub(crate) fn check(path: &Path, findings: &Report, unfit: Option<&Failure>, common: &Common) -> String {
    let mut out = format!("{NAME}{}{NAME:#}\n", path.shown());
    found_out(&mut out, path, findings);
    if let Some(next) = next(findings).filter(|_| unfit.is_none() && !common.quiet) {
        line!(out, "next", "{next}");
    }
    out
}

/// What was fetched, and `name`, under which the shelf has it.
pub(crate) fn fetched(path: &Path, name: Option<&str>, is: &Inspection, findings: &Report, common: &Common) -> String {
    let mut out = format!("{NAME}{}{NAME:#}\n", path.shown());
    let what = is.title();
    if let Some(what) = what {
        line!(out, "is", "{}", what.shown());
    }
    let style = of_verdict(is.verdict);
    line!(out, "verdict", "{style}{}{style:#}", verdict_words(is.verdict, is));
    for finding in is.findings.iter().filter(|finding| finding.level != Level::Note) {
        out.push_str(&finding_line(finding));
    }
    found_out(&mut out, path, findings);
    let is_fit = is.findings.iter().all(|finding| finding.level != Level::Stop);
    if !common.quiet && is_fit {
        let known = name.map_or_else(|| shell::path(path), shell::word);
        line!(out, "next", "pyrotyp write {known} --to TAG");
    }
    out
}

/// The path of something that belongs to the image: its name alone, if it lies in the same folder.
fn beside(image: &Path, other: &str) -> String {
    let folder = image.parent().filter(|folder| !folder.as_os_str().is_empty());
    let inner = folder.and_then(|folder| Path::new(other).strip_prefix(folder).ok()).and_then(Path::to_str);
    inner.unwrap_or(other).shown()
}

fn found_out(out: &mut String, image: &Path, findings: &Report) {
    for vouched in &findings.signatures {
        signature(out, image, vouched);
    }
    if let Some(key) = &findings.missed_key {
        line!(out, "signed", "{CARE}no{CARE:#}, although this system was until now, by {}", name_of(key));
        line!(out, "", "key {}", key.fingerprint());
    }
    for checked in &findings.checked {
        if !checked.matches() && !checked.expected.is_told {
            let list = beside(image, &checked.expected.source);
            line!(out, "checksum", "{BAD}matches none{BAD:#} of the kinds that it may be of: {list}");
            continue;
        }
        let (style, word) = if checked.matches() { (GOOD, "matches") } else { (BAD, "does not match") };
        line!(
            out,
            checked.found.algorithm.to_string(),
            "{style}{word}{style:#} {}",
            beside(image, &checked.expected.source)
        );
        line!(out, "", "{}", checked.found.hex);
    }
    for Unusable { file, why } in &findings.unusable {
        line!(out, "unused", "{CARE}{}{CARE:#}: {why}", beside(image, &file.to_string_lossy()));
    }
    for list in &findings.unlisted {
        line!(
            out,
            "list",
            "{CARE}unlisted{CARE:#}: {} does not name this file",
            beside(image, &list.to_string_lossy())
        );
    }
    for pieces in &findings.pieces {
        torrent(out, image, pieces);
    }
    if let Some(report) = &findings.embedded {
        embedded(out, report);
    }
    if let Some(list) = &findings.inside {
        let (style, word) = if list.ok() { (GOOD, "all match") } else { (BAD, "not all match") };
        line!(out, "inside", "{} lies in it and names {} files: {style}{word}{style:#}", list.source, list.files);
    }
    if findings.checked.is_empty() {
        for sum in &findings.sums {
            line!(out, sum.algorithm.to_string(), "{}", sum.hex);
        }
    }
    if let Some(proven) = proven(findings) {
        line!(out, "proven", "{proven}");
    }
}

fn signature(out: &mut String, image: &Path, vouched: &Vouched) {
    let (file, over) = (beside(image, &vouched.file), beside(image, &vouched.over));
    let signs = if over == file { file.to_owned() } else { format!("{file} signs {over}") };
    match (&vouched.key, &vouched.fault) {
        (Some(key), None) => {
            let made = vouched.made.map(|made| made.strftime(", made %Y-%m-%d").to_string()).unwrap_or_default();
            line!(out, "signed", "{GOOD}good{GOOD:#}: {signs}{made}");
            if let Some(owner) = key.owner() {
                line!(out, "", "by {}", owner.shown());
            }
            line!(out, "", "key {}", key.fingerprint());
            if vouched.is_first_use {
                let advice = "compare it with the publisher's page; it is remembered from now on";
                line!(out, "", "{CARE}first use{CARE:#} of this key: {advice}");
            }
        }
        (_, Some(fault)) => {
            if vouched.is_refusal {
                line!(out, "signed", "{BAD}not good{BAD:#}: {signs}");
            } else {
                line!(out, "signed", "{CARE}not checked{CARE:#}: {signs}");
                line!(out, "", "{fault}");
            }
        }
        (None, None) => {}
    }
}

fn torrent(out: &mut String, image: &Path, report: &PiecesReport) {
    let (style, word) = if report.ok() { (GOOD, "all match") } else { (BAD, "not all match") };
    let (source, pieces) = (beside(image, &report.source), &report.pieces);
    let (style, word) = if *pieces == 0 { (CARE, "nothing compared") } else { (style, word) };
    let unit = if *pieces == 1 { "piece" } else { "pieces" };
    line!(out, "pieces", "{source}, {pieces} {unit}: {style}{word}{style:#}");
    if let Some(length) = report.other_length {
        line!(out, "", "it names a file of {length} bytes, which this is not");
    }
    for (start, bytes) in report.damaged.iter().take(PLACES_TOLD) {
        line!(out, "", "damaged at byte {start}, {bytes} bytes");
    }
    let more = report.damaged.len().saturating_sub(PLACES_TOLD);
    if more > 0 {
        line!(out, "", "and {more} more places; --json lists them");
    }
    if report.unproven_bytes > 0 {
        line!(
            out,
            "",
            "{} at its ends share a piece with other files, and are not compared",
            human_bytes(report.unproven_bytes)
        );
    }
}

fn embedded(out: &mut String, report: &EmbeddedReport) {
    let (style, word) = if report.ok() { (GOOD, "matches") } else { (BAD, "does not match") };
    line!(
        out,
        "inside",
        "the MD5 in its volume descriptor, over {}: {style}{word}{style:#}",
        human_bytes(report.bytes)
    );
    if let Some((first, last)) = report.damaged {
        line!(out, "", "the first damage lies between byte {first} and byte {last}");
    }
}

/// The owner of a key, as far as the key says.
pub(crate) fn name_of(key: &Key) -> String {
    key.owner().map_or("the owner of that key".to_owned(), |owner| owner.shown())
}

/// What is proven, in a sentence; nothing when it is refuted.
fn proven(findings: &Report) -> Option<String> {
    Some(match findings.proof() {
        Proof::Refuted => return None,
        Proof::Signed(vouched) => {
            let owner = vouched.key.as_ref().map(name_of).unwrap_or_default();
            format!("the file is the one that {owner} signed")
        }
        Proof::Published if findings.signatures.is_empty() && findings.missed_key.is_none() => {
            "the file is the one that the list names".to_owned()
        }
        Proof::Published => "the file is the one that the list names; who made the list is not proven".to_owned(),
        Proof::PublishedWeakly => {
            let names = findings.checked.iter().map(|checked| checked.found.algorithm.to_string());
            let names = names.collect::<Vec<_>>().join(" and ");
            format!("not damaged on the way; {names} can be forged, so it says nothing about the origin")
        }
        Proof::Undamaged => format!("{}; where it comes from is not proven", undamaged(findings)),
        Proof::Nothing => "nothing: there is no published checksum to compare with".to_owned(),
    })
}

/// How far the proof reaches that nothing is damaged.
fn undamaged(findings: &Report) -> String {
    let unproven = findings.pieces.iter().map(|pieces| pieces.unproven_bytes).min();
    match (unproven, &findings.embedded, &findings.inside) {
        (Some(0), ..) => "not damaged".to_owned(),
        (Some(bytes), None, None) => format!("not damaged, but for the {} that were not compared", human_bytes(bytes)),
        (_, Some(sum), _) => format!("not damaged in its first {}", human_bytes(sum.bytes)),
        (_, None, Some(list)) => format!("its {} listed files are not damaged", list.files),
        (None, None, None) => "nothing".to_owned(),
    }
}

fn next(findings: &Report) -> Option<String> {
    let unknown = findings
        .signatures
        .iter()
        .find(|vouched| matches!(vouched.fault, Some(Fault::UnknownKey { .. } | Fault::ForeignKind { .. })));
    match (findings.proof(), unknown) {
        (Proof::Refuted, _) => None,
        (Proof::Published | Proof::PublishedWeakly, None) if findings.missed_key.is_some() => {
            Some("get the list and its signature from the publisher's own page".to_owned())
        }
        (Proof::Published | Proof::PublishedWeakly, Some(Vouched { fault: Some(fault), .. })) => {
            Some(fault.next_step())
        }
        (Proof::Signed(_) | Proof::Published | Proof::PublishedWeakly, _) => Some("pyrotyp drives".to_owned()),
        (Proof::Undamaged | Proof::Nothing, _) => Some(
            "compare by eye with the publisher's page, or give its value with --sum or its list with --sums".to_owned(),
        ),
    }
}
