//! What was published for an image: lists of checksums, torrents and signatures that lie beside it or are given.

use std::io::{self, Read as _};
use std::path::{Path, PathBuf};

use crate::hash::Sum;
use crate::machine;
use crate::published::check::{CheckError, Expected};
use crate::published::signature::{SIGNATURE_BYTES_MOST, SignatureFile};
use crate::published::sums;
use crate::published::sums::{Lines, SUMS_BYTES_MOST};
use crate::published::torrent::{Torrent, torrent};
use crate::text::Shown;

/// What a person gives to compare with.
#[derive(Clone, Copy, Debug, Default)]
pub struct Given<'a> {
    /// Checksums.
    pub sums: &'a [Sum],
    /// A list of checksums or a torrent, in place of those that lie beside the image.
    pub list: Option<&'a Path>,
    /// A signature, in place of those that lie beside the image and its lists.
    pub signature: Option<&'a Path>,
}

/// A file that may say something of the image and can't be used.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unusable {
    /// Which one.
    pub file: PathBuf,
    /// Why, in words.
    pub why: String,
}

/// All that says what the image should be.
#[derive(Clone, Debug, Default)]
pub struct Published {
    /// Checksums for the image.
    pub expected: Vec<Expected>,
    /// Lists that were read and do not name the image.
    pub unlisted: Vec<PathBuf>,
    /// Signatures of the image and of the lists that name it.
    pub signatures: Vec<PublishedSignature>,
    /// Torrents that name the image.
    pub torrents: Vec<(PathBuf, Torrent)>,
    /// Files that may say something of the image and can't be used, and why, in words.
    pub unusable: Vec<Unusable>,
}

impl Published {
    /// Whether nothing at all says anything of the image.
    pub fn is_empty(&self) -> bool {
        self.expected.is_empty() && self.signatures.is_empty() && self.torrents.is_empty()
    }
}

/// A signature and what it is for.
#[derive(Clone, Debug)]
pub struct PublishedSignature {
    /// The file that holds it.
    pub file: PathBuf,
    /// The signature; `None` when the file holds none that can be read.
    pub read: Option<SignatureFile>,
    /// What it signs: the first of these with which it holds. There are several only when its name does not tell.
    pub over: Vec<Over>,
    /// Whether a person named it, and did not merely have it lie there.
    pub is_asked: bool,
}

/// What a signature is for.
#[derive(Clone, Debug)]
pub enum Over {
    /// The image itself.
    Image {
        /// The image's path.
        path: PathBuf,
    },
    /// A list of checksums.
    List {
        /// The list's path.
        path: PathBuf,
        /// What was read of it: the very bytes from which the checksums were taken.
        bytes: Vec<u8>,
    },
}

/// Whether lists of checksums have names like this: `SHA256SUMS`, `sha256sum.txt`, `CHECKSUM`, `larkspur.DIGESTS`.
///
/// Signatures of such lists, which have one more ending, are none.
pub fn is_list(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    let stem = name.strip_suffix(".txt").unwrap_or(&name);
    let kind = stem.strip_suffix("sums").or_else(|| stem.strip_suffix("sum")).unwrap_or(stem);
    let kind = kind.trim_end_matches(['-', '_', '.']);
    sums::kind_named(kind).is_some()
        || stem.ends_with("checksum")
        || stem.ends_with("checksums")
        || stem.ends_with(".digests")
}

/// Most entries of a folder in which lists are looked for.
const ENTRIES_MOST: usize = 10_000;

/// Most torrents that are looked into, and most that an image is compared with.
const TORRENTS_LOOKED_AT: usize = 16;
const TORRENTS_MOST: usize = 4;

/// What is added to the name of a list or an image for its signature.
const SIGNATURE_ENDINGS: [&str; 6] = ["asc", "sig", "sign", "gpg", "pgp", "minisig"];

/// Most kinds of checksum that are told of one list.
const KINDS_TOLD: usize = 4;

/// Whether the file begins as signify signs gzip files: with the signature as the header's comment (RFC 1952, §2.3.1).
fn has_signature_in_header(image: &Path) -> bool {
    const HAS_COMMENT: u8 = 0x10;
    let mut head = [0u8; 32];
    let count = machine::open_regular(image).and_then(|mut file| file.read(&mut head)).unwrap_or(0);
    let is_gz = matches!(head, [0x1F, 0x8B, 8, flags, ..] if flags & HAS_COMMENT != 0);
    let comment = head.get(10..count).unwrap_or_default();
    is_gz && comment.starts_with(b"untrusted comment:")
}

struct List {
    path: PathBuf,
    bytes: Vec<u8>,
    lines: Lines,
    signature: Option<SignatureFile>,
}

