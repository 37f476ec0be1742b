//! From a plan to proofs that may be spent: the guard, the one question, and the guard once more.

use pyrotyp_core::devices::Platform;
use pyrotyp_core::guard::Cleared;
use pyrotyp_core::plan::Plan;

use super::confirming::{Confirming, Question, confirm};
use super::planning;
use crate::exit::Failure;
use crate::session::Session;
use crate::show::card::OnDrives;

/// What is asked about a job whose image needs no time to be compared.
pub(crate) struct Asking<'a> {
    pub(crate) platform: &'a dyn Platform,
    pub(crate) session: &'a Session<'a>,
    /// What will be on the drives.
    pub(crate) content: OnDrives<'a>,
}

impl Asking<'_> {
    /// The guard's word about all drives, once they are confirmed.
    pub(crate) fn ask(&self, plan: &mut Plan, confirming: Confirming) -> Result<Vec<Cleared>, Failure> {
        let Self { platform, session, content } = *self;
        planning::clear(plan)?;
        planning::may_claim(plan, platform)?;
        let resuming = planning::resuming(plan, plan.image.bytes, None, session.common)?;
        confirm(Question { plan, content, resuming: &resuming }, confirming, session.cancel, &mut || Ok(()))?;
        planning::look_again(plan, platform, session.common)?;
        planning::clear(plan)
    }
}
