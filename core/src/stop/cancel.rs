//! A way to stop a running job from outside.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// How often a pause looks whether to stop.
const LOOK: Duration = Duration::from_millis(50);

/// What is wanted beside a stop at once; shared by all parts of the work.
#[derive(Debug, Default)]
struct Wishes {
    /// Somebody asks before anything is stopped.
    asks: AtomicBool,
    /// Somebody wants to stop, and was not asked yet how.
    is_open: AtomicBool,
    after_stage: AtomicBool,
}

/// A switch that is thrown once; all clones share it.
#[derive(Clone, Debug, Default)]
pub struct Cancel {
    own: Arc<AtomicBool>,
    /// Those that throw this one as well.
    above: Vec<Arc<AtomicBool>>,
    wishes: Arc<Wishes>,
}

impl Cancel {
    /// A switch that nobody has thrown.
    pub fn new() -> Self {
        Self::default()
    }

    /// A switch for a part of the work: this one throws it as well, and it throws nothing but itself.
    pub fn child(&self) -> Self {
        let above = self.above.iter().chain([&self.own]).map(Arc::clone).collect();
        Self { own: Arc::default(), above, wishes: Arc::clone(&self.wishes) }
    }

    /// Asks everything that holds a clone to stop.
    pub fn set(&self) {
        self.own.store(true, Ordering::Relaxed);
    }

    /// Somebody pressed Ctrl-C: stops, or has somebody asked how, if there is one who asks. Twice stops in any case.
    pub fn interrupt(&self) {
        let asks = self.wishes.asks.load(Ordering::Relaxed);
        if !asks || self.wishes.is_open.swap(true, Ordering::Relaxed) {
            self.set();
        }
    }

    /// From now on, whoever calls this asks how to stop: [`Cancel::is_open`] says when. Ends with [`Cancel::ask_no_more`].
    pub fn ask(&self) {
        self.wishes.asks.store(true, Ordering::Relaxed);
    }

    /// Nobody asks any more; who was not asked wants to stop.
    pub fn ask_no_more(&self) {
        self.wishes.asks.store(false, Ordering::Relaxed);
        if self.wishes.is_open.swap(false, Ordering::Relaxed) {
            self.set();
        }
    }

    /// Whether somebody is to be asked how to stop.
    pub fn is_open(&self) -> bool {
        self.wishes.is_open.load(Ordering::Relaxed) && !self.is_set()
    }

    /// The one who was asked does not want to stop after all.
    pub fn go_on(&self) {
        self.wishes.is_open.store(false, Ordering::Relaxed);
    }

    /// The one who was asked wants every drive to end the stage that it is in, and no further one.
    pub fn set_after_stage(&self) {
        self.wishes.after_stage.store(true, Ordering::Relaxed);
        self.go_on();
    }

    /// Whether no further stage is to begin.
    pub fn is_set_between_stages(&self) -> bool {
        self.is_set() || self.wishes.after_stage.load(Ordering::Relaxed)
    }

    /// Waits so long, or until somebody asks to stop.
    pub fn pause(&self, how_long: Duration) {
        let begun = Instant::now();
        while !self.is_set() {
            let left = how_long.saturating_sub(begun.elapsed());
            if left.is_zero() {
                break;
            }
            std::thread::sleep(left.min(LOOK));
        }
    }

    /// Whether somebody asked to stop.
    pub fn is_set(&self) -> bool {
        self.own.load(Ordering::Relaxed) || self.above.iter().any(|above| above.load(Ordering::Relaxed))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_part_of_the_work_stops_with_all_of_it_and_by_itself() {
        let all = Cancel::new();
        let (one, other) = (all.child(), all.child());
        let of_one = one.child();
        one.set();
        assert!(one.is_set() && of_one.is_set() && !other.is_set() && !all.is_set());
        all.set();
        assert!(other.is_set());
    }

    #[test]
    fn ctrl_c_stops_unless_somebody_asks_and_twice_in_any_case() {
        let plain = Cancel::new();
        plain.interrupt();
        assert!(plain.is_set());
        let asked = Cancel::new();
        asked.ask();
        asked.interrupt();
        assert!(asked.is_open() && !asked.is_set());
        asked.go_on();
        asked.interrupt();
        assert!(asked.is_open() && !asked.child().is_set_between_stages());
        asked.set_after_stage();
        assert!(!asked.is_open() && !asked.is_set() && asked.child().is_set_between_stages());
        asked.interrupt();
        asked.interrupt();
        assert!(asked.is_set() && !asked.is_open());
        // Who is left without an answer wants to stop; who had one does not.
        for (is_left, answers) in [(true, 0), (false, 1)] {
            let left = Cancel::new();
            left.ask();
            left.interrupt();
            (0..answers).for_each(|_| left.go_on());
            left.ask_no_more();
            assert_eq!(left.is_set(), is_left);
        }
    }
}
