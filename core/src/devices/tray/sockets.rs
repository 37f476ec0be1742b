//! What is plugged into a tray, and what was pulled out: shared by the tray and the drives of it that are open.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use super::descriptor::DriveSpec;

/// The sockets of a tray.
#[derive(Clone, Default)]
pub(super) struct Sockets(Arc<Mutex<PluggedIn>>);

#[derive(Default)]
struct PluggedIn {
    /// Drives that were pulled out or ejected.
    away: BTreeSet<String>,
    /// How often a drive is open.
    open: BTreeMap<String, usize>,
    /// Since when nothing is done with a drive.
    idle: BTreeMap<String, Instant>,
}

impl Sockets {
    fn lock(&self) -> MutexGuard<'_, PluggedIn> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// It was pulled out.
    pub(super) fn pull_out(&self, name: &str) {
        self.lock().away.insert(name.to_owned());
    }

    pub(super) fn is_away(&self, name: &str) -> bool {
        self.lock().away.contains(name)
    }

    /// It is opened once more.
    pub(super) fn open(&self, name: &str) {
        let mut plugged = self.lock();
        let count = plugged.open.entry(name.to_owned()).or_default();
        *count = count.saturating_add(1);
    }

    /// It is open once less.
    pub(super) fn close(&self, name: &str) {
        let mut plugged = self.lock();
        let left = plugged.open.get(name).map_or(0, |count| count.saturating_sub(1));
        plugged.open.insert(name.to_owned(), left);
        plugged.idle.insert(name.to_owned(), Instant::now());
    }

    /// Which of these are plugged in, so long after the tray was opened.
    pub(super) fn plugged<'a>(&self, drives: &'a [DriveSpec], since: Duration) -> Vec<&'a DriveSpec> {
        let mut plugged = self.lock();
        let mut found: Vec<&DriveSpec> = Vec::new();
        for (number, spec) in drives.iter().enumerate() {
            if since < Duration::from_millis(spec.appears_after_ms) || plugged.away.contains(&spec.name) {
                continue;
            }
            let before = drives.iter().take(number);
            let is_free = |other: &DriveSpec| other.port != spec.port || plugged.away.contains(&other.name);
            if spec.queues && spec.port.is_some() && !before.into_iter().all(is_free) {
                continue;
            }
            let idle = *plugged.idle.entry(spec.name.clone()).or_insert_with(Instant::now);
            let leaves = spec.leaves_after_ms.map(Duration::from_millis);
            if leaves.is_some_and(|after| idle.elapsed() >= after)
                && plugged.open.get(&spec.name).is_none_or(|count| *count == 0)
            {
                plugged.away.insert(spec.name.clone());
            } else {
                found.push(spec);
            }
        }
        found
    }
}