/// Reads at most `limit` bytes of a file; more than that is `None`.
fn read_file(path: &Path, limit: u64) -> io::Result<Option<Vec<u8>>> {
    match machine::read_file_or_pipe(path, limit) {
        Err(error) if error.kind() == io::ErrorKind::FileTooLarge => Ok(None),
        read => read.map(Some),
    }
}

impl List {
    /// Reads a list. Of one that is signed in the same file, only what is signed counts.
    fn read(path: &Path) -> Result<Self, CheckError> {
        let fail = |source| CheckError::Sums { path: path.to_owned(), source };
        let bytes = read_file(path, SUMS_BYTES_MOST).map_err(fail)?;
        let bytes = bytes.ok_or_else(|| CheckError::TooLong { path: path.to_owned(), limit: SUMS_BYTES_MOST })?;
        let name = path.file_name().map(|name| name.to_string_lossy()).unwrap_or_default();
        let signature = SignatureFile::read(&bytes);
        let bytes = signature.as_ref().and_then(|signature| signature.text.clone()).unwrap_or(bytes);
        let lines = sums::parse(&bytes, sums::kind_in(&name));
        Ok(Self {
            path: path.to_owned(),
            bytes,
            lines,
            signature: signature.filter(|signature| signature.text.is_some()),
        })
    }

    /// Whether a file of this name stands anywhere in it.
    fn names(&self, file_name: &str) -> bool {
        memchr::memmem::find(&self.bytes, file_name.as_bytes()).is_some()
    }

    fn over(&self) -> Over {
        Over::List { path: self.path.clone(), bytes: self.bytes.clone() }
    }
}

impl Published {
    /// Takes in what a list says of the file called `file_name`; tells whether it names it.
    fn add_list(&mut self, list: &List, file_name: &str) -> bool {
        let before = self.expected.len();
        for line in list.lines.lines.iter().filter(|line| line.is_for(file_name)) {
            let source = list.path.to_string_lossy().into_owned();
            let expected = Expected { sum: line.sum.clone(), is_told: line.is_told, source };
            // A list that contradicts itself must fail, so both of its lines are kept.
            if !self.expected.contains(&expected) {
                self.expected.push(expected);
            }
        }
        let names_it = self.expected.len() > before;
        let mut foreign: Vec<&str> = list.lines.foreign_for(file_name).take(KINDS_TOLD).collect();
        foreign.dedup();
        if !foreign.is_empty() {
            let kinds = foreign.iter().map(|kind| kind.shown()).collect::<Vec<_>>().join(", ");
            self.unusable.push(Unusable {
                file: list.path.clone(),
                why: format!("it has checksums of a kind that can't be used here ({kinds})"),
            });
        } else if !names_it {
            self.unlisted.push(list.path.clone());
        }
        if let Some(signature) = list.signature.as_ref().filter(|_| names_it) {
            let (file, read, over) = (list.path.clone(), Some(signature.clone()), vec![list.over()]);
            self.signatures.push(PublishedSignature { file, read, over, is_asked: false });
        }
        names_it
    }

    /// Takes in a list that a person gave.
    ///
    /// # Errors
    /// When nothing in it can be compared with the file called `file_name`.
    fn add_given_list(&mut self, list: &List, file_name: &str) -> Result<(), CheckError> {
        if self.add_list(list, file_name) {
            return Ok(());
        }
        let unusable = self.unusable.pop_if(|last| last.file == list.path);
        let why = unusable.map_or_else(|| format!("it does not name {}", file_name.shown()), |last| last.why);
        Err(CheckError::NotForImage { path: list.path.clone(), why })
    }
}

/// Everything that is given, and, where nothing is, what lies beside the image under its usual name.
///
/// # Errors
/// When a file is there and can't be read, or one that was given is not what it should be.
pub fn published(image: &Path, given: &Given<'_>) -> Result<Published, CheckError> {
    let mut found = Published::default();
    let typed = given.sums.iter().map(|sum| Expected::told(sum.clone(), "--sum"));
    found.expected.extend(typed);
    let Some(name) = image.file_name().and_then(|name| name.to_str()) else {
        let why = "the image's name is no text, so that lists can't name it".to_owned();
        if let Some(path) = given.list.or(given.signature) {
            return Err(CheckError::NotForImage { path: path.to_owned(), why });
        }
        found.unusable.push(Unusable { file: image.to_owned(), why });
        return Ok(found);
    };
    if has_signature_in_header(image) {
        let why = "a signature of signify lies in its gzip header, which is not checked here";
        found.unusable.push(Unusable { file: image.to_owned(), why: why.to_owned() });
    }
    let mut lists = Vec::new();
    match given.list {
        Some(path) => given_list(path, name, &mut found, &mut lists)?,
        None => lists_beside(image, name, &mut found, &mut lists)?,
    }
    match given.signature {
        Some(path) => given_signature(path, image, name, &mut found, &lists)?,
        None => signatures_beside(image, name, &mut found, &lists)?,
    }
    Ok(found)
}

