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
pub(crate) struct Label {
    pub lines: Vec<LabelLine>,
    /// Dark squares of the code: columns and rows in dots.
    pub squares: Vec<(Range<usize>, Range<usize>)>,
}

/// The label of a drive that a job has made; `None` if it made none, or the code has no room.
pub(crate) fn label(record: &Record, drive: &DriveRecord) -> Option<Label> {
    let proof = match (record.kind, drive.outcome.result) {
        (JobKind::Write | JobKind::Compare, JobResult::Verified) => "verified",
        (JobKind::Write, JobResult::Written) => "not read back",
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
    Some(Label { lines, squares })
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
