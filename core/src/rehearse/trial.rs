//! One trial start: switched on, watched, judged.

use std::time::{Duration, Instant};

use super::emulator::Emulator;
use super::error::RehearseError;
use super::evidence::{Evidence, Handover};
use super::judge::{Judgement, STILL, judge};
use super::order::{Runner, TrialOrder};
use super::picture::{PictureKind, ScreenPicture};
use super::wording::{kept, of_screen, of_serial};
use crate::image::Firmware;
use crate::record::{Started, TrialStart};
use crate::stop::Cancel;

/// How often it is looked at.
const LOOK: Duration = Duration::from_millis(400);
/// So long something that has started is watched, so that its picture shows it.
const SHOWN: Duration = Duration::from_secs(10);
/// Firmware that has not come to the stick after this long is not helped by the processor: it may be an emulated one itself.
const HELP: Duration = Duration::from_secs(8);
/// Less than this is read while nothing happens, in bytes.
const READ_IDLY: u64 = 64 << 10;
/// The PC's text screen in pixels: 80 by 25 characters of 9 by 16, VGA mode 3.
const TEXT_MODE: (usize, usize) = (720, 400);

/// What a trial start came to.
#[derive(Clone)]
pub struct Rehearsal {
    /// For the record; its picture has no name yet.
    pub start: TrialStart,
    /// The screen when it ended.
    pub picture: Option<ScreenPicture>,
}

/// How far a trial start is.
#[derive(Clone, Debug)]
pub struct TrialNews {
    /// By which firmware.
    pub firmware: Firmware,
    /// How long it has taken.
    pub seconds: f64,
    /// What is known until now.
    pub known: String,
}

/// Starts what lies on the stick in an emulated PC, and watches it until it is known whether something started, or nobody waits any longer.
///
/// # Errors
/// When the emulator or its firmware is not there, fails, or somebody stops it.
pub fn rehearse(
    order: &TrialOrder<'_>,
    cancel: &Cancel,
    tell: &(dyn Fn(&TrialNews) + Sync),
) -> Result<Rehearsal, RehearseError> {
    // A second try without the processor's help goes on where the first one ended, so that the time shown never falls.
    let began = Instant::now();
    let tell = |news: &TrialNews| tell(&TrialNews { seconds: began.elapsed().as_secs_f64(), ..news.clone() });
    let one = |order: &TrialOrder<'_>| Watch::begin(order)?.watch(cancel, &tell);
    let tried = match (one(order), order.runner) {
        // What it can't do with the processor's help, it may do without.
        (Err(RehearseError::Emulator { .. }) | Ok(WatchEnd::NotHelped), Runner::Processor) => {
            one(&TrialOrder { runner: Runner::Program, ..*order })
        }
        (tried, _) => tried,
    };
    match tried? {
        WatchEnd::Ended(trial) => Ok(*trial),
        WatchEnd::NotHelped => Err(RehearseError::Emulator { said: "it does not begin".to_owned() }),
    }
}

/// How watching ended.
enum WatchEnd {
    Ended(Box<Rehearsal>),
    /// The processor's help is none.
    NotHelped,
}

/// A PC that is watched.
struct Watch<'a> {
    order: &'a TrialOrder<'a>,
    emulator: Emulator,
    began: Instant,
    /// The screen before it changed last, and when that was.
    screen: Option<ScreenPicture>,
    changed: Instant,
    /// How much had been read then, and how much by now, in bytes.
    read_then: u64,
    read_bytes: u64,
    /// The screen when the firmware handed over: what is on it is the firmware's.
    of_firmware: Option<ScreenPicture>,
    /// Since when something is drawn that is not the firmware's.
    drawn: Option<Instant>,
    /// When it was first known that something had started.
    started: Option<Instant>,
}

/// What was seen at one time.
struct Glance {
    judgement: Judgement,
    /// Whether the firmware has not come to the stick yet.
    is_early: bool,
    /// Whether nobody waits any longer.
    is_last: bool,
    firmware_said: Vec<String>,
    screen: String,
    serial: String,
}

