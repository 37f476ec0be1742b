//! An ext4 volume, as the system's own program makes it, empty or with some small files at its top: what that writes becomes segments, and all between stays as it is.

use crate::compose::composition::Composition;
use crate::compose::error::ComposeError;
use crate::compose::guid;
use crate::compose::tree::{FileBytes, ROOT, Tree, TreeContent, TreeItem};
use crate::compose::volume_kind::VolumeKind;
use crate::machine::{self, GivenFile, GivenFolder, ProgramError, ProgramRun, WrittenStretch};

/// The system's own program.
const PROGRAM: &str = "mkfs.ext4";
/// The time that it takes for now, in seconds since 1970: the same words give the same bytes at any time.
const NOW: (&str, &str) = ("E2FSPROGS_FAKE_TIME", "1767225600");
/// The word with which it is told of a folder whose files it takes in.
const FOLDER_WORD: &str = "-d";
/// Size of a block, in bytes: a multiple of every sector.
const BLOCK_BYTES: u64 = 4096;
/// Below this there is no room for anything.
const BYTES_LEAST: u64 = 2 << 20;

/// What it is to be.
pub(super) struct ExtVolume<'a> {
    /// Its length, in bytes.
    pub bytes: u64,
    /// As [`VolumeKind::label`] gives it; empty for none.
    pub label: &'a str,
    /// Tells it from others.
    pub serial: u32,
}

/// The volume.
pub(super) fn ext4(wanted: &ExtVolume<'_>, tree: &Tree<'_>) -> Result<Composition<'static>, ComposeError> {
    let files: Option<Vec<GivenFile<'_>>> = tree.items().iter().skip(1).map(given).collect();
    let files = files.ok_or(ComposeError::NoFiles { kind: VolumeKind::Ext4 })?;
    let bytes = wanted.bytes.saturating_sub(wanted.bytes.checked_rem(BLOCK_BYTES).unwrap_or_default());
    if bytes < BYTES_LEAST {
        return Err(ComposeError::Size { kind: VolumeKind::Ext4, bytes });
    }
    let uuid = guid::text(guid::uuid(wanted.serial, "volume"));
    // What is on it belongs to whoever makes it; nothing is told to the drive, and its tables are filled when it is mounted.
    let options = format!("lazy_itable_init=1,nodiscard,root_owner,hash_seed={uuid}");
    let block = BLOCK_BYTES.to_string();
    let words = ["-q", "-F", "-b", &block, "-m", "0", "-U", &uuid, "-E", &options, "-L", wanted.label];
    let words: Vec<String> = words.map(str::to_owned).to_vec();
    let folder = (!files.is_empty()).then_some(GivenFolder { word: FOLDER_WORD, files: &files });
    let run = ProgramRun { program: PROGRAM, words: &words, environment: &[NOW], folder };
    let written = machine::written_by(&run, bytes).map_err(of_program)?;
    let parts = written.into_iter().map(|WrittenStretch { at, bytes }| (at, bytes));
    Ok(Composition::between_holes(bytes, parts))
}

/// A file as the program is given it: one that was made, at the top.
fn given<'a>(item: &'a TreeItem<'_>) -> Option<GivenFile<'a>> {
    match &item.content {
        TreeContent::File(FileBytes::Made(bytes)) if item.parent == ROOT => Some(GivenFile { name: &item.name, bytes }),
        _ => None,
    }
}

fn of_program(error: ProgramError) -> ComposeError {
    let is_missing = matches!(error, ProgramError::Missing { .. });
    let why = crate::text::chain(&error);
    if is_missing { ComposeError::Missing { why } } else { ComposeError::Program { why } }
}
