//! One entry of a folder, whatever the file system.

use jiff::civil::DateTime;
use serde::{Deserialize, Serialize};

/// Most entries of a folder that are looked at.
pub const ITEMS_MOST: usize = 2000;

/// A file or folder at the top of a volume.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Item {
    /// Its name.
    pub name: String,
    /// Whether it is a folder.
    pub is_folder: bool,
    /// Length in bytes; nothing is told of folders.
    pub bytes: u64,
    /// When it was changed last, by the clock of whoever did.
    pub modified: Option<DateTime>,
}
