//! `pyrotyp drives`: what is attached?

use pyrotyp_core::drive::{Drive, Role};
use pyrotyp_core::guard::{Circumstances, findings};
use pyrotyp_core::{Finding, Level};

use super::platform;
use crate::asked::Common;
use crate::exit::{Exit, Failure};
use crate::put;
use crate::show::{json, table};

/// Lists the drives; those that can't be chosen only if `all` are asked for.
pub fn run(all: bool, common: &Common) -> Result<Exit, Failure> {
    let circumstances = Circumstances::default();
    let listed = platform(common)?.drives()?.into_iter();
    let judged: Vec<(Drive, Vec<Finding>)> = listed
        .map(|drive| {
            let found = findings(&drive, &circumstances);
            (drive, found)
        })
        .collect();
    let can_be_chosen = |(drive, found): &&(Drive, Vec<Finding>)| {
        drive.role() != Role::Virtual && found.iter().all(|finding| finding.level != Level::Stop)
    };
    let total = judged.len();
    let shown: Vec<_> = judged.iter().filter(|row| all || can_be_chosen(row)).cloned().collect();
    put(&if common.json { json::drives(&shown) } else { table::drives(&shown, total - shown.len(), common) })?;
    Ok(Exit::Done)
}
