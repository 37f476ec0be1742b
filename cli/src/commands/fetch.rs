//! `pyrotyp fetch`: get an image over the network, check it, and put it on the shelf.

use std::ffi::OsStr;
use std::fs;
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};
use std::time::Duration;

use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::catalogue::{CatalogueError, Pick};
use pyrotyp_core::examine::{Depth, Known, OpenedImage};
use pyrotyp_core::fetch::{
    FetchError, Landing, METALINK_BYTES_MOST, MirrorFault, News, Onward, PartFile, Reach, Wanted, Web, beside,
    metalink, public_address, transfer,
};
use pyrotyp_core::published::signature::Key;
use pyrotyp_core::published::{Expected, Proof, Report};
use pyrotyp_core::shelf::{Identity, Item, Shelf};
use pyrotyp_core::stop::Cancel;
use pyrotyp_core::text::Shown;
use pyrotyp_core::text::foreign::all_shown;
use pyrotyp_core::{machine, published};

use crate::asked::Fetch;
use crate::exit::{Exit, Failure, chain, plain};
use crate::live::progress::{Progress, news_words};
use crate::out::{put, put_document, say, speak_to_a_program, warn};
use crate::session::examining::Examining;
use crate::session::folders::state_folder;
use crate::session::images::open_image_called;
use crate::session::preferences::Preferences;
use crate::session::refusal::refusal;
use crate::session::release::today;
use crate::session::{Session, catalogue};
use crate::show::{checked, json, shelved};
use crate::writing::line;

/// Room that a fetch leaves on the disk: in bytes, but no more than a part of what is free.
const SPARE: u64 = 64 << 20;
const SPARE_PART: u64 = 16;

impl From<FetchError> for Failure {
    fn from(error: FetchError) -> Self {
        let exit = match &error {
            FetchError::Busy { .. } | FetchError::Foreign { .. } => Exit::Refused,
            FetchError::Folder { source, .. } if source.kind() == io::ErrorKind::AlreadyExists => Exit::Refused,
            // A server led there: what was typed is right.
            FetchError::NoMirror { fault: MirrorFault::Address { .. }, .. } => Exit::Stopped,
            FetchError::NoMirror { fault, .. } => of_fault(fault),
            _ => Exit::Stopped,
        };
        Self::new(exit, chain(&error), error.next_step())
    }
}

fn of_fault(fault: &MirrorFault) -> Exit {
    match fault {
        MirrorFault::Address { .. } => Exit::Usage,
        MirrorFault::NotAnImage { .. } => Exit::Image,
        MirrorFault::OtherSum { .. } | MirrorFault::OtherLength { .. } | MirrorFault::DamagedPiece { .. } => {
            Exit::Checksum
        }
        MirrorFault::Certificate { .. } | MirrorFault::Downgrade { .. } | MirrorFault::Rights => Exit::Refused,
        _ => Exit::Stopped,
    }
}

/// An image to be fetched, and what is known of it before.
struct Download {
    wanted: Wanted,
    expected: Vec<Expected>,
    /// Keys that the catalogue names; what is signed must be signed by one of them.
    keys: Vec<Key>,
}

