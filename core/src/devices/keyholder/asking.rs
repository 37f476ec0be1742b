//! The side without rights: the machine as Linux shows it to anybody, and what needs a right asked of the keyholder.

use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use super::line::{self, Beside};
use super::wording::{ANSWER_BYTES_MOST, Answer, Named, Question, Reading, Refusal, Why};
use crate::devices::linux::{BlockDevice, Lender, Lent, Linux};
use crate::devices::{After, Claimed, DriveIo, Located, Opening, Platform, PlatformError};
use crate::drive::{Drive, Openers, Tag};
use crate::guard::Cleared;

/// The line to the keyholder.
#[derive(Debug)]
pub(super) struct Asking(Mutex<OwnedFd>);

impl Asking {
    pub(super) fn over(line: OwnedFd) -> Self {
        Self(Mutex::new(line))
    }

    /// Asks, and waits for the answer, however long the drive takes.
    fn ask(&self, question: &Question) -> Result<(Answer, Option<File>), Refusal> {
        let asked = || -> io::Result<(Answer, Option<File>)> {
            let line = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            line::say(&*line, &serde_json::to_vec(question)?, None)?;
            let mut said = vec![0; ANSWER_BYTES_MOST];
            let heard = line::hear(&*line, &mut said, Beside::File)?;
            let Some((length, file)) = heard else { return Err(io::ErrorKind::BrokenPipe.into()) };
            let answer = serde_json::from_slice(said.get(..length).unwrap_or_default())?;
            Ok((answer, file.map(File::from)))
        };
        match asked() {
            Ok((Answer::Refused(refusal), _)) => Err(refusal),
            Ok(answer) => Ok(answer),
            Err(error) => Err(Refusal::Unreadable(KEYHOLDER.to_owned(), Why::from(&error))),
        }
    }

    fn read(&self, named: Named, reading: Reading) -> Result<File, Refusal> {
        let (_, file) = self.ask(&Question::Read(named, reading))?;
        file.ok_or_else(nothing_came)
    }
}

/// What the process that keeps the rights is called.
const KEYHOLDER: &str = "what the keyholder says";

/// What came is no answer to the question.
fn nothing_came() -> Refusal {
    Refusal::Unreadable(KEYHOLDER.to_owned(), Why::from(&io::ErrorKind::InvalidData.into()))
}

/// A refusal in the words of the seam, where it is about no single drive.
fn of_machine(refusal: Refusal) -> PlatformError {
    let (what, why) = match refusal {
        Refusal::Unreadable(what, why) => (what, why.into()),
        // Whatever else is said is about one.
        _ => (KEYHOLDER.to_owned(), io::ErrorKind::InvalidData.into()),
    };
    PlatformError::Unreadable { what, source: why }
}

/// Linux, as a process without rights reaches it.
pub(super) struct Apart {
    linux: Linux,
    asking: Arc<Asking>,
}

impl Apart {
    pub(super) fn new(asking: Arc<Asking>) -> Self {
        let reader = Arc::clone(&asking);
        let open_head = move |name: &str, bytes: u64, generation: Option<u64>| {
            reader.read(Named { name: name.to_owned(), bytes, generation }, Reading::Cached).ok()
        };
        Self { linux: Linux::reading_by(Box::new(open_head)), asking }
    }

    fn read(&self, drive: &Drive, reading: Reading) -> Result<File, PlatformError> {
        self.asking.read(Named::of(drive), reading).map_err(|refusal| refusal.of(&drive.tag, &drive.path))
    }
}

impl Platform for Apart {
    fn drives(&self) -> Result<Vec<Drive>, PlatformError> {
        self.drives_without_reading(&[])
    }

    fn drives_without_reading(&self, paths: &[&str]) -> Result<Vec<Drive>, PlatformError> {
        let mut drives = self.linux.drives_without_reading(paths)?;
        let (answer, _) = self.asking.ask(&Question::Uses).map_err(of_machine)?;
        let Answer::Uses(uses) = answer else { return Err(of_machine(nothing_came())) };
        // Whoever keeps the rights sees more of what the system does.
        for drive in &mut drives {
            let of_drive = uses.iter().filter(|(path, _)| *path == drive.path).flat_map(|(_, uses)| uses);
            for one in of_drive {
                if !drive.uses.contains(one) {
                    drive.uses.push(one.clone());
                }
            }
        }
        Ok(drives)
    }

    fn locate(&self, name: &str) -> Result<Option<Located>, PlatformError> {
        self.linux.locate(name)
    }

    fn drives_holding(&self, file: &Path) -> Result<Vec<String>, PlatformError> {
        self.linux.drives_holding(file)
    }

    fn openers(&self, drive: &Drive) -> Result<Openers, PlatformError> {
        match self.asking.ask(&Question::Openers(Named::of(drive))) {
            Ok((Answer::Openers(openers), _)) => Ok(openers),
            Ok(_) => Err(of_machine(nothing_came())),
            Err(refusal) => Err(refusal.of(&drive.tag, &drive.path)),
        }
    }

    fn may_claim(&self, _drive: &Drive) -> Result<Opening, PlatformError> {
        // The keyholder may, and says so by itself where it does not.
        Ok(Opening::Own)
    }

    fn open(&self, drive: &Drive) -> Result<Box<dyn DriveIo>, PlatformError> {
        Ok(Box::new(BlockDevice::handed_over(self.read(drive, Reading::Direct)?, drive)?))
    }

    fn open_shared(&self, drive: &Drive) -> Result<File, PlatformError> {
        self.read(drive, Reading::Cached)
    }

    fn claim(&self, cleared: Cleared) -> Result<Box<dyn Claimed>, PlatformError> {
        let drive = cleared.drive();
        self.linux.is_still_there(drive)?;
        let question = Question::Claim(Named::of(drive), cleared.opened_by().to_vec());
        let in_words = |refusal: Refusal| refusal.of(&drive.tag, &drive.path);
        let (answer, file) = self.asking.ask(&question).map_err(in_words)?;
        let (Answer::Claimed(number), Some(file)) = (answer, file) else { return Err(in_words(nothing_came())) };
        // From here on it is given back, whatever comes.
        let kept = Kept {
            number: Some(number),
            tag: drive.tag.clone(),
            path: drive.path.clone(),
            asking: Arc::clone(&self.asking),
        };
        let device = BlockDevice::handed_over(file, drive)?;
        self.linux.is_still(&device, drive)?;
        Ok(Box::new(Lent { device, lender: kept }))
    }
}

/// What the keyholder keeps of a claim; dropped, it is given back as it is.
struct Kept {
    /// Until it is given back.
    number: Option<u32>,
    tag: Tag,
    path: String,
    asking: Arc<Asking>,
}

impl Kept {
    fn give_back(&mut self, after: Option<After>) -> Result<(), PlatformError> {
        let Some(number) = self.number.take() else { return Ok(()) };
        let released = self.asking.ask(&Question::Release(number, after));
        released.map(drop).map_err(|refusal| refusal.of(&self.tag, &self.path))
    }
}

impl Drop for Kept {
    fn drop(&mut self) {
        // A keyholder that has ended keeps nothing.
        let _ = self.give_back(None);
    }
}

impl Lender for Kept {
    fn take_back(mut self, device: BlockDevice, after: After) -> Result<(), PlatformError> {
        // The keyholder kills a worker that keeps the handle.
        drop(device);
        self.give_back(Some(after))
    }
}
