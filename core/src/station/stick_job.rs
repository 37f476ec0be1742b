//! One stick of a station: guarded by itself, written, read back, put on record.

use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use jiff::Timestamp;

use super::qualify::{Left, StickContents, StickOffer, qualify};
use super::round::Station;
use super::tally::{Tally, Try, TryEnd};
use super::watch::{StationNews, StationWatcher};
use crate::contents;
use crate::devices::{After, DriveIo, Platform, Sectors};
use crate::drive::{Choice, Drive, NamedBy};
use crate::guard::Confirmed;
use crate::hash::first_block;
use crate::job::journal::Heading;
use crate::job::{self, ClaimCheck, Event, JobFault, JobMemory, Order, Pacing, ReadBack, Start, Watcher, Writing};
use crate::ledger;
use crate::plan::{Came, How, Plan, SurveyError, Wish, blocks_of, end_record, notes_of};
use crate::record::{DriveIdentity, JobKind, JobResult};
use crate::stop::Cancel;
use crate::text::chain;

/// So long after its first fault a drive that is pulled out may still be listed.
const LEAVES_WITHIN: Duration = Duration::from_secs(2);
/// How often it is looked meanwhile.
const LOOK: Duration = Duration::from_millis(200);

/// What became of it.
pub(super) enum StickDone {
    /// Nothing was done.
    Left(Left),
    /// It was begun, and has ended.
    Ended { stick: Try, fault: Option<String> },
    /// The image failed: no further stick can be made, and this one is not to blame.
    Image { stick: Try, why: String },
    /// What must be kept can't be kept: no further stick can be made.
    Unkept(std::io::Error),
}

/// Tells a station's watcher of one drive.
struct OfDrive<'a> {
    drive: &'a Drive,
    watcher: &'a dyn StationWatcher,
}

impl Watcher for OfDrive<'_> {
    fn heard(&self, _number: usize, event: &Event) {
        self.watcher.news(&StationNews::Moved { drive: self.drive, event });
    }
}

/// Compares a claimed stick with what it held when it was offered.
struct Unchanged<'a> {
    job: &'a StickJob<'a>,
    drive: &'a Drive,
    offered: &'a StickContents,
}

impl ClaimCheck for Unchanged<'_> {
    fn check(&self, _identity: &DriveIdentity, claimed: &dyn DriveIo) -> Result<(), String> {
        let is_same = self.job.read_opened(self.drive, claimed) == *self.offered;
        if is_same { Ok(()) } else { Err("another program wrote to it".to_owned()) }
    }
}

/// What a stick is made with.
pub(super) struct StickJob<'a> {
    pub station: &'a Station<'a>,
    pub platform: &'a dyn Platform,
    pub tally: &'a Mutex<Tally>,
    pub cancel: &'a Cancel,
    pub watcher: &'a dyn StationWatcher,
}

fn unfit(why: impl std::fmt::Display) -> StickDone {
    StickDone::Left(Left::Unfit { why: why.to_string() })
}

