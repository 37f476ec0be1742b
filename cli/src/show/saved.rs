//! How saving a drive came out, for people.

use std::fmt::Write;
use std::path::Path;

use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::job::save::Saved;
use pyrotyp_core::text::{Shown, shell};

use super::style::{BAD, CARE, GOOD, NAME};
use super::text::duration;
use crate::asked::Common;

/// Stretches that are told one by one.
const TOLD: usize = 8;

/// A stretch that could not be read.
pub(crate) struct Missing {
    /// First byte.
    pub offset: u64,
    /// Length in bytes.
    pub bytes: u64,
    /// The file that lies there, where that is known.
    pub file: Option<String>,
}

/// A drive that was saved.
pub(crate) struct SavedDrive<'a> {
    pub tag: &'a str,
    pub name: &'a str,
    pub drive_bytes: u64,
    pub seconds: f64,
    /// The name that was asked for.
    pub file: &'a Path,
    pub missing: &'a [Missing],
}

/// How it came out, and what to do next.
pub(crate) fn saved(done: &Saved, of: &SavedDrive<'_>, common: &Common) -> String {
    let (style, word) = match (&done.sha256, of.missing.is_empty()) {
        (Some(_), true) => (GOOD, "saved"),
        (Some(_), false) => (CARE, "saved with gaps"),
        (None, _) => (BAD, "not whole"),
    };
    let mut out = format!("{style}{word}{style:#}: drive {NAME}{}{NAME:#} ({}): ", of.tag, of.name);
    // Writing to a string never fails.
    let _ = writeln!(out, "{} of it in {}", human_bytes(done.bytes), done.file.shown());
    let rest = of.drive_bytes.saturating_sub(done.bytes);
    if rest > 0 {
        let _ =
            writeln!(out, "  left out: the {} behind, which no table and no volume on it claims", human_bytes(rest));
    }
    for one in of.missing.iter().take(TOLD) {
        let file = one.file.as_ref().map_or(String::new(), |file| format!(", in {}", file.shown()));
        let _ =
            writeln!(out, "  {BAD}can't be read{BAD:#}: {} from byte {} on{file}", human_bytes(one.bytes), one.offset);
    }
    let more = of.missing.len().saturating_sub(TOLD);
    if more > 0 {
        let _ = writeln!(out, "  and {more} more places");
    }
    let packed = if done.file_bytes < done.bytes && done.sha256.is_some() {
        format!(", packed to {}", human_bytes(done.file_bytes))
    } else {
        String::new()
    };
    let kept =
        if done.kept_bytes > 0 { format!(", {} were there", human_bytes(done.kept_bytes)) } else { String::new() };
    let _ = writeln!(out, "  read in {}{packed}{kept}", duration(of.seconds));
    if let Some(sum) = &done.sha256 {
        let _ = writeln!(out, "  SHA-256 {sum}, in {}.sha256", of.file.shown());
    }
    if !common.quiet {
        let next = match &done.sha256 {
            Some(_) => format!("pyrotyp write {} --to DRIVE", shell::path(of.file)),
            None => "the same command again tries only those places; with --fill-unreadable, zeros take their place"
                .to_owned(),
        };
        let _ = writeln!(out, "  next: {next}");
    }
    out
}
