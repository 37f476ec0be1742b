//! `pyrotyp station`: stick after stick by a plan.

use std::path::Path;
use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use pyrotyp_core::drive::STICK_BYTES_MOST;
use pyrotyp_core::examine::{Candidate, Known, OpenedImage, Proven};
use pyrotyp_core::image::Inspection;
use pyrotyp_core::job::KeptImage;
use pyrotyp_core::ledger;
use pyrotyp_core::machine::{self, Existing};
use pyrotyp_core::plan::SurveyError;
use pyrotyp_core::published::published;
use pyrotyp_core::record::{JobResult, Record};
use pyrotyp_core::station::{RoundFault, Station, StationPlan, Tally, TallyFault, TallyFrom, Try, round};
use pyrotyp_core::text::{Shown, chain, shell};
use pyrotyp_core::{Finding, Level};

use crate::asked::{self, Against};
use crate::exit::{Exit, Failure, plain};
use crate::live::awake::awake;
use crate::live::station_view::StationView;
use crate::out::{put, say};
use crate::paper;
use crate::session::Session;
use crate::session::attached::platform;
use crate::session::examining::Examining;
use crate::session::folders::state_folder;
use crate::session::images::{fit_to_write, on_shelf_or_file, open_image};
use crate::session::settings::bench;
use crate::show::card;
use crate::show::station::{self as words, StationCard, StationSummary};
use crate::writing::confirming::typed_at_terminal;
use crate::writing::planning::Image;
use crate::writing::proving::{refused, tell_what_proves_nothing};

/// Longest plan that is read, in bytes.
const PLAN_BYTES_MOST: u64 = 256 << 10;

/// Makes the sticks of a plan.
pub(crate) fn run(asked: &asked::StickStation, session: &Session<'_>) -> Result<Exit, Failure> {
    let common = session.common;
    let plan = read_plan(&asked.plan)?;
    let state = state_folder(common).ok_or_else(|| {
        Failure::new(Exit::Usage, "there is no home folder for records and the tally", "name a folder with --state")
    })?;
    let path = on_shelf_or_file(&plan.image, common)?;
    let opened = open_image(&path, common)?;
    fit_to_write(&path, &opened.inspection)?;
    fit_for_all(&path, &opened.inspection)?;
    let proven = prove(&path, &opened, &plan, session)?;
    let sha256 = proven.checked.sha256.clone().ok_or_else(|| {
        Failure::new(Exit::Unexpected, "the image's SHA-256 is not known", "report this: it should not happen")
    })?;
    let counting = if asked.anew { TallyFrom::Anew } else { TallyFrom::On };
    let tally = Tally::of(&state, &asked.plan, &sha256, counting).map_err(|fault| no_tally(&fault))?;
    let made = tally.made();
    let began = Instant::now();
    let went = if made < plan.sticks {
        let checksum = card::checksum_words(Some(&proven.report));
        let inspection = &opened.inspection;
        confirm(asked, &StationCard { plan: &plan, path: &path, inspection, checksum: &checksum, made }, session)?;
        let image = image_of(&path, &opened, &proven).planned();
        let (bench, source) = (bench(common)?, KeptImage(proven.content.bytes()));
        let station = Station {
            plan: &plan,
            image: &image,
            inspection,
            proven: &proven,
            source: &source,
            bench: &bench,
            state: &state,
        };
        make(&station, tally, session)?
    } else {
        Went { tally, left: 0, fault: None }
    };
    let files = hand_over(&plan, &went.tally, &state);
    if !common.json {
        let name = opened.inspection.title().or_else(|| opened.inspection.label.clone());
        let (tally, left, seconds) = (&went.tally, went.left, began.elapsed().as_secs_f64());
        let summary = StationSummary { plan: &plan, file: &asked.plan, name: name.as_deref(), tally, left, seconds };
        put(&words::summary(&summary, common))?;
    }
    files?.iter().for_each(|file| say(common, &format!("{file}\n")));
    match went.fault {
        Some(fault) => Err(not_gone_on(&fault)),
        None if went.tally.made() >= plan.sticks => Ok(Exit::Done),
        None => Ok(Exit::Stopped),
    }
}

/// How a round went.
struct Went {
    tally: Tally,
    /// How many drives were left alone.
    left: u64,
    fault: Option<RoundFault>,
}

/// Makes what is left to be made.
fn make(station: &Station<'_>, tally: Tally, session: &Session<'_>) -> Result<Went, Failure> {
    let platform = &*platform(session.common)?;
    let _awake = awake(session.common);
    let view = StationView::new(station.plan.sticks, &tally, session.common);
    let tally = Mutex::new(tally);
    let fault = round(station, platform, &tally, session.cancel, &view).err();
    let tally = tally.into_inner().unwrap_or_else(PoisonError::into_inner);
    Ok(Went { tally, left: view.finish(), fault })
}

/// Refuses an image of which somebody would have to accept something for each stick.
fn fit_for_all(path: &Path, inspection: &Inspection) -> Result<(), Failure> {
    match inspection.findings.iter().find(|finding| finding.level == Level::Ask) {
        Some(Finding { id, text, .. }) => {
            let text = format!("{}: {text} ({id}), and a station accepts nothing", path.shown());
            let next = format!("try one by itself: pyrotyp write {} --to TAG --accept {id}", shell::path(path));
            Err(Failure::new(Exit::Image, text, next))
        }
        None => Ok(()),
    }
}

