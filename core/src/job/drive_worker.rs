//! One drive's part of a job, from the claim to the release.

use std::path::Path;
use std::sync::mpsc::sync_channel;
use std::time::Instant;

use crate::devices::{After, AlignedBuf, Claimed, DriveFault, DriveIo, DriveWrite, Platform, PlatformError};
use crate::drive::Drive;
use crate::guard::Cleared;
use crate::hash::{BLOCK_BYTES, BlockDigests, hole_digest};
use crate::image::FileMap;
use crate::job::block_queue::{BlockQueue, ImageEnd, ImageEnding, Laggard};
use crate::job::diagnosis::{Before, Case, Written};
use crate::job::gauge::{RestoreOutcome, restore_all};
use crate::job::half_made::{MIN_BLOCKS, PROVEN_BLOCKS};
use crate::job::image_reader::{ImageReader, hole_bytes};
use crate::job::journal::{Heading, Journal, Notes};
use crate::job::layout::{Frame, block_range, length, start_of};
use crate::job::piece::Piece;
use crate::job::rendezvous::{Arrival, Rendezvous};
use crate::job::source::{Access, Source};
use crate::job::stages::body::{Blanked, Body, BodyDone, BodyEnd, Manner, Seat};
use crate::job::stages::readback::digest_of;
use crate::job::stages::{readback, seal};
use crate::job::watchdog::{Heartbeat, Watched};
use crate::job::workers::contained;
use crate::job::{
    Event, ImageFault, JobFault, Order, Outcome, ReadBack, Start, Target, Watcher, Writing, diagnosis, journal,
};
use crate::record::{Conclusion, DriveIdentity, DriveOutcome, Head, JobResult, Stage, StageDone};
use crate::stop::Cancel;
use crate::text::{Shown, chain};

/// Blocks on their way from the drive to where the image is hashed.
const PASSED_AT_ONCE: usize = 2;

/// What all drives of a job share.
pub(super) struct Shared<'a> {
    pub order: &'a Order<'a>,
    pub cancel: &'a Cancel,
    pub watcher: &'a dyn Watcher,
    pub rendezvous: Rendezvous,
    pub block_queue: BlockQueue,
    pub verdict: ImageEnding,
}

/// One drive's part.
pub(super) struct DriveWorker<'a> {
    shared: &'a Shared<'a>,
    heartbeat: &'a Heartbeat,
    number: usize,
    has_arrived: bool,
    /// Bytes of the drive that are used at most.
    limit: u64,
    outcome: Outcome,
}

/// What a drive has taken, and what proves that it has.
struct Taken<'a> {
    body: &'a BodyDone,
    end: &'a ImageEnd,
    /// What was there before.
    before: &'a Before,
}

impl<'a> DriveWorker<'a> {
    pub(super) fn new(shared: &'a Shared<'a>, heartbeat: &'a Heartbeat, number: usize) -> Self {
        Self {
            shared,
            heartbeat,
            number,
            has_arrived: false,
            limit: u64::MAX,
            outcome: Outcome::of(DriveOutcome::untouched(JobResult::Refused)),
        }
    }

