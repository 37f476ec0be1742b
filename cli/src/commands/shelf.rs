//! `pyrotyp shelf`: the images of this bench.

use std::io;
use std::path::{Path, PathBuf};

use jiff::{SignedDuration, Timestamp};
use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::examine::{Depth, Known};
use pyrotyp_core::published::{Checked, Claims, Expected, Given, Over, Purpose, Report};
use pyrotyp_core::shelf::{Bring, Brought, Identity, Item, Shelf};
use pyrotyp_core::text::{Shown, shell};
use pyrotyp_core::{ledger, published};

use crate::asked::{self, Common};
use crate::exit::{Exit, Failure, plain};
use crate::live::check_progress::CheckProgress;
use crate::near::nearest;
use crate::out::{put, put_document, say, tell};
use crate::session::examining::Examining;
use crate::session::folders::state_folder;
use crate::session::images::{fit_to_write, open_image, open_image_called};
use crate::session::refusal::refusal;
use crate::session::shelf_words::{fit_for_shelf, unwritable};
use crate::session::{Session, release};
use crate::show::shelved::{Pruning, Row, Verified};
use crate::show::{json, shelved};

/// Does what is asked with the shelf; lists it when nothing is.
pub(crate) fn run(asked: Option<&asked::ShelfCommand>, session: &Session<'_>) -> Result<Exit, Failure> {
    let state = state_folder(session.common).ok_or_else(|| {
        Failure::new(Exit::Usage, "there is no home folder for the shelf", "name a folder with --state")
    })?;
    match asked {
        None => list(&state, session.common),
        Some(asked::ShelfCommand::Add { files, moves }) => {
            add(&state, files, if *moves { Bring::Move } else { Bring::Keep }, session.common)
        }
        Some(asked::ShelfCommand::Verify { names }) => verify(&state, names, session),
        Some(asked::ShelfCommand::Remove { names }) => remove(&state, names, session.common),
        Some(asked::ShelfCommand::Prune { older, go }) => {
            prune(&state, *older, if *go { Pruning::Done } else { Pruning::Planned }, session.common)
        }
    }
}

fn open(state: &Path, common: &Common) -> Result<Shelf, Failure> {
    let shelf = Shelf::open(state).map_err(|error| unwritable(state, &error))?;
    if !shelf.found.is_empty() {
        describe(state, &shelf, common)?;
        return Shelf::open(state).map_err(|error| unwritable(state, &error));
    }
    Ok(shelf)
}

/// Looks into images of which the index knows nothing.
fn describe(state: &Path, shelf: &Shelf, common: &Common) -> Result<(), Failure> {
    if let Some(why) = shelf.rebuilt.as_ref().filter(|_| !shelf.items().is_empty()) {
        say(common, &format!("the shelf's index is made again from the files: {why}\n"));
    }
    let mut all = Vec::new();
    for name in &shelf.found {
        let path = shelf.folder().join(name);
        let opened = open_image_called(&path, &path);
        let mut item = Item { file: name.clone(), ..Item::default() };
        if let Ok(opened) = opened {
            item.describe(&opened.inspection.naming, opened.inspection.label.as_deref());
        }
        all.push(item);
    }
    let changed = Shelf::change(state, |shelf| {
        all.into_iter().for_each(|item| drop(shelf.add(item)));
        Ok(())
    });
    // One who may only read still sees the list.
    if let Err(error) = changed {
        say(common, &format!("{}\n", unwritable(state, &error)));
    }
    Ok(())
}

fn rows(state: &Path, shelf: &Shelf, common: &Common) -> Vec<Row> {
    let records = ledger::Drives::of(state).unwrap_or_else(|error| {
        say(common, &format!("the records can't be looked at: {}\n", plain(&error)));
        ledger::Drives::default()
    });
    let row = |item: &Item| {
        let naming = pyrotyp_core::image::Naming {
            name: None,
            system: item.system.clone(),
            version: item.version.clone(),
            edition: item.edition.clone(),
            architecture: item.architecture.as_deref().and_then(pyrotyp_core::image::Architecture::known),
        };
        Row {
            bytes: shelf.path(item).metadata().map_or(0, |found| found.len()),
            on: records.holding(item.sha256(), &shelf.path(item)),
            findings: release::age(&naming, common),
            item: item.clone(),
        }
    };
    shelf.items().iter().map(row).collect()
}

