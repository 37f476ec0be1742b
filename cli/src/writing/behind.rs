//! What is to lie behind an image: partitions that are asked for, or those that are there and stay.

use std::io;

use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::catalogue::{Catalogue, LiveSettings};
use pyrotyp_core::compose::{FileBytes, SparePlace, SpareWish, Tree, VolumeKind};
use pyrotyp_core::contents;
use pyrotyp_core::devices::{DriveIo, Platform, Sectors};
use pyrotyp_core::drive::{Choice, Drive, Surface};
use pyrotyp_core::image::Naming;
use pyrotyp_core::job::ClaimCheck;
use pyrotyp_core::record::{AlteredBytes, DriveIdentity, ImageRecord, JobKind, JobResult, SparePartition};
use pyrotyp_core::text::Shown;
use pyrotyp_core::text::foreign::quoted;

use crate::asked::{AskedSpare, Common, Write};
use crate::exit::{Exit, Failure, plain};
use crate::session::Session;
use crate::session::recognised::{LastChange, Records};
use crate::session::release;

/// The label that stands for what the catalogue says.
const SETTINGS: &str = "settings";

/// Partitions that are to lie behind an image.
pub(crate) enum Wanted {
    /// New ones, and what each is for.
    New { wishes: Vec<SpareWish<'static>>, uses: Vec<String> },
    /// Those that are there already.
    Kept(KeptPartitions),
}

/// What is to lie behind the image; nothing where neither options nor drives ask for it.
pub(crate) fn wanted(
    asked: &Write,
    naming: &Naming,
    choices: &[Choice],
    platform: &dyn Platform,
    session: &Session<'_>,
) -> Result<Option<Wanted>, Failure> {
    let kept = if asked.job.only_changed { kept_on_all(choices, platform, session.common)? } else { None };
    let asked: Result<Vec<_>, _> = asked.spare.iter().map(|one| wish(one, naming, session.common)).collect();
    let (wishes, uses): (Vec<SpareWish<'static>>, Vec<String>) =
        asked?.into_iter().map(|UsedWish { wish, used }| (wish, used)).unzip();
    let is_same = |wish: &SpareWish<'_>, kept: &SparePlace| wish.label.eq_ignore_ascii_case(&kept.label);
    let are_same = |kept: &KeptPartitions| {
        wishes.len() == kept.places.len() && wishes.iter().zip(&kept.places).all(|(wish, kept)| is_same(wish, kept))
    };
    match kept {
        Some(kept) if wishes.is_empty() || are_same(&kept) => Ok(Some(Wanted::Kept(kept))),
        Some(kept) => {
            let label = quoted(kept.places.first().map_or("", |first| &first.label));
            let text = format!("--only-changed keeps the partition {label}, which is there behind the image");
            let next = "leave --spare away to keep it, or --only-changed to make everything anew";
            Err(Failure::new(Exit::Usage, text, next))
        }
        None if wishes.is_empty() => Ok(None),
        None => Ok(Some(Wanted::New { wishes, uses })),
    }
}

/// A partition that was asked for.
struct UsedWish {
    wish: SpareWish<'static>,
    /// What it is for, in words.
    used: String,
}

/// The partition that was asked for, and what it is for.
fn wish(asked: &AskedSpare, naming: &Naming, common: &Common) -> Result<UsedWish, Failure> {
    let usage = |text: String, next: &str| Failure::new(Exit::Usage, text, next);
    let catalogue = release::kept(common).and_then(|path| release::read(&path).ok());
    let catalogue = catalogue.and_then(|bytes| Catalogue::read(&bytes).ok());
    let known = catalogue.as_ref().and_then(|catalogue| catalogue.settings_of(naming));
    let is_settings = |known: &LiveSettings| asked.label == SETTINGS || asked.label == known.label;
    let settings = known.filter(|known| is_settings(known));
    if asked.label == SETTINGS && settings.is_none() {
        let whose = naming.system.as_deref().map_or("this system".to_owned(), |system| system.shown());
        let text = format!("the catalogue does not say in what {whose} keeps its settings");
        return Err(usage(
            text,
            "give label and file system as its documentation asks for them: --spare LABEL:SIZE:FS",
        ));
    }
    let word = settings.map(|settings| settings.filesystem.as_str());
    let of_catalogue = word.map(|word| {
        let found = VolumeKind::ALL.into_iter().find(|kind| kind.word() == word);
        found
            .ok_or_else(|| usage(format!("the catalogue asks for {}, which can't be made", quoted(word)), "correct it"))
    });
    let kind = asked.kind.map(Ok).or(of_catalogue).transpose()?.unwrap_or(VolumeKind::Fat32);
    let label = settings.map_or(asked.label.as_str(), |settings| &settings.label);
    let label = kind.label(label).map_err(|fault| usage(fault.to_string(), "choose another label for --spare"))?;
    let mut tree = Tree::default();
    let mut words = "empty".to_owned();
    if let Some(settings) = settings {
        words = format!("for the settings of {}", naming.system.as_deref().unwrap_or_default().shown());
        if let Some(name) = &settings.file {
            let bytes = settings.text.clone().unwrap_or_default().into_bytes();
            tree.add_file(name, None, FileBytes::Made(bytes)).map_err(|fault| {
                usage(format!("the file that the catalogue asks for can't be made: {fault}"), "correct it")
            })?;
            words.push_str(&format!(", marked by the file {}", name.shown()));
        }
    }
    Ok(UsedWish { wish: SpareWish { label, kind, bytes: asked.bytes, tree }, used: words })
}

/// Partitions after the image that a job keeps, and the last job of each drive, to check them against.
pub(crate) struct KeptPartitions {
    pub(crate) places: Vec<SparePlace>,
    last_written: Vec<(DriveIdentity, LastWritten)>,
}

impl ClaimCheck for KeptPartitions {
    fn check(&self, identity: &DriveIdentity, drive: &dyn DriveIo) -> Result<(), String> {
        let made = self.last_written.iter().find(|(drive, _)| drive == identity);
        let found = made.map(|(_, made)| made.places_on(&Sectors::of(drive)));
        match found {
            Some(Ok(places)) if places == self.places => Ok(()),
            Some(Err(KeptFault::Unreadable(error))) => Err(plain(&error)),
            Some(Err(KeptFault::Changed { label })) => {
                Err(format!("the partition {} changed since you were asked", quoted(&label)))
            }
            Some(Ok(_)) | None => Err("the partitions behind the image changed since you were asked".to_owned()),
        }
    }
}

/// Returns the partitions after the image, which must be the same on all drives; `None` if no drive has any.
fn kept_on_all(
    choices: &[Choice],
    platform: &dyn Platform,
    common: &Common,
) -> Result<Option<KeptPartitions>, Failure> {
    let mut kept: Option<KeptPartitions> = None;
    for (number, Choice { drive, .. }) in choices.iter().enumerate() {
        let made = last_written(drive, common)?;
        let places = match &made {
            Some(made) => kept_on(drive, made, platform)?,
            None => Vec::new(),
        };
        let before = kept.as_ref().map_or(&[][..], |kept| &kept.places);
        if number > 0 && before != places {
            let text = "these drives have different partitions behind their images";
            return Err(Failure::new(Exit::Usage, text, "run it once for each drive"));
        }
        if let Some(made) = made.filter(|_| !places.is_empty()) {
            let kept = kept.get_or_insert(KeptPartitions { places, last_written: Vec::new() });
            kept.last_written.push((DriveIdentity::of(drive), made));
        }
    }
    Ok(kept)
}

/// Returns the partitions that the last job of this drive created after its image.
fn kept_on(drive: &Drive, made: &LastWritten, platform: &dyn Platform) -> Result<Vec<SparePlace>, Failure> {
    let open = platform.open(drive)?;
    made.places_on(&Sectors::of(&*open)).map_err(|fault| match fault {
        KeptFault::Unreadable(error) => {
            let text = format!("drive {} can't be read: {}", drive.tag, plain(&error));
            Failure::new(Exit::Drive, text, "plug it into another port; if it stays so, it fails")
        }
        KeptFault::Changed { label } => {
            let text = format!("partition {} on drive {} changed since the last job", quoted(&label), drive.tag);
            let next = "omit --only-changed to write everything again and erase the drive";
            Failure::new(Exit::Refused, text, next)
        }
    })
}

/// Reason why partitions can't be kept.
enum KeptFault {
    Unreadable(io::Error),
    /// The partition with this label was deleted, moved, resized or reformatted.
    Changed {
        label: String,
    },
}

impl From<io::Error> for KeptFault {
    fn from(error: io::Error) -> Self {
        Self::Unreadable(error)
    }
}

impl LastWritten {
    /// Reads the recorded partitions from the drive, and fails if they changed.
    fn places_on(&self, drive: &dyn ReadAt) -> Result<Vec<SparePlace>, KeptFault> {
        // An interrupted job left no partition table to compare with.
        if self.is_whole
            && let Some(label) = changed_elsewhere(drive, &self.image, &self.spare)?
        {
            return Err(KeptFault::Changed { label });
        }
        let mut places = Vec::new();
        for SparePartition { number, offset, bytes, filesystem, label, .. } in &self.spare {
            let found = contents::volume(drive, *offset, *bytes)?;
            let word = found.as_ref().and_then(|found| found.filesystem.as_deref()).unwrap_or_default();
            // A small FAT32 is one of the older FATs.
            let kind = VolumeKind::ALL.into_iter().find(|kind| kind.word() == filesystem);
            let kind = kind.filter(|kind| kind.word() == word || *kind == VolumeKind::Fat32 && word.starts_with("fat"));
            let Some(kind) = kind else { return Err(KeptFault::Changed { label: label.clone() }) };
            let label = found.and_then(|found| found.label).unwrap_or_else(|| label.clone());
            places.push(SparePlace { number: *number, range: *offset..offset.saturating_add(*bytes), kind, label });
        }
        Ok(places)
    }
}

/// Compares the drive's own partition table with the one that the last job wrote. Returns the label of the first partition that was
/// deleted, moved or resized since then, or that was added behind the image.
fn changed_elsewhere(drive: &dyn ReadAt, image: &ImageRecord, spare: &[SparePartition]) -> io::Result<Option<String>> {
    let (placed, _) = contents::read_placed(drive)?;
    let is_made = |one: &SparePartition| {
        placed.iter().any(|(partition, start)| *start == one.offset && partition.volume.bytes == one.bytes)
    };
    if let Some(gone) = spare.iter().find(|one| !is_made(one)) {
        return Ok(Some(gone.label.clone()));
    }
    for (offset, bytes) in AlteredBytes::at_places(&image.altered) {
        let mut found = vec![0u8; bytes.len()];
        if drive.fill_at(offset, &mut found)? != found.len() || found != bytes {
            return Ok(spare.first().map(|one| one.label.clone()));
        }
    }
    let is_recorded = |start: u64| spare.iter().any(|one| one.offset == start);
    let image_end = image.bytes.unwrap_or(u64::MAX);
    let added = placed.iter().find(|(partition, start)| {
        // An image may declare room behind itself in which nothing is yet.
        *start >= image_end && !is_recorded(*start) && partition.volume.surface != Surface::Empty
    });
    Ok(added.map(|(partition, _)| partition.volume.label.clone().unwrap_or_else(|| partition.number.to_string())))
}

/// The image of the last job that changed a drive, and the partitions that it put behind the image.
struct LastWritten {
    image: ImageRecord,
    spare: Vec<SparePartition>,
    /// Whether that job came to its end.
    is_whole: bool,
}

fn last_written(drive: &Drive, common: &Common) -> Result<Option<LastWritten>, Failure> {
    let Some(records) = Records::of(common)? else { return Ok(None) };
    let Some(LastChange { job, result }) = records.last_change(drive)? else { return Ok(None) };
    if job.kind != JobKind::Write {
        return Ok(None);
    }
    let is_whole = matches!(result, JobResult::Verified | JobResult::Written);
    Ok(records
        .record(&job.job)?
        .map(|record| {
            let mut spare = record.image.spare.clone();
            // A job that broke off may have left a volume half made.
            spare.retain(|one| one.was_there || is_whole);
            LastWritten { image: record.image, spare, is_whole }
        })
        .filter(|made| is_whole || !made.spare.is_empty()))
}
