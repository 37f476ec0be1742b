//! `pyrotyp write`: the whole job, for an image in a file or on standard input.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use pyrotyp_core::devices::Platform;
use pyrotyp_core::guard::Cleared;
use pyrotyp_core::hash::{Algorithm, Sum};
use pyrotyp_core::job::{Checked, KeptImage};
use pyrotyp_core::published::{Proof, Purpose, Report};
use pyrotyp_core::shelf::{Identity, Item};
use pyrotyp_core::text::{Shown, shell};

use crate::asked::Write;
use crate::exit::{Exit, Failure};
use crate::out::{say, warn};
use crate::session::attached::platform;
use crate::session::examine::{Depth, Known, examine};
use crate::session::images::{Content, OpenedImage, fit_to_write, on_shelf_or_file, open_image};
use crate::session::judged::which;
use crate::session::refusal::{is_damage, refusal};
use crate::session::shelf_notes::{note_on_shelf, on_shelf};
use crate::session::{Session, shelf_notes};
use crate::show::json;
use crate::writing::job::{self, Chosen, Confirming, Image, ImageFrom, Ready};
use crate::writing::stream;

/// The word that stands for standard input.
const INPUT: &str = "-";

/// Writes one image to one drive or several.
pub(crate) fn run(asked: &Write, session: &Session<'_>) -> Result<Exit, Failure> {
    if asked.to.is_empty() {
        let command = format!("pyrotyp write {}", shell::path(&asked.image));
        return Err(which(&command, session.common)?);
    }
    if asked.image.as_os_str() == INPUT {
        return stream::from_input(asked, session);
    }
    let confirming = Confirming::find(&asked.job, ImageFrom::Elsewhere)?;
    let path = &on_shelf_or_file(&asked.image, session.common)?;
    let platform = &*platform(session.common)?;
    let started = Timestamp::now().to_string();
    let opened = open_image(path, session.common)?;
    fit_to_write(path, &opened.inspection)?;
    let image = Image {
        path,
        is_file: true,
        inspection: &opened.inspection,
        bytes: Some(opened.bytes()),
        report: None,
        expects: None,
    };
    let mut chosen = job::choose(&asked.to, &image, &asked.job, platform, session)?;
    let before = Preparation { asked, opened: &opened, image, platform, session };
    let (content, checked, cleared) = match before.prepare(&mut chosen, confirming) {
        Ok(prepared) => prepared,
        Err(failure) => {
            return Err(failure.with_document(json::write(&job::refused(&image, &chosen, &started), None)));
        }
    };
    let source = KeptImage(content.bytes());
    let ready = Ready { image, source: &source, checked, chosen: &chosen, cleared, started: &started, news: None };
    job::run(ready, &asked.job, platform, session)
}

/// What is known before anything is changed.
struct Preparation<'a> {
    asked: &'a Write,
    opened: &'a OpenedImage,
    image: Image<'a>,
    platform: &'a dyn Platform,
    session: &'a Session<'a>,
}

impl Preparation<'_> {
    /// Guard, permission, checksums, unpacking, and the question.
    fn prepare(
        &self,
        chosen: &mut Chosen,
        confirming: Confirming,
    ) -> Result<(Content, Checked, Vec<Cleared>), Failure> {
        let Self { asked, opened, image, platform, session } = self;
        job::clear(chosen, image, &asked.job)?;
        job::may_claim(chosen, *platform)?;
        let report = check_image(image.path, asked, opened, session)?;
        let content = opened.content(image.path, chosen.room(), session)?;
        // Only now is it known how much comes out of a packed image.
        chosen.plan.needs_bytes = opened.inspection.needs_bytes.max(content.bytes().size());
        let checked = match &content {
            Content::Plain(_) => report.as_ref().map(of_report).unwrap_or_default(),
            Content::Unpacked(unpacked) => Checked {
                sha256: Some(unpacked.sha256.clone()),
                blocks: Some(unpacked.blocks.clone()),
                sums: Vec::new(),
            },
        };
        let image = Image { report: report.as_ref(), ..*image };
        let bytes = Some(content.bytes().size());
        let resuming = job::resuming(chosen, bytes, checked.sha256.as_deref(), &asked.job, session.common)?;
        let question = job::Question { chosen, image: &image, resuming: &resuming };
        job::confirm(question, &asked.job, confirming, session.cancel)?;
        job::look_again(chosen, &image, *platform, session.common)?;
        let cleared = job::clear(chosen, &image, &asked.job)?;
        Ok((content, checked, cleared))
    }
}

fn of_report(report: &Report) -> Checked {
    let sha256 = report.sums.iter().find(|sum| sum.algorithm == Algorithm::Sha256).map(|sum| sum.hex.clone());
    Checked { sha256, blocks: report.blocks.clone(), sums: Vec::new() }
}

/// What to do with an image of the shelf that is not what it was.
fn spoilt(shelved: &Option<(PathBuf, Item)>) -> String {
    let name = shelved.as_ref().map_or("NAME".to_owned(), |(_, item)| shell::word(item.name()));
    format!(
        "pyrotyp shelf remove {name}, then fetch it again; if it is whole again by now: pyrotyp shelf verify {name}"
    )
}

/// Compares with everything there is; `None` if there is nothing.
fn check_image(
    path: &Path,
    asked: &Write,
    opened: &OpenedImage,
    session: &Session<'_>,
) -> Result<Option<Report>, Failure> {
    let shelved = on_shelf(path, session.common);
    if let Some((_, Item { damaged: Some(when), .. })) = &shelved {
        let day = when.get(..10).unwrap_or(when);
        let text = format!("{} is known to be damaged: found on {day}", path.shown());
        return Err(Failure::new(Exit::Checksum, text, spoilt(&shelved)));
    }
    let kept: Vec<Sum> = shelved.iter().flat_map(|(_, item)| item.sums()).collect();
    let known = Known { purpose: Purpose::Write, is_read: !kept.is_empty(), ..Known::of(&asked.against) };
    let identity = Identity::of(path);
    let report = examine(path, opened, &known, Depth::Enough, session)?;
    let differs = |sum: &&Sum| report.sums.iter().any(|now| now.algorithm == sum.algorithm && now != *sum);
    let other = kept.iter().find(differs).map(|sum| {
        let text = format!("{}: its {} is not what the shelf knows of it", path.shown(), sum.algorithm);
        Failure::new(Exit::Checksum, text, spoilt(&shelved))
    });
    let is_damage = other.is_some() || is_damage(&report, &asked.against);
    if let Some(failure) = other.or_else(|| refusal(path, &report)) {
        if let Some((state, item)) = shelved.as_ref().filter(|_| is_damage) {
            shelf_notes::note_damage(state, &item.file, session.common);
        }
        return Err(failure);
    }
    note_on_shelf(path, identity, &report, session.common);
    if let Some((state, item)) = &shelved {
        shelf_notes::note_use(state, &item.file, session.common);
    }
    if report.checked.is_empty() && !matches!(report.proof(), Proof::Signed(_)) {
        for (file, why) in &report.unusable {
            warn(&format!("{} is not used: {why}\n", file.shown()));
        }
        let lists: Vec<_> = report.unlisted.iter().map(|list| list.shown()).collect();
        let why = if lists.is_empty() {
            "none was given or found".into()
        } else {
            format!("{} does not name it", lists.join(", "))
        };
        say(session.common, &format!("no checksum to compare the image with: {why}\n"));
        if let Proof::Undamaged = report.proof() {
            say(session.common, "what it carries inside or lies beside it says that it is not damaged\n");
        }
    }
    Ok(Some(report))
}