fn list(state: &Path, common: &Common) -> Result<Exit, Failure> {
    let shelf = open(state, common)?;
    let rows = rows(state, &shelf, common);
    match common.json {
        true => put_document(&json::shelf(&rows))?,
        false => put(&shelved::list(&rows, shelf.folder(), common))?,
    }
    Ok(Exit::Done)
}

fn add(state: &Path, files: &[PathBuf], bring: Bring, common: &Common) -> Result<Exit, Failure> {
    let mut failed = None;
    for file in files {
        if let Err(failure) = add_one(state, file, bring, common) {
            failed.replace(failure).iter().for_each(tell);
        }
    }
    match failed {
        Some(failure) => Err(failure),
        None if common.json => list(state, common),
        None => Ok(Exit::Done),
    }
}

fn add_one(state: &Path, file: &Path, bring: Bring, common: &Common) -> Result<(), Failure> {
    let image = open_image(file, common)?;
    fit_to_write(file, &image.inspection)?;
    fit_for_shelf(file.file_name().unwrap_or_default())?;
    let published = published::published(file, &Given::default())?;
    let lists = published.expected.iter().map(|expected| PathBuf::from(&expected.source));
    let torrents = published.torrents.iter().map(|(path, _)| path.clone());
    let signatures = published.signatures.iter().map(|signature| signature.file.clone());
    let mut beside: Vec<PathBuf> = lists.chain(torrents).chain(signatures).collect();
    beside.sort();
    beside.dedup();
    let of_image = published.signatures.iter().any(|one| matches!(one.over.first(), Some(Over::Image { .. })));
    let brought = Shelf::change(state, |shelf| {
        let (mut item, brought) = shelf.bring(file, bring, &beside)?;
        item.describe(&image.inspection.naming, image.inspection.label.as_deref());
        Ok((shelf.add(item), brought))
    });
    let (item, brought) = brought.map_err(|error| match error.kind() {
        io::ErrorKind::AlreadyExists => {
            let name = file.file_name().unwrap_or_default();
            let text = format!("an image called {} is on the shelf already", name.shown());
            let known = shell::word(&name.to_string_lossy());
            let next = format!("give the file another name, or remove the other one: pyrotyp shelf remove {known}");
            Failure::new(Exit::Refused, text, next)
        }
        _ => unwritable(state, &error),
    })?;
    let how = match brought {
        Brought::Shared => "it shares its bytes with the file, which may be removed or changed",
        Brought::Copied => "copied, since the disk can't share bytes between files",
        Brought::Moved => "moved",
    };
    let files = beside.len();
    let with = match files {
        0 => String::new(),
        1 => ", with the file that belongs to it".to_owned(),
        _ => format!(", with the {files} files that belong to it"),
    };
    if !common.json {
        put(&format!("{} is on the shelf{with}: {how}\n", item.name().shown()))?;
        if !common.quiet {
            let word = if of_image || !published.expected.is_empty() {
                "check it"
            } else {
                "nothing was published with it; see what it carries inside"
            };
            put(&format!("  next: {word}: pyrotyp check {}\n", shell::word(item.name())))?;
        }
    }
    Ok(())
}

/// The images with these names, or all of them.
fn named(shelf: &Shelf, names: &[String]) -> Result<Vec<Item>, Failure> {
    if names.is_empty() {
        return Ok(shelf.items().to_vec());
    }
    let one = |name: &String| match shelf.find(name) {
        Ok(Some(item)) => Ok(item.clone()),
        Ok(None) => {
            let meant = nearest(name, shelf.items().iter().map(Item::name));
            let meant = meant.map_or(String::new(), |meant| format!("did you mean {}? ", shell::word(meant)));
            let text = format!("nothing on the shelf is called {}", name.shown());
            Err(Failure::new(Exit::Usage, text, format!("{meant}pyrotyp shelf lists it")))
        }
        Err(several) => Err(Failure::new(Exit::Usage, several.to_string(), "give one of these names whole")),
    };
    names.iter().map(one).collect()
}