    /// Does all of it.
    pub(super) fn run(mut self, platform: &dyn Platform, target: Target) -> Outcome {
        let Target { cleared, journal, state, start, limit } = target;
        let cleared_drive = cleared.drive().clone();
        let identity = DriveIdentity::of(&cleared_drive);
        self.limit = limit.unwrap_or(u64::MAX);
        let heading = self.heading(&cleared);
        let mut release_fault = None;
        let claimed = contained(|| self.claim(platform, cleared)).unwrap_or_else(|died| Err(died.into()));
        let ended = match claimed {
            Ok(drive) => {
                let notes = journal.as_deref().map(|path| (path, &heading));
                let ended = contained(|| {
                    self.check_claimed(&*drive, &identity)?;
                    self.restore_pending(&*drive, state.as_deref(), &identity)?;
                    self.with(&*drive, notes, start)
                });
                let ended = ended.unwrap_or_else(|died| Err(died.into()));
                // What another medium holds or refuses is not this drive's fault.
                let ended = ended.map_err(|fault| match drive.check_medium() {
                    Err(_) if !fault.is_gone() => {
                        (self.outcome.told.conclusion, self.outcome.told.differences) = (None, Vec::new());
                        JobFault::MediumExchanged
                    }
                    _ => fault,
                });
                if matches!(ended, Err(JobFault::Died(_))) {
                    self.empty_again(&*drive);
                }
                self.note_openers(platform, &cleared_drive, ended.as_ref().err());
                self.shared.block_queue.close(self.number);
                let after = if ended.is_ok() { self.shared.order.after } else { After::Keep };
                release_fault = contained(|| self.release(drive, after)).ok().and_then(Result::err);
                ended
            }
            Err(fault) => Err(fault),
        };
        self.arrive(None);
        self.shared.block_queue.close(self.number);
        let result = match &ended {
            Ok(()) if self.shared.order.read_back == ReadBack::Whole => JobResult::Verified,
            Ok(()) => JobResult::Written,
            Err(fault) => fault.result(),
        };
        self.tell(&Event::Over { result });
        self.outcome.told.fault_file = ended.as_ref().err().and_then(JobFault::place).and_then(|at| self.file_at(at));
        let mut outcome = self.outcome;
        outcome.told.result = result;
        outcome.told.fault = ended.as_ref().err().map(|fault| chain(fault));
        outcome.fault = ended.err();
        outcome.release_fault = release_fault;
        outcome
    }

    /// The places of the drive, as far as it is used.
    fn frame(&self, drive: &dyn DriveIo) -> Frame {
        Frame::of(drive.bytes().min(self.limit), drive.sector_bytes())
    }

    fn heading(&self, cleared: &Cleared) -> Heading {
        let Order { source, checked, needs, .. } = self.shared.order;
        let drive = cleared.drive();
        Heading::new(&needs.image, source.bytes(), checked.sha256.as_deref(), &drive.tag, drive.bytes)
    }

    /// Tells the others that this drive is ready, or will not be; only the first time counts.
    fn arrive(&mut self, arrival: Option<Arrival>) {
        if !std::mem::replace(&mut self.has_arrived, true) {
            self.shared.rendezvous.arrive(arrival);
        }
    }

    fn tell(&self, event: &Event) {
        self.shared.watcher.heard(self.number, event);
    }

    /// Does one stage between its two announcements, unless somebody asked to stop. The work tells what it moved.
    fn stage<T>(
        &mut self,
        name: Stage,
        bytes: Option<u64>,
        work: impl FnOnce(&mut Self) -> Result<(T, u64), JobFault>,
    ) -> Result<T, JobFault> {
        if self.shared.cancel.is_set_between_stages() && name != Stage::Release {
            return Err(JobFault::Stopped { stage: name });
        }
        self.tell(&Event::Began { stage: name, bytes });
        let started = Instant::now();
        let (done, bytes) = work(self)?;
        self.outcome.told.stages.push(StageDone { name, bytes, seconds: started.elapsed().as_secs_f64() });
        self.tell(&Event::Ended { stage: name });
        Ok(done)
    }

    fn claim(&mut self, platform: &dyn Platform, cleared: Cleared) -> Result<Box<dyn Claimed>, JobFault> {
        let Order { source, needs, .. } = self.shared.order;
        self.stage(Stage::Claim, Some(0), |_| {
            // A proof is good for what it was given for, and for nothing else.
            if cleared.needs() != *needs || source.bytes().is_some_and(|bytes| bytes > needs.bytes) {
                return Err(JobFault::NotCleared { tag: cleared.drive().tag.clone() });
            }
            Ok((platform.claim(cleared)?, 0))
        })
    }

    fn release(&mut self, drive: Box<dyn Claimed>, after: After) -> Result<(), PlatformError> {
        let mut fault = Ok(());
        // The stage itself can't fail: what the system says about ejecting does not change the result.
        let _ = self.stage(Stage::Release, Some(0), |_| {
            fault = drive.release(after);
            Ok(((), 0))
        });
        fault
    }

    fn check_claimed(&self, claimed: &dyn Claimed, identity: &DriveIdentity) -> Result<(), JobFault> {
        let Some(check) = self.shared.order.claim_check else { return Ok(()) };
        let drive = &Watched { drive: claimed, heartbeat: self.heartbeat };
        check.check(identity, drive).map_err(|why| JobFault::NotAsPlanned { why })
    }

