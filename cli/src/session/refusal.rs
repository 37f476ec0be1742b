//! What of a check speaks against an image, in words.

use std::path::Path;

use pyrotyp_core::hash::Sum;
use pyrotyp_core::published::{FileList, Report, Vouched};
use pyrotyp_core::text::Shown;

use crate::exit::{Exit, Failure};

/// Most damaged files that are named.
const NAMES_TOLD: usize = 8;

/// The first thing that speaks against the image, if anything does.
pub(crate) fn refusal(path: &Path, report: &Report) -> Option<Failure> {
    signature_refusal(&report.signatures)
        .or_else(|| mismatch(path, report))
        .or_else(|| damaged_pieces(path, report))
        .or_else(|| damaged_sum(path, report))
        .or_else(|| damaged_inside(path, report.inside.as_ref()?))
}

/// The first signature that is no good, if one is.
pub(crate) fn signature_refusal(signatures: &[Vouched]) -> Option<Failure> {
    let vouched = signatures.iter().find(|vouched| vouched.is_refusal)?;
    let fault = vouched.fault.as_ref()?;
    let text = match vouched.over.as_str() {
        over if over == vouched.file => format!("{over} is not signed as it should be: {fault}"),
        over => format!("{} is no good signature of {over}: {fault}", vouched.file),
    };
    Some(Failure::new(Exit::Checksum, text, fault.next_step()))
}

/// Both values shown.
fn mismatch(path: &Path, report: &Report) -> Option<Failure> {
    let wrong = report.checked.iter().find(|checked| !checked.matches())?;
    let (expected, source) = (&wrong.expected, wrong.expected.source.shown());
    let (path, hex) = (path.shown(), &expected.sum.hex);
    if expected.is_told {
        let (algorithm, found) = (wrong.found.algorithm, &wrong.found.hex);
        let text =
            format!("{path}: the {algorithm} does not match {source}\n   published  {hex}\n   this file  {found}");
        let next = "download the image again; if it stays so, the list may be for another release";
        return Some(Failure::new(Exit::Checksum, text, next));
    }
    let meant: Vec<Sum> = expected
        .algorithms()
        .filter_map(|meant| report.sums.iter().find(|sum| sum.algorithm == meant).cloned())
        .collect();
    let mut text = format!("{path}: {source} does not say of which kind its checksum is, and it matches none");
    text.push_str(&format!("\n   published  {hex}"));
    meant.iter().for_each(|sum| text.push_str(&format!("\n   {:<10} {}", sum.algorithm.to_string(), sum.hex)));
    let next = "download the image again; if it stays so, give the published SHA-256 with --sum";
    Some(Failure::new(Exit::Checksum, text, next))
}

fn damaged_pieces(path: &Path, report: &Report) -> Option<Failure> {
    let wrong = report.pieces.iter().find(|pieces| !pieces.ok())?;
    let (file, source) = (path.shown(), &wrong.source);
    let text = match (wrong.other_length, wrong.damaged.first()) {
        (Some(length), _) => format!("{file}: {source} names a file of {length} bytes, which this is not"),
        (None, Some((start, bytes))) => {
            let more = wrong.damaged.len().saturating_sub(1);
            let more = match more {
                0 => String::new(),
                1 => ", and one more place".to_owned(),
                more => format!(", and {more} more places"),
            };
            format!("{file}: damaged by the pieces of {source}: at byte {start}, {bytes} bytes{more}")
        }
        (None, None) => return None,
    };
    Some(Failure::new(
        Exit::Checksum,
        text,
        "download the image again; a torrent client fetches the damaged pieces alone",
    ))
}

fn damaged_sum(path: &Path, report: &Report) -> Option<Failure> {
    let wrong = report.embedded.as_ref().filter(|embedded| !embedded.ok())?;
    let place = wrong.damaged.map(|(first, last)| format!(", between byte {first} and byte {last} at first"));
    let text =
        format!("{}: damaged by the MD5 in its own volume descriptor{}", path.shown(), place.unwrap_or_default());
    Some(Failure::new(Exit::Checksum, text, "download the image again"))
}

fn damaged_inside(path: &Path, list: &FileList) -> Option<Failure> {
    let damaged = list.damaged.iter().chain(&list.missing);
    let names: Vec<String> = damaged.map(|name| name.shown()).take(NAMES_TOLD).collect();
    let more = (list.damaged.len() + list.missing.len()).saturating_sub(names.len());
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let text = format!("{}: damaged by its own list {}: {}{more}", path.shown(), list.source, names.join(", "));
    (!list.ok()).then(|| Failure::new(Exit::Checksum, text, "download the image again"))
}
