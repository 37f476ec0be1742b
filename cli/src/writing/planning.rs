//! From what was typed to a plan, and what the guard says of it, in words.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use pyrotyp_core::bytes::{ReadAt, human_bytes};
use pyrotyp_core::devices::{After, NotServed, Platform, PlatformError};
use pyrotyp_core::drive::Choice;
use pyrotyp_core::examine::Check;
use pyrotyp_core::guard::{Cleared, Confirmed, Refused};
use pyrotyp_core::image::{self, Inspection};
use pyrotyp_core::job::{ClaimCheck, ReadBack, Start, Writing};
use pyrotyp_core::plan::{BehindImage, How, Plan, PlannedImage, ProvenImage, Resume, Wish};
use pyrotyp_core::published::Report;
use pyrotyp_core::record::JobKind;
use pyrotyp_core::text::{Shown, shell};
use pyrotyp_core::{Level, machine};

use crate::asked::{Common, Job};
use crate::exit::{Exit, Failure, plain};
use crate::out::say;
use crate::session::Session;
use crate::session::attached::{ARRIVING, choose_drive, needs_medium};
use crate::session::folders::state_folder;
use crate::session::preferences::Preferences;
use crate::session::settings::bench;
use crate::show::card::{self, OnDrives};

impl Job {
    pub(crate) fn read_back(&self) -> ReadBack {
        if self.skip_readback { ReadBack::Skip } else { ReadBack::Whole }
    }

    fn how(&self, common: &Common) -> Result<How, Failure> {
        let is_ejected = self.eject.map_or_else(|| Ok(Preferences::of(common)?.eject.value), Ok::<_, Failure>)?;
        Ok(How {
            read_back: self.read_back(),
            writing: if self.only_changed { Writing::OnlyChanged } else { Writing::Everything },
            after: if is_ejected { After::Eject } else { After::Keep },
            start: if self.resume { Start::GoOn } else { Start::Over },
            limit: self.limit,
            confirmed: if self.unattended { Confirmed::ByNobody } else { Confirmed::ByPerson },
        })
    }
}

/// The image of a job, as people know it.
#[derive(Clone, Copy)]
pub(crate) struct Image<'a> {
    /// How it is called: a path, or an address.
    pub path: &'a Path,
    /// Whether there is a file at that path.
    pub is_file: bool,
    pub inspection: &'a Inspection,
    /// Length of the file or of what comes, where that is known.
    pub bytes: Option<u64>,
    /// How much of it stays as it is on the drives, in bytes.
    pub hole_bytes: u64,
    /// What its check has found.
    pub report: Option<&'a Report>,
    /// What it will be compared with on the way, in words.
    pub expects: Option<&'a str>,
    /// What is compared before anything is changed.
    pub checks: &'a [Check],
    /// What lies behind it on the drives, where that is part of the job.
    pub behind: Option<Behind<'a>>,
}

/// Partitions behind an image.
#[derive(Clone, Copy)]
pub(crate) struct Behind<'a> {
    pub planned: &'a BehindImage,
    /// A line each.
    pub words: &'a [String],
    /// Set if the job keeps existing partitions: checks on the claimed drive that they are unchanged.
    pub kept: Option<&'a dyn ClaimCheck>,
}

impl Image<'_> {
    /// What is proven of it so far, in words.
    pub(crate) fn checksum(&self) -> String {
        self.expects.map_or_else(|| card::checksum_words(self.report), str::to_owned)
    }

    /// What the card says of it.
    pub(crate) fn on_card<'a>(&'a self, checksum: &'a str) -> OnDrives<'a> {
        let behind = self.behind.map_or(&[][..], |behind| behind.words);
        let is_behind_kept = self.behind.is_some_and(|behind| behind.kept.is_some());
        OnDrives::Image { path: self.path, inspection: self.inspection, checksum, behind, is_behind_kept }
    }

    pub(crate) fn is_packed(&self) -> bool {
        self.inspection.container.is_some()
    }

    /// The same, for a plan.
    pub(crate) fn planned(&self) -> PlannedImage {
        PlannedImage {
            called: self.path.to_string_lossy().into_owned(),
            file: self.is_file.then(|| PathBuf::from(self.path)),
            bytes: self.bytes,
            is_packed: self.is_packed(),
            says: self.inspection.summary(),
            proven: ProvenImage::default(),
            needs_bytes: match self.behind {
                Some(_) => self.bytes.unwrap_or_default(),
                None => self.inspection.span.needs_bytes,
            },
            hole_bytes: self.hole_bytes,
            laid_out_for: self.inspection.tables.sector_bytes,
            findings: self.inspection.findings.clone(),
            behind: self.behind.map(|behind| behind.planned.clone()),
        }
    }
}

