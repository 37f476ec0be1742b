//! The quick look: marks in a few places, read again once the drive has had more to take than any cache of its own holds.
//!
//! What lies there is kept on the bench first and put back at the end, whatever comes between.

use std::ops::Range;
use std::path::Path;
use std::time::Instant;

use crate::devices::{ALIGNMENT, After, AlignedBuf, Claimed, DriveFault, DriveIo, DriveWrite, Platform};
use crate::guard::{Cleared, ImageNeeds};
use crate::hash::BLOCK_BYTES;
use crate::job::gauge::backup::{MAX_EXTENT_BYTES, ProbeBackup};
use crate::job::gauge::marks::{MARK_BYTES, Marker, place};
use crate::job::gauge::places::{Places, between};
use crate::job::gauge::restore::{restore_all, restore_backup};
use crate::job::layout::length;
use crate::job::teller::Teller;
use crate::job::watch::Shielded;
use crate::job::watchdog::{Heartbeat, Watched, watched};
use crate::job::workers::contained;
use crate::job::{Event, JobFault, Outcome, Pacing, Watcher};
use crate::record::{
    Area, AreaState, Conclusion, DriveIdentity, DriveOutcome, Gauged, Head, JobResult, SpeedAt, Stage, StageDone, Trust,
};
use crate::stop::Cancel;
use crate::text::chain;

/// A place is slow that takes so many times as long as the usual one, and this many seconds.
const SLOWER: u64 = 8;
const SLOW_SECONDS: f64 = 0.25;
/// Steps towards the true end, at most: each narrows it down to a part in seventeen.
const STEPS_MOST: usize = 8;

/// What a quick look is told.
pub struct QuickLook<'a> {
    /// What the guard has cleared the drive for.
    pub needs: &'a ImageNeeds,
    /// The bench's state, below which the original bytes are backed up.
    pub state: &'a Path,
    /// Makes these marks differ from all others.
    pub seed: &'a str,
    /// What becomes of the drive.
    pub after: After,
}

/// Looks at a drive, and leaves it as it was.
pub fn quick_look(
    look: &QuickLook<'_>,
    platform: &dyn Platform,
    cleared: Cleared,
    cancel: &Cancel,
    watcher: &dyn Watcher,
) -> Outcome {
    let watcher = &Shielded::new(watcher);
    let began = Instant::now();
    let mut outcome = Outcome::of(DriveOutcome::untouched(JobResult::Refused));
    let identity = DriveIdentity::of(cleared.drive());
    let claimed = contained(|| claim(look, platform, cleared, watcher)).unwrap_or_else(|died| Err(died.into()));
    let looked = claimed.and_then(|drive| {
        let looked = contained(|| looked_at(look, &*drive, &identity, cancel, watcher));
        let looked = looked.unwrap_or_else(|died| Err(died.into()));
        let after = if looked.is_ok() { look.after } else { After::Keep };
        outcome.release_fault = drive.release(after).err();
        looked
    });
    let told = &mut outcome.told;
    match looked {
        Ok(Looked { gauged, bytes }) => {
            told.result = gauged.verdict.result();
            told.conclusion = conclusion(&gauged);
            told.stages.push(StageDone { name: Stage::Probe, bytes, seconds: began.elapsed().as_secs_f64() });
            told.gauged = Some(gauged);
        }
        Err(fault) => {
            told.result = fault.result();
            told.fault = Some(chain(&fault));
            if matches!(fault, JobFault::RestoreFailed { .. } | JobFault::Died(_)) {
                told.head = Head::Unknown;
            }
            outcome.fault = Some(fault);
        }
    }
    watcher.heard(0, &Event::Over { result: outcome.told.result });
    outcome
}

