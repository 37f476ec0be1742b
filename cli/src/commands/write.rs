//! `pyrotyp write`: the whole job, for an image in a file or on standard input.

use std::path::Path;
use std::sync::mpsc::{Receiver, RecvTimeoutError, TryRecvError, channel};
use std::time::Duration;

use jiff::Timestamp;
use pyrotyp_core::devices::Platform;
use pyrotyp_core::examine::{Candidate, Examiner, Known, OpenedImage, Proven, Refusal, checks};
use pyrotyp_core::guard::Cleared;
use pyrotyp_core::job::KeptImage;
use pyrotyp_core::plan::Plan;
use pyrotyp_core::published::{self, CheckError, Published};
use pyrotyp_core::text::shell;

use crate::asked::Write;
use crate::exit::{Exit, Failure};
use crate::live::check_progress::CheckProgress;
use crate::out::say;
use crate::session::Session;
use crate::session::attached::platform;
use crate::session::examining::Examining;
use crate::session::images::{fit_to_write, on_shelf_or_file, open_image};
use crate::session::judged::which;
use crate::show::card;
use crate::writing::choosing;
use crate::writing::confirming::{Confirming, ImageFrom, Question, confirm};
use crate::writing::copying;
use crate::writing::job::{self, Ready, ToldAs};
use crate::writing::planning::{self, Image};
use crate::writing::proving::{refused, tell_what_proves_nothing};
use crate::writing::saving::SavedFirst;
use crate::writing::stream;

/// The word that stands for standard input.
const INPUT: &str = "-";

/// What is compared within so much time is told on the card; the question does not wait for more.
const BEFORE_THE_CARD: Duration = Duration::from_millis(400);
/// An image of so many bytes is compared before anybody could read the card: then it is waited for.
const AT_ONCE_BYTES: u64 = 32 << 20;
const AT_ONCE: Duration = Duration::from_secs(5);

/// Writes one image to one drive or several.
pub(crate) fn run(asked: &Write, session: &Session<'_>) -> Result<Exit, Failure> {
    let can_ask = choosing::can_ask(&asked.job, session.common);
    let named = match &asked.image {
        Some(image) => image.clone(),
        None if can_ask => choosing::image(session)?,
        None => {
            return Err(Failure::new(
                Exit::Usage,
                "no image is named",
                "pyrotyp write IMAGE --to TAG; pyrotyp shelf lists some",
            ));
        }
    };
    let is_input = named.as_os_str() == INPUT;
    let to = match asked.to.as_slice() {
        [] if can_ask && !is_input => choosing::drives(&named, &asked.job.accept, session)?,
        [] => return Err(which(&format!("pyrotyp write {}", shell::path(&named)), session.common)?),
        to => to.to_vec(),
    };
    let asked = &Write { image: Some(named.clone()), to, ..asked.clone() };
    if is_input && asked.save_first.is_some() {
        let text = "what comes on standard input waits for nobody, so that nothing can be saved before";
        return Err(Failure::new(Exit::Usage, text, "save the drive by itself: pyrotyp save DRIVE FILE"));
    }
    if is_input {
        return stream::from_input(asked, session);
    }
    if let Some(from) = copying::meant(&named, session)? {
        return copying::run(asked, &from, session);
    }
    from_file(asked, &named, session)
}

fn from_file(asked: &Write, named: &Path, session: &Session<'_>) -> Result<Exit, Failure> {
    let confirming = Confirming::find(&asked.job, ImageFrom::Elsewhere)?;
    let path = &on_shelf_or_file(named, session.common)?;
    let platform = &*platform(session.common)?;
    let started = Timestamp::now().to_string();
    let opened = open_image(path, session.common)?;
    fit_to_write(path, &opened.inspection)?;
    let published = published::published(path, &asked.against.known().given);
    let to_do = published.as_ref().map_or_else(|_| Vec::new(), |published| checks(&opened, published));
    let image = Image {
        path,
        is_file: true,
        inspection: &opened.inspection,
        bytes: Some(opened.bytes()),
        hole_bytes: 0,
        report: None,
        expects: None,
        checks: &to_do,
    };
    let mut plan = planning::plan(&asked.to, &image, &asked.job, platform, session)?;
    let first = SavedFirst::of(asked, &plan, platform)?;
    let preparing = Preparing { asked, opened: &opened, image, platform, session };
    let prepared = preparing
        .prepare(&mut plan, published, confirming)
        .and_then(|prepared| SavedFirst::save(first.as_ref(), platform, session).map(|()| prepared));
    let (proven, cleared) = match prepared {
        Ok(prepared) => prepared,
        Err(failure) => return Err(job::refused(&plan, &started, failure, session)),
    };
    let Proven { content, checked, .. } = proven;
    let source = KeptImage(content.bytes());
    let ready = Ready {
        image,
        source: &source,
        checked,
        plan: &plan,
        cleared,
        started: &started,
        news: None,
        told_as: ToldAs::Image,
    };
    job::run(ready, platform, session)
}

/// What is known before anything is changed.
struct Preparing<'a> {
    asked: &'a Write,
    opened: &'a OpenedImage,
    image: Image<'a>,
    platform: &'a dyn Platform,
    session: &'a Session<'a>,
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
    fn prepare(
        &self,
        plan: &mut Plan,
        published: Result<Published, CheckError>,
        confirming: Confirming,
    ) -> Result<(Proven, Vec<Cleared>), Failure> {
        let Self { asked, opened, image, platform, session, .. } = self;
        planning::clear(plan)?;
        planning::may_claim(plan, *platform)?;
        let published = &published?;
        let examining = Examining::of(session);
        // It ends with the command, and with the question that nobody wants answered any more.
        let stop = session.cancel.child();
        let before = Candidate {
            path: image.path,
            image: opened,
            known: Known { published: Some(published), ..asked.against.known() },
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
        let question = Question { plan, content: image.on_card(&checksum), resuming: &resuming };
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