/// What is known of something that was made for drives with sectors of this size. It is to start nothing: what would speak against an
/// image does not speak against it.
pub(crate) fn made(bytes: &dyn ReadAt, sector_bytes: u32, called: &str) -> Result<Inspection, Failure> {
    let mut inspection = looked_into(bytes, sector_bytes)?;
    inspection.findings.clear();
    inspection.label = Some(called.to_owned());
    // A table may reach further than what is written.
    inspection.span.needs_bytes = bytes.size();
    Ok(inspection)
}

/// What is found in something that was made for drives with sectors of this size.
pub(crate) fn looked_into(bytes: &dyn ReadAt, sector_bytes: u32) -> Result<Inspection, Failure> {
    image::inspect_on(bytes, sector_bytes).map_err(|error| {
        Failure::new(Exit::Unexpected, format!("what was made can't be read: {}", plain(&error)), "report this")
    })
}

/// Refuses a name that proves nothing, where nobody confirms it.
pub(crate) fn confirmable(name: &str, asked: &Job) -> Result<(), Failure> {
    if !asked.unattended || name != ARRIVING {
        return Ok(());
    }
    let text = "nobody confirms the drive that is plugged in next, and that it comes next proves nothing (no-proof)";
    Err(Failure::new(Exit::Refused, text, "name the drive by its tag, or leave --unattended away"))
}

/// Finds the drives that are meant, each once, and makes the plan.
pub(crate) fn plan(
    names: &[String],
    image: &Image<'_>,
    asked: &Job,
    platform: &dyn Platform,
    session: &Session<'_>,
) -> Result<Plan, Failure> {
    let choices = choices(names, asked, platform, session)?;
    plan_for(Chosen { kind: JobKind::Write, choices }, image, asked, platform, session)
}

/// The drives that are meant, each once.
pub(crate) fn choices(
    names: &[String],
    asked: &Job,
    platform: &dyn Platform,
    session: &Session<'_>,
) -> Result<Vec<Choice>, Failure> {
    names.iter().try_for_each(|name| confirmable(name, asked))?;
    let mut choices: Vec<Choice> = Vec::new();
    for name in names {
        let choice = choose_drive(platform, name, session.cancel, &|text| say(session.common, text))?;
        if choices.iter().any(|known| known.drive.path == choice.drive.path) {
            let text = format!("drive {} ({}) is named twice", choice.drive.tag, choice.drive.path);
            return Err(Failure::new(Exit::Usage, text, "name each drive once"));
        }
        choices.push(choice);
    }
    Ok(choices)
}

/// Drives for which the same is put together.
pub(crate) struct AlikeDrives {
    /// Size of the smallest, in bytes.
    pub(crate) bytes: u64,
    /// Their smallest unit, in bytes.
    pub(crate) sector_bytes: u32,
    /// Their tags in one line: who they are.
    pub(crate) tags: String,
}

/// The drives as one, where they can be.
pub(crate) fn alike(choices: &[Choice]) -> Result<AlikeDrives, Failure> {
    choices.iter().try_for_each(|choice| needs_medium(&choice.drive))?;
    let drives = || choices.iter().map(|choice| &choice.drive);
    let sector_bytes = drives().map(|drive| drive.sector_bytes).max().unwrap_or(512);
    if drives().any(|drive| drive.sector_bytes != sector_bytes) {
        let text = "these drives have sectors of different sizes, and no volume suits all of them";
        return Err(Failure::new(Exit::Usage, text, "run it once for each drive"));
    }
    let tags: Vec<&str> = drives().map(|drive| drive.tag.as_str()).collect();
    let bytes = drives().map(|drive| drive.bytes).min().unwrap_or_default();
    Ok(AlikeDrives { bytes, sector_bytes, tags: tags.join(" ") })
}

/// Drives that were chosen, and for what.
pub(crate) struct Chosen {
    pub(crate) kind: JobKind,
    pub(crate) choices: Vec<Choice>,
}

/// The plan for them.
pub(crate) fn plan_for(
    Chosen { kind, choices }: Chosen,
    image: &Image<'_>,
    asked: &Job,
    platform: &dyn Platform,
    session: &Session<'_>,
) -> Result<Plan, Failure> {
    let wish = Wish {
        kind,
        image: image.planned(),
        checks: image.checks.to_vec(),
        choices,
        how: asked.how(session.common)?,
        accepted: asked.accept.clone(),
    };
    Ok(Plan::make(wish, platform, &bench(session.common)?, Timestamp::now())?)
}

