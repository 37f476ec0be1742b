//! A job as it is drawn at a terminal: for each drive its stage, how far it is, how fast it is along its length, and what is proven.

use std::time::Duration;

use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::record::JobResult;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Color, Modifier, Style};
use ratatui::symbols::bar;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Sparkline, Widget};

use super::drive_state::{DriveState, JobState, PARTS, PartOfDrive, Stopping, name_of};
use super::progress::amount;

/// Fewer columns, or more drives, leave one line for each.
const COLUMNS_LEAST: u16 = 60;
const DRIVES_MOST: usize = 12;
/// Lines of a drive where there is room.
const LINES_OF_DRIVE: u16 = 3;
/// Lines below the drives.
const LINES_BELOW: u16 = 2;
/// Columns of the plot of speeds.
const PLOT: u16 = 20;
const HEADING: &str = "speed ";

/// How things are drawn.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Look {
    pub has_colour: bool,
    pub is_unicode: bool,
}

impl Look {
    fn style(self, colour: Color) -> Style {
        if self.has_colour { Style::new().fg(colour) } else { Style::new() }
    }

    fn bold(self) -> Style {
        if self.has_colour { Style::new().add_modifier(Modifier::BOLD) } else { Style::new() }
    }

    fn part(self, part: PartOfDrive) -> Span<'static> {
        match (part, self.is_unicode) {
            (PartOfDrive::Old, true) => Span::styled("·", self.style(Color::DarkGray)),
            (PartOfDrive::Old, false) => Span::styled(".", self.style(Color::DarkGray)),
            (PartOfDrive::Written, true) => Span::styled("▒", self.style(Color::Yellow)),
            (PartOfDrive::Written, false) => Span::styled("-", self.style(Color::Yellow)),
            (PartOfDrive::Proven, true) => Span::styled("█", self.style(Color::Green)),
            (PartOfDrive::Proven, false) => Span::styled("#", self.style(Color::Green)),
        }
    }
}

/// Whether each drive has one line only.
fn is_narrow(columns: u16, drives: usize, rows: u16) -> bool {
    let wanted = (drives as u16).saturating_mul(LINES_OF_DRIVE).saturating_add(LINES_BELOW);
    columns < COLUMNS_LEAST || drives > DRIVES_MOST || wanted >= rows
}

/// Lines that so many drives take on a terminal of that size.
pub(crate) fn height(drives: usize, columns: u16, rows: u16) -> u16 {
    let each = if is_narrow(columns, drives, rows) { 1 } else { LINES_OF_DRIVE };
    let wanted = (drives as u16).saturating_mul(each).saturating_add(LINES_BELOW);
    wanted.min(rows.saturating_sub(1)).max(1)
}

/// Draws all of it, so long after the job began; `rows` is the height of the whole terminal.
pub(crate) fn draw(job: &JobState, since: Duration, look: Look, rows: u16, buffer: &mut Buffer) {
    let area = buffer.area;
    let each = if is_narrow(area.width, job.drives.len(), rows) { 1 } else { LINES_OF_DRIVE };
    let room = area.height.saturating_sub(LINES_BELOW);
    let mut y = area.y;
    for drive in &job.drives {
        if y.saturating_sub(area.y).saturating_add(each) > room {
            break;
        }
        let place = Rect { y, height: each, ..area };
        if each == 1 {
            one_line(drive, since, look, place, buffer)
        } else {
            lines(drive, since, look, place, buffer)
        }
        y = y.saturating_add(each);
    }
    let below = Rect { y, height: area.bottom().saturating_sub(y), ..area };
    footer(job, look, below, buffer);
}

/// What a drive does, in a word or two.
fn doing(drive: &DriveState) -> (&'static str, Color) {
    match (drive.result, drive.stage) {
        (Some(JobResult::Verified), _) => ("verified: pull it out", Color::Green),
        (Some(JobResult::Written), _) => ("written: pull it out", Color::Yellow),
        (Some(JobResult::Differs), _) => ("DIFFERS", Color::Red),
        (Some(JobResult::Failed), _) => ("FAILED", Color::Red),
        (Some(JobResult::Refused), _) => ("refused", Color::Yellow),
        (Some(JobResult::Stopped), _) => ("stopped", Color::Yellow),
        (None, _) if drive.trouble.is_diagnosed => ("it differs: finding out why", Color::Red),
        (None, _) if drive.trouble.stalled.is_some() => ("no answer", Color::Red),
        (None, Some(stage)) => (name_of(stage), Color::Reset),
        (None, None) => ("waits", Color::Reset),
    }
}

