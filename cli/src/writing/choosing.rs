//! What was left away at a terminal is offered there: images first, then drives.

use std::fmt;
use std::fs;
use std::io::{self, IsTerminal};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::{Duration, SystemTime};

use inquire::list_option::ListOption;
use inquire::ui::{RenderConfig, Styled};
use inquire::{InquireError, MultiSelect, Select};
use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::devices::Platform;
use pyrotyp_core::guard::Judged;
use pyrotyp_core::image::Verdict;
use pyrotyp_core::shelf::Shelf;
use pyrotyp_core::stop::Cancel;
use pyrotyp_core::text::{Shown, shell};
use pyrotyp_core::{FindingId, Level};

use ratatui::crossterm::terminal::disable_raw_mode;

use crate::asked::{Common, Job};
use crate::exit::{Exit, Failure, plain};
use crate::out::{self, warn};
use crate::session::Session;
use crate::session::attached::platform;
use crate::session::folders::state_folder;
use crate::session::images::open_image_called;
use crate::session::judged::{can_be_chosen, judged};
use crate::show::letters;

/// Files of a folder that are looked into.
const FILES_MOST: usize = 60;
/// What images end in, and what may be packed around that.
const ENDINGS: [&str; 3] = ["iso", "img", "raw"];
const PACKED: [&str; 6] = ["gz", "xz", "zst", "bz2", "lz4", "zip"];
/// Smaller files are no installers.
const LEAST: u64 = 1 << 20;
/// Lines of a list that are seen at once.
const PAGE: usize = 12;
/// How often it is looked whether the program was told to stop.
const LOOK_EVERY: Duration = Duration::from_millis(50);
const SECONDS_OF_DAY: u64 = 24 * 60 * 60;

/// Whether somebody sits here who can choose.
pub(crate) fn can_ask(job: &Job, common: &Common) -> bool {
    out::terminal_is_able()
        && !job.unattended
        && !common.json
        && io::stdin().is_terminal()
        && io::stderr().is_terminal()
}

/// One line that is offered.
struct Offer<T> {
    words: String,
    meant: T,
}

impl<T> fmt::Display for Offer<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&letters::plain(&self.words))
    }
}

/// How the lists look: the same signs as everywhere else here.
fn look() -> RenderConfig<'static> {
    RenderConfig::default_colored()
        .with_prompt_prefix(Styled::new(" "))
        .with_answered_prompt_prefix(Styled::new(" "))
        .with_highlighted_option_prefix(Styled::new(">"))
        .with_selected_checkbox(Styled::new("[x]"))
        .with_unselected_checkbox(Styled::new("[ ]"))
        .with_scroll_up_prefix(Styled::new("^"))
        .with_scroll_down_prefix(Styled::new("v"))
}

fn unanswered(error: InquireError) -> Failure {
    match error {
        InquireError::OperationCanceled | InquireError::OperationInterrupted => {
            Failure::new(Exit::Refused, "nothing was chosen, and nothing was changed", "run the same command again")
        }
        other => Failure::new(
            Exit::Unexpected,
            format!("nothing can be chosen at this terminal: {}", plain(&other)),
            "pyrotyp write IMAGE --to TAG needs no list",
        ),
    }
}

/// What was chosen; a thread waits for it, since a terminal that was closed gives no answer and a list never ends by itself.
fn answer<T: Send + 'static>(
    cancel: &Cancel,
    ask: impl FnOnce() -> Result<T, InquireError> + Send + 'static,
) -> Result<T, Failure> {
    let (sender, answers) = channel();
    std::thread::spawn(move || {
        // Nobody waits any more once the program was told to stop.
        drop(sender.send(ask()));
    });
    loop {
        match answers.recv_timeout(LOOK_EVERY) {
            Ok(answer) => return answer.map_err(unanswered),
            Err(RecvTimeoutError::Timeout) if !cancel.is_set() => {}
            Err(_) => {
                // Keys come one by one as long as a list is open.
                let _ = disable_raw_mode();
                return Err(Failure::new(
                    Exit::Stopped,
                    "stopped, and nothing was changed",
                    "run the same command again",
                ));
            }
        }
    }
}