/// What that means for the drive.
pub(super) fn conclusion(gauged: &Gauged) -> Option<Conclusion> {
    match (gauged.verdict, gauged.true_bytes) {
        (Trust::Smaller, Some(true_bytes)) => {
            Some(Conclusion::FalseCapacity { true_bytes, claimed_bytes: gauged.claimed_bytes })
        }
        (Trust::Failing, _) => Some(Conclusion::KeepsOther),
        _ => None,
    }
}

/// What was found, and how many bytes were marked for it.
struct Looked {
    gauged: Gauged,
    bytes: u64,
}

fn claim(
    look: &QuickLook<'_>,
    platform: &dyn Platform,
    cleared: Cleared,
    watcher: &dyn Watcher,
) -> Result<Box<dyn Claimed>, JobFault> {
    if cleared.needs() != look.needs {
        return Err(JobFault::NotCleared { tag: cleared.drive().tag.clone() });
    }
    watcher.heard(0, &Event::Began { stage: Stage::Claim, bytes: Some(0) });
    let drive = platform.claim(cleared)?;
    watcher.heard(0, &Event::Ended { stage: Stage::Claim });
    Ok(drive)
}

/// Marks, looks and puts back what was there.
fn looked_at(
    look: &QuickLook<'_>,
    drive: &dyn DriveWrite,
    identity: &DriveIdentity,
    cancel: &Cancel,
    watcher: &dyn Watcher,
) -> Result<Looked, JobFault> {
    let heartbeat = Heartbeat::new();
    watched(std::slice::from_ref(&heartbeat), Pacing::default().stall_after, watcher, || {
        let drive = &Watched { drive, heartbeat: &heartbeat };
        let Some(places) = Places::of(drive.bytes()) else {
            return Ok(Looked { gauged: nothing(drive.bytes()), bytes: 0 });
        };
        let restored = restore_all(look.state, identity, drive)?.restored_bytes;
        if restored > 0 {
            watcher.heard(0, &Event::Restored { bytes: restored });
        }
        let backup = ProbeBackup::create(look.state, identity, look.seed);
        let backup = backup.map_err(|source| JobFault::BackupFailed { source })?;
        let bytes = places.bytes();
        // Each byte is read, marked and read, then read once more, put back and read.
        watcher.heard(0, &Event::Began { stage: Stage::Probe, bytes: Some(bytes.saturating_mul(6)) });
        let mut probing = Probing::new(drive, backup, cancel, Teller::of(watcher, 0, Stage::Probe));
        let gauged = contained(|| probing.look(&places)).unwrap_or_else(|died| Err(died.into()));
        if !gauged.as_ref().is_err_and(JobFault::is_gone) {
            let Probing { backup, mut teller, mut moved, .. } = probing;
            restore_backup(&backup, drive, &mut |bytes| {
                moved = moved.saturating_add(bytes);
                teller.tell(moved);
            })?;
            backup.remove();
        }
        watcher.heard(0, &Event::Ended { stage: Stage::Probe });
        gauged.map(|gauged| Looked { gauged, bytes })
    })
}

/// What is known of a drive at which nothing could be looked.
fn nothing(claimed_bytes: u64) -> Gauged {
    let (areas, write, read) = (Vec::new(), Vec::new(), Vec::new());
    Gauged { claimed_bytes, true_bytes: None, verdict: Trust::Unknown, areas, write, read }
}

/// A place, and whether it can be read.
struct Probe {
    range: Range<u64>,
    is_readable: bool,
}

struct Probing<'a> {
    drive: &'a dyn DriveWrite,
    backup: ProbeBackup,
    marker: Marker,
    cancel: &'a Cancel,
    teller: Teller<'a>,
    moved: u64,
    buffer: AlignedBuf,
    marks: AlignedBuf,
    write: Vec<Timed>,
    read: Vec<Timed>,
    failing: Vec<Range<u64>>,
}

/// How long a place took.
struct Timed {
    range: Range<u64>,
    seconds: f64,
}

