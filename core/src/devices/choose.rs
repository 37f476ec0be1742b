//! From what a technician typed to the one drive that it means.

use crate::devices::platform::Located;
use crate::devices::{Platform, PlatformError};
use crate::drive::{Choice, Drive, NamedBy, Tag};
use crate::text::Shown;

/// Why a name stands for no one drive.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ChooseError {
    /// Nothing attached has that name.
    #[error("no drive `{}` is attached{}{}", asked.shown(), attached_words(.attached), meant_words(meant.as_ref()))]
    NotAttached {
        /// As typed.
        asked: String,
        /// Tags and names of what is attached.
        attached: Vec<(Tag, String)>,
        /// The one whose tag is nearest, if one is near.
        meant: Option<(Tag, String)>,
    },
    /// Several drives without a usable serial number look the same.
    #[error("the tag {tag} fits {} drives that can't be told apart: {}", .paths.len(), .paths.join(", "))]
    Ambiguous {
        /// As typed.
        tag: Tag,
        /// Where they are.
        paths: Vec<String>,
    },
    /// The system does not answer.
    #[error(transparent)]
    Platform(#[from] PlatformError),
}

/// How many letters of a tag may be other ones, or in another order.
const SLIPS_MOST: usize = 1;

fn attached_words(attached: &[(Tag, String)]) -> String {
    let named: Vec<String> = attached.iter().map(|(tag, name)| format!("{tag} ({name})")).collect();
    if named.is_empty() { String::new() } else { format!("; attached are {}", named.join(", ")) }
}

fn meant_words(meant: Option<&(Tag, String)>) -> String {
    meant.map_or(String::new(), |(tag, name)| format!("; did you mean {tag} ({name})?"))
}

/// The drive whose tag `asked` was to be.
fn meant<'a>(asked: &str, drives: &'a [Drive]) -> Option<&'a Drive> {
    let asked = asked.to_ascii_uppercase();
    let slips = |drive: &Drive| strsim::osa_distance(&asked, drive.tag.as_str());
    drives.iter().filter(|drive| slips(drive) <= SLIPS_MOST).min_by_key(|drive| slips(drive))
}

impl ChooseError {
    /// What to do about it.
    pub fn next_step(&self) -> &'static str {
        match self {
            Self::NotAttached { .. } => "plug it in, or choose one that `pyrotyp drives --all` shows",
            Self::Ambiguous { .. } => {
                "name the one that is meant by its place; or take the others out, a reader's other cards as well"
            }
            Self::Platform(error) => error.next_step(),
        }
    }
}

/// Finds the drive that `asked` means: a tag, a stable link or a kernel name.
///
/// # Errors
/// When nothing has that name, when several drives share the tag, or when the system does not answer.
pub fn choose(platform: &dyn Platform, asked: &str) -> Result<Choice, ChooseError> {
    let drives = platform.drives()?;
    if let Ok(tag) = asked.parse::<Tag>() {
        let mut fitting = drives.iter().filter(|drive| drive.tag == tag);
        match (fitting.next(), fitting.next()) {
            (Some(drive), None) => return Ok(Choice { drive: drive.clone(), by: NamedBy::Tag, partition: None }),
            (Some(_), Some(_)) => {
                let same = drives.iter().filter(|drive| drive.tag == tag);
                return Err(ChooseError::Ambiguous { paths: same.map(|drive| drive.path.clone()).collect(), tag });
            }
            _ => {}
        }
    }
    let located = platform.locate(asked)?;
    let (path, stable, partition) = match &located {
        Some(Located::Drive { path, stable }) => (Some(path), *stable, None),
        Some(Located::Partition { path, number }) => (Some(path), false, Some(*number)),
        None => (None, false, None),
    };
    match path.and_then(|path| drives.iter().find(|drive| drive.path == *path)) {
        Some(drive) => {
            let by = if stable { NamedBy::StableLink } else { NamedBy::KernelName };
            Ok(Choice { drive: drive.clone(), by, partition })
        }
        None => {
            let named = |drive: &Drive| (drive.tag.clone(), drive.name());
            Err(ChooseError::NotAttached {
                asked: asked.to_owned(),
                attached: drives.iter().map(named).collect(),
                meant: meant(asked, &drives).map(named),
            })
        }
    }
}

