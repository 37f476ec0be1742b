//! The side that keeps root's rights: it answers, and trusts nobody.

use std::collections::BTreeMap;
use std::os::fd::{AsFd, OwnedFd};
use std::time::{Duration, Instant};

use super::line::{self, Beside};
use super::wording::{ANSWER_BYTES_MOST, Answer, Named, QUESTION_BYTES_MOST, Question, Reading, Refusal};
use crate::devices::linux::{BlockDevice, Linux, OwnRights};
use crate::devices::{After, Claimed, Platform, PlatformError};
use crate::drive::{Choice, Drive, NamedBy, Openers, Use};
use crate::guard::{self, Circumstances, Cleared, Confirmed, ImageNeeds};
use crate::{Finding, Level};

/// Most drives that are claimed at one time.
const CLAIMS_MOST: usize = 64;
/// For so long a look at the machine is good enough to read from a drive; what is opened is looked at again.
pub(super) const LOOK_HOLDS: Duration = Duration::from_millis(500);

/// What becomes of the drives that the running system needs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SystemDrives {
    /// They are not even opened for reading: their bytes are everybody's files.
    Closed,
    /// They may be read: root itself has asked for what is on a drive.
    Readable,
}

/// Time in which the worker must close the handle of a drive that it releases.
const CLOSE_TIMEOUT: Duration = Duration::from_secs(2);

/// Whoever keeps the rights, and what is claimed by them.
pub struct Keyholder {
    linux: Linux,
    system_drives: SystemDrives,
    looked: Option<(Instant, Vec<Drive>)>,
    claims: BTreeMap<u32, BlockDevice>,
    next: u32,
}

impl Keyholder {
    /// Of this machine, which it looks at without reading from any drive.
    pub fn new(linux: Linux, system_drives: SystemDrives) -> Self {
        Self { linux, system_drives, looked: None, claims: BTreeMap::new(), next: 0 }
    }

    /// Hears one question and answers it. `false` where there is nothing more to be answered: the other side has ended, or says
    /// what is no question.
    pub(super) fn serve(&mut self, line: &OwnedFd, worker: u32) -> bool {
        let mut said = [0; QUESTION_BYTES_MOST];
        let heard = match line::hear(line, &mut said, Beside::Nothing { from: worker }) {
            Ok(Some((length, _))) => said.get(..length),
            Ok(None) | Err(_) => None,
        };
        let Some((words, file)) = heard.and_then(|said| self.reply(said)) else { return false };
        line::say(line, &words, file.as_ref().map(AsFd::as_fd)).is_ok()
    }

    /// Returns the encoded answer to a question, and the open drive that is sent with it. Returns `None` if the question is invalid, or if
    /// the worker keeps the handle of a drive that it releases.
    pub fn reply(&mut self, said: &[u8]) -> Option<(Vec<u8>, Option<OwnedFd>)> {
        let question = Question::of(said)?;
        if let Question::Release(number, _) = question
            && self.worker_keeps_handle(number)
        {
            return None;
        }
        let (answer, file) = self.answer(question);
        let words = serde_json::to_vec(&answer).ok().filter(|words| words.len() <= ANSWER_BYTES_MOST)?;
        Some((words, file))
    }

    /// What is answered, and the drive that comes with it.
    pub(super) fn answer(&mut self, question: Question) -> (Answer, Option<OwnedFd>) {
        match question {
            Question::Uses => match self.look() {
                Ok(drives) => (Answer::Uses(drives.into_iter().filter_map(used).collect()), None),
                Err(error) => refused(&error),
            },
            Question::Openers(named) => match self.openers(&named) {
                Ok(openers) => (Answer::Openers(openers), None),
                Err(refusal) => (Answer::Refused(refusal), None),
            },
            Question::Read(named, reading) => match self.read(&named, reading) {
                Ok(file) => (Answer::Opened, Some(file)),
                Err(refusal) => (Answer::Refused(refusal), None),
            },
            Question::Claim(named, opened_by) => match self.claim(&named, opened_by) {
                Ok((number, file)) => (Answer::Claimed(number), Some(file)),
                Err(refusal) => (Answer::Refused(refusal), None),
            },
            Question::Release(number, after) => match self.release(number, after) {
                Ok(()) => (Answer::Released, None),
                Err(error) => refused(&error),
            },
        }
    }

