//! An image as it comes over the line, in its order and without a file: on from where it broke, by the next mirror if need be.
//!
//! What passes is not proven here, but for pieces whose checksums are known: whoever takes it compares the whole.

use std::collections::VecDeque;
use std::io::{self, Read};
use std::time::{Duration, Instant};

use crate::fetch::patience::{CRAWLING, PROGRESS, Patience};
use crate::fetch::web::{Answer, ByteRange, Web, of_io};
use crate::fetch::{MirrorFault, News, Pieces, Wanted};
use crate::hash::Hashers;
use crate::stop::Cancel;

/// Pieces longer than this, in bytes, are passed on as they come.
const PIECE_MOST: u64 = 16 << 20;

struct Source {
    address: String,
    patience: Patience,
    validator: Option<String>,
    dropped: Option<MirrorFault>,
}

/// Who hears what happens on the way.
pub type Tell<'a> = Box<dyn FnMut(&News<'_>) + Send + 'a>;

/// The bytes of an image from a place on.
pub struct Onward<'a> {
    web: &'a Web,
    cancel: &'a Cancel,
    tell: Tell<'a>,
    sources: VecDeque<Source>,
    /// Length of the image, as published or as the first mirror says.
    total: Option<u64>,
    /// The next byte that comes from the line.
    at: u64,
    answer: Option<Answer>,
    since_failure: u64,
    /// How long the line was waited for, and what came meanwhile.
    waited: (Duration, u64),
    pieces: Option<Pieces>,
    /// A piece that is proven, and how much of it was passed on.
    proven: (Vec<u8>, usize),
}

impl<'a> Onward<'a> {
    /// The image that is `wanted`, from byte `at` on.
    pub fn new(web: &'a Web, wanted: &Wanted, at: u64, cancel: &'a Cancel, tell: Tell<'a>) -> Self {
        let source = |address: &String| Source {
            address: address.clone(),
            patience: Patience::default(),
            validator: None,
            dropped: None,
        };
        // In the middle of a piece nothing can be proven until the next one begins: then the whole has to do.
        let fits = |pieces: &Pieces| pieces.bytes <= PIECE_MOST && at.checked_rem(pieces.bytes) == Some(0);
        Self {
            web,
            cancel,
            tell,
            sources: wanted.mirrors.iter().map(|mirror| source(&mirror.address)).collect(),
            total: wanted.bytes,
            at,
            answer: None,
            since_failure: 0,
            waited: (Duration::ZERO, 0),
            pieces: wanted.pieces.clone().filter(fits),
            proven: (Vec::new(), 0),
        }
    }

    /// Length of the image; asks a mirror where nobody published it. `None` if no mirror tells it either.
    ///
    /// # Errors
    /// When no mirror gives the image.
    pub fn total(&mut self) -> io::Result<Option<u64>> {
        if self.total.is_none() {
            self.connect()?;
        }
        Ok(self.total)
    }

    /// Has an answer, from the best mirror that gives one.
    fn connect(&mut self) -> io::Result<()> {
        while self.answer.is_none() {
            if self.cancel.is_set() {
                return Err(io::Error::other("stopped"));
            }
            let Some(source) = self.sources.front_mut().filter(|source| source.dropped.is_none()) else {
                return Err(self.nobody_left());
            };
            if source.patience.in_a_row() == 0 {
                (self.tell)(&News::Asking { address: &source.address });
            }
            let part = ByteRange { start: self.at, end: None, only_if: source.validator.clone() };
            let address = source.address.clone();
            match self.web.get(&address, &part).and_then(|answer| self.fit(answer)) {
                Ok(answer) => {
                    (self.tell)(&News::Sending { address: &address, from: self.at });
                    self.answer = Some(answer);
                }
                Err(fault) => self.failed(fault),
            }
        }
        Ok(())
    }

    /// Whether the answer goes on with the same image at the same place.
    fn fit(&mut self, mut answer: Answer) -> Result<Answer, MirrorFault> {
        if let (Some(said), Some(expected)) = (answer.total, self.total)
            && said != expected
        {
            return Err(MirrorFault::OtherLength { said, expected });
        }
        let Some(source) = self.sources.front_mut() else { return Err(MirrorFault::Silent) };
        if source.validator.is_some() && source.validator != answer.validator {
            return Err(MirrorFault::Changed);
        }
        source.validator.clone_from(&answer.validator);
        self.total = self.total.or(answer.total);
        if answer.start < self.at {
            // It sends all of it again: what is there already is passed over.
            let over = self.at.saturating_sub(answer.start);
            pass_over(&mut answer, over, self.cancel)?;
        }
        Ok(answer)
    }

