//! The round of a station: what is plugged in is looked at, taken or left, and so many are written at once.

use std::borrow::Cow;
use std::collections::HashSet;
use std::io;
use std::path::Path;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Mutex, PoisonError};
use std::thread::Scope;
use std::time::Duration;

use super::qualify::{Left, StickContents, StickOffer, qualify};
use super::station_plan::StationPlan;
use super::stick_job::{StickDone, StickJob};
use super::tally::Tally;
use super::watch::{StationNews, StationWatcher};
use crate::devices::{Platform, PlatformError};
use crate::drive::{Drive, Saying};
use crate::examine::Proven;
use crate::image::Inspection;
use crate::job::{Source, contained};
use crate::plan::{Bench, PlannedImage};
use crate::record::JobResult;
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
    /// What was on it when it was offered.
    contents: StickContents,
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

/// A device, whatever medium is in it: a phone or reader that was attached without one is the same device when it has one.
#[derive(PartialEq, Eq, Hash)]
struct DeviceIdentity {
    vendor: Option<String>,
    model: Option<String>,
    serial: Option<String>,
}

impl DeviceIdentity {
    fn of(drive: &Drive) -> Self {
        let Saying { vendor, model, serial, .. } = drive.says.clone();
        Self { vendor, model, serial }
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
    before: HashSet<DeviceIdentity>,
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
    let before = attached.iter().map(DeviceIdentity::of).collect();
    let idle = |drive| OnFloor { drive, stand: Stand::Idle, contents: StickContents::unreadable() };
    let plugged = attached.into_iter().map(idle).collect();
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
            let busy: Vec<&str> = self
                .plugged
                .iter()
                .filter(|one| one.stand == Stand::Works)
                .map(|one| one.drive.path.as_str())
                .collect();
            match self.job.platform.drives_without_reading(&busy) {
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
            self.job.watcher.news(&StationNews::Stopping);
        } else {
            self.job.cancel.go_on();
            self.job.watcher.news(&StationNews::Finishing);
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
                let (stand, contents) = self.offer(drive, attached);
                self.plugged.push(OnFloor { drive: drive.clone(), stand, contents });
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

    fn offer(&self, drive: &Drive, attached: &[Drive]) -> (Stand, StickContents) {
        let contents = self.job.read(drive);
        let offer = {
            let tally = self.job.tally.lock().unwrap_or_else(PoisonError::into_inner);
            qualify(self.job.station.plan, &tally, drive, &contents)
        };
        let was_there = self.before.contains(&DeviceIdentity::of(drive));
        let offer = if was_there && offer == StickOffer::Take { StickOffer::Ask } else { offer };
        let watcher = self.job.watcher;
        let stand = match offer {
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
        };
        (stand, contents)
    }

    fn begin_some<'scope>(&mut self, scope: &'scope Scope<'scope, '_>)
    where
        'a: 'scope,
    {
        let has_room = |floor: &Self| floor.left_to_make() > 0 && floor.working() < floor.job.station.plan.at_once;
        while !self.is_finishing && !self.job.cancel.is_set() && has_room(self) {
            let Some(next) = self.plugged.iter_mut().find(|one| one.stand == Stand::Waits) else { return };
            next.stand = Stand::Works;
            let (drive, contents, done) = (next.drive.clone(), next.contents.clone(), self.done.0.clone());
            let StickJob { station, platform, tally, cancel, watcher } = self.job;
            scope.spawn(move || {
                let job = StickJob { station, platform, tally, cancel, watcher };
                let failed = || StickDone::Left(Left::Unfit { why: "a part of this program failed".to_owned() });
                let what = contained(|| job.run(&drive, &contents)).unwrap_or_else(|_| failed());
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn device_is_the_same_with_and_without_a_medium() {
        let with = Drive::sample("590J1");
        let without =
            Drive { tag: "0000?".parse().unwrap(), bytes: 0, says: with.says.clone(), ..Drive::sample("65387") };
        assert!(DeviceIdentity::of(&with) == DeviceIdentity::of(&without));
        assert!(DeviceIdentity::of(&with) != DeviceIdentity::of(&Drive::sample("65387")));
    }
}
