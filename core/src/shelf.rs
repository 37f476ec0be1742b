//! The shelf: the bench's own store of images, with what is known of each.
//!
//! It is a folder of image files, each with its lists and signatures beside it, and one index, `shelf.toml`. The files are
//! what counts: an index that is lost or damaged is made again from them.

#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::arithmetic_side_effects))]

use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::{fs, io};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::hash::Sum;
use crate::image::Naming;
use crate::machine;
use crate::store::Store;
use crate::text::Shown;
use crate::text::foreign::all_shown;

/// Name of the index.
const INDEX: &str = "shelf.toml";
/// Longest index that is read, in bytes.
const INDEX_BYTES_MOST: u64 = 16 << 20;
/// Longest list, signature or torrent that is taken along with an image, in bytes.
const BESIDE_BYTES_MOST: u64 = 64 << 20;
/// Most files of the folder that are looked at.
const FILES_MOST: usize = 10_000;
/// Endings that belong to a packed image and not to a file beside one.
const PACKED: [&str; 6] = ["gz", "xz", "zst", "bz2", "lz4", "zip"];

/// What tells that a file is still the one it was.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Identity {
    /// Length in bytes.
    pub bytes: u64,
    /// When it was changed last, RFC 3339.
    pub modified: String,
    /// Its number in the file system.
    pub number: u64,
    /// When anything about it was changed last, in seconds and nanoseconds: no program sets that back.
    #[serde(default)]
    pub changed: (i64, i64),
}

impl Identity {
    /// Of the file at `path`.
    ///
    /// # Errors
    /// When it can't be looked at.
    pub fn of(path: &Path) -> io::Result<Self> {
        let found = fs::metadata(path)?;
        let modified = Timestamp::try_from(found.modified()?).map_err(io::Error::other)?.to_string();
        let (number, changed) = (machine::file_number(&found)?, machine::changed_at(&found)?);
        Ok(Self { bytes: found.len(), modified, number, changed })
    }
}

/// An image on the shelf.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Item {
    /// Name of its file.
    pub file: String,
    /// What it calls itself.
    #[serde(default)]
    pub system: Option<String>,
    /// Its version.
    #[serde(default)]
    pub version: Option<String>,
    /// Its edition.
    #[serde(default)]
    pub edition: Option<String>,
    /// For which processors.
    #[serde(default)]
    pub architecture: Option<String>,
    /// Volume label.
    #[serde(default)]
    pub label: Option<String>,
    /// Address or path from which it came.
    #[serde(default)]
    pub origin: Option<String>,
    /// When it was put here, RFC 3339.
    #[serde(default)]
    pub added: Option<String>,
    /// When it was compared last with all that was published for it, RFC 3339.
    #[serde(default)]
    pub checked: Option<String>,
    /// What that proved, in a word: `signed`, `published`, `undamaged`, or nothing.
    #[serde(default)]
    pub proof: Option<String>,
    /// When it was found not to be what it was, or what was published, RFC 3339; until a check finds that it is.
    #[serde(default)]
    pub damaged: Option<String>,
    /// When it was written to a drive last, RFC 3339.
    #[serde(default)]
    pub used: Option<String>,
    /// Checksums, each as `ALGORITHM:HEX`, of the file as `identity` tells it.
    #[serde(default)]
    pub sums: Vec<String>,
    /// The file when its checksums were computed.
    #[serde(default)]
    pub identity: Identity,
}

impl Item {
    /// What it is called on the command line: the file's name, without `.iso` or `.img`.
    pub fn name(&self) -> &str {
        [".iso", ".img"].iter().find_map(|ending| self.file.strip_suffix(ending)).unwrap_or(&self.file)
    }

    /// Takes in what the image calls itself.
    pub fn describe(&mut self, naming: &Naming, label: Option<&str>) {
        self.system.clone_from(&naming.system);
        self.version.clone_from(&naming.version);
        self.edition.clone_from(&naming.edition);
        self.architecture = naming.architecture.map(|known| known.word().to_owned());
        self.label = label.map(str::to_owned);
    }

    /// Its checksums as they were read.
    pub fn sums(&self) -> Vec<Sum> {
        self.sums.iter().filter_map(|sum| sum.parse().ok()).collect()
    }

    /// Its SHA-256, if that is known.
    pub fn sha256(&self) -> Option<&str> {
        self.sums.iter().find_map(|sum| sum.strip_prefix("sha256:"))
    }

    /// When it was of use last: put here, checked or written.
    pub fn last_used(&self) -> Option<Timestamp> {
        [&self.added, &self.checked, &self.used].into_iter().flatten().filter_map(|time| time.parse().ok()).max()
    }
}

