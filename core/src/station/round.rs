//! The round of a station: what is plugged in is looked at, taken or left, and so many are written at once.

use std::borrow::Cow;
use std::collections::HashSet;
use std::io;
use std::path::Path;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Mutex, PoisonError};
use std::thread::Scope;
use std::time::Duration;

use super::qualify::{Left, StickOffer, qualify};
use super::station_plan::StationPlan;
use super::stick_job::{StickDone, StickJob};
use super::tally::Tally;
use super::watch::{StationNews, StationWatcher};
use crate::devices::{Platform, PlatformError, Sectors};
use crate::drive::Drive;
use crate::examine::Proven;
use crate::hash::first_block;
use crate::image::Inspection;
use crate::job::{Source, contained};
use crate::plan::{Bench, PlannedImage};
use crate::record::{DriveIdentity, JobResult};
use crate::stop::Cancel;

/// How often it is looked what is plugged in.
const LOOK: Duration = Duration::from_millis(250);
/// So often in a row the system may not answer: a hub that goes takes a while.
const BLIND_MOST: u32 = 20;

/// What a station works with.
pub struct Station<'a> {
    /// The plan.
    pub plan: &'a StationPlan,
    /// Its image, as it is planned with.
    pub image: &'a PlannedImage,
    /// What is known of it.
    pub inspection: &'a Inspection,
    /// What its comparison has found.
    pub proven: &'a Proven,
    /// Its bytes.
    pub source: &'a dyn Source,
    /// What the bench has of its own.
    pub bench: &'a Bench,
    /// Where records and tally are kept.
    pub state: &'a Path,
}

/// Why a round ended before its plan was done.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RoundFault {
    /// The system does not tell what is plugged in.
    #[error(transparent)]
    Platform(#[from] PlatformError),
    /// The image can't be read as it was checked.
    #[error("the image failed: {why}")]
    Image {
        /// Why.
        why: String,
    },
    /// Records or tally can't be written.
    #[error("what is done can't be put on record")]
    Unkept(#[source] io::Error),
}

/// What becomes of a drive that is plugged in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Stand {
    /// Nothing: it was there before, is left alone, or has ended.
    Idle,
    /// Somebody must say whether it is taken.
    Asked,
    /// It is taken when there is room.
    Waits,
    /// It is being written.
    Works,
}

struct OnFloor {
    drive: Drive,
    stand: Stand,
}

/// What stands for a drive when somebody says that it is to be taken: its tag, or where it is if its tag fits others.
fn word_for<'a>(drive: &'a Drive, attached: &[Drive]) -> Cow<'a, str> {
    let is_only = attached.iter().filter(|one| one.tag == drive.tag).count() < 2;
    match &drive.link.port {
        _ if is_only => drive.tag.as_str().into(),
        Some(port) => port.to_string().into(),
        None => drive.path.as_str().into(),
    }
}

struct Done {
    drive: Drive,
    what: StickDone,
}

struct Floor<'a> {
    job: StickJob<'a>,
    plugged: Vec<OnFloor>,
    /// Who was attached before: one of them that comes again may have been unplugged by a hub, and by nobody.
    before: HashSet<DriveIdentity>,
    done: (Sender<Done>, Receiver<Done>),
    /// How many were told to be made.
    made: u64,
    is_finishing: bool,
    /// How often in a row the system has not answered.
    blind: u32,
}

/// Takes what is plugged in from now on, until the plan is done or somebody stops it. The tally then tells what was made.
///
/// # Errors
/// When it can't go on. What is under way is brought to its end before.
pub fn round(
    station: &Station<'_>,
    platform: &dyn Platform,
    tally: &Mutex<Tally>,
    cancel: &Cancel,
    watcher: &dyn StationWatcher,
) -> Result<(), RoundFault> {
    let attached = platform.drives()?;
    let before = attached.iter().map(|drive| DriveIdentity::of(drive).anywhere()).collect();
    let plugged = attached.into_iter().map(|drive| OnFloor { drive, stand: Stand::Idle }).collect();
    let job = StickJob { station, platform, tally, cancel, watcher };
    let made = tally.lock().unwrap_or_else(PoisonError::into_inner).made();
    let mut floor = Floor { job, plugged, before, done: channel(), made, is_finishing: false, blind: 0 };
    cancel.ask();
    let ended = std::thread::scope(|scope| floor.run(scope));
    cancel.ask_no_more();
    ended
}

