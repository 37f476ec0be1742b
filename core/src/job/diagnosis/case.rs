//! Why a drive differs: from what it holds to a cause for each range, its true size, and what to do with it.

use std::collections::{HashMap, HashSet};
use std::io;
use std::ops::Range;

use memchr::memmem::Finder;

use crate::bytes::ReadAt;
use crate::devices::{AlignedBuf, DriveFault, DriveIo, DriveWrite, Sectors};
use crate::hash::BLOCK_BYTES;
use crate::image::{FileMap, Inspection};
use crate::job::diagnosis::before::Before;
use crate::job::diagnosis::difference::Differences;
use crate::job::layout::{Frame, length, start_of};
use crate::job::piece::Piece;
use crate::job::stages::readback::Suspect;
use crate::job::{ImageFault, JobFault};
use crate::record::{Cause, Conclusion, Difference, Stage};
use crate::stop::Cancel;

/// Compared at once, in bytes.
const COMPARED: usize = 2 << 20;
/// What can't be read as a whole is read in pieces of this many bytes, to find which part it is.
const PIECE: usize = 64 << 10;
/// Places that can't be read are looked for so many times: each may take half a minute.
const UNREADABLE_MOST: usize = 16;
/// So many pieces are compared bit by bit; of more, only the digests tell.
const IN_DETAIL: usize = 256;
/// Bytes of the drive that are looked for in the image, where they belong to another place of it.
const SAMPLE_BYTES: usize = 4096;
/// Places of one difference that are tried, and how many samples are looked for in all.
const SAMPLES_EACH: u64 = 16;
const SOUGHT_MOST: usize = 4;
/// A drive may show one place in so many places.
const ECHOES_MOST: u64 = 64;
/// From here to its end a drive keeps nothing: only a stretch of this many bytes says so.
const LOST_BYTES_LEAST: u64 = 4 << 20;
/// More than this, in bytes, a computer does not change by merely looking at a stick.
const NOTES_BYTES_MOST: u64 = 1 << 20;

/// A drive that is this job's to write: it can be asked what it keeps.
pub(crate) struct Written<'a> {
    pub drive: &'a dyn DriveWrite,
    pub frame: &'a Frame,
    /// What was there before.
    pub before: &'a Before,
}

/// What is known when a drive is found to differ.
pub(crate) struct Case<'a> {
    pub drive: &'a dyn DriveIo,
    /// The image, where it stays, and what is known of it.
    pub image: Option<(&'a dyn ReadAt, &'a Inspection)>,
    /// Where this job has written to the drive.
    pub written: Option<Written<'a>>,
    /// Digests of the image's blocks, by their number.
    pub blocks: &'a [Option<blake3::Hash>],
    /// The body, or all of the image where that is compared.
    pub range: Range<u64>,
    pub cancel: &'a Cancel,
}