/// The drive that is in `now` and was not in `before`; a reader counts once its slot has a medium.
pub fn arrived<'a>(before: &[Drive], now: &'a [Drive]) -> Option<&'a Drive> {
    now.iter().filter(|drive| drive.bytes > 0).find(|drive| !before.iter().any(|known| known.is_still(drive)))
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;
    use crate::devices::{Claimed, DriveIo};
    use crate::guard::Cleared;

    /// Drives that answer to their tags and to a few names.
    struct Attached(Vec<Drive>);

    impl Platform for Attached {
        fn drives(&self) -> Result<Vec<Drive>, PlatformError> {
            Ok(self.0.clone())
        }
        fn locate(&self, name: &str) -> Result<Option<Located>, PlatformError> {
            let drive = |path: &str, stable| Some(Located::Drive { path: path.to_owned(), stable });
            Ok(match name {
                "/dev/sdb" => drive("/dev/sdb", false),
                "by-id/pocket" => drive("/dev/sdb", true),
                "/dev/sdb1" => Some(Located::Partition { path: "/dev/sdb".to_owned(), number: 1 }),
                "/dev/gone" => drive("/dev/gone", true),
                _ => None,
            })
        }
        fn drives_holding(&self, _file: &Path) -> Result<Vec<String>, PlatformError> {
            Ok(Vec::new())
        }
        fn openers(&self, _drive: &Drive) -> Result<crate::drive::Openers, PlatformError> {
            unreachable!("nothing is opened to choose")
        }
        fn may_claim(&self, _drive: &Drive) -> Result<crate::devices::Opening, PlatformError> {
            Ok(crate::devices::Opening::Own)
        }
        fn open(&self, _drive: &Drive) -> Result<Box<dyn DriveIo>, PlatformError> {
            unreachable!("nothing is opened to choose")
        }
        fn open_shared(&self, _drive: &Drive) -> Result<std::fs::File, PlatformError> {
            unreachable!("nothing is opened to choose")
        }
        fn claim(&self, _cleared: Cleared) -> Result<Box<dyn Claimed>, PlatformError> {
            unreachable!("nothing is claimed to choose")
        }
    }

    #[test]
    fn what_was_typed_means_one_drive_or_it_is_told_what_is_there() {
        let at = |tag: &str, path: &str| Drive { path: path.to_owned(), ..Drive::sample(tag) };
        let attached = Attached(vec![at("DBR7J", "/dev/sdb"), at("65387", "/dev/sdc"), at("65387", "/dev/sdd")]);
        let chosen = |asked: &str| {
            let chosen = choose(&attached, asked).unwrap();
            (chosen.drive.path, chosen.by, chosen.partition)
        };
        let sdb = || "/dev/sdb".to_owned();
        assert_eq!(chosen("DBR7J"), (sdb(), NamedBy::Tag, None));
        assert_eq!(chosen("/dev/sdb"), (sdb(), NamedBy::KernelName, None));
        assert_eq!(chosen("by-id/pocket"), (sdb(), NamedBy::StableLink, None));
        assert_eq!(chosen("/dev/sdb1"), (sdb(), NamedBy::KernelName, Some(1)));
        let told = |platform: &Attached, asked: &str| {
            let error = choose(platform, asked).unwrap_err();
            format!("{error}\n   next: {}", error.next_step())
        };
        let nothing = Attached(Vec::new());
        let all = ["65387", "DBR7K", "BDR7J", "590J1", "/dev/gone"].map(|asked| told(&attached, asked));
        insta::assert_snapshot!(format!("{}\n{}", all.join("\n"), told(&nothing, "DBR7J")), @"
        the tag 65387 fits 2 drives that can't be told apart: /dev/sdc, /dev/sdd
           next: name the one that is meant by its place; or take the others out, a reader's other cards as well
        no drive `DBR7K` is attached; attached are DBR7J (Kestrin Pocket), 65387 (Kestrin Pocket), 65387 (Kestrin Pocket); did you mean DBR7J (Kestrin Pocket)?
           next: plug it in, or choose one that `pyrotyp drives --all` shows
        no drive `BDR7J` is attached; attached are DBR7J (Kestrin Pocket), 65387 (Kestrin Pocket), 65387 (Kestrin Pocket); did you mean DBR7J (Kestrin Pocket)?
           next: plug it in, or choose one that `pyrotyp drives --all` shows
        no drive `590J1` is attached; attached are DBR7J (Kestrin Pocket), 65387 (Kestrin Pocket), 65387 (Kestrin Pocket)
           next: plug it in, or choose one that `pyrotyp drives --all` shows
        no drive `/dev/gone` is attached; attached are DBR7J (Kestrin Pocket), 65387 (Kestrin Pocket), 65387 (Kestrin Pocket)
           next: plug it in, or choose one that `pyrotyp drives --all` shows
        no drive `DBR7J` is attached
           next: plug it in, or choose one that `pyrotyp drives --all` shows
        ");
    }
}
