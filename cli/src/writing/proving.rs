//! What is said where something speaks against an image, or nothing speaks for it.

use std::path::Path;

use pyrotyp_core::examine::Refusal;
use pyrotyp_core::published::{Proof, Report, Unusable};
use pyrotyp_core::shelf::Item;
use pyrotyp_core::text::{Shown, shell};

use crate::asked::Common;
use crate::exit::{Exit, Failure};
use crate::out::{say, warn};
use crate::session::examining::of_content;
use crate::session::refusal::refusal;

/// What to do with an image of the shelf that is not what it was.
fn spoilt(item: &Item) -> String {
    let name = shell::word(item.name());
    format!(
        "pyrotyp shelf remove {name}, then fetch it again; if it is whole again by now: pyrotyp shelf verify {name}"
    )
}

/// Why no job may begin with the image, in words.
pub(crate) fn refused(path: &Path, why: Refusal) -> Failure {
    match why {
        Refusal::KnownDamage { item, since } => {
            let day = since.get(..10).unwrap_or(&since);
            let text = format!("{} is known to be damaged: found on {day}", path.shown());
            Failure::new(Exit::Checksum, text, spoilt(&item))
        }
        Refusal::OtherThanShelf { item, algorithm } => {
            let text = format!("{}: its {algorithm} is not what the shelf knows of it", path.shown());
            Failure::new(Exit::Checksum, text, spoilt(&item))
        }
        Refusal::Refuted { report } => refusal(path, &report).unwrap_or_else(|| {
            let text = format!("{}: something speaks against it", path.shown());
            Failure::new(Exit::Checksum, text, "download the image again")
        }),
        Refusal::Unexamined(error) => error.into(),
        Refusal::Content(fault) => of_content(path, &fault),
    }
}

/// Says it where there was nothing to compare with, and why.
pub(crate) fn tell_what_proves_nothing(report: &Report, common: &Common) {
    if !report.checked.is_empty() || matches!(report.proof(), Proof::Signed(_)) {
        return;
    }
    for Unusable { file, why } in &report.unusable {
        warn(&format!("{} is not used: {why}\n", file.shown()));
    }
    let lists: Vec<_> = report.unlisted.iter().map(|list| list.shown()).collect();
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
