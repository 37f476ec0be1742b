//! `pyrotyp write`: the whole job, for an image in a file or on standard input.

use std::path::Path;

use jiff::Timestamp;
use pyrotyp_core::Cancel;
use pyrotyp_core::digest::{Algorithm, Proof, Purpose, Report};
use pyrotyp_core::drive::Platform;
use pyrotyp_core::guard::Cleared;
use pyrotyp_core::job::{Checked, KeptImage};

use super::check::{self, Depth, Known};
use super::job::{self, Chosen, Confirming, Image, Ready};
use super::{Content, OpenedImage, fit_to_write, on_shelf_or_file, open_image, platform, stream};
use crate::asked::{Common, Write};
use crate::exit::{Exit, Failure};
use crate::show::json;
use crate::{put, say};

/// The word that stands for standard input.
const INPUT: &str = "-";

/// Writes one image to one drive or several.
pub fn run(asked: &Write, common: &Common, cancel: &Cancel) -> Result<Exit, Failure> {
    if asked.image.as_os_str() == INPUT {
        return stream::from_input(asked, common, cancel);
    }
    let confirming = Confirming::find(&asked.job, false)?;
    let path = &on_shelf_or_file(&asked.image, common)?;
    let platform = &*platform(common)?;
    let started = Timestamp::now().to_string();
    let opened = open_image(path, common)?;
    fit_to_write(path, &opened.inspection)?;
    let image =
        Image { path, inspection: &opened.inspection, bytes: Some(opened.bytes()), report: None, expects: None };
    let mut chosen = job::choose(&asked.to, &image, &asked.job, platform, common, cancel)?;
    let before = Before { asked, opened: &opened, image, platform, common, cancel };
    let (content, checked, cleared) = match before.prepare(&mut chosen, confirming) {
        Ok(prepared) => prepared,
        Err(failure) => {
            if common.json {
                put(&json::write(&job::refused(&image, &chosen, &started)))?;
            }
            return Err(failure);
        }
    };
    let supply = KeptImage(content.bytes());
    let ready = Ready { image, supply: &supply, checked, chosen: &chosen, cleared, started: &started, news: None };
    job::run(ready, &asked.job, platform, common, cancel)
}

/// What is known before anything is changed.
struct Before<'a> {
    asked: &'a Write,
    opened: &'a OpenedImage,
    image: Image<'a>,
    platform: &'a dyn Platform,
    common: &'a Common,
    cancel: &'a Cancel,
}

impl Before<'_> {
    /// Guard, permission, checksums, unpacking, and the question.
    fn prepare(
        &self,
        chosen: &mut [Chosen],
        confirming: Confirming,
    ) -> Result<(Content, Checked, Vec<Cleared>), Failure> {
        let Self { asked, opened, image, platform, common, cancel } = self;
        job::clear(chosen, image, &asked.job)?;
        job::may_claim(chosen, *platform)?;
        let report = check_image(image.path, asked, opened, common, cancel)?;
        let room = chosen.iter().map(|chosen| chosen.choice.drive.bytes).min().unwrap_or(0);
        let content = opened.content(image.path, room, common, cancel)?;
        // Only now is it known how much comes out of a packed image.
        let needs = opened.inspection.needs_bytes.max(content.bytes().size());
        chosen.iter_mut().for_each(|chosen| chosen.circumstances.needs_bytes = Some(needs));
        let image = Image { report: report.as_ref(), ..*image };
        job::confirm(chosen, &image, &asked.job, confirming, cancel)?;
        job::look_again(chosen, *platform)?;
        let cleared = job::clear(chosen, &image, &asked.job)?;
        let checked = match &content {
            Content::Plain(_) => report.map(of_report).unwrap_or_default(),
            Content::Unpacked(unpacked) => Checked {
                sha256: Some(unpacked.sha256.clone()),
                blocks: Some(unpacked.blocks.clone()),
                sums: Vec::new(),
            },
        };
        Ok((content, checked, cleared))
    }
}

fn of_report(report: Report) -> Checked {
    let sha256 = report.sums.iter().find(|sum| sum.algorithm == Algorithm::Sha256).map(|sum| sum.hex.clone());
    Checked { sha256, blocks: report.blocks, sums: Vec::new() }
}

/// Compares with everything there is; `None` if there is nothing.
fn check_image(
    path: &Path,
    asked: &Write,
    opened: &OpenedImage,
    common: &Common,
    cancel: &Cancel,
) -> Result<Option<Report>, Failure> {
    let known = Known { purpose: Purpose::Write, ..Known::of(&asked.against) };
    let report = check::examine(path, opened, &known, Depth::Enough, common, cancel)?;
    if let Some(failure) = check::refusal(path, &report) {
        return Err(failure);
    }
    if report.checked.is_empty() && !matches!(report.proof(), Proof::Signed(_)) {
        let lists: Vec<_> = report.unlisted.iter().map(|list| list.display().to_string()).collect();
        let why = if lists.is_empty() {
            "none was given or found".into()
        } else {
            format!("{} does not name it", lists.join(", "))
        };
        say(common, &format!("no checksum to compare the image with: {why}\n"));
        if let Proof::Undamaged = report.proof() {
            say(common, "what it carries inside or lies beside it says that it is not damaged\n");
        }
    }
    Ok((!report.sums.is_empty()).then_some(report))
}