impl Case<'_> {
    /// Finds what differs and why.
    pub(crate) fn differences(&self, suspects: &[Suspect]) -> Result<Differences, JobFault> {
        let mut found = Differences::default();
        let mut places: HashMap<&blake3::Hash, usize> =
            self.blocks.iter().enumerate().filter_map(|(index, digest)| Some((digest.as_ref()?, index))).collect();
        // What may lie anywhere belongs nowhere.
        for value in [0, 0xFF] {
            places.remove(&digest_of_all(value, BLOCK_BYTES));
        }
        let mut unreadable = 0;
        for (number, suspect) in suspects.iter().enumerate() {
            if self.cancel.is_set() {
                return Err(JobFault::Stopped { stage: Stage::ReadBack });
            }
            let Piece { at, bytes, .. } = suspect.piece;
            let is_elsewhere =
                |digest| bytes == BLOCK_BYTES && places.get(&digest).is_some_and(|index| start_of(*index) != at);
            let whole = match suspect.found {
                Some(digest) if is_elsewhere(digest) => Some(Cause::OtherPlace),
                None if unreadable >= UNREADABLE_MOST || number >= IN_DETAIL => Some(Cause::Unreadable),
                Some(digest) if self.image.is_none() => Some(cause_of_block(digest, bytes)),
                _ => (number >= IN_DETAIL).then_some(Cause::OtherData),
            };
            match whole {
                Some(cause) => found.add(at..suspect.piece.end(), cause),
                None => self.piece(&suspect.piece, &mut found, &mut unreadable)?,
            }
        }
        for one in found.told.iter_mut().filter(|one| one.cause == Cause::OtherData) {
            let range = one.offset..one.offset.saturating_add(one.bytes);
            if self.written.as_ref().is_some_and(|written| written.before.is_back(self.drive, &range)) {
                one.cause = Cause::OldData;
            }
        }
        Ok(found)
    }

    /// Compares one piece bit by bit, in smaller parts where it can't be read as a whole.
    fn piece(&self, piece: &Piece, found: &mut Differences, unreadable: &mut usize) -> Result<(), JobFault> {
        let sector = u64::from(self.drive.sector_bytes().max(1));
        let mut buffer = AlignedBuf::new(COMPARED);
        let mut at = piece.at;
        let end = piece.end();
        let before = found.bytes;
        self.is_image_as_it_was(piece)?;
        while at < end {
            let inside = end.saturating_sub(at).min(COMPARED as u64);
            let whole = inside.checked_next_multiple_of(sector).unwrap_or(inside);
            let into = buffer.get_mut(..in_memory(whole)).unwrap_or_default();
            match self.drive.read_at(at, into) {
                Ok(()) => self.part(at, into.get(..in_memory(inside)).unwrap_or_default(), found)?,
                Err(DriveFault::Gone) => return Err(JobFault::Read { at, bytes: inside, source: DriveFault::Gone }),
                Err(DriveFault::Failed(_)) => {
                    for (number, part) in into.chunks_mut(PIECE).enumerate() {
                        let start = at.saturating_add((number as u64).saturating_mul(PIECE as u64));
                        let inside = in_memory(end.saturating_sub(start)).min(part.len());
                        let range = start..start.saturating_add(inside as u64);
                        match self.drive.read_at(start, part) {
                            _ if *unreadable >= UNREADABLE_MOST => found.add(range, Cause::Unreadable),
                            Ok(()) => self.part(start, part.get(..inside).unwrap_or_default(), found)?,
                            Err(DriveFault::Gone) => {
                                let bytes = length(&range);
                                return Err(JobFault::Read { at: start, bytes, source: DriveFault::Gone });
                            }
                            Err(DriveFault::Failed(_)) => {
                                found.add(range, Cause::Unreadable);
                                *unreadable = unreadable.saturating_add(1);
                            }
                        }
                    }
                }
            }
            at = at.saturating_add(inside);
        }
        if self.image.is_none() && found.bytes == before {
            // It can be read by now, and nothing is left of the image that says which part of it is wrong.
            found.add(piece.at..end, Cause::OtherData);
        }
        Ok(())
    }

    /// A piece that the image itself does not hold any more says nothing about the drive.
    fn is_image_as_it_was(&self, piece: &Piece) -> Result<(), JobFault> {
        let Some((image, _)) = self.image else { return Ok(()) };
        let expected = expected(image, piece.at, in_memory(piece.bytes))?;
        if blake3::hash(&expected) == piece.digest { Ok(()) } else { Err(ImageFault::Changed { at: piece.at }.into()) }
    }

    /// Compares what was read from byte `at` on, where the image is there to compare it with.
    fn part(&self, at: u64, bytes: &[u8], found: &mut Differences) -> Result<(), JobFault> {
        let Some((image, inspection)) = self.image else { return Ok(()) };
        let expected = expected(image, at, bytes.len())?;
        found.compare(at, &expected, bytes, &mut |range, cause| {
            // Where the image can't be read just now, its bytes have told already what they can.
            match inspection.housekeeping_at(image, range.start) {
                Ok(Some(_)) if self.written.is_none() => Cause::Housekeeping,
                _ => cause,
            }
        });
        Ok(())
    }

    /// Names the files in which the differences lie.
    pub(crate) fn name_files(&self, found: &mut Differences) {
        let Some((image, inspection)) = self.image else { return };
        if found.told.is_empty() {
            return;
        }
        // A name is a help; an image that can't be read any more has been told already.
        let files = FileMap::of(image, inspection).unwrap_or_default();
        for difference in &mut found.told {
            difference.file = files.at(difference.offset).map(str::to_owned);
        }
    }

    /// What all of it means.
    pub(crate) fn conclusion(&self, found: &Differences) -> Conclusion {
        let is = |cause: Cause| found.told.iter().all(|difference| difference.cause == cause);
        let any = |cause: Cause| found.told.iter().any(|difference| difference.cause == cause);
        if let Some(true_bytes) = self.true_bytes(found) {
            return Conclusion::FalseCapacity { true_bytes, claimed_bytes: self.drive.bytes() };
        }
        if any(Cause::BeyondEnd) {
            Conclusion::TooSmall
        } else if any(Cause::Unreadable) {
            Conclusion::Unreadable
        } else if is(Cause::SingleBits) {
            Conclusion::FailingMemory { bits: found.bits, lines: found.lines }
        } else if self.written.is_some() {
            let lost = [Cause::OldData, Cause::Zeros, Cause::Ones];
            if found.told.iter().all(|one| lost.contains(&one.cause)) {
                Conclusion::DropsWrites
            } else {
                Conclusion::KeepsOther
            }
        } else if is(Cause::Housekeeping) && found.bytes <= NOTES_BYTES_MOST {
            Conclusion::LookedAt
        } else if found.bytes >= length(&self.range) / 2 || !self.is_of_this_image() {
            Conclusion::OtherContent
        } else {
            Conclusion::ChangedLater
        }
    }

    /// Whether the drive was made from this image, as the volume or the table tells that it begins with.
    fn is_of_this_image(&self) -> bool {
        let Some((image, inspection)) = self.image else { return true };
        // ECMA-119, §6.2.1 and §8.4: the volume descriptor lies in the first sector behind the system area. It names the volume and
        // tells when it was made. Elsewhere the partitions tell, which no computer changes by looking at them (UEFI 2.10, §5.2.1).
        let (at, bytes) = if inspection.optical.volume.is_some() { (32_768, 2048) } else { (446, 64) };
        let (mut ours, mut theirs) = (vec![0u8; bytes], vec![0u8; bytes]);
        let drive = Sectors::of(self.drive);
        // What can't be read was told already.
        let is_read = image.fill_at(at, &mut ours).is_ok() && drive.fill_at(at, &mut theirs).is_ok();
        !is_read || ours == theirs
    }

    /// The drive's true size, where what it holds shows that it has less room than it claims.
    fn true_bytes(&self, found: &Differences) -> Option<u64> {
        let other_place = found.told.iter().any(|one| matches!(one.cause, Cause::OtherPlace | Cause::OtherData));
        let wraps_at = || if self.image.is_some() { self.wraps_at(found) } else { self.begins_again_at(found) };
        other_place.then(wraps_at).flatten().or_else(|| self.loses_from(found))
    }

    /// Where a drive begins again at its start: something is looked for that belongs further on in the image.
    fn wraps_at(&self, found: &Differences) -> Option<u64> {
        let (image, _) = self.image?;
        let sector = u64::from(self.drive.sector_bytes().max(1)).max(512);
        let mut sample = AlignedBuf::new(SAMPLE_BYTES);
        let mut echo = AlignedBuf::new(SAMPLE_BYTES);
        let is_telling = |one: &&Difference| {
            matches!(one.cause, Cause::OtherPlace | Cause::OtherData) && one.bytes / 2 >= SAMPLE_BYTES as u64
        };
        let mut sought = 0usize;
        for difference in found.told.iter().filter(is_telling) {
            for part in 0..SAMPLES_EACH {
                let step = (difference.bytes / SAMPLES_EACH).saturating_mul(part);
                let at = difference.offset.saturating_add(step).checked_next_multiple_of(SAMPLE_BYTES as u64)?;
                self.drive.read_at(at, &mut sample).ok()?;
                // What repeats itself, such as zeros, is found everywhere.
                if repeats_itself(&sample) {
                    continue;
                }
                // The whole image is read for each of them.
                sought = sought.saturating_add(1);
                if sought > SOUGHT_MOST {
                    return None;
                }
                let Some(place) = find(image, &sample, at..image.size(), self.cancel).ok().flatten() else { continue };
                let shift = place.saturating_sub(at);
                // The image's last echo is what stays: the shift may be several times the true size.
                let sizes = (1..=ECHOES_MOST).rev().filter(|times| shift.is_multiple_of(*times));
                let fits = |size: &u64| {
                    size.is_multiple_of(sector)
                        && self.drive.read_at(at.saturating_add(*size), &mut echo).is_ok()
                        && *echo == *sample
                };
                if let Some(size) = sizes.filter_map(|times| shift.checked_div(times)).find(fits) {
                    return Some(size);
                }
            }
        }
        None
    }

    /// Where a drive begins again at its start, told by the drive alone: several places at the start of the body are there
    /// a second time, all equally far behind.
    fn begins_again_at(&self, found: &Differences) -> Option<u64> {
        let Range { start, end } = self.range;
        // What was written last has taken the place of the start.
        let first = found.told.first().filter(|one| one.offset == start)?;
        let sectors = Sectors::by(self.drive, COMPARED);
        let sample_at = |at: u64| {
            let mut sample = vec![0u8; SAMPLE_BYTES];
            let is_whole = sectors.fill_at(at, &mut sample).is_ok_and(|count| count == SAMPLE_BYTES);
            is_whole.then_some(sample)
        };
        let samples: Vec<_> = (start..start.saturating_add(first.bytes))
            .step_by(PIECE)
            .filter_map(|at| Some((at, sample_at(at)?)))
            .filter(|(_, sample)| !repeats_itself(sample))
            .take(SOUGHT_MOST)
            .collect();
        let (at, sample) = samples.first()?;
        let shift = find(&sectors, sample, *at..end, self.cancel).ok().flatten()?.saturating_sub(*at);
        let is_echo = |(at, sample): &(u64, Vec<u8>)| sample_at(at.saturating_add(shift)).as_ref() == Some(sample);
        (samples.len() == SOUGHT_MOST && samples.iter().all(is_echo)).then_some(shift)
    }

    /// From where on nothing is kept, up to the end of what was written.
    fn loses_from(&self, found: &Differences) -> Option<u64> {
        let written = self.written.as_ref()?;
        let is_lost = |cause: Cause| matches!(cause, Cause::Zeros | Cause::Ones | Cause::OldData | Cause::OtherData);
        let first = found.told.first()?.offset;
        let behind = self.range.end.checked_sub(first)?;
        // What happens to be equal by chance, zeros for zeros, leaves gaps.
        let is_all = found.told.iter().all(|one| is_lost(one.cause)) && found.bytes >= behind / 2 && found.more == 0;
        let is_kept_before = first > self.range.start;
        if !is_all || !is_kept_before || behind < LOST_BYTES_LEAST {
            return None;
        }
        match self.image {
            Some(_) => Some(first.saturating_sub(first % 512)),
            // Whole blocks are all that was told. A drive that fails now has been found wrong all the same.
            None => kept_bytes(written.drive, written.frame).ok().flatten(),
        }
    }
}

