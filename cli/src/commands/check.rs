//! `pyrotyp check`: is this the file that was published, and by whom?

use std::path::Path;

use pyrotyp_core::shelf::Identity;
use pyrotyp_core::stop::Cancel;

use crate::asked::{Against, Common};
use crate::exit::{Exit, Failure};
use crate::out::{put, put_document};
use crate::session::examine::{Depth, Known, examine};
use crate::session::images::{fit_to_write, on_shelf_or_file, open_image};
use crate::session::refusal::{is_damage, refusal};
use crate::session::shelf_notes::{note_damage, note_on_shelf, on_shelf};
use crate::show::{checked, json};

/// Checks one image.
pub fn run(asked: &Path, against: &Against, common: &Common, cancel: &Cancel) -> Result<Exit, Failure> {
    let path = &on_shelf_or_file(asked, common)?;
    let identity = Identity::of(path);
    let image = open_image(path, common)?;
    let report = examine(path, &image, &Known::of(against), Depth::Everything, common, cancel)?;
    note_on_shelf(path, identity, &report, common);
    let refused = refusal(path, &report);
    if refused.is_some()
        && let Some((state, item)) = on_shelf(path, common).filter(|_| is_damage(&report, against))
    {
        note_damage(&state, &item.file, common);
    }
    let unfit = refused.or_else(|| fit_to_write(path, &image.inspection).err());
    let document = json::check(path, &report, unfit.is_none());
    if !common.json {
        put(&checked::check(path, &report, unfit.is_none(), common))?;
    }
    match unfit {
        Some(failure) => Err(failure.with_document(document)),
        None if common.json => put_document(&document).map(|()| Exit::Done),
        None => Ok(Exit::Done),
    }
}