    /// Returns true if the worker does not close its handle of a claimed drive. The kernel can't revoke a file descriptor.
    fn worker_keeps_handle(&self, number: u32) -> bool {
        let asked = Instant::now();
        let Some(device) = self.claims.get(&number) else { return false };
        while self.linux.worker_can_write(device) {
            if asked.elapsed() >= CLOSE_TIMEOUT {
                return true;
            }
            std::thread::sleep(Duration::from_millis(10));
        }
        false
    }

    fn look(&mut self) -> Result<Vec<Drive>, PlatformError> {
        let drives = self.linux.drives()?;
        self.looked = Some((Instant::now(), drives.clone()));
        Ok(drives)
    }

    /// The drive that is meant, by a look at the machine now.
    fn find(&mut self, named: &Named) -> Result<Drive, Refusal> {
        let drives = self.look().map_err(|error| Refusal::from(&error))?;
        drives.into_iter().find(|drive| named.is(drive)).ok_or(Refusal::Gone)
    }

    fn openers(&mut self, named: &Named) -> Result<Openers, Refusal> {
        let drive = self.find(named)?;
        self.linux.openers(&drive).map_err(|error| Refusal::from(&error))
    }

    fn read(&mut self, named: &Named, reading: Reading) -> Result<OwnedFd, Refusal> {
        let fresh = self.looked.as_ref().filter(|(when, _)| when.elapsed() < LOOK_HOLDS);
        let known = fresh.and_then(|(_, drives)| drives.iter().find(|drive| named.is(drive)).cloned());
        let drive = known.map_or_else(|| self.find(named), Ok)?;
        if self.system_drives == SystemDrives::Closed
            && let Some(Use::System { what }) = drive.uses.iter().find(|one| matches!(one, Use::System { .. }))
        {
            let what = format!(
                "this system runs from it ({what}); root itself may read it (env -u SUDO_UID pyrotyp, in a root shell)"
            );
            return Err(Refusal::Forbidden(what));
        }
        let device = match reading {
            Reading::Direct => BlockDevice::open(&drive),
            Reading::Cached => BlockDevice::shared(&drive),
        };
        let device = device.map_err(|error| Refusal::from(&error))?;
        if !device.is_generation(drive.generation) {
            return Err(Refusal::Gone);
        }
        Ok(device.into_file().into())
    }

    fn claim(&mut self, named: &Named, opened_by: Vec<String>) -> Result<(u32, OwnedFd), Refusal> {
        if self.claims.len() >= CLAIMS_MOST {
            return Err(Refusal::Forbidden(format!("{CLAIMS_MOST} drives are claimed already")));
        }
        let drive = self.find(named)?;
        let cleared = clear(drive, opened_by)?;
        let device = self.linux.claim_device(&cleared, &OwnRights).map_err(|error| Refusal::from(&error))?;
        let theirs = device.handle().map_err(|error| Refusal::Open((&error).into()))?;
        self.next = self.next.wrapping_add(1);
        self.claims.insert(self.next, device);
        Ok((self.next, theirs))
    }

    fn release(&mut self, number: u32, after: Option<After>) -> Result<(), PlatformError> {
        match (self.claims.remove(&number), after) {
            (Some(device), Some(after)) => Box::new(device).release(after),
            // It is dropped, and so given back.
            (_, _) => Ok(()),
        }
    }
}

fn refused(error: &PlatformError) -> (Answer, Option<OwnedFd>) {
    (Answer::Refused(error.into()), None)
}

fn used(drive: Drive) -> Option<(String, Vec<Use>)> {
    (!drive.uses.is_empty()).then_some((drive.path, drive.uses))
}

/// What forbids it whatever anybody says stands here as well; what a person may accept is between that person and the other side.
fn clear(drive: Drive, opened_by: Vec<String>) -> Result<Cleared, Refusal> {
    let asked = guard::RULES.iter().filter(|rule| rule.level == Level::Ask).map(|rule| rule.id);
    let opened = vec![(drive.path.clone(), Openers { programs: opened_by, is_complete: true })];
    let circumstances = Circumstances { opened, ..Circumstances::unknown(Confirmed::ByPerson) };
    // What it is for, and whether it fits, is the other side's business.
    let needs = ImageNeeds { image: String::new(), bytes: 0, laid_out_for: None };
    let choice = Choice { drive, by: NamedBy::Tag, partition: None };
    guard::clear(&choice, &needs, &circumstances, &[], &asked.collect::<Vec<_>>()).map_err(|refused| {
        let reasons = refused.standing.iter().map(|Finding { text, .. }| text.as_str());
        Refusal::Forbidden(reasons.collect::<Vec<_>>().join("; "))
    })
}
