//! A label for a stick's sleeve, 50 by 25 mm: what is printed where. The painters only follow.

use std::ops::Range;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use pyrotyp_core::record::{DriveRecord, JobKind, JobResult, Record};
use pyrotyp_core::text::Shown;
use qrcode::{EcLevel, QrCode};

/// Width and height in dots: 50 by 25 mm at 300 dots an inch.
pub(crate) const SIZE: (usize, usize) = (591, 295);
/// So much stays white around everything: label printers are not exact.
const MARGIN: usize = 18;
/// The QR code is no larger than this.
const CODE_MOST: usize = 232;
/// Squares that stay white around it (ISO/IEC 18004, §9.1).
const QUIET: usize = 4;
/// Beginning of the SHA-256 that the code holds, in digits.
const DIGITS: usize = 16;

/// Heights of letters, in dots.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Height {
    /// For the tag: twice as high as [`Height::Title`].
    Tag,
    Title,
    Small,
}

impl Height {
    /// In dots.
    pub(crate) fn dots(self) -> usize {
        match self {
            Self::Tag => 64,
            Self::Title => 32,
            Self::Small => 24,
        }
    }

    /// Width of each letter in dots: all are as wide.
    pub(crate) fn letter(self) -> usize {
        match self {
            Self::Tag => 36,
            Self::Title => 18,
            Self::Small => 13,
        }
    }
}

/// A line of text; `x` and `y` are its upper left corner.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct LabelLine {
    pub x: usize,
    pub y: usize,
    pub height: Height,
    pub is_bold: bool,
    pub text: String,
}

/// What is printed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct SleeveLabel {
    pub lines: Vec<LabelLine>,
    /// Dark squares of the code: columns and rows in dots.
    pub squares: Vec<(Range<usize>, Range<usize>)>,
}

/// A tag as a part of a file's name.
pub(crate) fn tag_in_name(tag: &str) -> String {
    tag.chars().filter(char::is_ascii_alphanumeric).collect()
}

/// The label of a drive that a job has made; `None` if it made none, or the code has no room.
pub(crate) fn label(record: &Record, drive: &DriveRecord) -> Option<SleeveLabel> {
    let proof = match (record.kind, drive.outcome.result) {
        (JobKind::Write | JobKind::Unpack | JobKind::Compare, JobResult::Verified) => "verified",
        (JobKind::Write | JobKind::Unpack, JobResult::Written) => "not read back",
        _ => return None,
    };
    let tag = drive.drive.tag.shown();
    let digits = record.image.sha256.as_deref().unwrap_or("").chars().filter(char::is_ascii_hexdigit).take(DIGITS);
    let digits: String = digits.collect::<String>().to_ascii_uppercase();
    let Code { squares, end: x } = code(format!("{tag} {digits}").trim_end())?;
    let room = SIZE.0.saturating_sub(x).saturating_sub(MARGIN);
    let mut y = MARGIN;
    let mut lines = Vec::new();
    let mut put = |height: Height, is_bold, text: &str, most: usize| {
        for line in fitted(text, room / height.letter(), most) {
            lines.push(LabelLine { x, y, height, is_bold, text: line });
            y = y.saturating_add(height.dots());
        }
    };
    // A volume label has no spaces, and lines break at them.
    let title = record.image.called().shown().replace('_', " ");
    // A long name is smaller, and stays whole.
    let large = fitted(&title, room / Height::Title.letter(), usize::MAX).len() <= 3;
    put(if large { Height::Title } else { Height::Small }, true, &title, if large { 3 } else { 4 });
    if let Some(arch) = record.image.says.architecture {
        put(Height::Small, false, arch.word(), 1);
    }
    let day = record.ended.as_deref().unwrap_or(&record.started).parse::<Timestamp>().ok();
    let day = day.map(|day| day.to_zoned(TimeZone::system()).strftime("%Y-%m-%d ").to_string()).unwrap_or_default();
    put(Height::Small, false, &format!("{day}{proof}"), 2);
    // The tag is at the bottom, where it is looked for.
    let y = SIZE.1.saturating_sub(MARGIN).saturating_sub(Height::Tag.dots());
    let tag = tag.chars().take(room / Height::Tag.letter()).collect();
    lines.push(LabelLine { x, y, height: Height::Tag, is_bold: true, text: tag });
    Some(SleeveLabel { lines, squares })
}

