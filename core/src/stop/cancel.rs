//! A way to stop a running job from outside.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// How often a pause looks whether to stop.
const LOOK: Duration = Duration::from_millis(50);

/// A switch that is thrown once; all clones share it.
#[derive(Clone, Debug, Default)]
pub struct Cancel {
    own: Arc<AtomicBool>,
    /// Those that throw this one as well.
    above: Vec<Arc<AtomicBool>>,
}

impl Cancel {
    /// A switch that nobody has thrown.
    pub fn new() -> Self {
        Self::default()
    }

    /// The switch as a flag, for a signal handler to set.
    pub fn flag(&self) -> Arc<AtomicBool> {
        Arc::clone(&self.own)
    }

    /// A switch for a part of the work: this one throws it as well, and it throws nothing but itself.
    pub fn child(&self) -> Self {
        let above = self.above.iter().chain([&self.own]).map(Arc::clone).collect();
        Self { own: Arc::default(), above }
    }

    /// Asks everything that holds a clone to stop.
    pub fn set(&self) {
        self.own.store(true, Ordering::Relaxed);
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
}