/// Fetches one image.
pub(crate) fn run(asked: &Fetch, session: &Session<'_>) -> Result<Exit, Failure> {
    if asked.hand_over.is_some() {
        speak_to_a_program();
    }
    if let Some(to) = &asked.straight_to {
        return line::straight_to(asked, to, session);
    }
    let reach = if machine::is_root() { Reach::ThisMachine } else { Reach::Everywhere };
    let web = Web::new(reach, Duration::from_secs(asked.wait));
    let source = resolve(asked, &web, session)?;
    if let Some(from) = asked.hand_over {
        return hand_over(asked, source, from, &web, session);
    }
    let state = state_folder(session.common);
    let folder = folder_for(asked, state.as_deref())?;
    let target = folder.join(&source.wanted.name);
    if asked.into.is_none() {
        crate::session::shelf_words::fit_for_shelf(OsStr::new(&source.wanted.name))?;
    }
    if target.exists() {
        return is_there(asked, &source, &target, session);
    }
    let mut part = PartFile::open(&target, &source.wanted)?;
    let room = room(&folder, &source.wanted, &part)?;
    let source = with_lists(asked, source, &target, &web, session)?;
    let mut progress = Progress::of_fetch(session.common);
    if part.kept_bytes() > 0 {
        say(session.common, &format!("going on: {} are there already\n", human_bytes(part.kept_bytes())));
    }
    let sums = transfer(&web, &source.wanted, Landing { part: &mut part, most: room }, session.cancel, &mut progress);
    progress.finish();
    let sums = sums?;
    let image = open_image_called(part.path(), &target)?;
    let known = Known { expected: &source.expected, keys: &source.keys, sums: Some(&sums), ..asked.against.known() };
    let examining = Examining::of(session);
    let report = examining.examiner(session).examine(&target, &image, &known, Depth::Everything)?;
    let report = if report.sums.is_empty() { Report { sums, ..report } } else { report };
    let unfit = crate::session::images::fit_to_write(&target, &image.inspection).err();
    refuse(&target, &report, &source, unfit.as_ref()).map_or(Ok(()), |failure| {
        let text = format!("{}\n   what came is kept as {}", failure.text, part.path().shown());
        Err(Failure { text, ..failure })
    })?;
    let target = part.finish()?;
    let origin = source.wanted.mirrors.first().map(|mirror| public_address(&mirror.address));
    let name = match (&asked.into, state) {
        (None, Some(state)) => Some(shelve(&state, &target, &image, &report, origin.clone())?),
        _ => None,
    };
    let document = json::fetched(&target, name.as_deref(), origin.as_deref(), &report);
    if !session.common.json {
        put(&checked::fetched(&target, name.as_deref(), &image.inspection, &report, session.common))?;
    }
    match unfit {
        Some(unfit) => Err(unfit.with_document(document)),
        None if session.common.json => put_document(&document).map(|()| Exit::Done),
        None => Ok(Exit::Done),
    }
}

/// Where the image goes.
fn folder_for(asked: &Fetch, state: Option<&Path>) -> Result<PathBuf, Failure> {
    let folder = match (&asked.into, state) {
        (Some(folder), _) => folder.clone(),
        (None, Some(state)) => state.join("shelf"),
        (None, None) => {
            return Err(Failure::new(
                Exit::Usage,
                "there is no home folder for the shelf",
                "name a folder with --into",
            ));
        }
    };
    if asked.into.is_none() {
        fs::create_dir_all(&folder).map_err(|error| {
            Failure::new(
                Exit::Stopped,
                format!("can't make {}: {}", folder.shown(), plain(&error)),
                "name a folder with --into",
            )
        })?;
    }
    Ok(folder)
}

/// Why an image that came is not taken.
fn refuse(target: &Path, report: &Report, source: &Download, unfit: Option<&Failure>) -> Option<Failure> {
    // What was published by somebody is what it is, fit to be written or not; of anything else that is all there is to go by.
    let is_published = matches!(report.proof(), Proof::Signed(_) | Proof::Published);
    let next = "look up the image's address again, and remove that file to fetch it anew";
    let no_image = || {
        let failure = unfit.filter(|_| !is_published)?;
        Some(Failure::new(failure.exit, failure.text.as_str(), next))
    };
    refusal(target, report).or_else(|| other_signer(source, report)).or_else(no_image)
}

