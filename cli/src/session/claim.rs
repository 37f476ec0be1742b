//! Claims a drive for what leaves it as it is: nobody needs to say yes, and whatever stops a job stops this as well.

use jiff::Timestamp;
use pyrotyp_core::devices::{After, Claimed, Platform, Whom};
use pyrotyp_core::drive::{Choice, Drive, NamedBy};
use pyrotyp_core::guard::{Confirmed, RULES};
use pyrotyp_core::image::Summary;
use pyrotyp_core::job::{ReadBack, Start, Writing};
use pyrotyp_core::machine;
use pyrotyp_core::plan::{How, Plan, PlannedImage, ProvenImage, Wish};
use pyrotyp_core::record::JobKind;
use pyrotyp_core::{FindingId, Level};

use super::settings::bench;
use crate::asked::Common;
use crate::exit::{Exit, Failure};

/// What the desktop mounted is unmounted, and nobody else may open the drive for writing until it is given back.
pub(crate) fn claim_without_confirmation(
    kind: JobKind,
    called: &str,
    drive: &Drive,
    platform: &dyn Platform,
    common: &Common,
) -> Result<Box<dyn Claimed>, Failure> {
    let image = PlannedImage {
        called: called.to_owned(),
        file: None,
        bytes: None,
        is_packed: false,
        says: Summary::default(),
        proven: ProvenImage::default(),
        needs_bytes: drive.bytes,
        hole_bytes: 0,
        laid_out_for: None,
        findings: Vec::new(),
        behind: None,
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
    let wish = Wish { kind, image, checks: Vec::new(), choices, how, accepted };
    let bench = bench(common)?;
    let mut plan = Plan::make(wish, platform, &bench, Timestamp::now())?;
    plan.may_claim(platform)?;
    if plan.whom() != Whom::Nobody {
        // Nobody expects to be asked for a password by what was not asked for.
        let text = format!("the system wants a password before drive {} is opened", drive.tag);
        let next = format!("{} pyrotyp drives", machine::ROOT_PROGRAM);
        return Err(Failure::new(Exit::Refused, text, next));
    }
    let mut cleared = plan.clear().map_err(|no| {
        let standing = no.standing.iter().map(|finding| format!("\n   {}: {}", finding.id, finding.text));
        let text = format!("drive {} can't be had for this alone{}", drive.tag, standing.collect::<String>());
        let next = no.standing.first().map_or(String::new(), |finding| finding.next.clone());
        Failure { findings: no.standing, ..Failure::new(Exit::Refused, text, next) }
    })?;
    let cleared = cleared
        .pop()
        .ok_or_else(|| Failure::new(Exit::Unexpected, "no drive was cleared", "run the same command again"))?;
    Ok(platform.claim(cleared)?)
}
