//! What there is to go on with on a drive.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::drive::Drive;
use crate::hash::BLOCK_BYTES;
use crate::job::journal::{self, Heading, Notes};

/// What a job that is to go on with an earlier one finds.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Resume {
    /// It goes on behind so many bytes, if the drive still holds them.
    Behind {
        /// So many.
        bytes: u64,
    },
    /// There is nothing to go on with: all is written anew.
    Nothing {
        /// Why, in words.
        why: String,
    },
    /// What was noted is about something else.
    Other {
        /// About what, in words.
        what: String,
    },
}

impl Resume {
    /// What the notes below `state` say of this drive and that image.
    pub fn find(state: Option<&Path>, drive: &Drive, now: &Heading) -> Self {
        let nothing = |why: &str| Self::Nothing { why: why.to_owned() };
        let Some(path) = notes_of(state, drive) else {
            return nothing("no notes are kept about a drive without a serial number of its own");
        };
        match journal::find(&path, now) {
            Notes::Flushed(blocks) if blocks.len() < 2 => nothing("the drive had not confirmed anything yet"),
            Notes::Flushed(blocks) => Self::Behind { bytes: (blocks.len() as u64).saturating_mul(BLOCK_BYTES) },
            Notes::Nothing(why) => Self::Nothing { why },
            Notes::Other(what) => Self::Other { what },
        }
    }
}

/// Where notes about a drive are kept; nowhere if they could be taken for those of another one.
pub(crate) fn notes_of(state: Option<&Path>, drive: &Drive) -> Option<PathBuf> {
    state.filter(|_| !drive.tag.is_unsure()).map(|state| journal::path_of(state, &drive.tag))
}
