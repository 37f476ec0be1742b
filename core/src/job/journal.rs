//! Notes of a job on one drive, kept while it runs: how far the drive has confirmed what it took, and what that was.
//!
//! A text file of JSON, a value a line. The first line is a [`Heading`]; each further one is a mark, added after the
//! drive has flushed: how many blocks it keeps, and the digests of the new ones. A last line that a power cut tore is no mark. Nothing here is believed before the drive and the image
//! have been looked at again.

use std::fs::File;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::drive::Tag;
use crate::hash::BlockDigests;
use crate::machine;

/// Longest file that is read, in bytes: the marks of an image of 4 TB.
const BYTES_MOST: u64 = 96 << 20;
/// Version of the format.
const VERSION: u32 = 1;

/// Which image was being written to which drive.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Heading {
    /// Version of the format.
    pub version: u32,
    /// What the image is called.
    pub image: String,
    /// Its length in bytes, where that was known.
    pub image_bytes: Option<u64>,
    /// Its SHA-256, where that was known.
    pub sha256: Option<String>,
    /// The drive's tag.
    pub drive: String,
    /// The drive's size in bytes.
    pub drive_bytes: u64,
}

impl Heading {
    /// Of a job that begins now.
    pub fn new(image: &str, image_bytes: Option<u64>, sha256: Option<&str>, drive: &Tag, drive_bytes: u64) -> Self {
        Self {
            version: VERSION,
            image: image.to_owned(),
            image_bytes,
            sha256: sha256.map(str::to_owned),
            drive: drive.to_string(),
            drive_bytes,
        }
    }

    /// What `now` is about that this was not, in words.
    fn other_than(&self, now: &Self) -> Option<String> {
        let differ = |a: &Option<String>, b: &Option<String>| a.is_some() && b.is_some() && a != b;
        if self.drive != now.drive || self.drive_bytes != now.drive_bytes {
            Some(format!("the notes are about drive {} with {} bytes", self.drive, self.drive_bytes))
        } else if self.image_bytes.zip(now.image_bytes).is_some_and(|(then, now)| then != now)
            || differ(&self.sha256, &now.sha256)
        {
            Some(format!("it was being written with another image, {}", self.image))
        } else {
            None
        }
    }
}

/// So many blocks from the image's start were on the drive.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Mark {
    blocks: usize,
    /// Digests of those that are new, one after the other in hexadecimal digits.
    digests: String,
}

/// What an earlier job has noted.
#[derive(Debug)]
pub struct Earlier {
    heading: Heading,
    /// Digests of the blocks that were flushed, from the image's start on.
    pub digests: BlockDigests,
}

/// What becomes of an earlier job's notes.
#[derive(Debug)]
pub enum Notes {
    /// The job can go on, with the digests of the blocks that were flushed.
    Flushed(BlockDigests),
    /// There is nothing to go on with, in words.
    Nothing(String),
    /// They are about something else, in words.
    Other(String),
}

/// The notes of a job that runs.
pub struct Journal {
    file: File,
    path: PathBuf,
    /// How many blocks were noted.
    noted: usize,
}

/// Where the notes about a drive are kept, below the bench's `state`.
pub fn path_of(state: &Path, drive: &Tag) -> PathBuf {
    state.join("under-way").join(format!("{}.jsonl", drive.as_str().replace('?', "-")))
}

/// Looks for what an earlier job has noted about the same drive and image.
pub fn find(path: &Path, now: &Heading) -> Notes {
    match read(path) {
        Ok(Some(earlier)) => match earlier.heading.other_than(now) {
            Some(what) => Notes::Other(what),
            None => Notes::Flushed(earlier.digests),
        },
        Ok(None) => Notes::Nothing("no job on this drive has stopped half-way".to_owned()),
        Err(error) => {
            Notes::Nothing(format!("the notes of the last job can't be used: {}", crate::text::plain(&error)))
        }
    }
}

fn read(path: &Path) -> io::Result<Option<Earlier>> {
    match machine::read_own(path, BYTES_MOST) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        read => parse(&String::from_utf8_lossy(&read?)).map(Some),
    }
}

/// Reads notes, as far as they can be read.
///
/// # Errors
/// When the heading can't.
pub fn parse(text: &str) -> io::Result<Earlier> {
    let mut lines = text.lines();
    let heading: Heading = serde_json::from_str(lines.next().unwrap_or_default())?;
    if heading.version != VERSION {
        return Err(io::Error::other(format!("they are of version {}, not {VERSION}", heading.version)));
    }
    let mut digests = BlockDigests::new();
    for line in lines {
        // What comes after a line that is no mark can't be placed.
        let Ok(mark) = serde_json::from_str::<Mark>(line) else { break };
        let new: Option<BlockDigests> =
            mark.digests.as_bytes().chunks(64).map(|hex| blake3::Hash::from_hex(hex).ok()).collect();
        let Some(new) = new.filter(|new| digests.len().checked_add(new.len()) == Some(mark.blocks)) else { break };
        digests.extend(new);
    }
    Ok(Earlier { heading, digests })
}

