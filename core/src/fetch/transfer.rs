//! The whole fetch: which mirror is asked for what, what is done when one fails, and when all of it is there.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, PoisonError};
use std::time::{Duration, Instant};

use crate::bytes::ReadAt;
use crate::fetch::incremental_hash::{Follower, HashPace};
use crate::fetch::part::PartFile;
use crate::fetch::patience::{CRAWLING, PAUSE_LONGEST, PROGRESS, Patience};
use crate::fetch::public_address::public_address;
use crate::fetch::range_download::{Began, Errand, RangeFault, RangeReport};
use crate::fetch::web::{ByteRange, Web};
use crate::fetch::{FetchError, Listener, MirrorFault, News, Pieces, Wanted};
use crate::hash::{Algorithm, Hashers, Sum, pass};
use crate::stop::Cancel;

/// Most connections at a time, each to another mirror.
const CONNECTIONS_MOST: usize = 4;
/// With several connections, each is asked for about this much at a time, in bytes.
const SHARE: u64 = 8 << 20;
/// The side file is brought up to date this often.
const SAVE_EVERY: Duration = Duration::from_secs(5);
/// Slower than this, in bytes a second, another mirror is tried.
const SLOW: u64 = 64 << 10;
/// How often everything may begin again because a server has another version.
const RESTARTS_MOST: u32 = 2;
/// What was there before this run counts as from a mirror of its own.
const EARLIER: usize = usize::MAX;

struct MirrorState {
    address: String,
    patience: Patience,
    not_before: Instant,
    has_failed: bool,
    dropped: Option<MirrorFault>,
    is_slow: bool,
    has_no_parts: bool,
    validator: Option<String>,
    was_asked: bool,
}

/// How much of what is missing one server is asked for.
#[derive(Clone, Copy)]
enum Share {
    All,
    Part,
}

struct Worker {
    id: u64,
    mirror: usize,
    start: u64,
    end: Option<u64>,
    /// What has arrived since a time, to see how fast it goes.
    arrived: u64,
    since: (Instant, u64),
    is_given_up: Arc<AtomicBool>,
}

/// Where it goes, and how much of it at most.
pub struct Landing<'a> {
    /// The file under way.
    pub part: &'a mut PartFile,
    /// Most bytes that are taken.
    pub most: u64,
}

/// Fetches what `wanted` describes into `landing`, and gives the checksums of all of it: those of `algorithms`, those that
/// were published, and SHA-256.
///
/// # Errors
/// When no mirror is left, this machine's disk fails, or `cancel` says stop. What is there stays in `part`.
pub fn transfer(
    web: &Web,
    wanted: &Wanted,
    landing: Landing<'_>,
    cancel: &Cancel,
    listener: &mut dyn Listener,
) -> Result<Vec<Sum>, FetchError> {
    let Landing { part, most } = landing;
    let (reports, heard) = channel();
    let now = Instant::now();
    let state = |address: &String| MirrorState {
        address: address.clone(),
        patience: Patience::default(),
        not_before: now,
        has_failed: false,
        dropped: None,
        is_slow: false,
        has_no_parts: false,
        validator: part.side.validator.clone().filter(|_| part.side.address == public_address(address)),
        was_asked: false,
    };
    let mirrors = wanted.mirrors.iter().map(|mirror| state(&mirror.address)).collect();
    let mut algorithms: Vec<Algorithm> = wanted.sums.iter().map(|sum| sum.algorithm).collect();
    algorithms.push(Algorithm::Sha256);
    let has_earlier = part.kept_bytes() > 0;
    let mut transfer = Transfer {
        web,
        wanted,
        pieces: wanted.pieces.clone().map(Arc::new),
        total: wanted.bytes.or_else(|| has_earlier.then_some(part.side.bytes)),
        part,
        most,
        hashing: Hashing { algorithms, pace: Arc::default(), follower: None },
        mirrors,
        lines: Connections { workers: Vec::new(), reports, heard, next_id: 0 },
        origin: Origin {
            sources: if has_earlier { BTreeSet::from([EARLIER]) } else { BTreeSet::new() },
            last_dropped: None,
            length_from: None,
            restarts: 0,
        },
        furthest: 0,
        saved: now,
    };
    let outcome = transfer.run(cancel, listener);
    transfer.abandon_all();
    if let Some(follower) = transfer.hashing.follower.take() {
        follower.give_up();
    }
    let saved = transfer.part.save();
    let sums = outcome?;
    saved.map_err(|source| FetchError::Folder { path: transfer.part.path().to_owned(), source })?;
    Ok(sums)
}