fn verify(state: &Path, names: &[String], session: &Session<'_>) -> Result<Exit, Failure> {
    let shelf = open(state, session.common)?;
    let mut exit = Exit::Done;
    let mut all = Vec::new();
    for item in named(&shelf, names)? {
        let (report, fault) = match verify_one(&shelf.path(&item), &item, session) {
            Err(failure) if failure.exit == Exit::Stopped => return Err(failure),
            Err(failure) => (Report::default(), Some(failure)),
            Ok(found) => found,
        };
        let verified = Verified { item, report, fault };
        if !session.common.json {
            put(&shelved::verified(&verified))?;
        }
        if let Some(failure) = &verified.fault {
            tell(failure);
            exit = failure.exit;
            // What could not be read, or compared with a broken list, is not damaged for that.
            if failure.exit == Exit::Checksum && !verified.report.sums.is_empty() {
                let examining = Examining::of(session);
                examining.examiner(session).note_damage(&shelf.path(&verified.item));
            }
        }
        all.push(verified);
    }
    if session.common.json {
        put_document(&json::verified(&all))?;
    }
    Ok(exit)
}

/// Reads an image again and compares it with what was published for it, and with what was computed before. With what was
/// found out comes what speaks against the image.
fn verify_one(path: &Path, item: &Item, session: &Session<'_>) -> Result<(Report, Option<Failure>), Failure> {
    let identity = Identity::of(path);
    let image = open_image_called(path, path)?;
    let published = published::published(path, &Given::default())?;
    let examining = Examining::shown_by(CheckProgress::called("verify", session.common), session);
    let examiner = examining.examiner(session);
    let claims = Claims { published: &published, embedded: None, purpose: Purpose::Look };
    let found = examiner.compare(&image, claims)?;
    let earlier = item.sums().into_iter().filter_map(|sum| {
        let now = found.sums.iter().find(|now| now.algorithm == sum.algorithm && **now != sum)?;
        Some(Checked { found: now.clone(), expected: Expected::told(sum, "the shelf") })
    });
    let differing: Vec<_> = earlier.collect();
    if let Some(first) = differing.first() {
        let day = item.checked.as_deref().and_then(|time| time.get(..10)).unwrap_or("an earlier day");
        let text = format!("{}: its {} is not what it was on {day}", path.shown(), first.found.algorithm);
        let next = format!(
            "something changed it, or the disk fails: pyrotyp shelf remove {0}, then fetch it again",
            shell::word(item.name())
        );
        let checked = found.checked.into_iter().chain(differing).collect();
        let report = Report { checked, sums: found.sums, pieces: found.pieces, ..Report::default() };
        return Ok((report, Some(Failure::new(Exit::Checksum, text, next))));
    }
    let known = Known { sums: Some(&found.sums), ..Known::NOTHING };
    let examined = examiner.examine(path, &image, &known, Depth::Enough)?;
    let report = Report { checked: found.checked, sums: found.sums.clone(), pieces: found.pieces, ..examined };
    examiner.note_found(path, identity, &report);
    let fault = refusal(path, &report);
    Ok((report, fault))
}

fn remove(state: &Path, names: &[String], common: &Common) -> Result<Exit, Failure> {
    let items = named(&open(state, common)?, names)?;
    for item in &items {
        take_off(state, item)?;
        if !common.json {
            put(&format!("{} is no longer on the shelf\n", item.name().shown()))?;
        }
    }
    if common.json {
        list(state, common)?;
    }
    Ok(Exit::Done)
}

fn take_off(state: &Path, item: &Item) -> Result<(), Failure> {
    Shelf::change(state, |shelf| shelf.remove(&item.file)).map_err(|error| unwritable(state, &error))
}

/// Shows which images nobody has used for so many days; removes them if told to.
fn prune(state: &Path, days: u32, pruning: Pruning, common: &Common) -> Result<Exit, Failure> {
    let shelf = open(state, common)?;
    let before = Timestamp::now() - SignedDuration::from_hours(24 * i64::from(days));
    // One whose age nobody knows is kept, and one that sticks were made from and still hold.
    let is_old = |row: &Row| row.on.is_empty() && row.item.last_used().is_some_and(|used| used < before);
    let old: Vec<Row> = rows(state, &shelf, common).into_iter().filter(is_old).collect();
    let freed = old.iter().map(|row| row.bytes).sum();
    if pruning == Pruning::Done {
        for row in &old {
            take_off(state, &row.item)?;
        }
    }
    match common.json {
        true => put_document(&json::shelf(&old))?,
        false => put(&shelved::plan(&old, days, pruning, &human_bytes(freed), common))?,
    }
    Ok(Exit::Done)
}
