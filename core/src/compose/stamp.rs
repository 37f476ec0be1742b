//! Days and times as FAT and exFAT write them: from 1980 on, in steps of two seconds.

use jiff::civil::{DateTime, date};

/// A day and a time: Microsoft FAT Specification (2004), section 6; exFAT specification, section 7.4.8.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct DosStamp {
    pub day: u16,
    pub time: u16,
    /// What two seconds leave over, in hundredths: 0 or 100.
    pub hundredths: u8,
}

impl DosStamp {
    /// The nearest there is; the first of all where nothing is known.
    pub(super) fn of(modified: Option<DateTime>) -> Self {
        let (first, last) = (date(1980, 1, 1).at(0, 0, 0, 0), date(2107, 12, 31).at(23, 59, 58, 0));
        let at = modified.unwrap_or(first).clamp(first, last);
        let part =
            |value: i8, shift: u32| u16::try_from(value).unwrap_or_default().checked_shl(shift).unwrap_or_default();
        let years = u16::try_from(at.year().saturating_sub(1980)).unwrap_or_default();
        Self {
            day: years.checked_shl(9).unwrap_or_default() | part(at.month(), 5) | part(at.day(), 0),
            time: part(at.hour(), 11) | part(at.minute(), 5) | part(at.second() / 2, 0),
            hundredths: if at.second() % 2 == 1 { 100 } else { 0 },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::volume::fat::dos_time;

    #[test]
    fn a_time_is_read_as_it_was_written_and_the_nearest_one_where_there_is_none() {
        let read = |at: Option<DateTime>| {
            let DosStamp { day, time, hundredths } = DosStamp::of(at);
            (dos_time(day, time).unwrap().to_string(), hundredths)
        };
        assert_eq!(read(Some(date(2026, 11, 27).at(14, 30, 7, 5))), ("2026-11-27T14:30:06".to_owned(), 100));
        assert_eq!(read(None), ("1980-01-01T00:00:00".to_owned(), 0));
        assert_eq!(read(Some(date(1970, 1, 1).at(0, 0, 0, 0))).0, "1980-01-01T00:00:00");
        assert_eq!(read(Some(date(2200, 1, 1).at(0, 0, 0, 0))).0, "2107-12-31T23:59:58");
    }
}
