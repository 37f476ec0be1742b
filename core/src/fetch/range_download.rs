//! One connection: asks a mirror for a range of the image and carries it into the file.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::Sender;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use crate::fetch::incremental_hash::HashPace;
use crate::fetch::web::{Answer, ByteRange, Web, of_io};
use crate::fetch::{MirrorFault, Pieces};
use crate::hash::Hashers;
use crate::image::{Stranger, stranger};

/// Carried at once, in bytes.
const CHUNK: usize = 256 << 10;
/// So much of the start tells a web page from an image, in bytes.
const HEAD: usize = 4096;

/// How long a connection waits before it asks again whether it is still too far ahead.
const WAIT: Duration = Duration::from_millis(2);

/// What one connection is to do.
pub(super) struct Errand {
    pub id: u64,
    pub web: Web,
    pub address: String,
    pub part: ByteRange,
    /// Length of the whole image, if it is known.
    pub total: Option<u64>,
    /// The most that is taken of an image whose length nobody tells.
    pub most: u64,
    pub pieces: Option<Arc<Pieces>>,
    pub pace: Arc<HashPace>,
    pub file: Arc<Mutex<File>>,
    /// Set when nobody waits for this any more: then not another byte is written.
    pub is_given_up: Arc<AtomicBool>,
    pub reports: Sender<(u64, RangeReport)>,
}

/// What a server says of the file before it sends any of it.
pub(super) struct Began {
    pub(super) total: Option<u64>,
    /// What tells this version of it from others.
    pub(super) validator: Option<String>,
}

/// What a connection tells.
pub(super) enum RangeReport {
    /// The mirror sends.
    Began(Began),
    /// So far, everything from the start of the range has arrived; nothing of it may count yet.
    Arrived(u64),
    /// These bytes are in the file, and right as far as their piece tells.
    There(u64, u64),
    /// The end of the errand; with the length of an image of which nobody told it.
    Ended(Result<Option<u64>, RangeFault>),
}

/// Why an errand ended early.
pub(super) enum RangeFault {
    Mirror(MirrorFault),
    /// This machine's own disk.
    Disk(io::Error),
}

impl From<MirrorFault> for RangeFault {
    fn from(fault: MirrorFault) -> Self {
        Self::Mirror(fault)
    }
}

impl Errand {
    /// Does it, and reports.
    pub(super) fn run(self) {
        let outcome = self.carry();
        self.report(RangeReport::Ended(outcome));
    }

    fn report(&self, report: RangeReport) {
        // Nobody listens when it was given up.
        let _ = self.reports.send((self.id, report));
    }

    /// Asks, and makes sure that what comes is what was asked for; tells how long all of it is.
    fn begin(&self) -> Result<(Answer, Option<u64>), RangeFault> {
        let answer = self.web.get(&self.address, &self.part)?;
        if let (Some(said), Some(expected)) = (answer.total, self.total)
            && said != expected
            && (self.part.only_if.is_none() || self.part.start == 0)
        {
            return Err(MirrorFault::OtherLength { said, expected }.into());
        }
        if answer.start != self.part.start {
            let is_same = self.part.only_if.is_some() && self.part.only_if == answer.validator;
            let fault =
                if is_same || self.part.only_if.is_none() { MirrorFault::NoParts } else { MirrorFault::Changed };
            return Err(fault.into());
        }
        let total = self.total.or(answer.total);
        if total.is_some_and(|bytes| bytes > self.most) {
            return Err(MirrorFault::TooLong { limit: self.most }.into());
        }
        self.report(RangeReport::Began(Began { total, validator: answer.validator.clone() }));
        Ok((answer, total))
    }

