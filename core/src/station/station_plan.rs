//! A station's plan: which image, how many sticks, which drives qualify, what becomes of them. A text in TOML.

use std::path::{Path, PathBuf};

use serde::Deserialize;

use crate::bytes::bytes_in_words;
use crate::drive::{Drive, Port, Role, Tag};

/// Most sticks of one plan.
const STICKS_MOST: u64 = 10_000;
/// Most that are written at once.
const AT_ONCE_MOST: u64 = 64;
/// So many at once, where nothing is said.
const AT_ONCE: u64 = 4;

/// What to do with a drive on which something lies.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum FilesRule {
    /// Somebody says of each whether it is taken.
    #[default]
    Ask,
    /// It is left alone.
    Refuse,
    /// It is taken.
    Take,
}

/// A plan.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StationPlan {
    /// The image: a file, or a name on the shelf.
    pub image: PathBuf,
    /// How many sticks are wanted.
    pub sticks: u64,
    /// How many are written at once.
    pub at_once: u64,
    /// Whether each is ejected at its end.
    pub eject: bool,
    /// Which drives qualify.
    pub drives: Qualifying,
    /// What to do with one on which something lies.
    pub files: FilesRule,
    /// One is taken without a question, whatever the rule, where all of its volumes have one of these labels; `*` at the end of one
    /// stands for anything.
    pub known_labels: Vec<String>,
    /// The folder for a label of each stick.
    pub labels_into: Option<PathBuf>,
    /// The file for the report on all of them.
    pub report_into: Option<PathBuf>,
}

/// Which drives qualify.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Qualifying {
    /// What they are to the technician.
    pub roles: Vec<Role>,
    /// The smallest that does, in bytes.
    pub smallest: Option<u64>,
    /// The largest that does, in bytes.
    pub largest: Option<u64>,
    /// Sockets and hubs; any where none is named.
    pub ports: Vec<Port>,
    /// Tags; any where none is named.
    pub tags: Vec<Tag>,
}

/// Why a plan is none.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PlanFault {
    /// It is no such text.
    #[error("{why}")]
    Text {
        /// What is wrong with it, and in which line.
        why: String,
    },
    /// A value makes no sense.
    #[error("`{key}` {why}")]
    Value {
        /// Which one.
        key: &'static str,
        /// What is wrong with it.
        why: String,
    },
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct PlanText {
    image: PathBuf,
    sticks: u64,
    at_once: Option<u64>,
    eject: Option<bool>,
    #[serde(default)]
    drives: DrivesText,
    #[serde(default)]
    files: FilesText,
    labels_into: Option<PathBuf>,
    report_into: Option<PathBuf>,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct DrivesText {
    roles: Option<Vec<Role>>,
    smallest: Option<String>,
    largest: Option<String>,
    #[serde(default)]
    ports: Vec<String>,
    #[serde(default)]
    tags: Vec<String>,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct FilesText {
    #[serde(default)]
    rule: FilesRule,
    #[serde(default)]
    known_labels: Vec<String>,
}

fn wrong(key: &'static str, why: impl Into<String>) -> PlanFault {
    PlanFault::Value { key, why: why.into() }
}

fn size(key: &'static str, text: Option<String>) -> Result<Option<u64>, PlanFault> {
    let read = |text: String| {
        let bytes = bytes_in_words(&text).filter(|bytes| *bytes > 0);
        bytes.ok_or_else(|| wrong(key, format!("is no size: {text}; write it like 8GB or 512MiB")))
    };
    text.map(read).transpose()
}

fn number(key: &'static str, given: u64, most: u64) -> Result<u64, PlanFault> {
    if (1..=most).contains(&given) { Ok(given) } else { Err(wrong(key, format!("is a number from 1 to {most}"))) }
}

impl StationPlan {
    /// Reads a plan that lies in `folder`: files that it names lie there as well, unless it says otherwise.
    ///
    /// # Errors
    /// When it is no plan.
    pub fn parse(text: &str, folder: &Path) -> Result<Self, PlanFault> {
        let text: PlanText = toml::from_str(text).map_err(|error| {
            let before = error.span().and_then(|span| text.get(..span.start)).unwrap_or_default();
            let line = before.matches('\n').count().saturating_add(1);
            PlanFault::Text { why: format!("line {line}: {}", error.message()) }
        })?;
        let DrivesText { roles, smallest, largest, ports, tags } = text.drives;
        let port = |text: &String| text.parse().map_err(|error| wrong("drives.ports", format!("{text}: {error}")));
        let tag = |text: &String| text.parse().map_err(|_| wrong("drives.tags", format!("{text} is no tag")));
        let drives = Qualifying {
            roles: roles.unwrap_or_else(|| vec![Role::Stick]),
            smallest: size("drives.smallest", smallest)?,
            largest: size("drives.largest", largest)?,
            ports: ports.iter().map(port).collect::<Result<_, _>>()?,
            tags: tags.iter().map(tag).collect::<Result<_, _>>()?,
        };
        // All others are guarded each by itself, and a station accepts nothing.
        if drives.roles.is_empty() || !drives.roles.iter().all(|role| matches!(role, Role::Stick | Role::Card)) {
            return Err(wrong(
                "drives.roles",
                "takes stick and card: any other drive is written by itself, with pyrotyp write",
            ));
        }
        let beside = |path: PathBuf| folder.join(path);
        let image = Some(folder.join(&text.image)).filter(|path| path.exists()).unwrap_or(text.image);
        Ok(Self {
            image,
            sticks: number("sticks", text.sticks, STICKS_MOST)?,
            at_once: number("at-once", text.at_once.unwrap_or(AT_ONCE), AT_ONCE_MOST)?,
            eject: text.eject.unwrap_or(true),
            drives,
            files: text.files.rule,
            known_labels: text.files.known_labels,
            labels_into: text.labels_into.map(beside),
            report_into: text.report_into.map(beside),
        })
    }
}

impl Qualifying {
    /// Why a drive does not qualify; nothing where it does.
    pub fn against(&self, drive: &Drive) -> Option<String> {
        if !self.roles.contains(&drive.role()) {
            return Some("it is no drive of the kind that the plan takes".to_owned());
        }
        if !self.tags.is_empty() && !self.tags.contains(&drive.tag) {
            return Some("the plan does not name it".to_owned());
        }
        let is_at = |port: &Port| drive.link.port.as_ref().is_some_and(|at| at.is_below(port));
        if !self.ports.is_empty() && !self.ports.iter().any(is_at) {
            return Some("the plan does not take drives from this port".to_owned());
        }
        if self.smallest.is_some_and(|least| drive.bytes < least) {
            return Some("it is smaller than the plan wants".to_owned());
        }
        self.largest.is_some_and(|most| drive.bytes > most).then(|| "it is larger than the plan wants".to_owned())
    }
}