/// The images of a bench.
#[derive(Clone, Debug, Default)]
pub struct Shelf {
    folder: PathBuf,
    items: Vec<Item>,
    /// Why the index was made again, if it was.
    pub rebuilt: Option<String>,
    /// Files that are there and of which the index knew nothing.
    pub found: Vec<String>,
}

#[derive(Default, Serialize, Deserialize)]
struct ShelfIndex {
    #[serde(default, rename = "image")]
    images: Vec<Item>,
}

/// How a file comes onto the shelf.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Bring {
    /// It stays where it is as well.
    Keep,
    /// It is moved.
    Move,
}

/// How it came there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Brought {
    /// A file of its own that shares its bytes with the other until one changes.
    Shared,
    /// Copied.
    Copied,
    /// Moved.
    Moved,
}

/// Why a name leads to no image of the shelf.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{}` may be any of these on the shelf: {}", asked.shown(), all_shown(fit))]
pub struct Several {
    /// As asked.
    pub asked: String,
    /// All names that begin like it.
    pub fit: Vec<String>,
}

impl Shelf {
    /// Reads the shelf of this state folder; an empty one if there is none yet.
    ///
    /// # Errors
    /// When the folder can't be read.
    pub fn open(state: &Path) -> io::Result<Self> {
        let mut shelf = Self { folder: state.join("shelf"), ..Self::default() };
        let files = match machine::own_files_in(&shelf.folder, FILES_MOST) {
            Ok(files) => files,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(shelf),
            Err(error) => return Err(error),
        };
        let mut names: Vec<String> = files.into_iter().filter_map(|name| name.into_string().ok()).collect();
        names.sort();
        let index = match read_index(&shelf.folder) {
            Ok(index) => index,
            Err(why) => {
                shelf.rebuilt = Some(why);
                ShelfIndex::default()
            }
        };
        for name in names.iter().filter(|name| is_image(name, &names)) {
            match index.images.iter().find(|item| item.file == *name) {
                Some(item) => shelf.items.push(item.clone()),
                None => {
                    shelf.found.push(name.clone());
                    shelf.items.push(Item { file: name.clone(), ..Item::default() });
                }
            }
        }
        Ok(shelf)
    }

    /// Changes the shelf while no other process does, and keeps the index.
    ///
    /// # Errors
    /// When the folder can't be written.
    pub fn change<T: Send>(state: &Path, change: impl FnOnce(&mut Self) -> io::Result<T> + Send) -> io::Result<T> {
        let folder = state.join("shelf");
        let _lease = Store::in_folder(&folder).lease()?;
        let mut shelf = Self::open(state)?;
        let result = change(&mut shelf)?;
        shelf.save()?;
        Ok(result)
    }

    fn save(&self) -> io::Result<()> {
        let text = toml::to_string(&ShelfIndex { images: self.items.clone() }).map_err(io::Error::other)?;
        let heading = "# The shelf's index. It may be lost: it is made again from the files beside it.\n\n";
        Store::in_folder(&self.folder).put(INDEX, format!("{heading}{text}").as_bytes())
    }

    /// Where it is.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// All images, by name.
    pub fn items(&self) -> &[Item] {
        &self.items
    }

    /// The same, to be changed.
    pub fn items_mut(&mut self) -> &mut [Item] {
        &mut self.items
    }

    /// Where the image's file is.
    pub fn path(&self, item: &Item) -> PathBuf {
        self.folder.join(&item.file)
    }

    /// The image that lies at `path`, if that is on the shelf.
    pub fn at(&self, path: &Path) -> Option<&Item> {
        let folder = path.parent()?.canonicalize().ok()?;
        let is_here = self.folder.canonicalize().is_ok_and(|own| own == folder);
        self.items.iter().find(|item| is_here && path.file_name() == Some(OsStr::new(&item.file)))
    }

    /// The image with this name, or the only one whose name begins like it.
    ///
    /// # Errors
    /// When several names begin like it.
    pub fn find(&self, asked: &str) -> Result<Option<&Item>, Several> {
        if let Some(item) = self.items.iter().find(|item| item.file == asked || item.name() == asked) {
            return Ok(Some(item));
        }
        let fit: Vec<&Item> =
            self.items.iter().filter(|item| !asked.is_empty() && item.file.starts_with(asked)).collect();
        match fit[..] {
            [] => Ok(None),
            [one] => Ok(Some(one)),
            _ => Err(Several { asked: asked.to_owned(), fit: fit.iter().map(|item| item.name().to_owned()).collect() }),
        }
    }

    /// Whether the file is still as it was when its checksums were computed.
    pub fn is_unchanged(&self, item: &Item) -> bool {
        !item.sums.is_empty() && Identity::of(&self.path(item)).is_ok_and(|now| now == item.identity)
    }