/// How far it is, in words; nothing of a drive that is done.
fn far(drive: &DriveState, since: Duration) -> String {
    if drive.result.is_some() || drive.total == 0 {
        return String::new();
    }
    let mut words = amount(drive.pace.done(), drive.total, drive.pace.rate(), drive.left(since));
    if let Some(seconds) = drive.trouble.stalled {
        words.push_str(&format!("  no answer for {seconds} s"));
    }
    words
}

fn again(drive: &DriveState) -> String {
    match drive.trouble.again {
        0 => String::new(),
        1 => "  1 piece tried again".to_owned(),
        several => format!("  {several} pieces tried again"),
    }
}

fn lines(drive: &DriveState, since: Duration, look: Look, place: Rect, buffer: &mut Buffer) {
    let (words, colour) = doing(drive);
    let row = |at: u16| Rect { y: place.y.saturating_add(at), height: 1, ..place };
    let heading = Line::from(vec![
        Span::raw("  "),
        Span::styled(format!("{:<5}", drive.tag), look.bold()),
        Span::raw(format!("  {}  ", drive.name)),
        Span::styled(words, look.style(colour)),
    ]);
    heading.render(row(0), buffer);
    let room = place.width.saturating_sub(9);
    let mut map = vec![Span::raw("  ")];
    map.extend(map_of(drive, usize::from(room.min(2 * PARTS as u16)), look));
    if drive.result.is_none() && drive.total > 0 {
        map.push(Span::raw(format!(" {:>3} %", drive.percent())));
    }
    Line::from(map).render(row(1), buffer);
    let words = format!("  {}{}", far(drive, since), again(drive));
    let used = Span::raw(words.as_str()).width() as u16;
    Line::raw(words).render(row(2), buffer);
    let left = place.width.saturating_sub(used).saturating_sub(4);
    if look.is_unicode && drive.result.is_none() && left >= PLOT + HEADING.len() as u16 {
        let x = place.right().saturating_sub(PLOT + 2);
        let heading = Rect { x: x.saturating_sub(HEADING.len() as u16), width: HEADING.len() as u16, ..row(2) };
        Line::styled(HEADING, look.style(Color::DarkGray)).render(heading, buffer);
        plot(drive, look, Rect { x, width: PLOT, ..row(2) }, buffer);
    }
}

/// The parts of the drive on so many columns.
fn map_of(drive: &DriveState, columns: usize, look: Look) -> impl Iterator<Item = Span<'static>> + '_ {
    let part = move |column: usize| column.saturating_mul(PARTS).checked_div(columns).unwrap_or(0);
    (0..columns).map(move |column| look.part(drive.parts.get(part(column)).copied().unwrap_or_default()))
}

/// The speed along the drive, from its beginning on.
fn plot(drive: &DriveState, look: Look, place: Rect, buffer: &mut Buffer) {
    let each = PARTS / usize::from(PLOT);
    let middle = |part: &[u64]| part.iter().max().copied().unwrap_or(0);
    let speeds: Vec<u64> = drive.speeds.chunks(each).map(middle).collect();
    Sparkline::default().data(&speeds).bar_set(bar::NINE_LEVELS).style(look.style(Color::Cyan)).render(place, buffer);
}

fn one_line(drive: &DriveState, since: Duration, look: Look, place: Rect, buffer: &mut Buffer) {
    let (words, colour) = doing(drive);
    let mut spans =
        vec![Span::styled(format!("{:<5} ", drive.tag), look.bold()), Span::styled(words, look.style(colour))];
    if drive.result.is_none() && drive.total > 0 {
        let rate = drive.pace.rate().map_or(String::new(), |rate| format!("  {}/s", human_bytes(rate as u64)));
        let left = drive.left(since).map_or(String::new(), |left| format!("  {}", crate::show::text::duration(left)));
        spans.push(Span::raw(format!("  {:>2} %{rate}{left}", drive.percent())));
    }
    let used: usize = spans.iter().map(Span::width).sum();
    let room = usize::from(place.width).saturating_sub(used).saturating_sub(3);
    if room >= 8 {
        spans.push(Span::raw("  "));
        spans.extend(map_of(drive, room.min(PARTS), look));
    }
    Line::from(spans).render(place, buffer);
}

