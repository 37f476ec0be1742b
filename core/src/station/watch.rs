//! What a station tells on its way.

use crate::drive::Drive;
use crate::job::Event;
use crate::station::qualify::Left;
use crate::station::tally::Try;

/// What has happened.
#[derive(Clone, Debug)]
pub enum StationNews<'a> {
    /// A drive was plugged in, and is left alone.
    Left {
        /// Which one.
        drive: &'a Drive,
        /// Why.
        why: &'a Left,
    },
    /// A drive was plugged in, and somebody must say whether it is taken.
    Asked {
        /// Which one.
        drive: &'a Drive,
    },
    /// It waits until another one is done.
    Waits {
        /// Which one.
        drive: &'a Drive,
    },
    /// It is being written.
    Begun {
        /// Which one.
        drive: &'a Drive,
    },
    /// It moves on.
    Moved {
        /// Which one.
        drive: &'a Drive,
        /// How.
        event: &'a Event,
    },
    /// It has ended.
    Ended {
        /// Which one.
        drive: &'a Drive,
        /// As which stick, and how.
        stick: &'a Try,
        /// Why it did not end well.
        fault: Option<&'a str>,
        /// How many are made.
        made: u64,
    },
    /// It was pulled out.
    Gone {
        /// Which one.
        drive: &'a Drive,
    },
    /// No further one is begun; those under way go to their end.
    Finishing,
}

/// Hears what a station tells, from several threads.
pub trait StationWatcher: Sync {
    /// Something has happened.
    fn news(&self, news: &StationNews<'_>);

    /// Tags of drives that somebody has said are to be taken, since this was asked last.
    fn taken(&self) -> Vec<String>;
}