pub(crate) fn read_plan(file: &Path) -> Result<StationPlan, Failure> {
    let fail = |why: String| {
        let text = format!("{} is no plan that can be used: {why}", file.shown());
        Failure::new(Exit::Usage, text, "docs/station.md says what belongs in it")
    };
    let bytes = machine::read_regular(file, PLAN_BYTES_MOST).map_err(|error| fail(plain(&error)))?;
    let text = String::from_utf8(bytes).map_err(|_| fail("it is no text (UTF-8)".to_owned()))?;
    let folder = file.parent().unwrap_or(Path::new(""));
    StationPlan::parse(&text, folder).map_err(|fault| fail(chain(&fault).trim_end().shown()))
}

/// Everything that can be checked about the image is checked once, before the first stick.
fn prove(path: &Path, opened: &OpenedImage, plan: &StationPlan, session: &Session<'_>) -> Result<Proven, Failure> {
    let against = Against::default();
    let published = published(path, &against.known().given)?;
    let examining = Examining::of(session);
    let candidate = Candidate {
        path,
        image: opened,
        known: Known { published: Some(&published), is_read: true, ..against.known() },
        room: plan.drives.largest.unwrap_or(STICK_BYTES_MOST),
    };
    let proven = candidate.prove(&examining.examiner(session)).map_err(|refusal| refused(path, refusal))?;
    tell_what_proves_nothing(&proven.report, session.common);
    Ok(proven)
}

fn image_of<'a>(path: &'a Path, opened: &'a OpenedImage, proven: &'a Proven) -> Image<'a> {
    Image {
        path,
        is_file: true,
        inspection: &opened.inspection,
        bytes: Some(opened.bytes()),
        hole_bytes: 0,
        report: Some(&proven.report),
        expects: None,
        checks: &[],
        behind: None,
    }
}

/// The one question: how many sticks. Without a terminal, the number on the command line is the answer.
fn confirm(asked: &asked::StickStation, on_card: &StationCard<'_>, session: &Session<'_>) -> Result<(), Failure> {
    let sticks = on_card.plan.sticks;
    let shown = words::card(on_card);
    let typed = match asked.sticks {
        Some(sticks) => {
            say(session.common, &shown);
            sticks.to_string()
        }
        None => typed_at_terminal(&shown, &words::question(), session.cancel)?,
    };
    if typed.trim() == sticks.to_string() {
        return Ok(());
    }
    let text = match typed.trim() {
        "" => "not confirmed: no number was typed, and nothing was changed".to_owned(),
        other => {
            format!("not confirmed: the plan is for {sticks} sticks and not `{}`; nothing was changed", other.shown())
        }
    };
    Err(Failure::new(Exit::Refused, text, "look at the plan, then run the same command again"))
}

fn no_tally(fault: &TallyFault) -> Failure {
    let next = match fault {
        TallyFault::OtherImage { .. } => "--anew begins a tally of this image",
        _ => "make the bench's folder readable and writable, or name another one with --state",
    };
    Failure::new(Exit::Refused, chain(fault), next)
}

fn not_gone_on(fault: &RoundFault) -> Failure {
    let next = match fault {
        RoundFault::Platform(error) => error.next_step(),
        RoundFault::Image { .. } => {
            "check the image, then run the same command again: it goes on where the tally stands"
        }
        _ => "make room in the bench's folder, then run the same command again: it goes on where the tally stands",
    };
    Failure::new(Exit::Unexpected, chain(fault), next)
}

/// Labels and the report, where the plan wants them. Tells of each what it is.
fn hand_over(plan: &StationPlan, tally: &Tally, state: &Path) -> Result<Vec<String>, Failure> {
    let mut files = Vec::new();
    let read = |one: &Try| ledger::read(state, &one.job);
    let records: Result<Vec<Option<Record>>, _> = tally.tries().iter().map(read).collect();
    let records = records.map_err(|source| SurveyError::Records { state: state.to_owned(), source })?;
    if let Some(folder) = &plan.labels_into {
        let mut count = 0u64;
        for (one, record) in tally.tries().iter().zip(&records) {
            let Some(record) = record.as_ref().filter(|_| one.result == Some(JobResult::Verified)) else { continue };
            for drive in &record.drives {
                let Some(label) = paper::label(record, drive) else { continue };
                let tag = paper::tag_in_name(&one.drive.tag);
                replace(&folder.join(format!("{:03}-{tag}.svg", one.number)), paper::svg(&label).as_bytes())?;
                count = count.saturating_add(1);
            }
        }
        files.push(format!("labels of {count} sticks: {}", folder.shown()));
    }
    if let Some(file) = &plan.report_into {
        let page = paper::station_page(tally, &records, plan.sticks).map_err(|error| {
            Failure::new(
                Exit::Unexpected,
                format!("the report can't be made: {error}"),
                "report this: it should not happen",
            )
        })?;
        replace(file, page.as_bytes())?;
        files.push(format!("report: {}", file.shown()));
    }
    Ok(files)
}

/// What was made of the same plan before is made anew.
fn replace(file: &Path, bytes: &[u8]) -> Result<(), Failure> {
    let put = || {
        if let Some(folder) = file.parent().filter(|folder| !folder.as_os_str().is_empty()) {
            machine::make_folder(folder)?;
        }
        machine::put_file(file, bytes, Existing::Replaced)
    };
    put().map(drop).map_err(|error| {
        let text = format!("can't write {}: {}", file.shown(), plain(&error));
        Failure::new(Exit::Unexpected, text, "name another place in the plan, then run the same command again")
    })
}
