//! Whether this PC's clock can be right: PCs whose battery is empty wake up long ago.

use jiff::Timestamp;

/// When this program was built: before that, no clock is right.
fn built() -> Timestamp {
    let seconds = env!("BUILT_AT").parse().ok();
    seconds.and_then(|seconds| Timestamp::from_second(seconds).ok()).unwrap_or_default()
}

/// The time as far as it can be told: no earlier than this program was built.
pub fn at_least_built(now: Timestamp) -> Timestamp {
    now.max(built())
}

/// What to ask whoever sits at this PC, with the day that its clock shows.
pub fn question(now: Timestamp) -> String {
    format!("is this PC's clock right? It says {}", now.strftime("%Y-%m-%d %H:%M UTC"))
}
