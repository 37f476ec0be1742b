//! Files and folders that are to lie in a volume, with names that FAT and exFAT hold.

use std::collections::HashMap;
use std::fmt;
use std::ops::Range;

use jiff::civil::DateTime;

use crate::bytes::ReadAt;
use crate::compose::letter_case::upper;

/// Most files and folders of a tree: what holds the memory of a hostile one.
pub const TREE_ITEMS_MOST: usize = 1 << 20;
/// Most folders that something lies in: more than any path of 260 letters has.
const DEEP_MOST: usize = 130;
/// Most code units of UTF-16 of a name. FAT: Microsoft FAT Specification (2004), section 7; exFAT: its specification, section 7.6.3.
const UNITS_MOST: usize = 255;
/// What no name may hold beside control characters: of FAT section 7, of exFAT section 7.7.3.
const BARRED: &str = "\"*/:<>?\\|";

/// The bytes of a file.
#[derive(Clone)]
pub enum FileBytes<'a> {
    /// Bytes that were made.
    Made(Vec<u8>),
    /// Parts of something else, one behind the other.
    Parts {
        /// Of what.
        of: &'a dyn ReadAt,
        /// Which, in bytes of it.
        parts: Vec<Range<u64>>,
    },
}

impl<'a> FileBytes<'a> {
    /// All of something else.
    pub fn all_of(of: &'a dyn ReadAt) -> Self {
        Self::Parts { of, parts: std::iter::once(0..of.size()).collect() }
    }

    /// How many there are.
    pub fn size(&self) -> u64 {
        match self {
            Self::Made(bytes) => bytes.len() as u64,
            Self::Parts { parts, .. } => {
                parts.iter().map(|part| part.end.saturating_sub(part.start)).fold(0, u64::saturating_add)
            }
        }
    }
}

/// Why something can't be put into a tree.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum TreeFault {
    /// A name on the way is none.
    #[error("{path:?}: a name is empty, or only dots")]
    Nameless {
        /// Of which item.
        path: String,
    },
    /// A name is too long.
    #[error("{path}: a name has {UNITS_MOST} letters at most")]
    Long {
        /// Of which item.
        path: String,
    },
    /// A name holds what it may not.
    #[error("{path}: a name can't hold {letter:?}")]
    Letter {
        /// Of which item.
        path: String,
        /// What.
        letter: char,
    },
    /// A name ends in what systems leave off.
    #[error("{path}: a name can't end in a dot or a space")]
    End {
        /// Of which item.
        path: String,
    },
    /// There is one already, as FAT and exFAT compare names: without regard to capital letters.
    #[error("{path} is there already, as {first}")]
    Twice {
        /// Which item.
        path: String,
        /// The path of the one that came first.
        first: String,
    },
    /// Something is to lie in a file.
    #[error("{path} is a file, and holds no others")]
    InFile {
        /// Which file.
        path: String,
    },
    /// It lies too deep.
    #[error("{path}: it lies in more than {DEEP_MOST} folders")]
    Deep {
        /// Which item.
        path: String,
    },
    /// There are too many.
    #[error("there are more than {TREE_ITEMS_MOST} files and folders")]
    Many,
}

impl TreeFault {
    /// Why, without saying of which item.
    pub fn why(&self) -> String {
        match self {
            Self::Nameless { .. } => "its name is empty, or only dots".to_owned(),
            Self::Long { .. } => format!("a name on its path has more than {UNITS_MOST} letters"),
            Self::Letter { letter, .. } => format!("a name on its path holds {letter:?}"),
            Self::End { .. } => "a name on its path ends in a dot or a space".to_owned(),
            Self::Twice { first, .. } => format!("FAT takes its name for that of {first}"),
            Self::InFile { path } => format!("FAT takes the name of its folder for that of the file {path}"),
            Self::Deep { .. } => format!("it lies in more than {DEEP_MOST} folders"),
            Self::Many => self.to_string(),
        }
    }
}

/// What an item is.
#[derive(Debug)]
pub(super) enum TreeContent<'a> {
    /// A folder, with the numbers of what lies in it, in the order in which they came.
    Folder(Vec<usize>),
    /// A file.
    File(FileBytes<'a>),
}