/// Which image is meant: of the shelf, or of this folder.
pub(crate) fn image(session: &Session<'_>) -> Result<PathBuf, Failure> {
    let common = session.common;
    let Offers { rows, unfit } = images(common);
    if unfit > 0 {
        let files = if unfit == 1 { "1 more is no image".to_owned() } else { format!("{unfit} more are no images") };
        warn(&format!("{files} that could be written: pyrotyp inspect FILE says why\n"));
    }
    if rows.is_empty() {
        let text = "no image is named, and none is on the shelf or in this folder";
        return Err(Failure::new(Exit::Usage, text, "name one: pyrotyp write IMAGE; pyrotyp fetch gets one"));
    }
    let chosen = answer(session.cancel, move || {
        let prompt = Select::new("Which image?", rows).with_page_size(PAGE).with_render_config(look());
        let prompt = prompt.with_help_message("up and down, letters to search, Enter; Esc leaves all as it is");
        prompt.with_formatter(&|row| row.value.meant.shown()).prompt()
    });
    chosen.map(|row| row.meant)
}

/// Images that can be written, and how many files are none.
struct Offers {
    rows: Vec<Offer<PathBuf>>,
    unfit: usize,
}

fn images(common: &Common) -> Offers {
    // A shelf that can't be read has nothing to offer; its own command says why.
    let shelf = state_folder(common).and_then(|state| Shelf::open(&state).ok());
    let shelved = shelf.iter().flat_map(|shelf| {
        let place = |proof: &Option<String>| match proof {
            Some(proof) => format!("on the shelf, {}", proof.shown()),
            None => "on the shelf, never checked".to_owned(),
        };
        shelf.items().iter().map(move |item| (PathBuf::from(item.name()), shelf.path(item), place(&item.proof)))
    });
    let here = files_here().into_iter().map(|path| (path.clone(), path, "in this folder".to_owned()));
    let mut found = Offers { rows: Vec::new(), unfit: 0 };
    for (name, path, place) in shelved.chain(here) {
        let Ok(about) = fs::metadata(&path) else { continue };
        let days = about.modified().ok().map(|changed| age(changed, SystemTime::now())).unwrap_or_default();
        let size = human_bytes(about.len());
        // What is inside a packed file takes long to find out; the card tells it.
        let (what, verdict) = if is_packed(&path) {
            (name.shown(), "packed".to_owned())
        } else {
            match open_image_called(&path, &name).map(|opened| opened.inspection) {
                Ok(inspection) if inspection.verdict != Verdict::No => {
                    let verdict = if inspection.verdict == Verdict::Ready { "ready" } else { "caution" };
                    (inspection.title().map_or_else(|| name.shown(), |title| title.shown()), verdict.to_owned())
                }
                _ => {
                    found.unfit = found.unfit.saturating_add(1);
                    continue;
                }
            }
        };
        let words = format!("{what:<28}  {verdict:<7}  {size:>8}  {days}, {place}: {}", name.shown());
        found.rows.push(Offer { words, meant: name });
    }
    found
}

fn is_packed(path: &Path) -> bool {
    let ending = path.extension().and_then(|ending| ending.to_str()).unwrap_or_default().to_ascii_lowercase();
    PACKED.contains(&ending.as_str())
}

/// Files of this folder that are called as images are, the newest first.
fn files_here() -> Vec<PathBuf> {
    let is_image = |path: &Path| {
        let ending = |path: &Path| path.extension().map(|ending| ending.to_string_lossy().to_ascii_lowercase());
        let inner = if is_packed(path) { path.file_stem().map(PathBuf::from) } else { Some(path.to_owned()) };
        inner.and_then(|path| ending(&path)).is_some_and(|ending| ENDINGS.contains(&ending.as_str()))
    };
    let entries = fs::read_dir(".").into_iter().flatten().flatten().map(|entry| PathBuf::from(entry.file_name()));
    let about = |path: PathBuf| {
        let about = fs::metadata(&path).ok().filter(|about| about.is_file() && about.len() >= LEAST)?;
        Some((about.modified().ok()?, path))
    };
    let mut all: Vec<_> = entries.filter(|path| is_image(path)).filter_map(about).collect();
    all.sort_by(|a, b| b.cmp(a));
    all.into_iter().map(|(_, path)| path).take(FILES_MOST).collect()
}

/// How old it is, in days.
fn age(then: SystemTime, now: SystemTime) -> String {
    match now.duration_since(then).unwrap_or_default().as_secs() / SECONDS_OF_DAY {
        0 => "of today".to_owned(),
        1 => "1 day old".to_owned(),
        days => format!("{days} days old"),
    }
}

