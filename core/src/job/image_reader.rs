//! The image's reader: once from its start to its end, for all drives of a job.

use std::io::{self, Read};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, sync_channel};
use std::thread;

use crate::devices::{ALIGNMENT, AlignedBuf};
use crate::hash::{Algorithm, BLOCK_BYTES, Hashers, hole_digest};
use crate::job::block_queue::{BlockQueue, ImageEnd, NextBlocks};
use crate::job::layout::start_of;
use crate::job::source::{Access, Checked, Source};
use crate::job::workers::contained;
use crate::job::{ImageFault, JobFault};
use crate::stop::Cancel;

/// Blocks between the thread that reads and the one that hashes.
const READ_AHEAD: usize = 1;

/// What a drive has already of the image, read from there in place of the line.
pub(super) type FromDrive = Receiver<Vec<u8>>;

/// How the image is to be read.
pub(super) struct ImageReader<'a> {
    pub source: &'a dyn Source,
    pub checked: &'a Checked,
    /// Whether digests of the check before are taken for the image's: only where each block is read back from the drive.
    pub trusts_check: bool,
    /// Whether all of the image is read and judged; else only what is needed from `from` on.
    pub is_whole: bool,
    /// The first block that a drive still needs; the very first one is always read, as it holds the head.
    pub from: usize,
    /// From this block on, bytes are withheld until the seal, and so are hashed on the way.
    pub withheld_from: usize,
}

/// Blocks by their number, with their digests.
type Numbered = Vec<(usize, blake3::Hash)>;

enum Handed {
    Next(NextBlocks, AlignedBuf),
    /// Only to be hashed.
    Passed(Vec<u8>),
}