/// Gives the image to whoever called, from a byte on, after a line that says what it is and what it must be.
fn hand_over(asked: &Fetch, source: Download, from: u64, web: &Web, session: &Session<'_>) -> Result<Exit, Failure> {
    let failed = |error: io::Error| {
        Failure::new(Exit::Stopped, plain(&error), "check the line, then run the same command with --resume")
    };
    let folder = tempfile::tempdir().map_err(failed)?;
    let target = folder.path().join(&source.wanted.name);
    let source = with_lists(asked, source, &target, web, session)?;
    let known = Known { expected: &source.expected, keys: &source.keys, ..asked.against.known() };
    let examining = Examining::of(session);
    let (published, report) = examining.examiner(session).vouched_for(&target, None, &known)?;
    let refused = refusal(&target, &report).or_else(|| other_signer(&source, &report));
    if let Some(failure) = refused {
        return Err(failure);
    }
    // The lists are read by now. From here on nothing of this process is kept, so that it need not wait for a server when it
    // is told to stop.
    drop(folder);
    let stop = session.cancel.clone();
    std::thread::spawn(move || {
        while !stop.is_set() {
            std::thread::sleep(Duration::from_millis(50));
        }
        std::process::exit(Exit::Stopped as i32);
    });
    let say_news = |news: &News<'_>| news_words(news).iter().for_each(|text| say(session.common, &format!("{text}\n")));
    let mut onward = Onward::new(web, &source.wanted, from, session.cancel, Box::new(say_news));
    let bytes = onward.total().map_err(of_line)?;
    let address = source.wanted.mirrors.first().map(|mirror| public_address(&mirror.address)).unwrap_or_default();
    for expected in published.expected.iter().filter(|expected| !expected.is_told) {
        let list = expected.source.shown();
        warn(&format!("{list} does not say of which kind its checksum is: on the way it is not compared with that\n"));
    }
    let about = line::About::new(&address, bytes, &published.expected, &report);
    let mut output = io::stdout().lock();
    let told =
        serde_json::to_writer(&mut output, &about).map_err(io::Error::from).and_then(|()| output.write_all(b"\n"));
    let given = told.and_then(|()| io::copy(&mut onward, &mut output)).and_then(|_| output.flush());
    match given {
        Ok(()) => Ok(Exit::Done),
        // Whoever called has enough, or is gone.
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(Exit::Done),
        Err(error) => Err(of_line(error)),
    }
}

/// What a line that gave the image up says.
fn of_line(error: io::Error) -> Failure {
    match error.downcast::<FetchError>() {
        Ok(error) => error.into(),
        Err(error) => Failure::new(Exit::Stopped, plain(&error), "run the same command with --resume"),
    }
}

/// What is meant: an address, a Metalink file, or words for an image in the catalogue.
fn resolve(asked: &Fetch, web: &Web, session: &Session<'_>) -> Result<Download, Failure> {
    let words = asked.what.join(" ");
    let mut source = if words.contains("://") {
        if [".meta4", ".metalink"].iter().any(|ending| words.ends_with(ending)) {
            of_metalink(&words, remote(web, &words, session.cancel)?, asked)?
        } else {
            let wanted =
                Wanted::at(&words).map_err(|fault| Failure::new(Exit::Usage, fault.to_string(), fault.next_step()))?;
            Download { wanted, expected: Vec::new(), keys: Vec::new() }
        }
    } else if Path::new(&words).is_file() {
        let bytes = machine::read_regular(Path::new(&words), METALINK_BYTES_MOST).map_err(|error| {
            Failure::new(Exit::Usage, format!("can't read {words}: {}", plain(&error)), "check the name")
        })?;
        of_metalink(&words, bytes, asked)?
    } else {
        let catalogue = catalogue::load(asked.catalogue.as_deref(), &asked.against, web, session)?;
        let pick = catalogue.find(&words, here(), today()).map_err(|error| {
            let next = match &error {
                CatalogueError::Several { fit, .. } => format!("say more: {}", all_shown(fit)),
                CatalogueError::Unknown { known, .. } if known.is_empty() => {
                    "it names no image at all: give another one with --catalogue".to_owned()
                }
                CatalogueError::Unknown { known, .. } => format!("there are: {}", all_shown(known)),
                CatalogueError::OutOfSupport { newest, .. } => {
                    format!("name its version if you need it all the same: {}", newest.shown())
                }
                _ => "docs/catalogue.md describes the format".to_owned(),
            };
            Failure::new(Exit::Usage, error.to_string(), next)
        })?;
        say(session.common, &shelved::picked(&pick, today()));
        of_pick(&pick, asked, web, session.cancel)?
    };
    let near = asked
        .near
        .clone()
        .map_or_else(|| Ok(Preferences::of(session.common)?.near.value), |near| Ok::<_, Failure>(Some(near)))?;
    if let Some(country) = &near {
        source.wanted.prefer(country);
    }
    Ok(source)
}

/// This machine's architecture, as images name it.
fn here() -> &'static str {
    match std::env::consts::ARCH {
        "x86_64" => "x86-64",
        other => other,
    }
}

