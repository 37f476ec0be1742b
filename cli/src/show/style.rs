//! Colours, each with one meaning.

use anstyle::{AnsiColor, Style};
use pyrotyp_core::Level;
use pyrotyp_core::image::Verdict;

/// What was asked about.
pub(crate) const NAME: Style = Style::new().bold();
/// Good.
pub(crate) const GOOD: Style = AnsiColor::Green.on_default().bold();
/// Worth a second look.
pub(crate) const CARE: Style = AnsiColor::Yellow.on_default().bold();
/// Wrong.
pub(crate) const BAD: Style = AnsiColor::Red.on_default().bold();
/// Beside the point.
pub(crate) const FAINT: Style = Style::new().dimmed();

/// The colour of a finding.
pub(crate) fn of_level(level: Level) -> Style {
    match level {
        Level::Stop => BAD,
        Level::Ask => CARE,
        Level::Note => FAINT,
    }
}

/// The colour of a verdict.
pub(crate) fn of_verdict(verdict: Verdict) -> Style {
    match verdict {
        Verdict::Ready => GOOD,
        Verdict::Caution => CARE,
        Verdict::No => BAD,
    }
}