impl ImageReader<'_> {
    /// Reads the image and hands its blocks to the drives. Where a drive has the first of them, it may give them.
    pub(super) fn run(
        &self,
        block_queue: &BlockQueue,
        from_drive: Option<FromDrive>,
        cancel: &Cancel,
    ) -> Result<ImageEnd, ImageFault> {
        let known = self.checked.blocks.as_ref().filter(|_| self.trusts_check);
        let wanted = self.checked.sums.iter().map(|sum| sum.algorithm);
        let computed = known.is_none().then_some(Algorithm::Sha256);
        let wanted: Vec<Algorithm> = wanted.chain(computed).filter(|_| self.is_whole).collect();
        let is_left_out = known.is_some() || !self.is_whole || self.source.access() == Access::Costly;
        let skips = self.from > 1 && is_left_out;
        thread::scope(|scope| {
            let (filled, ready) = sync_channel(READ_AHEAD);
            let reader = scope.spawn(move || {
                let hand_over = |item| filled.send(item).is_ok();
                self.read(skips.then_some(from_drive), block_queue, cancel, hand_over)
            });
            let hashed = self.hash(&ready, block_queue, &wanted);
            // The reader ends when nobody takes what it reads any more.
            drop(ready);
            let bytes = reader.join().unwrap_or(Err(ImageFault::Reader));
            let (hashers, blocks) = hashed?;
            self.judge(bytes?, hashers, blocks)
        })
    }

    /// Reads the image on a thread of its own while this one takes its blocks.
    ///
    /// # Errors
    /// What kept them from being taken, or else from being read.
    pub(super) fn beside<T>(
        &self,
        block_queue: &BlockQueue,
        cancel: &Cancel,
        take: impl FnOnce() -> Result<T, JobFault>,
    ) -> Result<(T, ImageEnd), JobFault> {
        thread::scope(|scope| {
            let reader = scope.spawn(|| {
                let ended = contained(|| self.run(block_queue, None, cancel));
                block_queue.end();
                ended.unwrap_or(Err(ImageFault::Reader))
            });
            let taken = take();
            // Whoever took is content, or has failed: nobody waits for the rest.
            block_queue.close(0);
            let read = reader.join().unwrap_or(Err(ImageFault::Reader));
            let taken = taken?;
            read.map(|end| (taken, end)).map_err(JobFault::from)
        })
    }

    /// Reads in order, and tells how long the image is.
    fn read(
        &self,
        skips: Option<Option<FromDrive>>,
        block_queue: &BlockQueue,
        cancel: &Cancel,
        hand_over: impl Fn(Handed) -> bool,
    ) -> Result<u64, ImageFault> {
        let is_line = self.source.access() == Access::Costly;
        let fail = |at: u64| {
            move |source: io::Error| match Arc::new(source) {
                _ if cancel.is_set() => ImageFault::Stopped,
                source if is_line => ImageFault::Line { at, source },
                source => ImageFault::Read { at, source },
            }
        };
        let total = self.source.bytes();
        let mut stream = Some(self.source.open(0).map_err(fail(0))?);
        let mut index = 0usize;
        loop {
            if cancel.is_set() {
                return Err(ImageFault::Stopped);
            }
            let at = start_of(index);
            let most = total.map_or(BLOCK_BYTES, |total| total.saturating_sub(at).min(BLOCK_BYTES));
            let Some(mut buffer) = block_queue.buffer() else { return Err(ImageFault::Stopped) };
            if most > 0 && self.is_hole(index) {
                // The stream goes on behind it.
                stream = None;
                let count = (index..).take_while(|block| self.is_hole(*block)).count();
                if !hand_over(Handed::Next(NextBlocks::Holes { index, count }, buffer)) {
                    return Err(ImageFault::Stopped);
                }
                index = index.saturating_add(count);
                continue;
            }
            let open = match &mut stream {
                Some(stream) => stream,
                none => none.insert(self.source.open(at).map_err(fail(at))?),
            };
            let (into, _) = buffer.split_at_mut_checked(most as usize).unwrap_or_default();
            let bytes =
                fill(&mut **open, into).map_err(|(done, source)| fail(at.saturating_add(done as u64))(source))?;
            if total.is_some() && (bytes as u64) < most {
                return Err(ImageFault::Shrunk { at: at.saturating_add(bytes as u64) });
            }
            if bytes == 0 {
                block_queue.give_back(buffer);
                return Ok(at);
            }
            let padded = bytes.next_multiple_of(ALIGNMENT).min(buffer.len());
            buffer.get_mut(bytes..padded).unwrap_or_default().fill(0);
            let is_last = (bytes as u64) < BLOCK_BYTES;
            if !hand_over(Handed::Next(NextBlocks::Block { index, bytes }, buffer)) {
                return Err(ImageFault::Stopped);
            }
            if is_last {
                return Ok(at.saturating_add(bytes as u64));
            }
            index = index.saturating_add(1);
            if let Some(from_drive) = skips.as_ref().filter(|_| index == 1) {
                stream = None;
                if !from_drive.iter().flatten().all(|passed| hand_over(Handed::Passed(passed))) {
                    return Err(ImageFault::Stopped);
                }
                index = self.from;
            }
        }
    }

    fn is_hole(&self, block: usize) -> bool {
        is_hole(self.source, block, self.withheld_from)
    }

    /// Hashes what needs to be, in order, and hands it to the drives.
    fn hash(
        &self,
        ready: &Receiver<Handed>,
        block_queue: &BlockQueue,
        wanted: &[Algorithm],
    ) -> Result<(Hashers, Numbered), ImageFault> {
        let mut hashers = Hashers::new(wanted.iter().copied());
        let mut blocks = Vec::new();
        let known = self.checked.blocks.as_ref();
        for item in ready {
            let (index, bytes, buffer) = match item {
                Handed::Next(NextBlocks::Block { index, bytes }, buffer) => (index, bytes, buffer),
                Handed::Next(holes @ NextBlocks::Holes { index, count }, buffer) => {
                    if self.is_whole {
                        blocks.extend((index..index.saturating_add(count)).map(|block| (block, hole_digest())));
                    }
                    if !block_queue.publish(holes, hole_digest(), buffer) {
                        return Err(ImageFault::Stopped);
                    }
                    continue;
                }
                Handed::Passed(passed) => {
                    hashers.update(&passed);
                    continue;
                }
            };
            let data = buffer.get(..bytes).unwrap_or_default();
            hashers.update(data);
            let is_withheld = index == 0 || index >= self.withheld_from;
            let digest = match known.map(|known| known.get(index)) {
                Some(Some(digest)) if self.trusts_check && !is_withheld => *digest,
                None => blake3::hash(data),
                Some(known) => {
                    let digest = blake3::hash(data);
                    if known != Some(&digest) {
                        return Err(ImageFault::Changed { at: start_of(index) });
                    }
                    digest
                }
            };
            if self.is_whole {
                blocks.push((index, digest));
            }
            if !block_queue.publish(NextBlocks::Block { index, bytes }, digest, buffer) {
                return Err(ImageFault::Stopped);
            }
        }
        Ok((hashers, blocks))
    }

    /// Whether what was read is what was meant.
    fn judge(&self, bytes: u64, hashers: Hashers, blocks: Numbered) -> Result<ImageEnd, ImageFault> {
        if !self.is_whole {
            return Ok(ImageEnd { bytes, sha256: None, blocks: Vec::new() });
        }
        let sums = hashers.finish();
        for wanted in &self.checked.sums {
            let found = sums.iter().find(|sum| sum.algorithm == wanted.algorithm);
            if let Some(found) = found.filter(|found| *found != wanted) {
                let (published, read) = (wanted.hex.clone(), found.hex.clone());
                return Err(ImageFault::OtherSum { algorithm: wanted.algorithm, published, read });
            }
        }
        let computed = sums.into_iter().find(|sum| sum.algorithm == Algorithm::Sha256).map(|sum| sum.hex);
        if let (Some(checked), Some(read)) = (&self.checked.sha256, &computed)
            && checked != read
        {
            return Err(ImageFault::ChangedSum { checked: checked.clone(), read: read.clone() });
        }
        self.source.prove().map_err(|why| ImageFault::Unproven { why })?;
        Ok(ImageEnd { bytes, sha256: computed.or_else(|| self.checked.sha256.clone()), blocks })
    }
}

/// Whether a block stays as it is on the drive: none does that holds the head, or lies in what is withheld.
fn is_hole(source: &dyn Source, block: usize, withheld_from: usize) -> bool {
    (1..withheld_from).contains(&block) && source.is_hole(block)
}

/// How many bytes before what is withheld stay as they are.
pub(super) fn hole_bytes(source: &dyn Source, withheld_from: usize) -> u64 {
    let holes = (0..withheld_from).filter(|block| is_hole(source, *block, withheld_from)).count();
    start_of(holes)
}

/// Fills all of `into`, or as much as there is before the end; a failure tells how much was read before it.
fn fill(stream: &mut dyn Read, into: &mut [u8]) -> Result<usize, (usize, io::Error)> {
    let mut done = 0usize;
    while let Some(rest) = into.get_mut(done..).filter(|rest| !rest.is_empty()) {
        match stream.read(rest) {
            Ok(0) => break,
            Ok(count) => done = done.saturating_add(count),
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err((done, error)),
        }
    }
    Ok(done)
}