    /// The mirror in front did not do: it is asked again after a pause, or others are.
    fn failed(&mut self, fault: MirrorFault) {
        self.answer = None;
        let Some(mut source) = self.sources.pop_front() else { return };
        if self.since_failure >= PROGRESS {
            source.patience.went_on();
        }
        self.since_failure = 0;
        source.patience.failed();
        if fault.is_lasting() || source.patience.is_over() {
            (self.tell)(&News::Dropped { address: &source.address, fault: &fault });
            source.dropped = Some(fault);
            self.sources.push_back(source);
            return;
        }
        let failures = source.patience.in_a_row();
        let is_better = |other: &Source| other.dropped.is_none() && other.patience.in_a_row() < failures;
        let has_other = self.sources.iter().any(is_better);
        let pause = if has_other { Duration::ZERO } else { source.patience.pause() };
        (self.tell)(&News::Again { address: &source.address, fault: &fault, seconds: pause.as_secs_f64() });
        // Behind those that may do better, before those that were left out.
        let place = self.sources.iter().position(|other| other.dropped.is_some()).unwrap_or(self.sources.len());
        self.sources.insert(if has_other { place } else { 0 }, source);
        self.cancel.pause(pause);
    }

    fn nobody_left(&self) -> io::Error {
        let last = self.sources.back();
        let fault = last.and_then(|source| source.dropped.clone()).unwrap_or(MirrorFault::Silent);
        let address = last.map(|source| source.address.clone()).unwrap_or_default();
        io::Error::other(super::FetchError::NoMirror { address, fault })
    }

    /// The next bytes from the line; 0 only at the image's end.
    fn line_bytes(&mut self, into: &mut [u8]) -> io::Result<usize> {
        loop {
            if self.total == Some(self.at) || into.is_empty() {
                return Ok(0);
            }
            self.connect()?;
            let left = self.total.map_or(u64::MAX, |total| total.saturating_sub(self.at));
            let most = usize::try_from(left).unwrap_or(usize::MAX).min(into.len());
            let Some(answer) = &mut self.answer else { continue };
            let began = Instant::now();
            let read = answer.read(into.get_mut(..most).unwrap_or_default());
            // What whoever takes it lets it wait is not the line's.
            let (waited, came) = &mut self.waited;
            *waited = waited.saturating_add(began.elapsed());
            *came = came.saturating_add(*read.as_ref().unwrap_or(&0) as u64);
            if *waited >= self.web.wait() {
                let is_crawling = *came < waited.as_secs().max(1).saturating_mul(CRAWLING);
                self.waited = (Duration::ZERO, 0);
                if is_crawling {
                    self.failed(MirrorFault::Slow);
                    continue;
                }
            }
            match read {
                Ok(0) if self.total.is_none() => return Ok(0),
                Ok(0) => self.failed(MirrorFault::BrokeOff { why: "it ended early".to_owned() }),
                Ok(count) => {
                    self.at = self.at.saturating_add(count as u64);
                    self.since_failure = self.since_failure.saturating_add(count as u64);
                    return Ok(count);
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => self.failed(of_io(&error)),
            }
        }
    }

    /// Takes the next piece from the line until it is right.
    fn next_piece(&mut self, pieces: &Pieces) -> io::Result<()> {
        loop {
            let start = self.at;
            let mut piece = Vec::new();
            let mut chunk = vec![0u8; 256 << 10];
            while (piece.len() as u64) < pieces.bytes {
                let most = usize::try_from(pieces.bytes.saturating_sub(piece.len() as u64)).unwrap_or(usize::MAX);
                let most = most.min(chunk.len());
                let count = self.line_bytes(chunk.get_mut(..most).unwrap_or_default())?;
                if count == 0 {
                    break;
                }
                piece.extend_from_slice(chunk.get(..count).unwrap_or_default());
            }
            let number = start.checked_div(pieces.bytes).and_then(|number| usize::try_from(number).ok());
            let expected = number.and_then(|number| pieces.sums.get(number));
            let mut hashers = Hashers::new([pieces.algorithm]);
            hashers.update(&piece);
            if piece.is_empty() || hashers.finish().first() == expected {
                self.proven = (piece, 0);
                return Ok(());
            }
            self.at = start;
            self.since_failure = 0;
            self.failed(MirrorFault::DamagedPiece { at: start });
        }
    }
}

/// Takes so many bytes of an answer for nothing.
fn pass_over(answer: &mut Answer, bytes: u64, cancel: &Cancel) -> Result<(), MirrorFault> {
    let mut chunk = vec![0u8; 64 << 10];
    let mut left = bytes;
    while left > 0 {
        if cancel.is_set() {
            return Err(MirrorFault::Stopped);
        }
        let most = usize::try_from(left).unwrap_or(usize::MAX).min(chunk.len());
        match answer.read(chunk.get_mut(..most).unwrap_or_default()) {
            Ok(0) => return Err(MirrorFault::BrokeOff { why: "it ended early".to_owned() }),
            Ok(count) => left = left.saturating_sub(count as u64),
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(of_io(&error)),
        }
    }
    Ok(())
}

impl Read for Onward<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let Some(pieces) = self.pieces.take() else { return self.line_bytes(into) };
        let mut fetched = Ok(());
        if self.proven.1 == self.proven.0.len() {
            fetched = self.next_piece(&pieces);
        }
        self.pieces = Some(pieces);
        fetched?;
        let (piece, passed) = &mut self.proven;
        let rest = piece.get(*passed..).unwrap_or_default();
        let count = rest.len().min(into.len());
        if let (Some(into), Some(from)) = (into.get_mut(..count), rest.get(..count)) {
            into.copy_from_slice(from);
        }
        *passed = passed.saturating_add(count);
        Ok(count)
    }
}
