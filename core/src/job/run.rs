//! One image onto one drive or several at once.

use crate::devices::Platform;
use crate::job::block_queue::{BlockQueue, ImageEnding};
use crate::job::drive_worker::{DriveWorker, Shared};
use crate::job::fault::ImageFault;
use crate::job::order::{JobMemory, Order, Target};
use crate::job::outcome::Outcome;
use crate::job::rendezvous::Rendezvous;
use crate::job::speed_meter::SpeedMeter;
use crate::job::watch::{Event, Shielded, Watcher};
use crate::job::watchdog::Heartbeat;
use crate::job::workers::contained;
use crate::job::{drive_worker, watchdog};
use crate::stop::Cancel;

/// Runs one job on all of its drives at once, and tells how it went on each, in their order.
///
/// The image is read once. Each drive goes at its own pace; one that fails or is far slower does not hinder the others.
pub fn run(
    order: &Order<'_>,
    platform: &dyn Platform,
    targets: Vec<Target>,
    cancel: &Cancel,
    watcher: &dyn Watcher,
) -> Vec<Outcome> {
    let watcher = &Shielded::new(watcher);
    let targets = noted_apart(targets, watcher);
    let drives = targets.len();
    let meter = SpeedMeter::new(watcher, drives);
    let watcher: &dyn Watcher = &meter;
    let shared = Shared {
        order,
        cancel,
        watcher,
        rendezvous: Rendezvous::new(drives),
        block_queue: match order.pacing.memory {
            JobMemory::Whole => BlockQueue::new(drives, drive_worker::laggard(order.source)),
            JobMemory::Shared => BlockQueue::beside_others(drives, drive_worker::laggard(order.source)),
        },
        verdict: ImageEnding::default(),
    };
    let heartbeats: Vec<Heartbeat> = targets.iter().map(|_| Heartbeat::new()).collect();
    let mut outcomes: Vec<Outcome> = watchdog::watched(&heartbeats, order.pacing.stall_after, watcher, || {
        std::thread::scope(|scope| {
            let shared = &shared;
            let workers = targets.into_iter().zip(&heartbeats).enumerate().map(|(number, (target, heartbeat))| {
                let work = move || DriveWorker::new(shared, heartbeat, number).run(platform, target);
                let started = std::thread::Builder::new().name(format!("drive {number}")).spawn_scoped(scope, work);
                if started.is_err() {
                    // The other drives wait until each has arrived.
                    shared.rendezvous.arrive(None);
                    shared.block_queue.close(number);
                }
                started.ok()
            });
            let workers: Vec<_> = workers.collect();
            // This thread is the image's reader.
            if let Some(arrival) = shared.rendezvous.wait() {
                let reading = shared.reading(arrival.from, arrival.withheld_from);
                let verdict = contained(|| reading.run(&shared.block_queue, arrival.from_drive, cancel));
                shared.verdict.tell(verdict.unwrap_or(Err(ImageFault::Reader)));
                shared.block_queue.end();
            }
            let died = || Outcome::of_fault(ImageFault::Reader);
            let outcomes = workers.into_iter().map(|worker| worker.and_then(|worker| worker.join().ok()));
            outcomes.map(|ended| ended.unwrap_or_else(died)).collect()
        })
    });
    for (number, outcome) in outcomes.iter_mut().enumerate() {
        outcome.told.speeds = meter.of(number);
    }
    outcomes
}

/// The same targets, without notes where two drives would share them: they would be about both.
fn noted_apart(mut targets: Vec<Target>, watcher: &dyn Watcher) -> Vec<Target> {
    let places: Vec<_> = targets.iter().map(|target| target.journal.clone()).collect();
    for (drive, target) in targets.iter_mut().enumerate() {
        let is_shared = places.iter().filter(|place| **place == target.journal).count() > 1;
        if is_shared && target.journal.take().is_some() {
            let why = "another drive of this job has the same tag".to_owned();
            watcher.heard(drive, &Event::Unnoted { why });
        }
    }
    targets
}
