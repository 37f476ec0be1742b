//! What happens on the way, and who hears it.

use crate::fetch::fault::MirrorFault;

/// What happens on the way.
#[derive(Debug)]
#[non_exhaustive]
pub enum News<'a> {
    /// A mirror is asked.
    Asking {
        /// Its address.
        address: &'a str,
    },
    /// It sends, from this byte on.
    Sending {
        /// Its address.
        address: &'a str,
        /// First byte.
        from: u64,
    },
    /// It will be asked again.
    Again {
        /// Its address.
        address: &'a str,
        /// What went wrong.
        fault: &'a MirrorFault,
        /// In so many seconds.
        seconds: f64,
    },
    /// It is asked no more.
    Dropped {
        /// Its address.
        address: &'a str,
        /// Why.
        fault: &'a MirrorFault,
    },
    /// Everything begins again.
    StartedOver {
        /// Why.
        why: &'a str,
    },
}

/// Who hears how it goes on.
pub trait Listener {
    /// So many bytes are there, of so many, if that is known.
    fn moved(&mut self, done: u64, total: Option<u64>);
    /// Something worth a word.
    fn told(&mut self, news: &News<'_>);
}
