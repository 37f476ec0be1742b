//! The body: one reader that hashes, one writer, and a bounded number of buffers between them.

use std::sync::mpsc::sync_channel;
use std::thread;

use super::layout::{BLOCK_BYTES, LAST_WRITTEN_BYTES, Layout};
use super::{JobFault, Stage, Watcher};
use crate::Cancel;
use crate::digest::{Algorithm, Hashers};
use crate::drive::{AlignedBuf, Claimed};
use crate::image::ReadAt;

/// Buffers of one block each; this and two blocks of head and end is all the memory that a job needs.
const BUFFERS: usize = 4;
/// The drive is flushed each time it took this much, so that progress is what has reached it.
const FLUSH_EVERY: u64 = 128 << 20;

/// What is left to write when the body is on the drive, and what it must read back as.
pub struct BodyDone {
    /// The head, padded to whole sectors.
    pub head: AlignedBuf,
    /// What reaches into the drive's last MiB, padded to whole sectors.
    pub end: AlignedBuf,
    /// The last of the body, padded to whole sectors: twice the sectors that are written last.
    pub last_of_body: AlignedBuf,
    /// One for each block of the image, taken over the part of it that belongs to the body.
    pub digests: Vec<blake3::Hash>,
    /// SHA-256 of the whole image as it was read.
    pub sha256: String,
}

struct Filled {
    at: u64,
    bytes: usize,
    buffer: AlignedBuf,
}

/// Reads the image once from end to end, writes its body, and keeps the rest.
pub fn write(
    image: &dyn ReadAt,
    layout: &Layout,
    drive: &dyn Claimed,
    cancel: &Cancel,
    watcher: &mut dyn Watcher,
) -> Result<BodyDone, JobFault> {
    let (empty_in, empty_out) = sync_channel::<AlignedBuf>(BUFFERS);
    let (full_in, full_out) = sync_channel::<Filled>(BUFFERS);
    for _ in 0..BUFFERS {
        // The channel has room for all of them.
        let _ = empty_in.send(AlignedBuf::new(BLOCK_BYTES as usize));
    }
    thread::scope(|scope| {
        let reader = scope.spawn(move || {
            read(image, layout, |at, bytes, fill| {
                let Ok(mut buffer) = empty_out.recv() else { return Ok(false) };
                fill(&mut buffer)?;
                Ok(full_in.send(Filled { at, bytes, buffer }).is_ok())
            })
        });
        let mut put = || -> Result<(), JobFault> {
            let mut flushed = 0;
            for filled in &full_out {
                if cancel.is_set() {
                    return Err(JobFault::Stopped { stage: Stage::Body });
                }
                let padded = layout.padded(filled.bytes as u64) as usize;
                let from = filled.buffer.get(..padded).unwrap_or_default();
                drive.write_at(filled.at, from).map_err(|source| JobFault::Write { at: filled.at, source })?;
                let done = filled.at + filled.bytes as u64 - layout.body.start;
                if done - flushed >= FLUSH_EVERY {
                    drive.flush().map_err(|source| JobFault::Flush { source })?;
                    flushed = done;
                }
                watcher.moved(Stage::Body, done);
                let _ = empty_in.send(filled.buffer);
            }
            Ok(())
        };
        let written = put();
        // The reader ends when nobody takes its buffers any more.
        drop(full_out);
        drop(empty_in);
        let read = reader.join().unwrap_or(Err(JobFault::Reader));
        written?;
        let done = read?;
        drive.flush().map_err(|source| JobFault::Flush { source })?;
        Ok(done)
    })
}

type Fill<'a> = &'a mut dyn FnMut(&mut AlignedBuf) -> Result<(), JobFault>;

/// Reads the whole image in order. `hand_over` gets each piece of the body, and says whether to go on.
fn read(
    image: &dyn ReadAt,
    layout: &Layout,
    mut hand_over: impl FnMut(u64, usize, Fill<'_>) -> Result<bool, JobFault>,
) -> Result<BodyDone, JobFault> {
    let mut hashers = Hashers::new([Algorithm::Sha256]);
    let mut digests = vec![blake3::hash(&[]); layout.image_bytes.div_ceil(BLOCK_BYTES) as usize];
    let head = kept(image, layout, &layout.head, &mut hashers)?;
    let body_end = if layout.body.is_empty() { layout.body.start } else { layout.padded(layout.body.end) };
    let last_at = body_end.saturating_sub(2 * LAST_WRITTEN_BYTES).max(layout.body.start);
    let mut last_of_body = AlignedBuf::new((body_end - last_at) as usize);
    for (index, piece) in layout.blocks() {
        let bytes = (piece.end - piece.start) as usize;
        let mut fill = |buffer: &mut AlignedBuf| {
            fill_exactly(image, piece.start, buffer.get_mut(..bytes).unwrap_or_default())?;
            let (data, padding) = buffer.split_at_mut_checked(bytes).unwrap_or_default();
            padding.fill(0);
            hashers.update(data);
            if let Some(digest) = digests.get_mut(index) {
                *digest = blake3::hash(data);
            }
            let overlap = last_at.max(piece.start)..piece.end;
            if let (Some(into), Some(from)) = (
                last_of_body.get_mut((overlap.start - last_at) as usize..(overlap.end.max(last_at) - last_at) as usize),
                data.get((overlap.start - piece.start) as usize..),
            ) {
                into.copy_from_slice(from);
            }
            Ok(())
        };
        if !hand_over(piece.start, bytes, &mut fill)? {
            // The writer gave up, and says why.
            return Err(JobFault::Reader);
        }
    }
    let end = kept(image, layout, &layout.end, &mut hashers)?;
    let sha256 = hashers.finish().pop().map(|sum| sum.hex).unwrap_or_default();
    Ok(BodyDone { head, end, last_of_body, digests, sha256 })
}

/// A withheld range, padded with zeros to whole sectors.
fn kept(
    image: &dyn ReadAt,
    layout: &Layout,
    range: &std::ops::Range<u64>,
    hashers: &mut Hashers,
) -> Result<AlignedBuf, JobFault> {
    let bytes = range.end - range.start;
    let mut buffer = AlignedBuf::new(layout.padded(bytes) as usize);
    let data = buffer.get_mut(..bytes as usize).unwrap_or_default();
    fill_exactly(image, range.start, data)?;
    hashers.update(data);
    Ok(buffer)
}

/// Fills all of `into` from the image, which was this long when the job began.
pub fn fill_exactly(image: &dyn ReadAt, at: u64, into: &mut [u8]) -> Result<(), JobFault> {
    let count = image.fill_at(at, into).map_err(|source| JobFault::ImageRead { at, source })?;
    if count == into.len() { Ok(()) } else { Err(JobFault::ImageShrunk { at: at + count as u64 }) }
}