    fn carry(&self) -> Result<Option<u64>, RangeFault> {
        let (mut answer, total) = self.begin()?;
        let end = self.part.end.or(total);
        let mut at = self.part.start;
        let mut chunk = vec![0u8; CHUNK];
        let mut piece = self.pieces.as_ref().map(|pieces| PieceUnderWay::at(at, pieces));
        while end.is_none_or(|end| at < end) {
            let room = end.map_or(CHUNK, |end| usize::try_from(end.saturating_sub(at)).unwrap_or(CHUNK).min(CHUNK));
            let room = chunk.get_mut(..room).unwrap_or_default();
            let count = if at == 0 { read_head(&mut answer, room) } else { answer.read(room) };
            let count = count.map_err(|error| match (of_io(&error), end) {
                (MirrorFault::BrokeOff { .. }, Some(end)) => {
                    MirrorFault::BrokeOff { why: format!("at byte {at} of {end}") }
                }
                (fault, _) => fault,
            })?;
            let bytes = chunk.get(..count).unwrap_or_default();
            if at == 0 {
                look_at(bytes)?;
            }
            if bytes.is_empty() {
                match end {
                    Some(expected) => {
                        return Err(MirrorFault::BrokeOff { why: format!("at byte {at} of {expected}") }.into());
                    }
                    None => return Ok(Some(at)),
                }
            }
            let next = at.saturating_add(count as u64);
            if next > self.most {
                return Err(MirrorFault::TooLong { limit: self.most }.into());
            }
            self.write(at, bytes)?;
            // Pieces come from several servers at once, and must not wait for each other.
            while self.pieces.is_none() && self.pace.is_ahead(next) && !self.is_given_up.load(Ordering::SeqCst) {
                std::thread::sleep(WAIT);
            }
            match (&mut piece, &self.pieces) {
                (Some(piece), Some(pieces)) => {
                    self.report(RangeReport::Arrived(next));
                    for (start, end) in piece.take(at, bytes, pieces, end)? {
                        self.report(RangeReport::There(start, end));
                    }
                }
                _ => self.report(RangeReport::There(at, next)),
            }
            at = next;
        }
        // A server that tells no length must not have more than there should be.
        if answer.total.is_none() && Some(at) == self.total && answer.read(&mut [0u8; 1]).is_ok_and(|count| count > 0) {
            return Err(MirrorFault::OtherLength { said: at.saturating_add(1), expected: at }.into());
        }
        Ok(total)
    }

    fn write(&self, at: u64, bytes: &[u8]) -> Result<(), RangeFault> {
        let mut file = self.file.lock().unwrap_or_else(PoisonError::into_inner);
        if self.is_given_up.load(Ordering::SeqCst) {
            return Err(MirrorFault::Slow.into());
        }
        file.seek(SeekFrom::Start(at)).and_then(|_| file.write_all(bytes)).map_err(RangeFault::Disk)
    }
}

/// Fills as much as it takes to know what this is.
fn read_head(answer: &mut impl Read, into: &mut [u8]) -> io::Result<usize> {
    let mut done = 0usize;
    while done < HEAD.min(into.len()) {
        match answer.read(into.get_mut(done..).unwrap_or_default()) {
            Ok(0) => break,
            Ok(count) => done = done.saturating_add(count),
            // What came before the fault still tells what it was.
            Err(_) if done > 0 => break,
            Err(error) => return Err(error),
        }
    }
    Ok(done)
}

fn look_at(head: &[u8]) -> Result<(), MirrorFault> {
    let what = match stranger(head) {
        _ if head.is_empty() => "an empty file",
        Some(Stranger::Other { what, .. }) => what.split(':').next().unwrap_or(what),
        Some(Stranger::Archive(what)) => what,
        Some(Stranger::Zeros) => "nothing but zeros",
        None => return Ok(()),
    };
    Err(MirrorFault::NotAnImage { what: what.to_owned() })
}

/// The piece under way.
struct PieceUnderWay {
    start: u64,
    hashers: Hashers,
}

impl PieceUnderWay {
    fn at(start: u64, pieces: &Pieces) -> Self {
        Self { start, hashers: Hashers::new([pieces.algorithm]) }
    }

    /// Takes in bytes and gives the pieces that they complete.
    fn take(
        &mut self,
        at: u64,
        bytes: &[u8],
        pieces: &Pieces,
        end: Option<u64>,
    ) -> Result<Vec<(u64, u64)>, MirrorFault> {
        let (mut at, mut rest, mut whole) = (at, bytes, Vec::new());
        while !rest.is_empty() {
            let piece_end = self.start.saturating_add(pieces.bytes).min(end.unwrap_or(u64::MAX));
            let count = usize::try_from(piece_end.saturating_sub(at)).unwrap_or(usize::MAX).min(rest.len());
            let (now, later) = rest.split_at_checked(count).unwrap_or((rest, &[]));
            self.hashers.update(now);
            (at, rest) = (at.saturating_add(now.len() as u64), later);
            if at == piece_end {
                let done = std::mem::replace(self, Self::at(at, pieces));
                let number = done.start.checked_div(pieces.bytes).and_then(|number| usize::try_from(number).ok());
                let expected = number.and_then(|number| pieces.sums.get(number));
                if done.hashers.finish().first() != expected {
                    return Err(MirrorFault::DamagedPiece { at: done.start });
                }
                whole.push((done.start, at));
            }
        }
        Ok(whole)
    }
}