    /// Records the programs that have the drive open at the end of the job. If the drive differs, they may have changed it.
    fn note_openers(&mut self, platform: &dyn Platform, drive: &Drive, fault: Option<&JobFault>) {
        use JobFault::{Differs, NotKept, NotTaken, SealDiffers};
        let is_other = matches!(fault, Some(Differs | NotKept { .. } | NotTaken { .. } | SealDiffers { .. }));
        if fault.is_some() && !is_other {
            return;
        }
        let told = &mut self.outcome.told;
        // The result of the job does not depend on this; a log has the error.
        told.opened_by = platform.openers(drive).map(|openers| openers.programs).unwrap_or_default();
        let could_be = matches!(told.conclusion, None | Some(Conclusion::DropsWrites | Conclusion::KeepsOther));
        if is_other && could_be && !told.opened_by.is_empty() {
            told.conclusion = Some(Conclusion::OtherProgram);
        }
    }

    /// Restores what an interrupted quick test left on this drive. The job goes on if that fails: the person let it erase the drive.
    fn restore_pending(
        &self,
        claimed: &dyn Claimed,
        state: Option<&Path>,
        identity: &DriveIdentity,
    ) -> Result<(), JobFault> {
        let Some(state) = state else { return Ok(()) };
        let drive = &Watched { drive: claimed, heartbeat: self.heartbeat };
        match restore_all(state, identity, drive) {
            Ok(RestoreOutcome { restored_bytes: 0 }) => {}
            Ok(RestoreOutcome { restored_bytes }) => self.tell(&Event::Restored { bytes: restored_bytes }),
            Err(fault) if fault.is_gone() => return Err(fault),
            Err(fault) => self.tell(&Event::RestoreFailed { why: chain(&fault) }),
        }
        Ok(())
    }

    fn with(&mut self, claimed: &dyn Claimed, notes: Option<(&Path, &Heading)>, start: Start) -> Result<(), JobFault> {
        let drive = &Watched { drive: claimed, heartbeat: self.heartbeat };
        let order = self.shared.order;
        let frame = self.frame(drive);
        if let Some(bytes) = order.source.bytes() {
            frame.fits(bytes)?;
        }
        let kept = match start {
            Start::Over => BlockDigests::new(),
            Start::GoOn => self.kept(drive, &frame, notes)?,
        };
        self.outcome.told.kept_bytes = start_of(kept.len());
        let before = self.before(drive, &frame, &kept);
        if order.writing == Writing::Everything {
            self.blank(drive, &frame)?;
        }
        let mut journal = self.begin_notes(notes, &kept);
        let passed = self.arrive_with(&frame, &kept);
        if let Some(passed) = passed {
            self.pass_on(drive, &frame, &kept, &passed)?;
        }
        let ended = self.body(drive, &frame, &kept, &mut journal).and_then(|(body, end)| {
            self.outcome.image_bytes = Some(end.bytes);
            self.outcome.sha256.clone_from(&end.sha256);
            self.outcome.told.written_bytes = body.written;
            self.prove_and_seal(drive, &frame, Taken { body: &body, end: &end, before: &before })
        });
        let is_over = ended.as_ref().err().is_none_or(JobFault::leaves_nothing);
        self.outcome.spent_notes = journal.filter(|_| is_over).map(Journal::spent);
        ended
    }

