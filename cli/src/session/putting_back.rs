//! What a look at a drive left when it was cut off is put back, by whichever command sees the drive next.

use jiff::Timestamp;
use pyrotyp_core::devices::{After, Platform, PlatformError};
use pyrotyp_core::drive::{Choice, Drive, NamedBy};
use pyrotyp_core::guard::{Confirmed, RULES};
use pyrotyp_core::image::Summary;
use pyrotyp_core::job::gauge::{Kept, kept_path, put_back};
use pyrotyp_core::job::{ReadBack, Start, Writing};
use pyrotyp_core::plan::{How, Plan, PlannedImage, Wish};
use pyrotyp_core::record::JobKind;
use pyrotyp_core::text::chain;
use pyrotyp_core::{FindingId, Level, machine};

use super::folders::state_folder;
use super::settings::bench;
use crate::asked::Common;
use crate::exit::{Failure, plain};
use crate::out::{say, warn};

/// Most names in the folder of what is under way that are looked at.
const NAMES_MOST: usize = 10_000;

/// Puts back what is kept of the attached drives, if anything is.
pub(crate) fn put_back_pending(platform: &dyn Platform, common: &Common) {
    let Some(state) = state_folder(common) else { return };
    let names = machine::names_in(&state.join("under-way"), NAMES_MOST).unwrap_or_default();
    if !names.iter().any(|name| name.to_string_lossy().ends_with(".kept")) {
        return;
    }
    for drive in platform.drives().unwrap_or_default() {
        let path = kept_path(&state, &drive.tag);
        match Kept::find(&path) {
            Ok(Some(kept)) if kept.is_about(&drive.tag, drive.bytes) => one(&drive, kept, platform, common),
            Ok(_) => {}
            Err(error) => warn(&format!(
                "what was kept of drive {} while it was looked at can't be read: {}\n",
                drive.tag,
                plain(&error)
            )),
        }
    }
}

fn one(drive: &Drive, kept: Kept, platform: &dyn Platform, common: &Common) {
    let held = |failure: &Stuck| matches!(failure, Stuck::Claim(PlatformError::Held { .. }));
    match put_back_on(drive, &kept, platform, common) {
        Ok(0) => kept.remove(),
        Ok(bytes) => {
            kept.remove();
            let text = "a look at it was cut off, and what lay there before is on it again";
            say(common, &format!("drive {}: {text} ({bytes} bytes)\n", drive.tag));
        }
        // The look goes on just now.
        Err(failure) if held(&failure) => {}
        Err(failure) => {
            let (text, next) = failure.words();
            warn(&format!("drive {}: a look at it was cut off, and its marks are still there: {text}\n", drive.tag));
            warn(&format!("   next: {next}\n"));
        }
    }
}

/// Why it can't be put back now.
enum Stuck {
    Asked(Failure),
    Claim(PlatformError),
    Job(pyrotyp_core::job::JobFault),
}

impl Stuck {
    fn words(&self) -> (String, String) {
        match self {
            Self::Asked(failure) => (failure.text.clone(), failure.next.clone()),
            Self::Claim(error) => (chain(error), error.next_step().to_owned()),
            Self::Job(fault) => (chain(fault), fault.next_step().to_owned()),
        }
    }
}

/// How many bytes were put back. The marks prove that it is the drive; whatever stops a job stops this as well.
fn put_back_on(drive: &Drive, kept: &Kept, platform: &dyn Platform, common: &Common) -> Result<u64, Stuck> {
    let image = PlannedImage {
        called: "what was there before".to_owned(),
        file: None,
        bytes: None,
        is_packed: false,
        says: Summary::default(),
        origin: None,
        signer: None,
        proof: None,
        needs_bytes: drive.bytes,
        hole_bytes: 0,
        laid_out_for: None,
        findings: Vec::new(),
    };
    let how = How {
        read_back: ReadBack::Whole,
        writing: Writing::Everything,
        after: After::Keep,
        start: Start::Over,
        confirmed: Confirmed::ByPerson,
        limit: None,
    };
    let accepted: Vec<FindingId> = RULES.iter().filter(|rule| rule.level == Level::Ask).map(|rule| rule.id).collect();
    let choices = vec![Choice { drive: drive.clone(), by: NamedBy::Tag, partition: None }];
    let wish = Wish { kind: JobKind::Gauge, image, checks: Vec::new(), choices, how, accepted };
    let bench = bench(common).map_err(Stuck::Asked)?;
    let plan = Plan::make(wish, platform, &bench, Timestamp::now()).map_err(|error| Stuck::Asked(error.into()))?;
    let refused = |text: String| {
        Stuck::Asked(Failure::new(crate::exit::Exit::Refused, text, "unmount it, and run any command that looks at it"))
    };
    let cleared = plan.clear().map_err(|no| refused(no.to_string()))?;
    let Some(cleared) = cleared.into_iter().next() else { return Ok(0) };
    let claimed = platform.claim(cleared).map_err(Stuck::Claim)?;
    let done = put_back(kept, &*claimed, &mut |_| ()).map_err(Stuck::Job);
    // It is given back whatever came of it.
    let _ = claimed.release(After::Keep);
    done.map(|done| done.bytes)
}