impl StickJob<'_> {
    fn tally(&self) -> MutexGuard<'_, Tally> {
        self.tally.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn memory(&self) -> JobMemory {
        if self.station.plan.at_once > 1 { JobMemory::Shared } else { JobMemory::Whole }
    }

    /// Reads what is on a stick, through a handle of its own.
    pub(super) fn read(&self, drive: &Drive) -> StickContents {
        let open = self.platform.open(drive);
        open.map_or_else(|_| StickContents::unreadable(), |open| self.read_opened(drive, &*open))
    }

    fn read_opened(&self, drive: &Drive, open: &dyn DriveIo) -> StickContents {
        let Station { image, proven, source, state, .. } = self.station;
        let sectors = Sectors::of(open);
        let Ok(holds) = contents::read(&sectors) else { return StickContents::unreadable() };
        let head = first_block(&sectors).ok();
        let sha256 = proven.checked.sha256.as_deref();
        let heading = Heading::new(&image.called, source.bytes(), sha256, &drive.tag, drive.bytes);
        let notes = notes_of(Some(state), drive);
        let journal = notes.as_deref().map(|path| (path, &heading));
        let is_half_made = job::is_half_made(open, proven.content.bytes(), journal);
        let has_image_head = head.is_some() && head == first_block(proven.content.bytes()).ok();
        StickContents { holds, has_image_head, is_half_made }
    }

    /// Makes one stick, if it still holds what it held when it was offered.
    pub(super) fn run(&self, drive: &Drive, offered: &StickContents) -> StickDone {
        let started = Timestamp::now().to_string();
        // Another stick with this identity may have been made while this one waited.
        if let StickOffer::Leave(why) = qualify(self.station.plan, &self.tally(), drive, offered) {
            return StickDone::Left(why);
        }
        let mut plan = match self.plan(drive) {
            Ok(plan) => plan,
            Err(error) => return unfit(chain(&error)),
        };
        plan.learn(self.station.proven);
        let cleared = match plan.clear() {
            Ok(cleared) => cleared,
            Err(refused) => {
                let first = refused.standing.first();
                return unfit(first.map_or("the guard refuses it", |finding| finding.text.as_str()));
            }
        };
        if let Err(error) = plan.may_claim(self.platform) {
            return unfit(chain(&error));
        }
        let state = self.station.state;
        let begun = match ledger::begin(state, &plan.record(&started, Came::Begun)) {
            Ok(begun) => begun,
            Err(error) => return StickDone::Unkept(error),
        };
        let number = match self.tally().begin(begun.job(), drive) {
            Ok(number) => number,
            Err(error) => {
                // Nothing was written: that it was begun is all there is to say.
                let _ = begun.end(&plan.record(&started, Came::Refused));
                return StickDone::Unkept(error);
            }
        };
        self.watcher.news(&StationNews::Begun { drive });
        let order = Order {
            source: self.station.source,
            needs: plan.needs(),
            inspection: Some(self.station.inspection),
            checked: self.station.proven.checked.clone(),
            read_back: plan.how.read_back,
            writing: plan.how.writing,
            after: plan.how.after,
            pacing: Pacing { memory: self.memory(), ..Pacing::default() },
            claim_check: Some(&Unchanged { job: self, drive, offered }),
        };
        let targets = plan.targets(cleared, Some(state));
        let watcher = OfDrive { drive, watcher: self.watcher };
        let outcomes = job::run(&order, self.platform, targets, self.cancel, &watcher);
        let mut record = plan.record(&started, Came::Ended(&outcomes));
        begun.job().clone_into(&mut record.job);
        // Before the record ends: whoever reads that finds them.
        let kept = blocks_of(&outcomes).map_or(Ok(()), |blocks| ledger::keep_blocks(state, &record.job, &blocks));
        if let Err(error) = kept.and_then(|()| end_record(&begun, &record, &outcomes)) {
            return StickDone::Unkept(error);
        }
        let fault = outcomes.iter().find_map(|one| one.fault.as_ref());
        if let Some(JobFault::NotAsPlanned { .. }) = fault {
            let ended = self.tally().end(number, JobResult::Refused, TryEnd::Job);
            return ended.map_or_else(StickDone::Unkept, |()| StickDone::Left(Left::Changed));
        }
        self.ended(drive, number, record.result, fault)
    }

    /// Whether a drive that failed is not there any more: what is pulled out fails a moment before it is gone.
    fn has_left(&self, drive: &Drive) -> bool {
        let began = Instant::now();
        while began.elapsed() < LEAVES_WITHIN {
            if self.platform.drives().is_ok_and(|now| !now.iter().any(|one| one.is_still(drive))) {
                return true;
            }
            std::thread::sleep(LOOK);
        }
        false
    }

    fn ended(&self, drive: &Drive, number: u64, result: JobResult, fault: Option<&JobFault>) -> StickDone {
        let of_image = matches!(fault, Some(JobFault::Image(_))) && result == JobResult::Failed;
        let is_gone = fault.is_some_and(JobFault::is_gone);
        let is_cut_off = of_image || is_gone || result == JobResult::Failed && self.has_left(drive);
        let mut tally = self.tally();
        if let Err(error) = tally.end(number, result, if is_cut_off { TryEnd::CutOff } else { TryEnd::Job }) {
            return StickDone::Unkept(error);
        }
        let stick = tally.tries().iter().find(|one| one.number == number).cloned();
        match (stick, fault.map(|fault| chain(fault))) {
            (Some(stick), Some(why)) if of_image => StickDone::Image { stick, why },
            (Some(stick), fault) => StickDone::Ended { stick, fault },
            (None, _) => unfit("it is not in the tally"),
        }
    }

    fn plan(&self, drive: &Drive) -> Result<Plan, SurveyError> {
        let Station { plan, image, bench, .. } = self.station;
        let how = How {
            read_back: ReadBack::Whole,
            writing: Writing::Everything,
            after: if plan.eject { After::Eject } else { After::Keep },
            start: Start::Over,
            limit: None,
            confirmed: Confirmed::ByPerson,
        };
        let choice = Choice { drive: drive.clone(), by: NamedBy::Arriving, partition: None };
        let wish = Wish {
            kind: JobKind::Write,
            image: (*image).clone(),
            checks: Vec::new(),
            choices: vec![choice],
            how,
            accepted: Vec::new(),
        };
        Plan::make(wish, self.platform, bench, Timestamp::now())
    }
}