impl<'a> Floor<'a> {
    fn run<'scope>(&mut self, scope: &'scope Scope<'scope, '_>) -> Result<(), RoundFault>
    where
        'a: 'scope,
    {
        let mut fault = None;
        loop {
            self.hear_stops();
            while let Ok(done) = self.done.1.try_recv() {
                if let Err(error) = self.end(done) {
                    fault.get_or_insert(error);
                    self.is_finishing = true;
                }
            }
            let is_over = self.is_finishing || self.left_to_make() == 0 || self.job.cancel.is_set();
            if is_over && self.working() == 0 {
                return fault.map_or(Ok(()), Err);
            }
            match self.job.platform.drives() {
                Ok(attached) => {
                    self.blind = 0;
                    self.look(&attached);
                }
                Err(error) => {
                    self.blind = self.blind.saturating_add(1);
                    if self.blind >= BLIND_MOST && fault.is_none() {
                        fault = Some(error.into());
                        self.is_finishing = true;
                    }
                }
            }
            self.begin_some(scope);
            self.job.cancel.pause(LOOK);
            if self.job.cancel.is_set() {
                // Those under way are told by themselves, and end soon.
                std::thread::sleep(LOOK);
            }
        }
    }

    /// The first Ctrl-C begins no further stick, the second stops those under way.
    fn hear_stops(&mut self) {
        if !self.job.cancel.is_open() {
            return;
        }
        if std::mem::replace(&mut self.is_finishing, true) {
            self.job.cancel.set();
        } else {
            self.job.watcher.news(&StationNews::Finishing);
            self.job.cancel.go_on();
        }
    }

    fn working(&self) -> u64 {
        self.plugged.iter().filter(|one| one.stand == Stand::Works).count() as u64
    }

    /// How many more are to be begun, if all that are under way come to a good end.
    fn left_to_make(&self) -> u64 {
        self.job.station.plan.sticks.saturating_sub(self.made).saturating_sub(self.working())
    }

    /// What left is forgotten, what came is offered.
    fn look(&mut self, attached: &[Drive]) {
        let watcher = self.job.watcher;
        self.plugged.retain(|one| {
            // What is being written tells by itself that it was pulled out.
            let stays = one.stand == Stand::Works || attached.iter().any(|now| now.is_still(&one.drive));
            if !stays {
                watcher.news(&StationNews::Gone { drive: &one.drive });
            }
            stays
        });
        for drive in attached {
            if drive.bytes > 0 && !self.plugged.iter().any(|one| one.drive.path == drive.path) {
                let stand = self.offer(drive, attached);
                self.plugged.push(OnFloor { drive: drive.clone(), stand });
            }
        }
        for typed in watcher.typed() {
            let is_meant = |one: &&mut OnFloor| {
                one.stand == Stand::Asked && word_for(&one.drive, attached).eq_ignore_ascii_case(typed.trim())
            };
            match self.plugged.iter_mut().find(is_meant) {
                Some(one) => one.stand = Stand::Waits,
                None => watcher.news(&StationNews::Unknown { typed: &typed }),
            }
        }
    }

    fn offer(&self, drive: &Drive, attached: &[Drive]) -> Stand {
        let (offer, was_cut_off) = {
            let tally = self.job.tally.lock().unwrap_or_else(PoisonError::into_inner);
            (qualify(self.job.station.plan, &tally, drive), tally.was_cut_off(drive))
        };
        let offer = match offer {
            StickOffer::Take if drive.tag.is_unsure() && self.holds_image(drive) => StickOffer::Leave(Left::HoldsImage),
            // It was cut off when it was made, and nobody could say so any more: what is on it is this very image.
            StickOffer::Ask | StickOffer::Leave(Left::HoldsFiles) if was_cut_off && self.holds_image(drive) => {
                StickOffer::Take
            }
            offer => offer,
        };
        let was_there = self.before.contains(&DriveIdentity::of(drive).anywhere());
        let offer = if was_there && offer == StickOffer::Take { StickOffer::Ask } else { offer };
        let watcher = self.job.watcher;
        match offer {
            StickOffer::Take => {
                watcher.news(&StationNews::Waits { drive });
                Stand::Waits
            }
            StickOffer::Ask => {
                watcher.news(&StationNews::Asked { drive, word: &word_for(drive, attached), was_there });
                Stand::Asked
            }
            StickOffer::Leave(why) => {
                watcher.news(&StationNews::Left { drive, why: &why });
                Stand::Idle
            }
        }
    }

    /// Of a drive that can't be told from others, its content tells whether it was made.
    fn holds_image(&self, drive: &Drive) -> bool {
        let Ok(open) = self.job.platform.open(drive) else { return false };
        let on_drive = first_block(&Sectors::of(&*open)).ok();
        let wanted = first_block(self.job.station.proven.content.bytes()).ok();
        on_drive.is_some() && on_drive == wanted
    }

    fn begin_some<'scope>(&mut self, scope: &'scope Scope<'scope, '_>)
    where
        'a: 'scope,
    {
        let has_room = |floor: &Self| floor.left_to_make() > 0 && floor.working() < floor.job.station.plan.at_once;
        while !self.is_finishing && !self.job.cancel.is_set() && has_room(self) {
            let Some(next) = self.plugged.iter_mut().find(|one| one.stand == Stand::Waits) else { return };
            next.stand = Stand::Works;
            let (drive, done) = (next.drive.clone(), self.done.0.clone());
            let StickJob { station, platform, tally, cancel, watcher } = self.job;
            scope.spawn(move || {
                let job = StickJob { station, platform, tally, cancel, watcher };
                let failed = || StickDone::Left(Left::Unfit { why: "a part of this program failed".to_owned() });
                let what = contained(|| job.run(&drive)).unwrap_or_else(|_| failed());
                // The round waits for all that it has begun.
                let _ = done.send(Done { drive, what });
            });
        }
    }

    fn end(&mut self, Done { drive, what }: Done) -> Result<(), RoundFault> {
        let place = self.plugged.iter_mut().find(|one| one.drive.path == drive.path && one.stand == Stand::Works);
        place.into_iter().for_each(|one| one.stand = Stand::Idle);
        let watcher = self.job.watcher;
        match what {
            StickDone::Left(why) => watcher.news(&StationNews::Left { drive: &drive, why: &why }),
            StickDone::Ended { stick, fault } => {
                self.made = self.made.saturating_add(u64::from(stick.result == Some(JobResult::Verified)));
                let made = self.made;
                watcher.news(&StationNews::Ended { drive: &drive, stick: &stick, fault: fault.as_deref(), made });
            }
            StickDone::Image { stick, why } => {
                let (drive, made) = (&drive, self.made);
                watcher.news(&StationNews::Ended { drive, stick: &stick, fault: Some(&why), made });
                return Err(RoundFault::Image { why });
            }
            StickDone::Unkept(error) => return Err(RoundFault::Unkept(error)),
        }
        Ok(())
    }
}