/// A file or folder of a tree.
#[derive(Debug)]
pub(super) struct TreeItem<'a> {
    /// Its name; the root has none.
    pub name: String,
    /// The number of the folder that it lies in; the root's is its own.
    pub parent: usize,
    /// When it was changed last.
    pub modified: Option<DateTime>,
    /// What it is.
    pub content: TreeContent<'a>,
}

/// Files and folders. Their order stays: what came first lies first on the volume.
#[derive(Debug)]
pub struct Tree<'a> {
    /// By their numbers; 0 is the root.
    items: Vec<TreeItem<'a>>,
    /// By folder and name in capitals.
    names: HashMap<(usize, Vec<u16>), usize>,
}

/// The number of the root.
pub(super) const ROOT: usize = 0;

impl Default for Tree<'_> {
    fn default() -> Self {
        let root =
            TreeItem { name: String::new(), parent: ROOT, modified: None, content: TreeContent::Folder(Vec::new()) };
        Self { items: vec![root], names: HashMap::new() }
    }
}

impl<'a> Tree<'a> {
    /// Adds a folder, with those that it lies in; `path` has `/` between its names. One that is there already gets this time.
    ///
    /// # Errors
    /// When a name can't be held, or a file has it: the tree stays as it is.
    pub fn add_folder(&mut self, path: &str, modified: Option<DateTime>) -> Result<(), TreeFault> {
        holdable(path)?;
        let number = self.folder_at(path, path)?;
        if let Some(item) = self.items.get_mut(number) {
            item.modified = modified.or(item.modified);
        }
        Ok(())
    }

    /// Adds a file, with the folders that it lies in.
    ///
    /// # Errors
    /// As for [`Self::add_folder`], and when there is one of this name.
    pub fn add_file(&mut self, path: &str, modified: Option<DateTime>, bytes: FileBytes<'a>) -> Result<(), TreeFault> {
        holdable(path)?;
        let (parent, name) = path.rsplit_once('/').unwrap_or(("", path));
        let parent = if parent.is_empty() { ROOT } else { self.folder_at(parent, path)? };
        let key = (parent, key(name, path)?);
        if let Some(first) = self.names.get(&key) {
            return Err(TreeFault::Twice { path: path.to_owned(), first: self.path(*first) });
        }
        self.add(key, TreeItem { name: name.to_owned(), parent, modified, content: TreeContent::File(bytes) })?;
        Ok(())
    }

    /// How many files and folders there are, the root counted.
    pub fn len(&self) -> usize {
        self.items.len()
    }

    /// Whether there is nothing but the root.
    pub fn is_empty(&self) -> bool {
        self.items.len() == 1
    }

    pub(super) fn items(&self) -> &[TreeItem<'a>] {
        &self.items
    }

    /// What lies in a folder, with its numbers.
    pub(super) fn in_folder(&self, number: usize) -> impl Iterator<Item = (usize, &TreeItem<'a>)> {
        let numbers = match self.items.get(number).map(|item| &item.content) {
            Some(TreeContent::Folder(numbers)) => numbers.as_slice(),
            _ => &[],
        };
        numbers.iter().filter_map(|number| Some((*number, self.items.get(*number)?)))
    }

    /// Where an item lies, in words; `/` for the root.
    pub(super) fn path(&self, number: usize) -> String {
        let mut names = Vec::new();
        let mut next = number;
        while let Some(item) = self.items.get(next).filter(|_| next != ROOT) {
            names.push(item.name.as_str());
            next = item.parent;
        }
        if names.is_empty() {
            return "/".to_owned();
        }
        names.reverse();
        names.join("/")
    }

    /// The number of a folder, which is made where it is not there.
    fn folder_at(&mut self, folder: &str, whole: &str) -> Result<usize, TreeFault> {
        let mut here = ROOT;
        for name in folder.split('/') {
            let key = (here, key(name, whole)?);
            here = match self.names.get(&key).copied() {
                Some(found)
                    if matches!(self.items.get(found).map(|item| &item.content), Some(TreeContent::File(_))) =>
                {
                    return Err(TreeFault::InFile { path: self.path(found) });
                }
                Some(found) => found,
                None => {
                    let content = TreeContent::Folder(Vec::new());
                    self.add(key, TreeItem { name: name.to_owned(), parent: here, modified: None, content })?
                }
            };
        }
        Ok(here)
    }