impl<'a> Watch<'a> {
    fn begin(order: &'a TrialOrder<'a>) -> Result<Self, RehearseError> {
        let emulator = Emulator::start(order)?;
        let now = Instant::now();
        Ok(Self {
            order,
            emulator,
            began: now,
            screen: None,
            changed: now,
            read_then: 0,
            read_bytes: 0,
            of_firmware: None,
            drawn: None,
            started: None,
        })
    }

    fn watch(mut self, cancel: &Cancel, tell: &dyn Fn(&TrialNews)) -> Result<WatchEnd, RehearseError> {
        loop {
            cancel.pause(LOOK);
            if cancel.is_set() {
                return Err(RehearseError::Stopped);
            }
            let look = self.look()?;
            let waited = self.began.elapsed();
            let (firmware, seconds) = (self.order.firmware, waited.as_secs_f64());
            tell(&TrialNews { firmware, seconds, known: look.judgement.reason.clone() });
            if self.is_over(&look) {
                return Ok(WatchEnd::Ended(Box::new(self.ended(look, seconds))));
            }
            if self.emulator.accelerated && look.is_early && waited >= HELP {
                return Ok(WatchEnd::NotHelped);
            }
        }
    }

    /// Whether nothing more is to be learnt, or nobody waits.
    fn is_over(&mut self, look: &Glance) -> bool {
        let is_enough = match look.judgement.started {
            Started::Unknown => false,
            Started::No => self.changed.elapsed() >= LOOK,
            Started::Yes => {
                let since = *self.started.get_or_insert_with(Instant::now);
                self.changed.elapsed() >= STILL || since.elapsed() >= SHOWN
            }
        };
        is_enough || look.is_last || self.emulator.monitor.is_off
    }

    fn look(&mut self) -> Result<Glance, RehearseError> {
        let picture = self.emulator.picture()?;
        let is_text = (picture.width, picture.height) == TEXT_MODE;
        let screen = if is_text { of_screen(&self.emulator.text_memory()?) } else { String::new() };
        self.read_bytes = self.emulator.read_bytes()?;
        let is_still = self.screen.as_ref().is_some_and(|before| before.is_like(&picture));
        if !is_still || self.read_bytes.saturating_sub(self.read_then) > READ_IDLY {
            self.changed = Instant::now();
            self.read_then = self.read_bytes;
            self.screen = Some(picture.clone());
        }
        let serial = of_serial(&self.emulator.serial());
        let bios_log = String::from_utf8_lossy(&self.emulator.bios_log()).into_owned();
        let mut seen = Evidence {
            firmware: self.order.firmware,
            bios_log: &bios_log,
            serial: &serial,
            screen: &screen,
            picture: PictureKind::Blank,
            drawn: Duration::ZERO,
            still: self.changed.elapsed(),
            resets: self.emulator.monitor.resets,
            is_off: self.emulator.monitor.is_off,
            names: self.order.names,
            has_start: self.order.has_start,
            is_last: self.began.elapsed() >= self.order.wait,
        };
        if seen.handover() == Handover::Given {
            let of_firmware = self.of_firmware.get_or_insert_with(|| picture.clone());
            if !is_text && !of_firmware.is_like(&picture) {
                seen.picture = picture.kind();
            }
        } else {
            self.of_firmware = None;
        }
        self.drawn = (seen.picture == PictureKind::Drawn).then(|| self.drawn.unwrap_or_else(Instant::now));
        seen.drawn = self.drawn.map_or(Duration::ZERO, |since| since.elapsed());
        let (judgement, firmware_said) = (judge(&seen), seen.firmware_said());
        let (is_early, is_last) = (seen.handover() == Handover::Not, seen.is_last);
        Ok(Glance { judgement, is_early, is_last, firmware_said, screen, serial })
    }

    fn ended(self, look: Glance, seconds: f64) -> Rehearsal {
        let start = TrialStart {
            firmware: self.order.firmware,
            secure_boot: self.order.secure_boot,
            started: look.judgement.started,
            reason: look.judgement.reason,
            firmware_said: look.firmware_said,
            screen: kept(&look.screen),
            serial: kept(&look.serial),
            picture: None,
            seconds,
            read_bytes: self.read_bytes,
            accelerated: self.emulator.accelerated,
        };
        Rehearsal { start, picture: self.screen }
    }
}