fn footer(job: &JobState, look: Look, place: Rect, buffer: &mut Buffer) {
    let row = |at: u16| Rect { y: place.y.saturating_add(at), height: u16::from(at < place.height), ..place };
    let is_narrow = place.width < COLUMNS_LEAST;
    let told = match (job.stopping, is_narrow) {
        (Stopping::No, _) => None,
        (Stopping::Asked, false) => Some("stop? g: go on   s: stop after this stage   n: stop now"),
        (Stopping::Asked, true) => Some("g go on, s stop after the stage, n now"),
        (Stopping::Begun, false) => Some("stopping as soon as each drive answers   Ctrl-C: end at once"),
        (Stopping::Begun, true) => Some("stopping; Ctrl-C ends at once"),
    };
    if let Some(told) = told {
        let meaning = if is_narrow { "not sealed: it starts no PC" } else { "a drive that is not sealed starts no PC" };
        Line::styled(format!("  {told}"), look.style(Color::Yellow).patch(look.bold())).render(row(0), buffer);
        Line::raw(format!("  {meaning}")).render(row(1), buffer);
        return;
    }
    if job.drives.len() > 1 {
        let count = |is: &dyn Fn(&DriveState) -> bool| job.drives.iter().filter(|drive| is(drive)).count();
        let verified = count(&|drive| drive.result == Some(JobResult::Verified));
        let wrong = count(&|drive| {
            drive.result.is_some_and(|result| !matches!(result, JobResult::Verified | JobResult::Written))
        });
        let at_it = count(&|drive| drive.result.is_none());
        let mut words = format!("  {} drives: {at_it} under way, {verified} verified", job.drives.len());
        if wrong > 0 {
            words.push_str(&format!(", {wrong} went wrong"));
        }
        Line::styled(words, look.style(Color::DarkGray)).render(row(0), buffer);
    }
}

#[cfg(test)]
mod tests {
    use pyrotyp_core::job::{Event, ReadBack};
    use pyrotyp_core::record::Stage;

    use super::*;

    const MIB: u64 = 1 << 20;

    /// Four drives half-way: one reads back, one is slow, one failed, one is verified.
    fn half_way() -> JobState {
        let drive = |tag: &str, events: &[Event]| {
            let mut drive = DriveState::new(tag, "Kestrin Pocket", ReadBack::Whole);
            events.iter().for_each(|event| drive.heard(event, Duration::from_secs(9)));
            drive
        };
        let began = |stage| Event::Began { stage, bytes: Some(100 * MIB) };
        let moved = |stage, mib: u64| Event::Moved { stage, done: mib * MIB };
        let body = [began(Stage::Body), moved(Stage::Body, 100)];
        let back = [began(Stage::ReadBack), moved(Stage::ReadBack, 40), Event::ReadAgain { at: 7 }];
        let over = |result| vec![Event::Over { result }];
        let drives = vec![
            drive("DBR7J", &[&body[..], &back].concat()),
            drive("65387", &[began(Stage::Body), moved(Stage::Body, 31), Event::Stalled { seconds: 21 }]),
            drive("CFMWD", &[&body[..1], &over(JobResult::Failed)].concat()),
            drive("39KAF", &[&body[..], &back[..2], &over(JobResult::Verified)].concat()),
        ];
        JobState { began: std::time::Instant::now(), drives, stopping: Stopping::No }
    }

    fn drawn(job: &JobState, columns: u16, look: Look) -> String {
        let mut buffer = Buffer::empty(Rect::new(0, 0, columns, height(job.drives.len(), columns, 24)));
        draw(job, Duration::from_secs(9), look, 24, &mut buffer);
        let row = |y| (0..columns).map(|x| buffer[(x, y)].symbol()).collect::<String>().trim_end().to_owned() + "\n";
        (0..buffer.area.height).map(row).collect()
    }

    #[test]
    fn a_job_half_way_fits_wide_and_narrow_terminals_and_needs_neither_colour_nor_unicode() {
        let (look, plain) =
            (Look { has_colour: true, is_unicode: true }, Look { has_colour: false, is_unicode: false });
        let mut job = half_way();
        let mut told = vec![drawn(&job, 80, look), drawn(&job, 59, look), drawn(&job, 40, plain)];
        for stopping in [Stopping::Asked, Stopping::Begun] {
            job.stopping = stopping;
            told.extend([drawn(&job, 80, plain), drawn(&job, 40, plain)]);
        }
        insta::assert_snapshot!("half_way", told.join("\n=====\n"));
        job.drives.truncate(1);
        assert_eq!((height(1, 80, 24), height(12, 80, 60), height(13, 80, 60), height(4, 80, 12)), (5, 38, 15, 6));
        // On a terminal of a few lines as many drives are shown as fit.
        let many = JobState { drives: (0..30).flat_map(|_| half_way().drives).collect(), ..half_way() };
        assert_eq!(height(many.drives.len(), 80, 10), 9);
        assert_eq!(drawn(&many, 80, look).lines().count(), 23);
    }
}
