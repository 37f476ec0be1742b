//! `pyrotyp write`: the whole job, for an image in a file or on standard input.

use std::path::Path;

use jiff::Timestamp;
use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::compose::Composition;
use pyrotyp_core::examine::{Proven, checks};
use pyrotyp_core::job::{Checked, KeptImage, Source};
use pyrotyp_core::published;
use pyrotyp_core::record::JobKind;
use pyrotyp_core::text::shell;

use crate::asked::Write;
use crate::exit::{Exit, Failure};
use crate::session::Session;
use crate::session::attached::platform;
use crate::session::examining::content;
use crate::session::images::{OpenedAt, fit_to_write, on_shelf_or_file, open_image};
use crate::session::judged::which;
use crate::writing::behind;
use crate::writing::choosing;
use crate::writing::confirming::{Confirming, ImageFrom};
use crate::writing::copying;
use crate::writing::job::{self, Ready, ToldAs};
use crate::writing::planning::{self, Chosen, Image};
use crate::writing::preparing::Preparing;
use crate::writing::saving::SavedFirst;
use crate::writing::sparing::{self, LaidBehind};
use crate::writing::stream;
use crate::writing::unchanged::FromFile;

/// The word that stands for standard input.
const INPUT: &str = "-";

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
    let from = if is_input { None } else { copying::meant(&named, session)? };
    if !asked.spare.is_empty() && (is_input || from.is_some()) {
        let text = "a partition is put behind an image in a file: its length and its tables must be known before";
        return Err(Failure::new(Exit::Usage, text, "write it from a file, or leave --spare away"));
    }
    if is_input {
        return stream::from_input(asked, session);
    }
    if let Some(from) = from {
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
    let choices = planning::choices(&asked.to, &asked.job, platform, session)?;
    let wanted = behind::wanted(asked, &opened.inspection.naming, &choices, platform, session)?;
    // What is put together with the image must be known whole before.
    let before = match wanted {
        Some(wanted) => {
            let drives = planning::alike(&choices)?;
            Some((wanted, content(path, &opened, drives.bytes, session)?, drives))
        }
        None => None,
    };
    let laid = match &before {
        Some((wanted, content, drives)) => {
            let image = OpenedAt { path, opened: &opened };
            Some(sparing::laid_behind(wanted, image, content.bytes(), drives, &choices)?)
        }
        None => None,
    };
    let made = laid.as_ref().map(|laid| &laid.made);
    let composed = made.map(|made| FromFile::new(made, path));
    let published = published::published(path, &asked.against.known().given);
    let to_do = published.as_ref().map_or_else(|_| Vec::new(), |published| checks(&opened, published));
    let image = Image {
        path,
        is_file: true,
        inspection: &opened.inspection,
        bytes: Some(made.map_or(opened.bytes(), ReadAt::size)),
        hole_bytes: made.map_or(0, Composition::hole_bytes),
        report: None,
        expects: None,
        checks: &to_do,
        behind: laid.as_ref().map(LaidBehind::told),
    };
    let mut plan = planning::plan_for(Chosen { kind: JobKind::Write, choices }, &image, &asked.job, platform, session)?;
    let first = SavedFirst::of(asked, &plan, platform)?;
    let preparing = Preparing { against: &asked.against, opened: &opened, image, files: None, platform, session };
    let prepared = preparing
        .prepare(&mut plan, published, confirming)
        .and_then(|prepared| SavedFirst::save(first.as_ref(), platform, session).map(|()| prepared));
    let (proven, cleared) = prepared.map_err(|failure| job::refused(&plan, &started, failure, session))?;
    let Proven { content, checked, .. } = proven;
    let kept = KeptImage(content.bytes());
    let (source, checked): (&dyn Source, Checked) = match &composed {
        Some(composed) => (composed, Checked::default()),
        None => (&kept, checked),
    };
    let (started, told_as) = (started.as_str(), ToldAs::Image);
    let ready = Ready { image, source, checked, plan: &plan, cleared, started, news: None, told_as };
    job::run(ready, platform, session)
}