/// The connections, and what they report.
struct Connections {
    workers: Vec<Worker>,
    reports: Sender<(u64, RangeReport)>,
    heard: Receiver<(u64, RangeReport)>,
    next_id: u64,
}

/// The checksums of what is there without a gap.
struct Hashing {
    algorithms: Vec<Algorithm>,
    pace: Arc<HashPace>,
    follower: Option<Follower>,
}

/// Whose word what is there rests on.
struct Origin {
    /// Mirrors from which something of it came.
    sources: BTreeSet<usize>,
    last_dropped: Option<usize>,
    /// The mirror that told the length, where nothing published does.
    length_from: Option<usize>,
    /// How often everything began again.
    restarts: u32,
}

struct Transfer<'a> {
    web: &'a Web,
    wanted: &'a Wanted,
    pieces: Option<Arc<Pieces>>,
    part: &'a mut PartFile,
    most: u64,
    total: Option<u64>,
    hashing: Hashing,
    mirrors: Vec<MirrorState>,
    lines: Connections,
    origin: Origin,
    /// The most that ever was there.
    furthest: u64,
    saved: Instant,
}

impl Transfer<'_> {
    fn run(&mut self, cancel: &Cancel, listener: &mut dyn Listener) -> Result<Vec<Sum>, FetchError> {
        listener.moved(self.part.side.done.bytes(), self.total);
        loop {
            if cancel.is_set() {
                return Err(FetchError::Stopped);
            }
            if self.is_complete() {
                if let Some(sums) = self.prove(cancel, listener)? {
                    return Ok(sums);
                }
                continue;
            }
            self.start_workers(listener)?;
            match self.lines.heard.recv_timeout(Duration::from_millis(50)) {
                Ok((id, report)) => self.take(id, report, listener)?,
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return Err(FetchError::Stopped),
            }
            self.leave_slow_ones(listener);
            let under_way: u64 = match self.pieces {
                // Of a piece that is not whole yet nothing counts, and still it moves.
                Some(_) => self.lines.workers.iter().map(|worker| worker.arrived).fold(0, u64::saturating_add),
                None => 0,
            };
            listener.moved(self.part.side.done.bytes().saturating_add(under_way), self.total);
            if self.saved.elapsed() >= SAVE_EVERY {
                self.part.save().map_err(|error| self.disk(error))?;
                self.saved = Instant::now();
            }
        }
    }

    fn disk(&self, source: std::io::Error) -> FetchError {
        FetchError::Folder { path: self.part.path().to_owned(), source }
    }

    fn is_complete(&self) -> bool {
        self.total.is_some_and(|total| self.part.side.done.bytes() == total)
    }

    fn usable(&self) -> impl Iterator<Item = (usize, &MirrorState)> {
        self.mirrors.iter().enumerate().filter(|(_, mirror)| mirror.dropped.is_none())
    }

    /// Gives every mirror that may be asked now something to do.
    fn start_workers(&mut self, listener: &mut dyn Listener) -> Result<(), FetchError> {
        if self.lines.workers.is_empty() && self.usable().next().is_none() {
            let dropped = self.origin.last_dropped.and_then(|place| self.mirrors.get(place));
            let fault = dropped.and_then(|mirror| mirror.dropped.clone()).unwrap_or(MirrorFault::Silent);
            let address = dropped.map(|mirror| mirror.address.clone()).unwrap_or_default();
            return Err(FetchError::NoMirror { address, fault });
        }
        // Only where each piece can be told right from wrong may several servers have a hand in it.
        let is_shared = self.pieces.is_some() && self.total.is_some();
        let most = if is_shared { CONNECTIONS_MOST } else { 1 };
        while self.lines.workers.len() < most {
            let Some((start, end)) =
                self.next_range(if is_shared && self.usable().count() > 1 { Share::Part } else { Share::All })
            else {
                break;
            };
            let Some(mirror) = self.pick(start, end) else { break };
            self.send_out(mirror, start, end, listener)?;
        }
        Ok(())
    }

    /// What nobody has and nobody is fetching.
    fn next_range(&self, share: Share) -> Option<(u64, Option<u64>)> {
        let Some(total) = self.total else {
            return self.lines.workers.is_empty().then_some((0, None));
        };
        let mut taken = self.part.side.done.clone();
        for worker in &self.lines.workers {
            taken.add(worker.start, worker.end.unwrap_or(total));
        }
        let (start, end) = taken.gap(0, total)?;
        let Some(pieces) = &self.pieces else { return Some((start, Some(end))) };
        // Whole pieces only: the rest of one proves nothing.
        let start = start.saturating_sub(start.checked_rem(pieces.bytes)?);
        let most = SHARE.div_ceil(pieces.bytes).max(1).saturating_mul(pieces.bytes);
        let end = end.div_ceil(pieces.bytes).saturating_mul(pieces.bytes).min(total);
        Some((
            start,
            Some(match share {
                Share::Part => end.min(start.saturating_add(most)),
                Share::All => end,
            }),
        ))
    }

    /// The best mirror that is free and may be asked.
    fn pick(&self, start: u64, end: Option<u64>) -> Option<usize> {
        let is_part = start > 0 || end != self.total;
        let now = Instant::now();
        let is_free = |place: usize| self.lines.workers.iter().all(|worker| worker.mirror != place);
        let free = self.usable().filter(|(place, mirror)| is_free(*place) && mirror.not_before <= now);
        // One that can't send parts is left for when all others are gone; then everything starts over.
        let others = self.usable().any(|(_, mirror)| !mirror.has_no_parts);
        let fit = free.filter(|(_, mirror)| !(is_part && mirror.has_no_parts && others));
        fit.min_by_key(|(place, mirror)| (mirror.is_slow, mirror.patience.in_a_row(), *place)).map(|(place, _)| place)
    }

    fn send_out(
        &mut self,
        place: usize,
        start: u64,
        end: Option<u64>,
        listener: &mut dyn Listener,
    ) -> Result<(), FetchError> {
        let is_blind = self.wanted.sums.is_empty() && self.pieces.is_none();
        let Some(mirror) = self.mirrors.get_mut(place) else { return Ok(()) };
        let (mut start, mut end) = (start, end);
        if start > 0 && (mirror.has_no_parts || is_blind && mirror.validator.is_none()) {
            let why = if mirror.has_no_parts {
                "the server can't go on in the middle of a file"
            } else {
                "nothing tells whether the server still has the same file"
            };
            (start, end) = (0, self.wanted.bytes);
            self.start_over(why, listener);
        }
        if self.total.is_none() {
            // Whatever an earlier answer of unknown length left is no part of this one.
            self.part.start_over();
            self.origin.sources.clear();
        }
        let Some(mirror) = self.mirrors.get_mut(place) else { return Ok(()) };
        if !mirror.was_asked {
            listener.told(&News::Asking { address: &mirror.address });
            mirror.was_asked = true;
        }
        // Up to the very end, no server needs to be told where that is; from the start on, not even that it is a range.
        let asked_end = end.filter(|_| end != self.total && !mirror.has_no_parts);
        let id = self.lines.next_id;
        self.lines.next_id = self.lines.next_id.saturating_add(1);
        let is_given_up = Arc::new(AtomicBool::new(false));
        let errand = Errand {
            id,
            web: self.web.clone(),
            address: mirror.address.clone(),
            part: ByteRange { start, end: asked_end, only_if: mirror.validator.clone() },
            total: self.total,
            most: self.most,
            pieces: self.pieces.clone(),
            pace: Arc::clone(&self.hashing.pace),
            file: Arc::clone(&self.part.file),
            is_given_up: Arc::clone(&is_given_up),
            reports: self.lines.reports.clone(),
        };
        let spawned = std::thread::Builder::new().name("fetch".to_owned()).spawn(move || errand.run());
        spawned.map_err(|error| self.disk(error))?;
        self.lines.workers.push(Worker {
            id,
            mirror: place,
            start,
            end,
            arrived: 0,
            since: (Instant::now(), 0),
            is_given_up,
        });
        Ok(())
    }

    /// Takes in what a connection tells.
    fn take(&mut self, id: u64, report: RangeReport, listener: &mut dyn Listener) -> Result<(), FetchError> {
        let Some(place) = self.lines.workers.iter().position(|worker| worker.id == id) else { return Ok(()) };
        let Some(worker) = self.lines.workers.get_mut(place) else { return Ok(()) };
        let mirror = worker.mirror;
        match report {
            RangeReport::Began(began) => {
                let from = worker.start;
                self.began(mirror, from, began, listener)?;
            }
            RangeReport::Arrived(end) => worker.arrived = end.saturating_sub(worker.start),
            RangeReport::There(start, end) => {
                if self.pieces.is_none() {
                    worker.arrived = end.saturating_sub(worker.start);
                } else {
                    // What counts is no longer under way.
                    worker.arrived = worker.arrived.saturating_sub(end.saturating_sub(start));
                    worker.start = end;
                    worker.since.1 = worker.since.1.saturating_sub(end.saturating_sub(start));
                }
                self.part.side.done.add(start, end);
                self.origin.sources.insert(mirror);
                if let Some(follower) = &self.hashing.follower {
                    follower.reached(self.part.side.done.prefix());
                }
                let done = self.part.side.done.bytes();
                if done >= self.furthest.saturating_add(PROGRESS) {
                    self.furthest = done;
                    self.mirrors.get_mut(mirror).into_iter().for_each(|mirror| mirror.patience.went_on());
                }
            }
            RangeReport::Ended(outcome) => {
                self.lines.workers.remove(place);
                match outcome {
                    Ok(total) => {
                        self.total = self.total.or(total);
                        self.part.side.bytes = self.total.unwrap_or(0);
                    }
                    Err(RangeFault::Disk(error)) => return Err(self.disk(error)),
                    Err(RangeFault::Mirror(fault)) => self.failed(mirror, fault, listener),
                }
            }
        }
        Ok(())
    }

    fn began(&mut self, place: usize, from: u64, began: Began, listener: &mut dyn Listener) -> Result<(), FetchError> {
        let Began { total, validator } = began;
        if self.total.is_none() && total.is_some() {
            (self.total, self.origin.length_from) = (total, Some(place));
        }
        let Some(mirror) = self.mirrors.get_mut(place) else { return Ok(()) };
        listener.told(&News::Sending { address: &mirror.address, from });
        mirror.validator.clone_from(&validator);
        let side = &mut self.part.side;
        side.address = public_address(&mirror.address);
        (side.validator, side.bytes) = (validator, self.total.unwrap_or(0));
        side.sum = self.wanted.sums.first().map(|sum| sum.hex.clone());
        if let (None, Some(total)) = (&self.hashing.follower, self.total) {
            let follower = Follower::start(self.part.path(), total, &self.hashing.algorithms, &self.hashing.pace)
                .map_err(|error| self.disk(error))?;
            follower.reached(self.part.side.done.prefix());
            self.hashing.follower = Some(follower);
        }
        Ok(())
    }

    /// What a mirror's fault means for it and for all of the fetch.
    fn failed(&mut self, place: usize, fault: MirrorFault, listener: &mut dyn Listener) {
        let others = self.usable().any(|(other, _)| other != place);
        let is_known = !self.wanted.sums.is_empty() || self.pieces.is_some();
        let is_length = matches!(fault, MirrorFault::OtherLength { .. } | MirrorFault::Changed);
        // Two mirrors tell two lengths: the one that could not keep to its own goes.
        if let Some(teller) = self.origin.length_from.filter(|teller| is_length && *teller != place)
            && let Some(said) = self.total
            && self.mirrors.get(teller).is_some_and(|teller| teller.has_failed)
        {
            self.drop_mirror(
                teller,
                MirrorFault::OtherLength { said, expected: self.part.side.done.bytes() },
                listener,
            );
            self.start_over("two servers tell two lengths of the file", listener);
            return;
        }
        let may_restart = self.origin.restarts < RESTARTS_MOST;
        let Some(mirror) = self.mirrors.get_mut(place) else { return };
        match fault {
            MirrorFault::NoParts if !mirror.has_no_parts => {
                mirror.has_no_parts = true;
                return;
            }
            // Where a checksum is known, the version that fits it may still be had elsewhere.
            MirrorFault::Changed if may_restart && !(is_known && others) => {
                mirror.validator = None;
                self.start_over("the server has another version of the file by now", listener);
                return;
            }
            _ => {}
        }
        mirror.patience.failed();
        mirror.has_failed = true;
        let is_bad_piece = matches!(fault, MirrorFault::DamagedPiece { .. });
        let is_over = mirror.patience.is_over() || is_bad_piece && (others || mirror.patience.in_a_row() > 2);
        if fault.is_lasting() || is_over {
            self.drop_mirror(place, fault, listener);
            return;
        }
        let pause = match &fault {
            MirrorFault::Status { after: Some(seconds), .. } => Duration::from_secs(*seconds).min(PAUSE_LONGEST),
            _ => mirror.patience.pause(),
        };
        listener.told(&News::Again { address: &mirror.address, fault: &fault, seconds: pause.as_secs_f64() });
        mirror.not_before = Instant::now().checked_add(pause).unwrap_or(mirror.not_before);
    }

    fn drop_mirror(&mut self, place: usize, fault: MirrorFault, listener: &mut dyn Listener) {
        let is_last = self.usable().all(|(other, _)| other == place);
        let Some(mirror) = self.mirrors.get_mut(place) else { return };
        // With the last one the fetch ends, and its error says why.
        if !is_last {
            listener.told(&News::Dropped { address: &mirror.address, fault: &fault });
        }
        mirror.dropped = Some(fault);
        self.origin.last_dropped = Some(place);
        // Nor is its word on the length worth anything, if nothing came of it.
        if self.origin.length_from == Some(place) && self.part.side.done.bytes() == 0 {
            self.forget_length();
        }
    }

    fn forget_length(&mut self) {
        (self.total, self.origin.length_from) = (self.wanted.bytes, None);
        if let Some(follower) = self.hashing.follower.take() {
            follower.give_up();
        }
    }

    /// Leaves a mirror that is far too slow, if another one is there that was not found slow yet.
    fn leave_slow_ones(&mut self, listener: &mut dyn Listener) {
        let stretch = self.web.wait().checked_div(3).unwrap_or_default();
        let is_better = |place: usize, mirror: &MirrorState, workers: &[Worker]| {
            !mirror.is_slow && workers.iter().all(|worker| worker.mirror != place)
        };
        let has_better = self.usable().any(|(place, mirror)| is_better(place, mirror, &self.lines.workers));
        let (mut left, mut given_up) = (Vec::new(), Vec::new());
        for worker in &mut self.lines.workers {
            let (since, before) = worker.since;
            if since.elapsed() < stretch {
                continue;
            }
            let came = worker.arrived.saturating_sub(before);
            let millis = u64::try_from(since.elapsed().as_millis()).unwrap_or(u64::MAX);
            let rate = came.saturating_mul(1000).checked_div(millis).unwrap_or(SLOW);
            worker.since = (Instant::now(), worker.arrived);
            let fault = if came == 0 { MirrorFault::Silent } else { MirrorFault::Slow };
            if has_better && rate < SLOW {
                left.push((worker.id, worker.mirror, fault));
            } else if rate < CRAWLING {
                given_up.push((worker.id, worker.mirror, fault));
            }
        }
        for (id, place, fault) in given_up {
            self.abandon(|worker| worker.id == id);
            self.failed(place, fault, listener);
        }
        for (id, place, fault) in left {
            self.abandon(|worker| worker.id == id);
            if let Some(mirror) = self.mirrors.get_mut(place) {
                mirror.is_slow = true;
                listener.told(&News::Again { address: &mirror.address, fault: &fault, seconds: 0.0 });
            }
        }
    }

    fn abandon(&mut self, which: impl Fn(&Worker) -> bool) {
        self.lines.workers.retain(|worker| {
            let is_left = which(worker);
            if is_left {
                worker.is_given_up.store(true, Ordering::SeqCst);
            }
            !is_left
        });
        // Whoever was writing just now has ended when this lock is had.
        drop(self.part.file.lock().unwrap_or_else(PoisonError::into_inner));
    }

    fn abandon_all(&mut self) {
        self.abandon(|_| true);
    }

    /// What was there counts for nothing any more; that much must be there again before anything is called progress.
    fn start_over(&mut self, why: &str, listener: &mut dyn Listener) {
        listener.told(&News::StartedOver { why });
        self.abandon_all();
        self.forget_length();
        self.part.start_over();
        self.origin.sources.clear();
        self.origin.restarts = self.origin.restarts.saturating_add(1);
    }

    /// All of it is there: is it right? `None` when something has to be fetched again.
    fn prove(&mut self, cancel: &Cancel, listener: &mut dyn Listener) -> Result<Option<Vec<Sum>>, FetchError> {
        self.abandon_all();
        let total = self.total.unwrap_or(0);
        let follower = match self.hashing.follower.take() {
            Some(follower) => follower,
            None => Follower::start(self.part.path(), total, &self.hashing.algorithms, &self.hashing.pace)
                .map_err(|error| self.disk(error))?,
        };
        let read = follower.finish();
        let sums = read.ok_or_else(|| self.disk(std::io::Error::other("what was written can't be read again")))?;
        let is_wrong =
            |wanted: &&Sum| sums.iter().any(|sum| sum.algorithm == wanted.algorithm && sum.hex != wanted.hex);
        let Some(wrong) = self.wanted.sums.iter().find(is_wrong) else { return Ok(Some(sums)) };
        let fault = MirrorFault::OtherSum { algorithm: wrong.algorithm };
        if let Some(pieces) = self.pieces.clone()
            && self.take_out_damaged(&pieces, cancel)?
        {
            return Ok(None);
        }
        let (sources, place) = (self.origin.sources.len(), self.origin.sources.first().copied().unwrap_or(0));
        self.start_over("what was fetched has another checksum than published", listener);
        if sources <= 1 && place != EARLIER {
            self.failed(place, fault, listener);
        } else if self.mirrors.len() > 1 {
            // Which of them lies shows when each is taken alone.
            self.pieces = None;
        }
        Ok(None)
    }

    /// Compares each piece again, and forgets those that are wrong; tells whether there are any.
    fn take_out_damaged(&mut self, pieces: &Pieces, cancel: &Cancel) -> Result<bool, FetchError> {
        let (mut at, mut found) = (0u64, false);
        let total = self.total.unwrap_or(0);
        for expected in &pieces.sums {
            let end = at.saturating_add(pieces.bytes).min(total);
            let mut hashers = Hashers::new([pieces.algorithm]);
            let piece = Stretch { part: &*self.part, start: at, bytes: end.saturating_sub(at) };
            if pass(&piece, hashers.takers(), cancel, &mut |_| {}).is_err() {
                return Err(FetchError::Stopped);
            }
            if hashers.finish().first() != Some(expected) {
                self.part.side.done.remove(at, end);
                found = true;
            }
            at = end;
        }
        Ok(found)
    }
}

/// A part of what was fetched.
struct Stretch<'a> {
    part: &'a PartFile,
    start: u64,
    bytes: u64,
}

impl ReadAt for Stretch<'_> {
    fn size(&self) -> u64 {
        self.bytes
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> std::io::Result<usize> {
        let most = usize::try_from(self.bytes.saturating_sub(at)).unwrap_or(usize::MAX).min(into.len());
        PartFile::read_at(&self.part.file, self.start.saturating_add(at), into.get_mut(..most).unwrap_or_default())
    }
}