/// A length that a buffer of this program has.
fn in_memory(bytes: u64) -> usize {
    usize::try_from(bytes).unwrap_or(usize::MAX)
}

/// What the digest alone of so many bytes tells.
fn cause_of_block(found: blake3::Hash, bytes: u64) -> Cause {
    if found == digest_of_all(0, bytes) {
        Cause::Zeros
    } else if found == digest_of_all(0xFF, bytes) {
        Cause::Ones
    } else {
        Cause::OtherData
    }
}

/// Of so many bytes that are all the same.
fn digest_of_all(value: u8, bytes: u64) -> blake3::Hash {
    let mut hasher = blake3::Hasher::new();
    let same = [value; PIECE];
    let mut left = bytes;
    while left > 0 {
        let count = left.min(PIECE as u64);
        hasher.update(same.get(..in_memory(count)).unwrap_or_default());
        left = left.saturating_sub(count);
    }
    hasher.finalize()
}

fn repeats_itself(sample: &[u8]) -> bool {
    sample.chunks(16).collect::<HashSet<_>>().len() < sample.len() / 32
}

/// Where `sample` is held within a range, behind its start; it is sought at whole sectors from there only.
fn find(holder: &dyn ReadAt, sample: &[u8], within: Range<u64>, cancel: &Cancel) -> io::Result<Option<u64>> {
    let finder = Finder::new(sample);
    let mut piece = vec![0u8; COMPARED.saturating_add(sample.len())];
    let mut at = within.start.saturating_add(512);
    while at < within.end && !cancel.is_set() {
        let count = holder.fill_at(at, &mut piece)?;
        let filled = piece.get(..count).unwrap_or_default();
        let mut places = finder.find_iter(filled).map(|place| at.saturating_add(place as u64));
        if let Some(place) = places.find(|place| place.saturating_sub(within.start).is_multiple_of(512)) {
            return Ok(Some(place));
        }
        if count < piece.len() {
            break;
        }
        at = at.saturating_add(COMPARED as u64);
    }
    Ok(None)
}

