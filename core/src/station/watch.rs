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
        /// What stands for it: its tag, or its place where its tag fits others.
        word: &'a str,
        /// Whether it was attached before the station began, and has come again.
        was_there: bool,
    },
    /// What somebody typed stands for no drive that is asked about.
    Unknown {
        /// What was typed.
        typed: &'a str,
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
    /// Those under way are stopped, each as soon as its drive answers.
    Stopping,
}

/// Hears what a station tells, from several threads.
pub trait StationWatcher: Sync {
    /// Something has happened.
    fn news(&self, news: &StationNews<'_>);

    /// What somebody has typed since this was asked last: words for drives that are to be taken.
    fn typed(&self) -> Vec<String>;
}