impl Journal {
    /// Begins the notes anew, with what is on the drive already.
    ///
    /// # Errors
    /// When they can't be written.
    pub fn begin(path: &Path, heading: &Heading, flushed: &[blake3::Hash]) -> io::Result<Self> {
        let mut journal = Self { file: machine::begin_own(path)?, path: path.to_owned(), noted: 0 };
        journal.line(heading)?;
        journal.note(flushed)?;
        Ok(journal)
    }

    /// How many blocks are noted.
    pub fn noted(&self) -> usize {
        self.noted
    }

    /// The drive keeps these blocks as well, the next ones of the image.
    ///
    /// # Errors
    /// When that can't be written.
    pub fn note(&mut self, new: &[blake3::Hash]) -> io::Result<()> {
        if !new.is_empty() {
            let digests = new.iter().map(|digest| digest.to_hex().to_string()).collect();
            let blocks = self.noted.saturating_add(new.len());
            self.line(&Mark { blocks, digests })?;
            self.noted = blocks;
        }
        Ok(())
    }

    fn line(&mut self, value: &impl Serialize) -> io::Result<()> {
        let mut text = serde_json::to_string(value)?;
        text.push('\n');
        self.file.write_all(text.as_bytes())?;
        self.file.sync_data()
    }

    /// There is nothing to go on with any more: this is what may be removed once that is on record.
    pub fn spent(self) -> SpentNotes {
        SpentNotes(self.path)
    }
}

/// Notes of a job that has ended.
#[derive(Debug, PartialEq, Eq)]
pub struct SpentNotes(PathBuf);

impl SpentNotes {
    /// Removes them.
    pub fn remove(&self) {
        // Notes that stay are proven wrong by the drive itself.
        let _ = machine::remove_own(&self.0);
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;
    use proptest::prelude::*;

    fn heading() -> Heading {
        Heading::new("larkspur.iso", Some(9 << 20), Some("ab"), &"DBR7J".parse().unwrap(), 16 << 30)
    }

    #[test]
    fn notes_are_about_one_drive_and_one_image_and_a_torn_line_is_none() {
        let folder = tempfile::tempdir().unwrap();
        let path = path_of(folder.path(), &"DBR7?".parse().unwrap());
        let why = |path: &Path| match find(path, &heading()) {
            Notes::Nothing(why) => why,
            other => panic!("{other:?}"),
        };
        assert_eq!(why(&path), "no job on this drive has stopped half-way");
        // Notes that are there and can't be read are not none.
        assert_eq!(why(folder.path()), "the notes of the last job can't be used: this is a folder");
        let blocks: Vec<_> = (0u8..5).map(|n| blake3::hash(&[n])).collect();
        let mut journal = Journal::begin(&path, &heading(), &blocks[..1]).unwrap();
        assert_eq!(journal.noted(), 1);
        journal.note(&blocks[1..3]).unwrap();
        assert_eq!(journal.noted(), 3);
        journal.note(&blocks[3..]).unwrap();
        let found = |now: &Heading| match find(&path, now) {
            Notes::Flushed(digests) => format!("{} blocks", digests.len()),
            Notes::Nothing(why) | Notes::Other(why) => why,
        };
        let text = fs::read_to_string(&path).unwrap();
        let mut told = vec![found(&heading())];
        fs::write(&path, &text[..text.len() - 9]).unwrap();
        told.push(found(&heading()));
        told.push(found(&Heading { image_bytes: Some(1), ..heading() }));
        told.push(found(&Heading { sha256: Some("cd".into()), ..heading() }));
        told.push(found(&Heading { sha256: None, image_bytes: None, ..heading() }));
        told.push(found(&Heading { drive_bytes: 1, ..heading() }));
        fs::write(&path, text.replace("\"version\":1", "\"version\":7")).unwrap();
        told.push(found(&heading()));
        insta::assert_snapshot!(told.join("\n"), @r"
        5 blocks
        3 blocks
        it was being written with another image, larkspur.iso
        it was being written with another image, larkspur.iso
        3 blocks
        the notes are about drive DBR7J with 17179869184 bytes
        the notes of the last job can't be used: they are of version 7, not 1
        ");
        journal.spent().remove();
        assert!(!path.exists());
    }

    proptest! {
        #[test]
        fn no_text_makes_it_panic(text: String, lines: Vec<String>) {
            let _ = parse(&text);
            let _ = parse(&[serde_json::to_string(&heading()).unwrap(), lines.join("\n")].join("\n"));
        }
    }
}