fn expected(image: &dyn ReadAt, at: u64, bytes: usize) -> Result<Vec<u8>, JobFault> {
    let mut expected = vec![0u8; bytes];
    let count = image
        .fill_at(at, &mut expected)
        .map_err(|source| ImageFault::Read { at, source: std::sync::Arc::new(source) })?;
    if count == bytes { Ok(expected) } else { Err(ImageFault::Shrunk { at: at.saturating_add(count as u64) }.into()) }
}

/// From where on a drive keeps nothing of what is written, to 4096 bytes: sought by writing and reading back between its
/// two ends. `None` if it keeps all but its end, or that too.
///
/// # Errors
/// When the drive fails.
pub(crate) fn kept_bytes(drive: &dyn DriveWrite, frame: &Frame) -> Result<Option<u64>, JobFault> {
    const SAMPLE: u64 = SAMPLE_BYTES as u64;
    let (mut kept, mut lost) = (frame.head().end / SAMPLE, frame.end().start / SAMPLE);
    let mut mark = AlignedBuf::new(SAMPLE_BYTES);
    let mut found = AlignedBuf::new(SAMPLE_BYTES);
    while lost.saturating_sub(kept) > 1 {
        let middle = kept.midpoint(lost);
        let at = middle.saturating_mul(SAMPLE);
        blake3::Hasher::new().update(b"is this kept?").update(&at.to_le_bytes()).finalize_xof().fill(&mut mark);
        drive.write_at(at, &mark).map_err(|source| JobFault::Write { at, bytes: SAMPLE, source })?;
        drive.flush().map_err(|source| JobFault::Flush { source })?;
        drive.read_at(at, &mut found).map_err(|source| JobFault::Read { at, bytes: SAMPLE, source })?;
        if *found == *mark { kept = middle } else { lost = middle }
    }
    Ok((lost < frame.end().start / SAMPLE).then_some(lost.saturating_mul(SAMPLE)))
}