    /// What an earlier job has left here, as far as the drive still holds it.
    fn kept(
        &self,
        drive: &dyn DriveWrite,
        frame: &Frame,
        notes: Option<(&Path, &Heading)>,
    ) -> Result<BlockDigests, JobFault> {
        let nothing = |why: String| {
            self.tell(&Event::StartsOver { why });
            Ok(BlockDigests::new())
        };
        let Some((path, heading)) = notes else {
            return nothing("no notes are kept about this drive".to_owned());
        };
        let mut blocks = match journal::find(path, heading) {
            Notes::Flushed(blocks) => blocks,
            Notes::Nothing(why) => return nothing(why),
            Notes::Other(what) => return Err(JobFault::OtherJob { what }),
        };
        let image_bytes = self.shared.order.source.bytes().unwrap_or(u64::MAX);
        blocks.truncate(frame.whole_blocks_before(image_bytes));
        if blocks.len() < MIN_BLOCKS {
            return nothing("the drive had not confirmed anything yet".to_owned());
        }
        if let Some(known) = &self.shared.order.checked.blocks
            && let Some(other) = blocks.iter().zip(known).position(|(a, b)| a != b)
        {
            return Err(ImageFault::Other { at: start_of(other) }.into());
        }
        let mut buffer = readback::buffer();
        let mut holds = |block: usize| -> Result<bool, JobFault> {
            // Of the first block, the head is not there; what else it holds is read back in the end.
            let Some(digest) = blocks.get(block).filter(|digest| block > 0 && **digest != hole_digest()) else {
                return Ok(true);
            };
            let (at, bytes) = (start_of(block), BLOCK_BYTES);
            match digest_of(drive, at, bytes, &mut buffer) {
                Ok(found) => Ok(found == *digest),
                Err(DriveFault::Failed(_)) => Ok(false),
                Err(source) => Err(JobFault::Read { at, bytes, source }),
            }
        };
        let last = blocks.len().saturating_sub(PROVEN_BLOCKS)..blocks.len();
        let mut good = blocks.len();
        for block in last.rev() {
            if !holds(block)? {
                good = block;
            }
        }
        if good < blocks.len() {
            // The drive confirmed what it did not keep: then only what is read counts.
            good = 0;
            while good < blocks.len() && holds(good)? {
                good = good.saturating_add(1);
            }
        }
        blocks.truncate(good);
        if blocks.len() < MIN_BLOCKS {
            return nothing("the drive does not hold what was written to it".to_owned());
        }
        self.tell(&Event::GoingOn { from: start_of(blocks.len()) });
        Ok(blocks)
    }

    /// Samples of what is there, where all of it is about to be replaced.
    fn before(&self, drive: &dyn DriveIo, frame: &Frame, kept: &[blake3::Hash]) -> Before {
        let is_fresh = kept.is_empty() && self.shared.order.writing == Writing::Everything;
        let bytes = self.shared.order.source.bytes().unwrap_or(u64::MAX);
        if is_fresh { Before::look(drive, &frame.body(bytes)) } else { Before::default() }
    }

    fn blank(&mut self, drive: &dyn DriveWrite, frame: &Frame) -> Result<(), JobFault> {
        let bytes = frame.blanks().map(|range| length(&range)).fold(0, u64::saturating_add);
        self.stage(Stage::Blank, Some(bytes), |worker| {
            worker.outcome.told.head = Head::Unknown;
            let emptied = seal::blank(drive, frame);
            worker.outcome.told.head = emptied.head;
            match emptied.fault {
                None => Ok(((), bytes)),
                Some(JobFault::NotTaken { at }) if at >= frame.end().start => {
                    // Where the drive should end, it does not keep anything: where does it?
                    let claimed_bytes = drive.bytes();
                    worker.outcome.told.conclusion = Some(match diagnosis::kept_bytes(drive, frame) {
                        Ok(Some(true_bytes)) => Conclusion::FalseCapacity { true_bytes, claimed_bytes },
                        _ => Conclusion::KeepsOther,
                    });
                    Err(JobFault::NotTaken { at })
                }
                Some(fault) => Err(fault),
            }
        })
    }

    /// Empties the ends of a drive on which the job ended early, if it was begun.
    fn empty_again(&mut self, drive: &dyn DriveWrite) {
        if self.outcome.told.head != Head::Untouched {
            self.outcome.told.head = Head::Unknown;
            let frame = self.frame(drive);
            self.outcome.told.head = contained(|| seal::blank(drive, &frame).head).unwrap_or(Head::Unknown);
        }
    }

    fn begin_notes(&self, notes: Option<(&Path, &Heading)>, kept: &[blake3::Hash]) -> Option<Journal> {
        let (path, heading) = notes?;
        match Journal::begin(path, heading, kept) {
            Ok(journal) => Some(journal),
            Err(error) => {
                self.tell(&Event::Unnoted { why: format!("{}: {}", path.shown(), crate::text::plain(&error)) });
                None
            }
        }
    }

    /// Says which blocks this drive needs. Where leaving out the others saves a line, this drive gives them, to be hashed.
    fn arrive_with(&mut self, frame: &Frame, kept: &[blake3::Hash]) -> Option<std::sync::mpsc::SyncSender<Vec<u8>>> {
        let is_given = self.shared.order.source.access() == Access::Costly && kept.len() > 1;
        let (passed, from_drive) = sync_channel(PASSED_AT_ONCE);
        self.arrive(Some(Arrival {
            from: kept.len(),
            withheld_from: frame.whole_blocks_before(u64::MAX),
            from_drive: is_given.then_some(from_drive),
        }));
        is_given.then_some(passed)
    }