impl<'a> Probing<'a> {
    fn new(drive: &'a dyn DriveWrite, backup: ProbeBackup, cancel: &'a Cancel, teller: Teller<'a>) -> Self {
        Self {
            drive,
            marker: backup.marker(),
            backup,
            cancel,
            teller,
            moved: 0,
            buffer: AlignedBuf::new(MAX_EXTENT_BYTES),
            marks: AlignedBuf::new(MAX_EXTENT_BYTES),
            write: Vec::new(),
            read: Vec::new(),
            failing: Vec::new(),
        }
    }

    fn look(&mut self, places: &Places) -> Result<Gauged, JobFault> {
        let claimed_bytes = self.drive.bytes();
        let field = self.keep(std::slice::from_ref(&places.field))?;
        let single = self.keep(&places.single)?;
        // From the end on: where two places are one, the one nearer to the start keeps its mark.
        for probe in single.iter().rev() {
            self.mark(probe)?;
        }
        self.mark_field(&field)?;
        if let Some(true_bytes) = self.round_size(places)? {
            return Ok(self.found(Trust::Smaller, claimed_bytes, true_bytes));
        }
        let field_is_good = self.are_good(&field)?.first() != Some(&false);
        let good = self.are_good(&single)?;
        let ranges: Vec<Range<u64>> = single.iter().map(|probe| probe.range.clone()).collect();
        let (last_good, first_bad) = self.edge(&ranges, &good);
        if !field_is_good {
            self.failing.push(places.field.clone());
        }
        let Some(bad) = first_bad else {
            let verdict = if self.failing.is_empty() { Trust::Sound } else { Trust::Failing };
            return Ok(self.found(verdict, claimed_bytes, claimed_bytes));
        };
        if last_good == 0 && !field_is_good {
            self.failing.clear();
            self.failing.push(0..claimed_bytes);
            return Ok(self.found(Trust::Failing, claimed_bytes, claimed_bytes));
        }
        let from = last_good.max(if field_is_good { places.field.end } else { 0 });
        let true_bytes = self.narrow(from..bad, places)?;
        Ok(self.found(Trust::Smaller, claimed_bytes, true_bytes))
    }

    /// Comes closer to the true end: places up to the first byte are good, and those from the last on are bad.
    fn narrow(&mut self, mut range: Range<u64>, places: &Places) -> Result<u64, JobFault> {
        // Places as small as these tell no speed.
        let (writes, reads) = (self.write.len(), self.read.len());
        for _ in 0..STEPS_MOST {
            let steps = between(&range);
            if length(&range) <= BLOCK_BYTES || steps.is_empty() {
                break;
            }
            let probes = self.keep(&steps)?;
            for probe in probes.iter().rev() {
                self.mark(probe)?;
            }
            // More than any cache of the drive holds, before they are read.
            self.mark_field(&[Probe { range: places.field.clone(), is_readable: true }])?;
            let good = self.are_good(&probes)?;
            let (last_good, first_bad) = self.edge(&steps, &good);
            range = last_good.max(range.start)..first_bad.unwrap_or(range.end);
        }
        self.write.truncate(writes);
        self.read.truncate(reads);
        Ok(range.start)
    }

    /// Where the last good place ends, and where the first of the bad ones begins that no good one follows. Bad ones before are noted.
    fn edge(&mut self, places: &[Range<u64>], good: &[bool]) -> (u64, Option<u64>) {
        let all = || places.iter().zip(good);
        let last_good = all().filter(|(_, good)| **good).map(|(place, _)| place.end).next_back().unwrap_or(0);
        let bad = all().filter(|(_, good)| !**good).map(|(place, _)| place);
        self.failing.extend(bad.clone().filter(|place| place.start < last_good).cloned());
        let first_bad = bad.map(|place| place.start).find(|at| *at >= last_good);
        (last_good, first_bad)
    }

    fn check(&self) -> Result<(), JobFault> {
        if self.cancel.is_set() { Err(JobFault::Stopped { stage: Stage::Probe }) } else { Ok(()) }
    }

