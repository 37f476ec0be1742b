//! Downloads that are not at their end, by the file's name and by what it holds.

use std::io;
use std::ops::ControlFlow;

use crate::bytes::{Part, ReadAt};
use crate::volume::{filesystem, iso9660};
use crate::{Finding, FindingId};

/// What browsers and download tools add to the name of a file until all of it is there.
const UNFINISHED: [&str; 6] = [".part", ".partial", ".crdownload", ".download", ".opdownload", ".tmp"];

/// What a file's name says about it: that somebody may still be downloading it.
pub fn unfinished(file_name: &str) -> Option<Finding> {
    let name = file_name.to_ascii_lowercase();
    let ending = UNFINISHED.iter().find(|ending| name.ends_with(**ending))?;
    Some(Finding::ask(
        FindingId::UnfinishedDownload,
        format!("its name ends in {ending}: a browser may still be downloading it"),
        "wait until the download has ended and the name is the image's own",
    ))
}

/// A file of this size is looked into when zeros are searched, in bytes; and how many places are, of what size.
const LARGE: u64 = 1 << 20;
const PROBES: u64 = 48;
const PROBE: usize = 512;
/// Most files that are asked for their place: large ones lie in the first folders.
const FILES_MOST: usize = 4096;
/// So many of the places in a row, up to the end, are no accident.
const ZEROS_LEAST: u64 = 3;

/// Where the largest file begins to hold nothing but zeros, if all that lies behind is zeros too: a download that
/// reserved its room and then stopped looks like this.
pub(super) fn zeros_from(image: &dyn ReadAt, volume: &iso9660::IsoVolume) -> io::Result<Option<u64>> {
    let mut files: Vec<iso9660::Extent> = Vec::new();
    volume.files(image, &mut |_, extent| {
        files.push(extent);
        if files.len() < FILES_MOST { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    })?;
    let end = |extent: &iso9660::Extent| extent.start.saturating_add(extent.bytes);
    let largest = files.iter().max_by_key(|extent| extent.bytes);
    let Some(largest) = largest.filter(|extent| extent.bytes >= LARGE && end(extent) <= image.size()) else {
        return Ok(None);
    };
    // A file system may well end with free space, but for a packed one.
    let inner = filesystem::recognise(&Part { whole: image, start: largest.start, bytes: largest.bytes })?;
    if inner.is_some_and(|inner| inner.name != "squashfs") {
        return Ok(None);
    }
    let is_zero = |at: u64, length: u64| {
        let mut probe = [0u8; PROBE];
        let length = usize::try_from(length).unwrap_or(PROBE).min(PROBE);
        let count = image.fill_at(at, probe.get_mut(..length).unwrap_or_default())?;
        io::Result::Ok(count == length && probe.iter().take(count).all(|byte| *byte == 0))
    };
    let mut behind = files.iter().filter(|extent| extent.start >= end(largest) && extent.bytes > 0);
    for extent in behind.by_ref().take(usize::try_from(PROBES).unwrap_or_default()) {
        if !is_zero(extent.start, extent.bytes)? {
            return Ok(None);
        }
    }
    let step = largest.bytes.checked_div(PROBES).unwrap_or(1).max(PROBE as u64);
    let mut first = None;
    for probe in 1..=PROBES {
        let at = end(largest).saturating_sub(probe.saturating_mul(step));
        if at < largest.start || !is_zero(at, PROBE as u64)? {
            return Ok(first.filter(|_| probe > ZEROS_LEAST));
        }
        first = Some(at);
    }
    Ok(first)
}