    /// Reads from the drive what it has of the image, for those who hash it.
    fn pass_on(
        &self,
        drive: &dyn DriveIo,
        frame: &Frame,
        kept: &[blake3::Hash],
        passed: &std::sync::mpsc::SyncSender<Vec<u8>>,
    ) -> Result<(), JobFault> {
        for (block, digest) in kept.iter().enumerate().skip(1) {
            let range = frame.body_of(&block_range(block));
            let (at, bytes) = (range.start, length(&range));
            let mut buffer = AlignedBuf::new(usize::try_from(bytes).unwrap_or_default());
            drive.read_at(at, &mut buffer).map_err(|source| JobFault::Read { at, bytes, source })?;
            if blake3::hash(&buffer) != *digest {
                return Err(JobFault::NotKept { at: range.start });
            }
            if passed.send(buffer.to_vec()).is_err() {
                break;
            }
        }
        Ok(())
    }

    /// Writes the body, and waits for the word about the image.
    fn body(
        &mut self,
        drive: &dyn DriveWrite,
        frame: &Frame,
        kept: &[blake3::Hash],
        journal: &mut Option<Journal>,
    ) -> Result<(BodyDone, ImageEnd), JobFault> {
        let shared = self.shared;
        let order = shared.order;
        let moved = |bytes: u64| {
            let holes = hole_bytes(order.source, frame.whole_blocks_before(bytes));
            length(&frame.body(bytes)).saturating_sub(holes)
        };
        let bytes = order.source.bytes().map(moved);
        self.stage(Stage::Body, bytes, |worker| {
            let seat = Seat { cancel: shared.cancel, watcher: shared.watcher, number: worker.number };
            let manner = Manner { writing: order.writing, flush_after: order.pacing.flush_after };
            if order.writing == Writing::OnlyChanged {
                // Until it is told whether anything had to be written.
                worker.outcome.told.head = Head::Unknown;
            }
            let body = Body::new(drive, frame, manner, seat, kept);
            let ended = body.run(&shared.block_queue, worker.number, journal).and_then(|end| match end {
                BodyEnd::Whole => Ok(()),
                BodyEnd::LeftBehind(at) => worker.go_on_alone(&body, at, journal),
            });
            let ended = ended.and_then(|()| shared.verdict.wait().map_err(JobFault::from)).and_then(|end| {
                frame.fits(end.bytes)?;
                body.flush(journal)?;
                Ok(end)
            });
            if order.writing == Writing::OnlyChanged {
                worker.outcome.told.head = match body.blanked() {
                    Blanked::No => Head::Untouched,
                    Blanked::Yes => Head::Blank,
                    Blanked::Partly(head) => head,
                };
            }
            let end = ended?;
            let done = body.finish();
            worker.outcome.blocks.clone_from(&done.blocks);
            let all = moved(end.bytes);
            // A drive that read by itself must have seen the same image as the others.
            if let Some(at) = end.differs_from(&done.blocks) {
                return Err(ImageFault::Changed { at: start_of(at) }.into());
            }
            Ok(((done, end), all))
        })
    }

    /// Reads the image for this drive alone, from a block on.
    fn go_on_alone(&self, body: &Body<'_>, from: usize, journal: &mut Option<Journal>) -> Result<(), JobFault> {
        self.tell(&Event::LeftBehind);
        let block_queue = BlockQueue::of_one();
        let withheld_from = body.frame.whole_blocks_before(u64::MAX);
        let reading = ImageReader { is_whole: false, ..self.shared.reading(from, withheld_from) };
        reading.beside(&block_queue, self.shared.cancel, || body.run(&block_queue, 0, journal)).map(drop)
    }