fn given_list(path: &Path, name: &str, found: &mut Published, lists: &mut Vec<List>) -> Result<(), CheckError> {
    let list = List::read(path)?;
    if path.extension().is_some_and(|end| end == "torrent") {
        let fail = |why: String| CheckError::NotForImage { path: path.to_owned(), why };
        let torrent = torrent(&list.bytes, name).ok_or_else(|| fail(format!("it does not name {}", name.shown())))?;
        if !torrent.has_whole_piece() {
            return Err(fail("it has no piece that holds bytes of this file alone".to_owned()));
        }
        found.torrents.push((path.to_owned(), torrent));
        return Ok(());
    }
    if list.lines.is_empty() {
        return Err(CheckError::NoSums { path: path.to_owned() });
    }
    found.add_given_list(&list, name)?;
    lists.push(list);
    Ok(())
}

/// Lists and torrents with usual names. One that holds nothing of use is passed over.
fn lists_beside(image: &Path, name: &str, found: &mut Published, lists: &mut Vec<List>) -> Result<(), CheckError> {
    let folder = image.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let entries = std::fs::read_dir(folder).into_iter().flatten().take(ENTRIES_MOST).flatten();
    let names = entries.filter_map(|entry| entry.file_name().into_string().ok());
    let (mut own, mut shared, mut torrents) = (Vec::new(), Vec::new(), Vec::new());
    let metalinks = ["meta4", "metalink"].map(|ending| format!("{name}.{ending}"));
    for entry in names {
        let ending = entry.strip_prefix(name).and_then(|rest| rest.strip_prefix('.'));
        if entry.ends_with(".torrent") {
            torrents.push(entry);
        } else if metalinks.contains(&entry) {
            let why = "it is a Metalink file, which `pyrotyp fetch` uses".to_owned();
            found.unusable.push(Unusable { file: image.with_file_name(entry), why });
        } else if ending.is_some_and(|ending| is_list(ending) || signed_list(ending) || ending == "DIGESTS") {
            own.push(entry);
        } else if is_list(&entry) || signed_list(&entry) {
            shared.push(entry);
        }
    }
    own.sort();
    shared.sort();
    torrents.sort();
    let (own, shared) = (own.into_iter().map(|list| (list, true)), shared.into_iter().map(|list| (list, false)));
    for (list, is_own) in own.chain(shared) {
        let path = image.with_file_name(&list);
        if !path.is_file() {
            continue;
        }
        match List::read(&path) {
            // A checksum without a name belongs to whatever lies beside it, which need not be this image.
            Ok(list) if !is_own && list.lines.is_nameless() => {
                found.unusable.push(Unusable {
                    file: path,
                    why: "it has a checksum without a name, perhaps of another file".to_owned(),
                });
            }
            // Signatures that stand alone are looked for with what they sign.
            Ok(read)
                if read.signature.is_none() && signed_list(list.strip_prefix(&format!("{name}.")).unwrap_or(&list)) => {
            }
            Ok(list) if list.lines.is_empty() && list.names(name) => {
                found.unusable.push(Unusable {
                    file: path,
                    why: "it names the image, and has no checksum that can be read".to_owned(),
                });
            }
            // A page of a server's, a list that came to nothing: whoever put it there meant something by it.
            Ok(list) if list.lines.is_empty() => return Err(CheckError::NoSums { path }),
            Ok(list) => {
                if found.add_list(&list, name) {
                    lists.push(list);
                }
            }
            Err(fault) => return Err(fault),
        }
    }
    torrents_beside(image, name, torrents, found)
}

/// Torrents that lie beside an image.
fn torrents_beside(
    image: &Path,
    name: &str,
    mut torrents: Vec<String>,
    found: &mut Published,
) -> Result<(), CheckError> {
    // The image's own come first.
    torrents.sort_by_key(|entry| !entry.starts_with(name));
    for (number, entry) in torrents.into_iter().enumerate() {
        let path = image.with_file_name(entry);
        if number >= TORRENTS_LOOKED_AT || found.torrents.len() >= TORRENTS_MOST {
            found.unusable.push(Unusable {
                file: path,
                why: "it and any further torrents are not looked into: there are too many".to_owned(),
            });
            break;
        }
        let is_own = path.file_stem().is_some_and(|stem| stem == name);
        let bytes = path.is_file().then(|| read_file(&path, SUMS_BYTES_MOST)).transpose();
        let bytes = bytes.map_err(|source| CheckError::Sums { path: path.clone(), source })?.flatten();
        match bytes.and_then(|bytes| torrent(&bytes, name)) {
            Some(torrent) => found.torrents.push((path, torrent)),
            None if is_own => {
                found.unusable.push(Unusable {
                    file: path,
                    why: "it is a torrent without pieces of a file with this name".to_owned(),
                });
            }
            None => {}
        }
    }
    Ok(())
}