fn remote(web: &Web, address: &str, cancel: &Cancel) -> Result<Vec<u8>, Failure> {
    let fail = |fault: MirrorFault| Failure::new(of_fault(&fault), format!("{address}: {fault}"), fault.next_step());
    let gone = || fail(MirrorFault::Status { code: 404, after: None });
    web.file(address, METALINK_BYTES_MOST, cancel).map_err(fail)?.ok_or_else(gone)
}

fn of_metalink(name: &str, bytes: Vec<u8>, asked: &Fetch) -> Result<Download, Failure> {
    let files = metalink(&bytes).map_err(|error| {
        let next = "give an address, a Metalink 4 file, or words for an image in the catalogue";
        Failure::new(Exit::Usage, format!("can't use {name}: {error}"), next)
    })?;
    let names: Vec<&str> = files.iter().map(|file| file.name.as_str()).collect();
    let fits = |file: &&Wanted| asked.only.as_ref().is_none_or(|only| *only == file.name);
    let mut fit = files.iter().filter(fits);
    match (fit.next(), fit.next()) {
        (Some(one), None) => {
            let expected = one.sums.iter().map(|sum| Expected::told(sum.clone(), name));
            Ok(Download { expected: expected.collect(), wanted: one.clone(), keys: Vec::new() })
        }
        (one, _) => {
            let what = if one.is_some() { "names several images" } else { "names no such image" };
            let next = format!("say which one with --only: {}", all_shown(&names));
            Err(Failure::new(Exit::Usage, format!("{name} {what}"), next))
        }
    }
}

fn of_pick(pick: &Pick<'_>, asked: &Fetch, web: &Web, cancel: &Cancel) -> Result<Download, Failure> {
    let fail =
        |error: CatalogueError| Failure::new(Exit::Usage, error.to_string(), "docs/catalogue.md describes the format");
    let mut source = match (&pick.image.metalink, pick.wanted().map_err(fail)?) {
        (Some(address), _) => of_metalink(address, remote(web, address, cancel)?, asked)?,
        (None, Some(wanted)) => Download { wanted, expected: Vec::new(), keys: Vec::new() },
        (None, None) => {
            let text = format!("the catalogue gives no address of {}", pick.title().shown());
            return Err(Failure::new(Exit::Usage, text, "add `addresses` or `metalink` to its entry"));
        }
    };
    let sums = pick.sums().map_err(fail)?;
    for sum in sums {
        if !source.wanted.sums.contains(&sum) {
            source.wanted.sums.push(sum.clone());
        }
        source.expected.push(Expected::told(sum, "the catalogue"));
    }
    source.keys = catalogue::keys_of(pick.system, web, cancel)?;
    Ok(source)
}

/// How much may be taken, if there is room for it at all.
fn room(folder: &Path, wanted: &Wanted, part: &PartFile) -> Result<u64, Failure> {
    let Some(free) = machine::free_bytes(folder) else { return Ok(u64::MAX) };
    let room = free.saturating_add(part.kept_bytes()).saturating_sub(SPARE.min(free / SPARE_PART));
    if wanted.bytes.is_some_and(|bytes| bytes > room) {
        let (needs, has) = (human_bytes(wanted.bytes.unwrap_or(0)), human_bytes(room));
        let text = format!("{} takes {needs}, and {} has room for {has}", wanted.name, folder.shown());
        return Err(Failure::new(
            Exit::Stopped,
            text,
            "make room (pyrotyp shelf prune shows what is old), or name another folder with --into",
        ));
    }
    Ok(room)
}