/// The guard's word about all drives, and whose fault it is if the word is no.
pub(crate) fn clear(plan: &Plan) -> Result<Vec<Cleared>, Failure> {
    plan.clear().map_err(|refused| stays(plan, refused))
}

fn stays(plan: &Plan, refused: Refused) -> Failure {
    let about_image = &plan.image.findings;
    let image_alone = refused.standing.iter().all(|finding| about_image.contains(finding));
    let drive = plan.attached().find(|drive| drive.path == refused.path);
    let mut text = match (image_alone, refused.standing.first(), drive) {
        (true, Some(finding), _) => format!("{}: {} ({})", plan.image.called.shown(), finding.text, finding.id),
        (_, _, Some(drive)) => format!("drive {} ({}, {}) stays as it is", drive.tag, drive.name(), drive.path),
        (_, _, None) => format!("drive {} stays as it is", refused.tag),
    };
    if !image_alone {
        for finding in &refused.standing {
            text.push_str(&format!("\n   {}: {}", finding.id, finding.text));
        }
    }
    let mut next = refused.standing.first().map(|finding| finding.next.clone()).unwrap_or_default();
    let is_liftable = refused.standing.iter().all(|finding| finding.level == Level::Ask);
    let accept: Vec<String> = refused.standing.iter().map(|finding| format!("--accept {}", finding.id)).collect();
    if image_alone && is_liftable {
        next = format!("{next}, or write it all the same with {}", accept.join(" "));
    } else if is_liftable && accept.len() > 1 {
        next = format!("choose another drive, or name all of these findings: {}", accept.join(" "));
    }
    let exit = if image_alone { Exit::Image } else { Exit::Refused };
    Failure { findings: refused.standing, ..Failure::new(exit, text, next) }
}

/// Whether all drives may be claimed, before anything is asked or computed.
pub(crate) fn may_claim(plan: &mut Plan, platform: &dyn Platform) -> Result<(), Failure> {
    plan.may_claim(platform).map_err(|error| match error {
        PlatformError::NoPermission { .. }
        | PlatformError::NotServed { source: NotServed::NoService | NotServed::TooOld { .. }, .. } => {
            Failure { next: with_sudo(), ..error.into() }
        }
        other => other.into(),
    })
}

/// This very command with the rights that it needs, as it can be typed.
fn with_sudo() -> String {
    let mut words: Vec<String> = std::env::args_os().map(|word| shell::word(&word.to_string_lossy())).collect();
    // Root looks for programs elsewhere than a person does.
    if let (Some(first), Ok(own)) = (words.first_mut(), std::env::current_exe()) {
        *first = shell::path(&own);
    }
    format!("{} {}", machine::ROOT_PROGRAM, words.join(" "))
}

/// A long check and a question lie between: somebody may need a drive by now.
pub(crate) fn look_again(plan: &mut Plan, platform: &dyn Platform, common: &Common) -> Result<(), Failure> {
    Ok(plan.look_again(platform, &bench(common)?, Timestamp::now())?)
}

/// What `--resume` will do on each drive, in words; nothing where it is not asked for.
///
/// Another image under way is refused. A drive that has nothing to go on with is written from the start.
pub(crate) fn resuming(
    plan: &Plan,
    bytes: Option<u64>,
    sha256: Option<&str>,
    common: &Common,
) -> Result<Vec<String>, Failure> {
    if plan.how.start == Start::Over {
        return Ok(Vec::new());
    }
    let resumes = plan.resumes(state_folder(common).as_deref(), bytes, sha256);
    for (drive, resume) in plan.attached().zip(&resumes) {
        if let Resume::Other { what } = resume {
            let text = format!("drive {}: there is nothing to go on with: {what}", drive.tag);
            return Err(Failure::new(Exit::Refused, text, "run the same command without --resume to start over"));
        }
    }
    Ok(resumes.iter().map(resume_words).collect())
}

fn resume_words(resume: &Resume) -> String {
    match resume {
        Resume::Behind { bytes } => {
            format!("goes on behind the first {}, if the drive still holds them", human_bytes(*bytes))
        }
        Resume::Nothing { why } | Resume::Other { what: why } => {
            format!("nothing to go on with ({why}): everything is written anew")
        }
    }
}