    /// Puts the file at `from` onto the shelf, with no needless copy, and the lists and signatures that lie beside it.
    ///
    /// # Errors
    /// When a file of that name is there already, or the folder can't be written.
    pub fn bring(&mut self, from: &Path, bring: Bring, beside: &[PathBuf]) -> io::Result<(Item, Brought)> {
        let name = name_on_shelf(from.file_name().unwrap_or_default());
        let name = name.map_err(|why| io::Error::new(io::ErrorKind::InvalidInput, why))?.to_owned();
        let to = self.folder.join(&name);
        if to.exists() {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        let brought = match bring {
            // A link, or a file with a second name elsewhere, would not be the shelf's own.
            Bring::Move if machine::has_one_name(from) && machine::rename_without_replacing(from, &to).is_ok() => {
                Brought::Moved
            }
            _ => self.take(from, &to, bring)?,
        };
        for path in beside {
            let Some(beside_name) = path.file_name().and_then(OsStr::to_str) else { continue };
            let own =
                if beside_name.starts_with(&name) { beside_name.to_owned() } else { format!("{name}.{beside_name}") };
            machine::keep_own(&self.folder.join(own), &machine::read_regular(path, BESIDE_BYTES_MOST)?)?;
        }
        let origin = std::path::absolute(from).unwrap_or(from.to_owned()).to_string_lossy().into_owned();
        let item = Item { file: name, origin: Some(origin), ..Item::default() };
        Ok((self.add(item), brought))
    }

    /// Another file with the same bytes: without moving any of them, if the file system can.
    fn take(&self, from: &Path, to: &Path, bring: Bring) -> io::Result<Brought> {
        let made = tempfile::NamedTempFile::new_in(&self.folder)?;
        let mut bytes = machine::open_regular(from)?;
        let brought = if machine::share_bytes(&bytes, made.as_file()).is_ok() {
            Brought::Shared
        } else {
            io::copy(&mut bytes, &mut made.as_file())?;
            made.as_file().sync_all()?;
            Brought::Copied
        };
        // Whoever changes the shelf holds its lock, so that nothing comes between.
        made.persist(to)?;
        if bring == Bring::Move {
            machine::remove_own(from)?;
            return Ok(Brought::Moved);
        }
        Ok(brought)
    }

    /// Takes an image that lies in the folder into the index.
    pub fn add(&mut self, item: Item) -> Item {
        let item = Item { added: Some(Timestamp::now().to_string()), ..item };
        self.items.retain(|known| known.file != item.file);
        self.items.push(item.clone());
        self.items.sort_by(|a, b| a.file.cmp(&b.file));
        item
    }

    /// Keeps that a file is not what it was, or not what was published.
    pub fn note_damage(&mut self, file: &str) {
        let found = self.items.iter_mut().find(|item| item.file == file);
        found.into_iter().for_each(|item| item.damaged = Some(Timestamp::now().to_string()));
    }

    /// Keeps that an image is written to a drive now.
    pub fn note_use(&mut self, file: &str) {
        let found = self.items.iter_mut().find(|item| item.file == file);
        found.into_iter().for_each(|item| item.used = Some(Timestamp::now().to_string()));
    }

    /// Keeps a checksum that was computed while the image was written, the file being the same before and after.
    pub fn learn(&mut self, file: &str, sum: &Sum, identity: &Identity) {
        let Some(item) = self.items.iter_mut().find(|item| item.file == file) else { return };
        let text = format!("{}:{}", sum.algorithm.name(), sum.hex);
        if item.identity != *identity {
            (item.sums, item.identity) = (Vec::new(), identity.clone());
        }
        if !item.sums.contains(&text) {
            item.sums.push(text);
            item.sums.sort();
        }
    }

    /// Keeps what a check has found, with the file as it was then.
    pub fn note(&mut self, file: &str, sums: &[Sum], proof: &str, identity: &Identity) {
        let Some(item) = self.items.iter_mut().find(|item| item.file == file) else { return };
        let mut all: Vec<String> = sums.iter().map(|sum| format!("{}:{}", sum.algorithm.name(), sum.hex)).collect();
        if item.identity == *identity {
            all.extend(std::mem::take(&mut item.sums));
        }
        all.sort();
        all.dedup();
        (item.sums, item.identity) = (all, identity.clone());
        (item.checked, item.proof) = (Some(Timestamp::now().to_string()), Some(proof.to_owned()));
        item.damaged = None;
    }

    /// Takes an image off the shelf, with everything that lies there for it.
    ///
    /// # Errors
    /// When a file can't be removed.
    pub fn remove(&mut self, file: &str) -> io::Result<()> {
        fs::remove_file(self.folder.join(file))?;
        let others: Vec<String> =
            self.items.iter().map(|item| item.file.clone()).filter(|other| other != file).collect();
        let beside = format!("{file}.");
        for name in machine::names_in(&self.folder, FILES_MOST)? {
            let path = self.folder.join(&name);
            let name = name.to_string_lossy().into_owned();
            let is_others = others.iter().any(|other| name == *other || name.starts_with(&format!("{other}.")));
            if name.starts_with(&beside) && !is_others {
                fs::remove_file(path)?;
            }
        }
        self.items.retain(|item| item.file != file);
        Ok(())
    }
}

fn read_index(folder: &Path) -> Result<ShelfIndex, String> {
    let kept = Store::in_folder(folder).get(INDEX, INDEX_BYTES_MOST).map_err(|error| crate::text::plain(&error))?;
    let kept = kept.ok_or("it was not there")?;
    toml::from_str(&String::from_utf8_lossy(&kept.bytes))
        .map_err(|error| error.message().lines().next().unwrap_or_default().to_owned())
}

/// Whether this file of the folder is an image, and not something that belongs to one.
fn is_image(name: &str, all: &[String]) -> bool {
    let belongs = all.iter().any(|other| {
        let ending = name.strip_prefix(other.as_str()).and_then(|rest| rest.strip_prefix('.'));
        ending.is_some_and(|ending| !PACKED.contains(&ending))
    });
    !belongs && name_on_shelf(OsStr::new(name)).is_ok()
}

/// A file's name as that of an image on the shelf.
///
/// # Errors
/// In words, why no image there can be called so.
pub fn name_on_shelf(name: &OsStr) -> Result<&str, &'static str> {
    let text = name.to_str().ok_or("its name holds what is no text (UTF-8)")?;
    if text == INDEX || text.starts_with('.') {
        Err("its name is one that the shelf itself uses")
    } else if text.starts_with('-') {
        Err("its name begins like an option")
    } else if [".part", ".part.toml"].iter().any(|ending| text.ends_with(ending)) {
        Err("its name is that of a download under way")
    } else {
        Ok(text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(shelf: &Shelf) -> Vec<&str> {
        shelf.items().iter().map(Item::name).collect()
    }

    #[test]
    fn an_index_that_is_lost_or_damaged_is_made_again_from_the_files() {
        let state = tempfile::tempdir().unwrap();
        let folder = state.path().join("shelf");
        fs::create_dir(&folder).unwrap();
        let files = [
            "a.iso",
            "a.iso.SHA256SUMS",
            "a.iso.SHA256SUMS.asc",
            "a.iso.xz",
            "b.img",
            "c.iso.part",
            "c.iso.part.toml",
            ".lock",
        ];
        files.iter().for_each(|name| fs::write(folder.join(name), *name).unwrap());
        let shelf = Shelf::open(state.path()).unwrap();
        assert_eq!((names(&shelf), shelf.rebuilt.as_deref()), (vec!["a", "a.iso.xz", "b"], Some("it was not there")));
        let identity = Identity::of(&folder.join("b.img")).unwrap();
        let sum: Sum = "md5:900150983cd24fb0d6963f7d28e17f72".parse().unwrap();
        Shelf::change(state.path(), |shelf| {
            shelf.note("b.img", &[sum], "published", &identity);
            Ok(())
        })
        .unwrap();
        let shelf = Shelf::open(state.path()).unwrap();
        let [_, _, kept] = shelf.items() else { panic!("{shelf:?}") };
        assert!(shelf.rebuilt.is_none() && shelf.found.is_empty() && shelf.is_unchanged(kept));
        fs::write(folder.join("b.img"), "other").unwrap();
        assert!(!shelf.is_unchanged(kept), "a file that was changed has no checksum yet");
        fs::write(folder.join(INDEX), "image = 3").unwrap();
        let damaged = Shelf::open(state.path()).unwrap();
        assert!(damaged.rebuilt.is_some() && names(&damaged) == ["a", "a.iso.xz", "b"]);
        Shelf::change(state.path(), |shelf| shelf.remove("a.iso")).unwrap();
        let left: Vec<bool> = files.map(|name| folder.join(name).exists()).into();
        assert_eq!(left, [false, false, false, true, true, true, true, true]);
    }

    #[test]
    fn a_name_leads_to_one_image_or_to_a_choice() {
        let item = |file: &str| Item { file: file.to_owned(), ..Item::default() };
        let items = vec![item("larkspur-9.2-compact.iso"), item("larkspur-9.2.iso"), item("wrenfield.img")];
        let shelf = Shelf { items, ..Shelf::default() };
        let found = |asked| shelf.find(asked).map(|item| item.map(|item| item.file.as_str()));
        assert_eq!(found("larkspur-9.2"), Ok(Some("larkspur-9.2.iso")), "a whole name goes before its beginning");
        assert_eq!(found("wren"), Ok(Some("wrenfield.img")));
        assert_eq!((found("kestrin"), found("")), (Ok(None), Ok(None)));
        assert_eq!(found("lark").unwrap_err().fit, ["larkspur-9.2-compact", "larkspur-9.2"]);
    }
}
