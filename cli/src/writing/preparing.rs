//! From a plan to proofs that may be spent, for an image that is compared while the question is open.

use std::sync::mpsc::{Receiver, RecvTimeoutError, TryRecvError, channel};
use std::time::Duration;

use pyrotyp_core::devices::Platform;
use pyrotyp_core::examine::{Candidate, Examiner, Known, OpenedImage, Proven, Refusal};
use pyrotyp_core::guard::Cleared;
use pyrotyp_core::plan::Plan;
use pyrotyp_core::published::{CheckError, Published};

use super::confirming::{Confirming, Question, confirm};
use super::planning::{self, Image};
use super::proving::{refused, tell_what_proves_nothing};
use crate::asked::Against;
use crate::exit::{Exit, Failure};
use crate::live::check_progress::CheckProgress;
use crate::out::say;
use crate::session::Session;
use crate::session::examining::Examining;
use crate::show::card::{self, OnDrives};
use crate::show::unpacked::UnpackedFiles;

/// What is compared within so much time is told on the card; the question does not wait for more.
const BEFORE_THE_CARD: Duration = Duration::from_millis(400);
/// An image of so many bytes is compared before anybody could read the card: then it is waited for.
const AT_ONCE_BYTES: u64 = 32 << 20;
const AT_ONCE: Duration = Duration::from_secs(5);

/// What is known before anything is changed.
pub(crate) struct Preparing<'a> {
    /// What a person gives to compare the image with.
    pub(crate) against: &'a Against,
    pub(crate) opened: &'a OpenedImage,
    pub(crate) image: Image<'a>,
    /// Where its files are laid out, and not the image itself.
    pub(crate) files: Option<UnpackedFiles<'a>>,
    pub(crate) platform: &'a dyn Platform,
    pub(crate) session: &'a Session<'a>,
}

/// How the comparison ended; it may still be under way.
type Proving = Receiver<Result<Proven, Refusal>>;

/// What goes on beside the question.
struct Beside<'a> {
    plan: &'a Plan,
    published: &'a Published,
    proving: &'a Proving,
    checking: &'a CheckProgress,
}

impl Preparing<'_> {
    /// Guard, permission, the question, and beside it checksums and unpacking.
    pub(crate) fn prepare(
        &self,
        plan: &mut Plan,
        published: Result<Published, CheckError>,
        confirming: Confirming,
    ) -> Result<(Proven, Vec<Cleared>), Failure> {
        let Self { against, opened, image, platform, session, .. } = self;
        planning::clear(plan)?;
        planning::may_claim(plan, *platform)?;
        let published = &published?;
        let examining = Examining::of(session);
        // It ends with the command, and with the question that nobody wants answered any more.
        let stop = session.cancel.child();
        let before = Candidate {
            path: image.path,
            image: opened,
            // What is put together from it has another SHA-256 than the image, which is known only where it is read.
            known: Known { published: Some(published), is_read: image.behind.is_some(), ..against.known() },
            room: plan.room(),
        };
        let proven = std::thread::scope(|scope| {
            let (sender, proving) = channel();
            let examiner = examining.examiner(session);
            let examiner = Examiner { cancel: &stop, ..examiner };
            let comparing = scope.spawn(move || {
                // Nobody waits for it any more once the question was answered with no.
                drop(sender.send(before.prove(&examiner)));
            });
            let proven = self
                .ask_beside(Beside { plan, published, proving: &proving, checking: &examining.checking }, confirming);
            stop.set();
            // Had it died, that was told as a comparison that broke off.
            drop(comparing.join());
            proven
        })?;
        plan.learn(&proven);
        planning::look_again(plan, *platform, session.common)?;
        let cleared = planning::clear(plan)?;
        Ok((proven, cleared))
    }

    /// Asks while the image is compared; whichever fails first ends both.
    fn ask_beside(&self, beside: Beside<'_>, confirming: Confirming) -> Result<Proven, Failure> {
        let Beside { plan, published, proving, checking } = beside;
        let common = self.session.common;
        let is_asked = !matches!(confirming, Confirming::Unattended);
        let early = if is_asked {
            proving.recv_timeout(if self.opened.bytes() <= AT_ONCE_BYTES { AT_ONCE } else { BEFORE_THE_CARD })
        } else {
            proving.recv().map_err(|_| RecvTimeoutError::Disconnected)
        };
        let proven = match early {
            Ok(ended) => Some(self.ended(ended)?),
            Err(RecvTimeoutError::Timeout) => None,
            Err(RecvTimeoutError::Disconnected) => return Err(broke_off()),
        };
        proven.iter().for_each(|proven| tell_what_proves_nothing(&proven.report, common));
        let (bytes, sha256) = match &proven {
            // It is put together from the image, and has a sum of its own.
            _ if self.files.is_some() || self.image.behind.is_some() => (self.image.bytes, None),
            Some(proven) => (Some(proven.content.bytes().size()), proven.checked.sha256.clone()),
            None => (Some(self.opened.bytes()).filter(|_| !self.opened.is_packed()), None),
        };
        let resuming = planning::resuming(plan, bytes, sha256.as_deref(), common)?;
        let compared = proven.is_none().then(|| card::comparing_words(&plan.checks, published));
        let report = proven.as_ref().map(|proven| &proven.report);
        let image = Image { report, expects: compared.as_deref(), ..self.image };
        if proven.is_none() {
            checking.hold();
        }
        let mut ended = None;
        let checksum = image.checksum();
        let content = match self.files {
            Some(files) => OnDrives::Unpacked { path: image.path, checksum: &checksum, files },
            None => image.on_card(&checksum),
        };
        let question = Question { plan, content, resuming: &resuming };
        confirm(question, confirming, self.session.cancel, &mut || {
            if proven.is_some() || ended.is_some() {
                return Ok(());
            }
            match proving.try_recv() {
                Ok(result) => self.ended(result).map(|proven| ended = Some(proven)),
                Err(TryRecvError::Empty) => Ok(()),
                Err(TryRecvError::Disconnected) => Err(broke_off()),
            }
        })?;
        checking.go_on();
        if let Some(proven) = proven {
            return Ok(proven);
        }
        let proven = match ended {
            Some(proven) => proven,
            None => self.ended(proving.recv().map_err(|_| broke_off())?)?,
        };
        tell_what_proves_nothing(&proven.report, common);
        say(common, &format!("image: {}\n", card::checksum_words(Some(&proven.report))));
        Ok(proven)
    }

    /// What was found, or why no job may begin.
    fn ended(&self, result: Result<Proven, Refusal>) -> Result<Proven, Failure> {
        result.map_err(|refusal| refused(self.image.path, refusal))
    }
}

fn broke_off() -> Failure {
    let text = "a part of this program failed while the image was compared; nothing was changed";
    Failure::new(Exit::Unexpected, text, "report this: it should not happen")
}