    fn prove_and_seal(&mut self, drive: &dyn DriveWrite, frame: &Frame, taken: Taken<'_>) -> Result<(), JobFault> {
        let Taken { body, end, before } = taken;
        let order = self.shared.order;
        if order.writing == Writing::OnlyChanged && self.outcome.told.head == Head::Untouched {
            if seal::is_sealed(drive, &body.withheld, frame)? {
                // All of it was read, and nothing needed to be written.
                self.outcome.told.head = Head::Sealed;
                return Ok(());
            }
            self.blank(drive, frame)?;
        }
        if order.read_back == ReadBack::Whole {
            let ended = self.read_back(drive, frame, body, before);
            if ended.is_err() {
                // The marks start no PC, but a drive given back is to be blank; one that is gone keeps them.
                let _ = seal::blank(drive, frame);
            }
            ended?;
        }
        self.seal(drive, frame, body, end)
    }

    fn read_back(
        &mut self,
        drive: &dyn DriveWrite,
        frame: &Frame,
        body: &BodyDone,
        before: &Before,
    ) -> Result<(), JobFault> {
        let bytes = body.pieces.iter().map(|piece| piece.bytes).fold(0, u64::saturating_add);
        self.stage(Stage::ReadBack, Some(bytes), |worker| {
            seal::mark(drive, frame)?;
            let counting = crate::job::watch::Counting::new(worker.shared.watcher);
            let suspects = readback::read_back(drive, &body.pieces, worker.number, worker.shared.cancel, &counting)?;
            worker.outcome.told.read_again = counting.read_again();
            if suspects.is_empty() {
                return Ok(((), bytes));
            }
            worker.tell(&Event::Diagnosing);
            let order = worker.shared.order;
            let first = body.pieces.first().map_or(0, |piece| piece.at);
            let case = Case {
                drive,
                image: order.source.kept().zip(order.inspection),
                written: Some(Written { drive, frame, before }),
                blocks: &body.blocks,
                range: first..body.pieces.last().map_or(first, Piece::end),
                cancel: worker.shared.cancel,
            };
            let mut found = case.differences(&suspects)?;
            if found.is_empty() {
                // It read wrong twice and is right by now: nobody should rely on that.
                found.add(
                    suspects.first().map_or(0..0, |one| one.piece.at..one.piece.end()),
                    crate::record::Cause::OtherData,
                );
            }
            worker.outcome.told.conclusion = Some(case.conclusion(&found));
            case.name_files(&mut found);
            (worker.outcome.told.differences, worker.outcome.told.more_differences) = (found.told, found.more);
            Err(JobFault::Differs)
        })
    }

    /// Seals the drive, or empties its head again.
    fn seal(&mut self, drive: &dyn DriveWrite, frame: &Frame, body: &BodyDone, end: &ImageEnd) -> Result<(), JobFault> {
        let bytes = seal::bytes(&body.withheld, frame, end.bytes);
        // What was withheld is to be what was proven of the image: a stop is heard here for the last time.
        let sealed = self.stage(Stage::Seal, Some(bytes), |worker| {
            drive.check_medium().map_err(|_| JobFault::MediumExchanged)?;
            worker.outcome.told.head = Head::Unknown;
            let pieces: &[Piece] = if worker.shared.order.read_back == ReadBack::Whole { &body.pieces } else { &[] };
            match seal::seal(drive, frame, &body.withheld, end.bytes, pieces)? {
                None => Ok(((), bytes)),
                Some(at) => Err(JobFault::SealDiffers { at }),
            }
        });
        match &sealed {
            Ok(()) => self.outcome.told.head = Head::Sealed,
            Err(_) => self.empty_again(drive),
        }
        sealed
    }

    fn file_at(&self, at: u64) -> Option<String> {
        let order = self.shared.order;
        let (image, inspection) = order.source.kept().zip(order.inspection)?;
        // A name is a help and no more.
        FileMap::of(image, inspection).ok()?.at(at).map(str::to_owned)
    }
}

impl<'a> Shared<'a> {
    /// How the image is read, for drives that need it from a block on.
    pub(super) fn reading(&self, from: usize, withheld_from: usize) -> ImageReader<'a> {
        let order = self.order;
        ImageReader {
            source: order.source,
            checked: &order.checked,
            trusts_check: order.read_back == ReadBack::Whole && order.writing == Writing::Everything,
            is_whole: true,
            from,
            withheld_from,
        }
    }
}

/// What becomes of a drive that lags: where the image can be had from any place on, it reads that by itself.
pub(super) fn laggard(source: &dyn Source) -> Laggard {
    if source.access() == Access::Anywhere { Laggard::LeftBehind } else { Laggard::WaitedFor }
}