    fn moved(&mut self, bytes: usize) {
        self.moved = self.moved.saturating_add(bytes as u64);
        self.teller.tell(self.moved);
    }

    /// Keeps what lies in these places, and has it on the disk before anything is marked. One that can't be read is not marked.
    fn keep(&mut self, places: &[Range<u64>]) -> Result<Vec<Probe>, JobFault> {
        let mut probes = Vec::new();
        for range in places {
            let began = Instant::now();
            let mut is_readable = true;
            for (at, bytes) in requests(range) {
                self.check()?;
                let into = self.buffer.get_mut(..bytes).unwrap_or_default();
                match self.drive.read_at(at, into) {
                    Ok(()) => {}
                    Err(DriveFault::Gone) => return Err(read_fault(at, bytes)),
                    Err(DriveFault::Failed(_)) => {
                        is_readable = false;
                        break;
                    }
                }
                self.backup.append(at, into).map_err(|source| JobFault::BackupFailed { source })?;
                self.moved(bytes);
            }
            if is_readable {
                self.read.push(Timed { range: range.clone(), seconds: began.elapsed().as_secs_f64() });
            }
            probes.push(Probe { range: range.clone(), is_readable });
        }
        self.backup.sync().map_err(|source| JobFault::BackupFailed { source })?;
        Ok(probes)
    }

    /// Marks a place; one that takes no mark shows when it is read.
    fn mark(&mut self, probe: &Probe) -> Result<(), JobFault> {
        if !probe.is_readable {
            return Ok(());
        }
        let began = Instant::now();
        for (at, bytes) in requests(&probe.range) {
            self.check()?;
            let marks = self.marks.get_mut(..bytes).unwrap_or_default();
            self.marker.fill(at, marks);
            match self.drive.write_at(at, marks) {
                Ok(()) => self.moved(bytes),
                Err(DriveFault::Gone) => {
                    return Err(JobFault::Write { at, bytes: bytes as u64, source: DriveFault::Gone });
                }
                Err(DriveFault::Failed(_)) => return Ok(()),
            }
        }
        self.write.push(Timed { range: probe.range.clone(), seconds: began.elapsed().as_secs_f64() });
        Ok(())
    }

    fn mark_field(&mut self, field: &[Probe]) -> Result<(), JobFault> {
        self.flush()?;
        for probe in field {
            self.mark(probe)?;
        }
        self.flush()
    }

    fn flush(&self) -> Result<(), JobFault> {
        match self.drive.flush() {
            Err(source @ DriveFault::Gone) => Err(JobFault::Flush { source }),
            // What it did not keep shows when it is read.
            Ok(()) | Err(DriveFault::Failed(_)) => Ok(()),
        }
    }

    fn are_good(&mut self, probes: &[Probe]) -> Result<Vec<bool>, JobFault> {
        probes.iter().map(|probe| self.is_good(probe)).collect()
    }

    /// Whether all of a place holds its marks.
    fn is_good(&mut self, probe: &Probe) -> Result<bool, JobFault> {
        if !probe.is_readable {
            return Ok(false);
        }
        for (at, bytes) in requests(&probe.range) {
            self.check()?;
            let into = self.buffer.get_mut(..bytes).unwrap_or_default();
            match self.drive.read_at(at, into) {
                Ok(()) if self.marker.is_at(at, into) => {}
                Err(DriveFault::Gone) => return Err(read_fault(at, bytes)),
                Ok(()) | Err(DriveFault::Failed(_)) => return Ok(false),
            }
            self.moved(bytes);
        }
        Ok(true)
    }

    /// The true size of a drive that counts round, as the first echo of the field tells it.
    fn round_size(&mut self, places: &Places) -> Result<Option<u64>, JobFault> {
        for at in places.echoes() {
            if let Some(size) = self.echo(at, &places.field)? {
                return Ok(Some(size));
            }
        }
        for at in places.echoes_of_last() {
            if let Some(size) = self.echo(at, &places.last())? {
                return Ok(Some(size));
            }
        }
        Ok(None)
    }