/// The text in lines of at most `width` letters, at most so many of them.
fn fitted(text: &str, width: usize, most: usize) -> Vec<String> {
    let lines = textwrap::wrap(text, width.max(1)).into_iter();
    lines.map(std::borrow::Cow::into_owned).take(most).collect()
}

/// A code in dots.
struct Code {
    /// Columns and rows of its dark squares.
    squares: Vec<(Range<usize>, Range<usize>)>,
    /// Where something else may begin.
    end: usize,
}

/// The code of a text, as large as fits.
fn code(text: &str) -> Option<Code> {
    let code = QrCode::with_error_correction_level(text, EcLevel::M).ok()?;
    let side = code.width();
    let each = CODE_MOST.checked_div(side).filter(|each| *each > 0)?;
    let (whole, quiet) = (each.checked_mul(side)?, each.checked_mul(QUIET)?);
    let top = SIZE.1.saturating_sub(whole) / 2;
    let dots = |at: usize, from: usize| {
        let start = from.saturating_add(at.saturating_mul(each));
        start..start.saturating_add(each)
    };
    let colours = code.to_colors();
    let dark = colours.iter().enumerate().filter(|(_, colour)| **colour == qrcode::Color::Dark);
    let squares = dark.map(|(at, _)| (dots(at % side, quiet), dots(at / side, top))).collect();
    Some(Code { squares, end: whole.saturating_add(quiet.saturating_mul(2)) })
}

#[cfg(test)]
mod tests {
    use pyrotyp_core::image::Summary;
    use pyrotyp_core::record::{DriveIdentity, DriveOutcome, ImageRecord, JobKind, Whose};

    use super::*;

    fn record(title: &str, kind: JobKind, result: JobResult) -> Record {
        let outcome = DriveOutcome::untouched(result);
        let drive = DriveIdentity { tag: "590J1".to_owned(), ..DriveIdentity::default() };
        let says = Summary { title: Some(title.to_owned()), ..Summary::default() };
        Record {
            job: "job".to_owned(),
            record: 1,
            started: "2026-11-23T08:00:00Z".to_owned(),
            ended: None,
            version: "1".to_owned(),
            kind,
            by: Whose::default(),
            accepted: Vec::new(),
            result,
            image: ImageRecord { says, sha256: Some("ab".repeat(32)), ..ImageRecord::default() },
            drives: vec![DriveRecord { drive, outcome, findings: Vec::new() }],
            starts: Vec::new(),
        }
    }

    #[test]
    fn whatever_it_is_called_all_of_it_lies_on_the_label() {
        for title in [
            "",
            "Larkspur",
            "Larkspur Linux 9.2 Desktop, a very long name of an edition for schools",
            &"x".repeat(300),
            "日本語 Ünïcödé",
        ] {
            let record = record(title, JobKind::Write, JobResult::Verified);
            let made = label(&record, &record.drives[0]).unwrap();
            for line in &made.lines {
                let end = line.x + line.text.chars().count() * line.height.letter();
                assert!(end <= SIZE.0 - MARGIN && line.y + line.height.dots() <= SIZE.1, "{title}: {line:?}");
            }
            // Nothing is printed over the tag, nor over the code.
            let tag = made.lines.last().unwrap();
            assert_eq!(tag.text, "590J1");
            let others = &made.lines[..made.lines.len() - 1];
            assert!(others.iter().all(|line| line.y + line.height.dots() <= tag.y), "{title}: {:?}", made.lines);
            let right = made.squares.iter().map(|(columns, _)| columns.end).max().unwrap();
            assert!(
                made.lines.iter().all(|line| line.x > right) && made.squares.iter().all(|(_, rows)| rows.end <= SIZE.1)
            );
        }
    }

    #[test]
    fn only_a_stick_that_holds_an_image_has_a_label() {
        use JobKind::{Compare, Reclaim, Write};
        use JobResult::{Differs, Failed, Refused, Stopped, Verified, Written};
        let has = |kind, result| {
            let record = record("Larkspur", kind, result);
            label(&record, &record.drives[0]).is_some()
        };
        assert!(has(Write, Verified) && has(Write, Written) && has(Compare, Verified));
        assert!(
            !has(Reclaim, Verified) && [Differs, Failed, Refused, Stopped].iter().all(|result| !has(Write, *result))
        );
    }
}