    fn add(&mut self, key: (usize, Vec<u16>), item: TreeItem<'a>) -> Result<usize, TreeFault> {
        let number = self.items.len();
        if number >= TREE_ITEMS_MOST {
            return Err(TreeFault::Many);
        }
        if let Some(TreeItem { content: TreeContent::Folder(numbers), .. }) = self.items.get_mut(item.parent) {
            numbers.push(number);
        }
        self.names.insert(key, number);
        self.items.push(item);
        Ok(number)
    }
}

/// Whether all names of a path can be held.
fn holdable(path: &str) -> Result<(), TreeFault> {
    if path.matches('/').count() > DEEP_MOST {
        return Err(TreeFault::Deep { path: path.to_owned() });
    }
    path.split('/').try_for_each(|name| key(name, path).map(drop))
}

/// A name as names are compared, once it is seen to be one.
fn key(name: &str, path: &str) -> Result<Vec<u16>, TreeFault> {
    let path = || path.to_owned();
    if name.trim_matches('.').is_empty() {
        return Err(TreeFault::Nameless { path: path() });
    }
    if let Some(letter) = name.chars().find(|c| c.is_control() || BARRED.contains(*c)) {
        return Err(TreeFault::Letter { path: path(), letter });
    }
    if name.ends_with(['.', ' ']) {
        return Err(TreeFault::End { path: path() });
    }
    let units: Vec<u16> = name.encode_utf16().map(upper).collect();
    if units.len() > UNITS_MOST { Err(TreeFault::Long { path: path() }) } else { Ok(units) }
}

impl fmt::Debug for FileBytes<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Made(bytes) => write!(f, "{} bytes", bytes.len()),
            Self::Parts { parts, .. } => write!(f, "{parts:?}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_that_no_volume_holds_is_told_with_its_path() {
        let file = || FileBytes::Made(Vec::new());
        let mut tree = Tree::default();
        tree.add_file("Boot/grub.cfg", None, file()).unwrap();
        tree.add_folder("boot/fonts", None).unwrap();
        tree.add_file("Übersicht.txt", None, file()).unwrap();
        tree.add_file(&format!("{}.txt", "ж".repeat(251)), None, file()).unwrap();
        let mut told = String::new();
        for path in [
            "BOOT/GRUB.CFG",
            "üBERSICHT.TXT",
            "boot",
            "boot/grub.cfg/theme",
            "a//b",
            "..",
            "boot/...",
            "what?.txt",
            "tab\tname",
            "end.",
            "boot/ends /x",
            "",
        ] {
            told += &format!("{path:?}: {}\n", tree.add_file(path, None, file()).unwrap_err());
        }
        let deep = tree.add_file(&"a/".repeat(131), None, file()).unwrap_err();
        assert!(matches!(deep, TreeFault::Deep { .. }));
        let long = tree.add_file(&"ж".repeat(256), None, file()).unwrap_err();
        assert!(matches!(long, TreeFault::Long { .. }));
        insta::assert_snapshot!(told, @r#"
        "BOOT/GRUB.CFG": BOOT/GRUB.CFG is there already, as Boot/grub.cfg
        "üBERSICHT.TXT": üBERSICHT.TXT is there already, as Übersicht.txt
        "boot": boot is there already, as Boot
        "boot/grub.cfg/theme": Boot/grub.cfg is a file, and holds no others
        "a//b": "a//b": a name is empty, or only dots
        "..": "..": a name is empty, or only dots
        "boot/...": "boot/...": a name is empty, or only dots
        "what?.txt": what?.txt: a name can't hold '?'
        "tab\tname": tab	name: a name can't hold '\t'
        "end.": end.: a name can't end in a dot or a space
        "boot/ends /x": boot/ends /x: a name can't end in a dot or a space
        "": "": a name is empty, or only dots
        "#);
        // Nothing of what was refused is there: root, two folders, three files.
        assert_eq!(tree.len(), 6);
    }
}