/// Which drives are meant, each by a word that names it alone.
pub(crate) fn drives(image: &Path, accepted: &[FindingId], session: &Session<'_>) -> Result<Vec<String>, Failure> {
    let common = session.common;
    let platform: &dyn Platform = &*platform(common)?;
    let all = judged(platform, common)?;
    let stands = |row: &Judged| {
        let weighs = |finding: &&pyrotyp_core::Finding| {
            finding.level == Level::Stop || finding.level == Level::Ask && !accepted.contains(&finding.id)
        };
        row.findings.iter().find(weighs).cloned()
    };
    let (free, barred): (Vec<&Judged>, Vec<&Judged>) =
        all.iter().filter(|row| row.drive.bytes > 0).partition(|row| can_be_chosen(row) && stands(row).is_none());
    tell_barred(&barred, &stands);
    if free.is_empty() {
        let next = format!("plug one in, then: pyrotyp write {}", shell::path(image));
        return Err(Failure::new(Exit::Usage, "no drive is attached that can be chosen", next));
    }
    let is_alone = |tag: &str| all.iter().filter(|row| row.drive.tag.as_str() == tag).count() == 1;
    let row = |row: &&Judged| {
        let drive = &row.drive;
        let holds = row.findings.iter().find(|finding| finding.id == FindingId::HasData);
        let holds = holds.map_or("empty, wherever it was looked at".to_owned(), |finding| finding.text.shown());
        let words = format!("{}  {}, {}  {holds}", drive.tag, drive.name(), human_bytes(drive.bytes));
        let is_sure = is_alone(drive.tag.as_str());
        Offer { words, meant: if is_sure { drive.tag.to_string() } else { drive.path.clone() } }
    };
    let rows: Vec<Offer<String>> = free.iter().map(row).collect();
    let chosen = answer(session.cancel, move || {
        let prompt = MultiSelect::new("Onto which drives? All that is on them will be gone.", rows);
        let prompt = prompt.with_page_size(PAGE).with_render_config(look());
        let prompt = prompt.with_help_message("space ticks, Enter goes on to the question; Esc leaves all as it is");
        let tags = |chosen: &[ListOption<&Offer<String>>]| {
            chosen.iter().map(|row| row.value.meant.as_str()).collect::<Vec<_>>().join(", ")
        };
        prompt.with_formatter(&tags).prompt()
    })?;
    if chosen.is_empty() {
        return Err(Failure::new(
            Exit::Refused,
            "no drive was ticked, and nothing was changed",
            "tick one with the space bar",
        ));
    }
    Ok(chosen.into_iter().map(|row| row.meant).collect())
}

/// Says how many can't be chosen, and why.
fn tell_barred(barred: &[&Judged], stands: &dyn Fn(&Judged) -> Option<pyrotyp_core::Finding>) {
    let real: Vec<_> = barred.iter().filter_map(|row| Some((&row.drive, stands(row)?))).collect();
    let real: Vec<_> = real.iter().filter(|(_, finding)| finding.id != FindingId::VirtualDrive).collect();
    if real.is_empty() {
        return;
    }
    let count = if real.len() == 1 {
        "1 more can't be chosen:".to_owned()
    } else {
        format!("{} more can't be chosen:", real.len())
    };
    let mut text = format!("{count}\n");
    for (drive, finding) in real {
        let accept =
            if finding.level == Level::Ask { format!("; only with --accept {}", finding.id) } else { String::new() };
        text.push_str(&format!("  {}  {}: {}{accept}\n", drive.tag, drive.name(), finding.text.shown()));
    }
    warn(&text);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_told_by_how_they_end_and_ages_in_days() {
        let packed = ["a.iso.xz", "a.ISO.GZ", "a.img.zst"].map(Path::new);
        assert!(packed.into_iter().all(is_packed) && !is_packed(Path::new("a.iso")) && !is_packed(Path::new("gz")));
        let now = SystemTime::UNIX_EPOCH + Duration::from_secs(100 * SECONDS_OF_DAY);
        let ago = |days: u64| age(now - Duration::from_secs(days * SECONDS_OF_DAY), now);
        assert_eq!([ago(0), ago(1), ago(40)], ["of today", "1 day old", "40 days old"]);
        // A file of tomorrow is new.
        assert_eq!(age(now + Duration::from_secs(SECONDS_OF_DAY), now), "of today");
    }
}