/// Whether this is a list's name with that of a signature behind it, such as `SHA256SUMS.asc`.
fn signed_list(name: &str) -> bool {
    let name = name.rsplit('/').next().unwrap_or(name);
    name.rsplit_once('.').is_some_and(|(list, ending)| SIGNATURE_ENDINGS.contains(&ending) && is_list(list))
}

fn read_signature(path: &Path, limit: u64) -> Result<Option<SignatureFile>, CheckError> {
    let bytes = read_file(path, limit).map_err(|source| CheckError::Unreadable { path: path.to_owned(), source })?;
    Ok(bytes.and_then(|bytes| SignatureFile::read(&bytes)))
}

/// A signature that a person names: of the list or image whose name it bears, or else of any of them.
fn given_signature(
    path: &Path,
    image: &Path,
    name: &str,
    found: &mut Published,
    lists: &[List],
) -> Result<(), CheckError> {
    let read = read_signature(path, SUMS_BYTES_MOST.saturating_add(SIGNATURE_BYTES_MOST))?;
    if read.as_ref().is_some_and(|read| read.text.is_some()) {
        let list = List::read(path)?;
        found.signatures.retain(|known| known.file != path);
        found.expected.retain(|known| known.source != path.to_string_lossy().into_owned());
        found.unlisted.retain(|known| known != path);
        found.add_given_list(&list, name)?;
        found.signatures.iter_mut().filter(|known| known.file == path).for_each(|known| known.is_asked = true);
        return Ok(());
    }
    let signs = |file: &Path| path.file_stem().is_some_and(|stem| file.file_name() == Some(stem));
    let of_image = Over::Image { path: image.to_owned() };
    let over = match lists.iter().find(|list| signs(&list.path)) {
        Some(list) => vec![list.over()],
        None if signs(image) => vec![of_image],
        None => lists.iter().map(List::over).chain([of_image]).collect(),
    };
    found.signatures.push(PublishedSignature { file: path.to_owned(), read, over, is_asked: true });
    Ok(())
}

fn signatures_beside(image: &Path, name: &str, found: &mut Published, lists: &[List]) -> Result<(), CheckError> {
    let of_image = (image.to_owned(), name.to_owned(), Over::Image { path: image.to_owned() });
    let of_lists = lists.iter().map(|list| {
        let name = list.path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        (list.path.clone(), name, list.over())
    });
    for (path, name, over) in of_lists.chain([of_image]) {
        for ending in SIGNATURE_ENDINGS {
            let file = path.with_file_name(format!("{name}.{ending}"));
            if !file.is_file() || found.signatures.iter().any(|known| known.file == file) {
                continue;
            }
            let read = read_signature(&file, SIGNATURE_BYTES_MOST)?;
            if read.as_ref().is_some_and(|read| read.text.is_some()) {
                continue;
            }
            found.signatures.push(PublishedSignature { file, read, over: vec![over.clone()], is_asked: false });
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_are_known_by_their_usual_names_and_signatures_by_theirs() {
        let lists = "SHA256SUMS sha256sum.txt SHA512SUM MD5SUMS.txt b2sums CHECKSUM larkspur-9.2-CHECKSUM larkspur.DIGESTS sha256.txt";
        let others = "larkspur.iso README sums.txt checksums.html SHA256SUMS.bak notes.sha";
        let signed = "SHA256SUMS.asc CHECKSUM.sig MD5SUMS.sign SHA256SUMS.minisig b2sums.gpg";
        assert!(lists.split(' ').all(|name| is_list(name) && !signed_list(name)), "{lists}");
        assert!(others.split(' ').all(|name| !is_list(name) && !signed_list(name)), "{others}");
        assert!(signed.split(' ').all(|name| !is_list(name) && signed_list(name)), "{signed}");
    }

    #[test]
    fn only_what_is_signed_counts_of_a_list_that_is_signed_in_place() {
        let folder = tempfile::tempdir().unwrap();
        let image = folder.path().join("larkspur.img");
        let signed = include_str!("../../../sample/signed/clear-signed.asc");
        let forged = format!("{}  larkspur.img\n", "0".repeat(64));
        let put = |text: String| std::fs::write(folder.path().join("SHA256SUMS"), text).unwrap();
        put(signed.to_owned());
        let found = published(&image, &Given::default()).unwrap();
        assert_eq!((found.expected.len(), found.signatures.len()), (1, 1));
        // A line before or behind the signed part is never taken for part of it.
        for text in [format!("{forged}{signed}"), format!("{signed}{forged}")] {
            put(text);
            let found = published(&image, &Given::default()).unwrap();
            assert!(found.signatures.is_empty(), "no signature is told where more than it covers is read");
        }
    }
}