/// Looks for lists and signatures on the server, puts them beside the image, and takes in what they say.
fn with_lists(
    asked: &Fetch,
    mut source: Download,
    target: &Path,
    web: &Web,
    session: &Session<'_>,
) -> Result<Download, Failure> {
    let folder = target.parent().unwrap_or(Path::new("."));
    let mut asking = Progress::of_fetch(session.common);
    asking.waiting("looking for checksums and signatures");
    let found = beside(web, &source.wanted, session.cancel);
    asking.finish();
    let is_known = !asked.against.sum.is_empty() || asked.against.sums.is_some() || !source.expected.is_empty();
    let found = match found {
        Ok(found) => found,
        // What it must be is known without them.
        Err((address, fault)) if is_known && of_fault(&fault) == Exit::Stopped && !session.cancel.is_set() => {
            warn(&format!("whether there is a list or a signature can't be told: {address}: {fault}\n"));
            Default::default()
        }
        Err((_, MirrorFault::Stopped)) => return Err(FetchError::Stopped.into()),
        Err((address, fault)) => {
            let text = format!("whether a checksum was published can't be told: {address}: {fault}");
            let next = format!("{}; or give the published checksum with --sum", fault.next_step());
            // Where a server leads, what was typed is right all the same.
            let exit = if let MirrorFault::Address { .. } = fault { Exit::Stopped } else { of_fault(&fault) };
            return Err(Failure::new(exit, text, next));
        }
    };
    found.put(folder).map_err(|error| {
        let text = format!("can't write into {}: {}", folder.shown(), plain(&error));
        Failure::new(Exit::Stopped, text, "name a folder that you may write to with --into")
    })?;
    let published = published::published(target, &asked.against.known().given)?;
    for expected in published.expected {
        // What a list does not tell the kind of is compared once all of it is here.
        if expected.is_told && !source.wanted.sums.contains(&expected.sum) {
            source.wanted.sums.push(expected.sum);
        }
    }
    Ok(source)
}

/// A signature by a key that the catalogue does not name.
fn other_signer(source: &Download, report: &Report) -> Option<Failure> {
    let is_named = |key: &Key| source.keys.iter().any(|named| named.fingerprint() == key.fingerprint());
    let keys = report.signatures.iter().filter_map(|vouched| vouched.key.as_ref());
    let other = keys.filter(|_| !source.keys.is_empty()).find(|key| !is_named(key))?;
    let text = format!(
        "it is signed by {}, key {}, which the catalogue does not name",
        checked::name_of(other),
        other.fingerprint()
    );
    Some(Failure::new(Exit::Checksum, text, "ask who keeps the catalogue whether the publisher has a new key"))
}

/// The image is there already: is it the one that is wanted?
fn is_there(asked: &Fetch, source: &Download, target: &Path, session: &Session<'_>) -> Result<Exit, Failure> {
    let identity = Identity::of(target);
    let image = crate::session::images::open_image(target, session.common)?;
    let known = Known { expected: &source.expected, keys: &source.keys, ..asked.against.known() };
    let examining = Examining::of(session);
    let examiner = examining.examiner(session);
    let report = examiner.examine(target, &image, &known, Depth::Enough)?;
    if let Some(failure) = refusal(target, &report) {
        let next = "move that file away to fetch it again";
        return Err(Failure { next: next.to_owned(), ..failure });
    }
    if report.checked.is_empty() {
        let text = format!("{} is there already, and nothing tells whether it is the same", target.shown());
        return Err(Failure::new(Exit::Refused, text, "move that file away to fetch it again"));
    }
    examiner.note_found(target, identity, &report);
    say(session.common, "it is there already, and matches: nothing was fetched\n");
    let shelf = state_folder(session.common).and_then(|state| Shelf::open(&state).ok());
    let item = shelf.as_ref().and_then(|shelf| shelf.at(target));
    let (name, origin) = (item.map(Item::name), item.and_then(|item| item.origin.as_deref()));
    if session.common.json {
        put_document(&json::fetched(target, name, origin, &report))?;
    } else {
        put(&checked::fetched(target, name, &image.inspection, &report, session.common))?;
    }
    Ok(Exit::Done)
}

/// Puts the fetched image into the shelf's index and tells its name there.
fn shelve(
    state: &Path,
    target: &Path,
    image: &OpenedImage,
    report: &Report,
    origin: Option<String>,
) -> Result<String, Failure> {
    let file = target.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let mut item = Item { file: file.clone(), origin, ..Item::default() };
    item.describe(&image.inspection.naming, image.inspection.label.as_deref());
    let name = item.name().to_owned();
    let kept = Identity::of(target).and_then(|identity| {
        Shelf::change(state, |shelf| {
            shelf.add(item);
            shelf.note(&file, &report.sums, report.proof().word(), &identity);
            Ok(())
        })
    });
    kept.map_err(|error| crate::session::shelf_words::unwritable(&PathBuf::from(state), &error))?;
    Ok(name)
}
