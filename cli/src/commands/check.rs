//! `pyrotyp check`: is this the file that was published, and by whom?

use std::path::Path;

use pyrotyp_core::examine::{Depth, is_damage};
use pyrotyp_core::shelf::Identity;

use crate::asked::Against;
use crate::exit::{Exit, Failure};
use crate::out::{put, put_document};
use crate::session::Session;
use crate::session::examining::Examining;
use crate::session::images::{fit_to_write, on_shelf_or_file, open_image};
use crate::session::refusal::refusal;
use crate::show::{checked, json};

/// Checks one image.
pub(crate) fn run(asked: &Path, against: &Against, session: &Session<'_>) -> Result<Exit, Failure> {
    let path = &on_shelf_or_file(asked, session.common)?;
    let identity = Identity::of(path);
    let image = open_image(path, session.common)?;
    let examining = Examining::of(session);
    let examiner = examining.examiner(session);
    let report = examiner.examine(path, &image, &against.known(), Depth::Everything)?;
    examiner.note_found(path, identity, &report);
    let refused = refusal(path, &report);
    if refused.is_some() && is_damage(&report, &against.known()) {
        examiner.note_damage(path);
    }
    let unfit = refused.or_else(|| fit_to_write(path, &image.inspection).err());
    let document = json::check(path, &report, unfit.as_ref());
    if !session.common.json {
        put(&checked::check(path, &report, unfit.as_ref(), session.common))?;
    }
    match unfit {
        Some(failure) => Err(failure.with_document(document)),
        None if session.common.json => put_document(&document).map(|()| Exit::Done),
        None => Ok(Exit::Done),
    }
}