    /// How far away from `at` a mark belongs that is found there, if it is one of these.
    fn echo(&mut self, at: u64, of: &Range<u64>) -> Result<Option<u64>, JobFault> {
        self.check()?;
        let bytes = ALIGNMENT;
        let into = self.buffer.get_mut(..bytes).unwrap_or_default();
        match self.drive.read_at(at, into) {
            Ok(()) => {}
            Err(DriveFault::Gone) => return Err(read_fault(at, bytes)),
            Err(DriveFault::Failed(_)) => return Ok(None),
        }
        for (number, sector) in into.chunks(MARK_BYTES).enumerate() {
            let here = place(at, number);
            let there = self.marker.place_of(sector).filter(|there| of.contains(there) && *there != here);
            if let Some(there) = there {
                return Ok(Some(here.abs_diff(there)));
            }
        }
        Ok(None)
    }

    /// All that was found, in order.
    fn found(&mut self, verdict: Trust, claimed_bytes: u64, true_bytes: u64) -> Gauged {
        let failing = std::mem::take(&mut self.failing).into_iter();
        let mut areas: Vec<Area> = failing.map(|range| area(&range, AreaState::Failing)).collect();
        areas.extend(self.slow().iter().map(|range| area(range, AreaState::Slow)));
        areas.retain(|area| area.offset < true_bytes);
        if true_bytes < claimed_bytes {
            areas.push(area(&(true_bytes..claimed_bytes), AreaState::Missing));
        }
        areas.sort_by_key(|area| area.offset);
        areas.dedup();
        let speeds = |timed: &[Timed]| {
            let inside = timed.iter().filter(|one| one.range.end <= true_bytes);
            let mut speeds: Vec<SpeedAt> = inside.map(speed).collect();
            speeds.sort_by_key(|speed| speed.offset);
            speeds.dedup_by_key(|speed| speed.offset);
            speeds
        };
        let (write, read) = (speeds(&self.write), speeds(&self.read));
        Gauged { claimed_bytes, true_bytes: Some(true_bytes), verdict, areas, write, read }
    }

    /// Places that took far longer than is usual on this drive.
    fn slow(&self) -> Vec<Range<u64>> {
        let mut slow = Vec::new();
        for timed in [&self.write, &self.read] {
            let mut rates: Vec<u64> = timed.iter().map(|one| speed(one).bytes_per_second).collect();
            rates.sort_unstable();
            let usual = rates.get(rates.len() / 2).copied().unwrap_or_default();
            let is_slow =
                |one: &&Timed| one.seconds > SLOW_SECONDS && speed(one).bytes_per_second.saturating_mul(SLOWER) < usual;
            slow.extend(timed.iter().filter(is_slow).map(|one| one.range.clone()));
        }
        slow
    }
}

fn area(range: &Range<u64>, state: AreaState) -> Area {
    Area { offset: range.start, bytes: length(range), state }
}

fn speed(timed: &Timed) -> SpeedAt {
    let bytes_per_second = (length(&timed.range) as f64 / timed.seconds.max(1e-9)) as u64;
    SpeedAt { offset: timed.range.start, bytes_per_second }
}

fn read_fault(at: u64, bytes: usize) -> JobFault {
    JobFault::Read { at, bytes: bytes as u64, source: DriveFault::Gone }
}

/// A stretch in requests: where each begins, and how long it is.
fn requests(range: &Range<u64>) -> impl Iterator<Item = (u64, usize)> + use<> {
    let end = range.end;
    (range.start..end).step_by(MAX_EXTENT_BYTES).map(move |at| {
        let bytes = usize::try_from(end.saturating_sub(at)).unwrap_or(MAX_EXTENT_BYTES).min(MAX_EXTENT_BYTES);
        (at, bytes)
    })
}
