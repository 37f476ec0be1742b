//! The image that was meant, opened and looked into.

use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::image::{Inspection, Opened, Packed, PackedFault, SharedBytes, Unpacked, Verdict};
use pyrotyp_core::machine::ImageFile;
use pyrotyp_core::shelf::Shelf;
use pyrotyp_core::text::{Shown, shell};
use pyrotyp_core::volume::iso9660;
use pyrotyp_core::{Level, image, machine};

use super::folders::state_folder;
use super::release;
use crate::asked::Common;
use crate::exit::{Exit, Failure, chain, plain};
use crate::live::progress::Progress;
use crate::near::nearest;
use crate::session::Session;

/// An image file that was looked into.
pub(crate) struct OpenedImage {
    /// The file.
    pub file: Arc<ImageFile>,
    /// What it is; of what is inside, if it is packed.
    pub inspection: Inspection,
    packed: Option<Packed>,
}

/// The bytes that go onto a drive.
pub(crate) enum Content {
    /// The file's own.
    Plain(Arc<ImageFile>),
    /// What is inside the file.
    Unpacked(Unpacked),
}

impl Content {
    /// For reading.
    pub(crate) fn bytes(&self) -> &dyn ReadAt {
        match self {
            Self::Plain(file) => &**file,
            Self::Unpacked(unpacked) => unpacked,
        }
    }
}

impl OpenedImage {
    /// Length of the file.
    pub(crate) fn bytes(&self) -> u64 {
        self.file.size()
    }

    /// The optical volume of an image that is not packed.
    pub(crate) fn plain_volume(&self) -> Option<&iso9660::IsoVolume> {
        self.inspection.volume.as_ref().filter(|_| self.inspection.container.is_none())
    }

    /// What goes onto a drive that has room for `room` bytes. A packed image is unpacked once, to nowhere, so
    /// that a damaged one is known before any drive is touched.
    pub(crate) fn content(&self, path: &Path, room: u64, session: &Session<'_>) -> Result<Content, Failure> {
        let Some(packed) = self.packed.clone() else { return Ok(Content::Plain(Arc::clone(&self.file))) };
        let mut progress = Progress::of_check("unpack", packed.unpacked_bytes, session.common);
        let measured = packed.measure(room, session.cancel, &mut |done| progress.checked(done));
        progress.finish();
        let unpacked = measured.map_err(|fault| {
            let exit = match fault {
                PackedFault::Stopped => Exit::Stopped,
                PackedFault::TooLong { .. } => Exit::Refused,
                _ => Exit::Image,
            };
            Failure::new(exit, format!("{}: {}", path.shown(), chain(&fault)), fault.next_step())
        })?;
        let declared = self.inspection.declared_bytes.unwrap_or(0);
        if declared > unpacked.size() {
            let missing = declared - unpacked.size();
            let text = format!("{}: {missing} bytes of the image inside are missing at its end", path.shown());
            return Err(Failure::new(Exit::Image, text, "download it again; it was packed from an image cut short"));
        }
        Ok(Content::Unpacked(unpacked))
    }
}

/// The file that a person means: one that is there, or else one on the shelf with this name.
pub(crate) fn on_shelf_or_file(asked: &Path, common: &Common) -> Result<PathBuf, Failure> {
    let is_name = asked.components().count() == 1 && !asked.exists();
    let Some((name, state)) = asked.to_str().filter(|_| is_name).zip(state_folder(common)) else {
        return Ok(asked.to_owned());
    };
    // A shelf that can't be read has no such image, and the file is then told to be missing.
    let Ok(shelf) = Shelf::open(&state) else { return Ok(asked.to_owned()) };
    match shelf.find(name) {
        Ok(Some(item)) => Ok(shelf.path(item)),
        Ok(None) => Ok(asked.to_owned()),
        Err(several) => Err(Failure::new(Exit::Usage, several.to_string(), "give one of these names whole")),
    }
}

/// Opens an image file, looks into it, and says what the catalogue and the shelf know of its age.
pub(crate) fn open_image(path: &Path, common: &Common) -> Result<OpenedImage, Failure> {
    let mut opened = open_image_called(path, path).map_err(|mut failure| {
        if let Some(meant) = Some(path).filter(|path| !path.exists()).and_then(|path| meant_instead(path, common)) {
            failure.next = format!("did you mean {meant}?");
        }
        failure
    })?;
    opened.inspection.findings.extend(release::age(&opened.inspection.naming, common));
    Ok(opened)
}

/// What to do with a part of a file that was split, by its name: `larkspur.iso.001`, `larkspur.iso.aa`, `larkspur.iso.part1`.
fn joining(name: &str) -> Option<String> {
    let (whole, ending) = name.rsplit_once('.').filter(|(whole, _)| whole.contains('.'))?;
    let is_number = |text: &str| (1..=4).contains(&text.len()) && text.bytes().all(|byte| byte.is_ascii_digit());
    if ending.strip_prefix("part").is_some_and(is_number) {
        // A shell sorts 10 before 2.
        return Some("join its parts first, in the order of their numbers".to_owned());
    }
    let any = match ending {
        "aa" | "ab" | "aaa" | "aab" => "[a-z]",
        ending if is_number(ending) && ending.len() > 1 => "[0-9]",
        _ => return None,
    };
    // Nothing else that bears the name, such as a list of checksums, is taken for a part.
    let whole = shell::word(whole);
    Some(format!("join its parts first: cat {whole}.{} > {whole}", any.repeat(ending.len())))
}

/// Opens the image file at `path`, whose name is, or will be, that of `called`.
pub(crate) fn open_image_called(path: &Path, called: &Path) -> Result<OpenedImage, Failure> {
    let fail = |error: io::Error| {
        let next = match error.kind() {
            io::ErrorKind::NotFound => "check the name; a browser may have added to it",
            io::ErrorKind::PermissionDenied => "make it readable for yourself, or copy it",
            io::ErrorKind::IsADirectory | io::ErrorKind::InvalidInput => "give the image file itself",
            _ => "copy the image to another disk, or download it again",
        };
        let file = called.shown();
        let text = match error.kind() {
            io::ErrorKind::NotFound => format!("there is no file {file}"),
            io::ErrorKind::IsADirectory => format!("{file} is a folder, not an image file"),
            io::ErrorKind::InvalidInput => format!("{file} is not a regular file"),
            _ => format!("can't read {file}: {}", plain(&error)),
        };
        Failure::new(Exit::Image, text, next)
    };
    let file = Arc::new(ImageFile::open(path).map_err(fail)?);
    let source: SharedBytes = Arc::clone(&file) as SharedBytes;
    let Opened { mut inspection, packed } = image::open(&source).map_err(fail)?;
    let name = called.file_name().unwrap_or_default().to_string_lossy();
    if let Some(finding) = image::unfinished(&name) {
        inspection.findings.push(finding);
        inspection.verdict = Verdict::No;
    }
    let stop = inspection.findings.iter_mut().find(|finding| finding.level == Level::Stop);
    if let Some((finding, next)) = stop.zip(joining(&name)) {
        finding.next = next;
    }
    Ok(OpenedImage { file, inspection, packed })
}

/// Refuses an image in which something is wrong that no option lifts.
pub(crate) fn fit_to_write(path: &Path, inspection: &Inspection) -> Result<(), Failure> {
    match inspection.findings.iter().find(|finding| finding.level == Level::Stop) {
        Some(finding) => {
            Err(Failure::new(Exit::Image, format!("{}: {}", path.shown(), finding.text), finding.next.as_str()))
        }
        None => Ok(()),
    }
}

/// What is nearest to a name that neither a file nor the shelf has.
fn meant_instead(asked: &Path, common: &Common) -> Option<String> {
    const FILES_MOST: usize = 2000;
    let name = asked.file_name()?.to_str()?;
    let folder = asked.parent().filter(|folder| !folder.as_os_str().is_empty());
    let beside = machine::names_in(folder.unwrap_or(Path::new(".")), FILES_MOST).unwrap_or_default();
    let beside = beside.into_iter().filter_map(|name| name.into_string().ok());
    let shelf = state_folder(common).filter(|_| folder.is_none()).and_then(|state| Shelf::open(&state).ok());
    let shelved = shelf.iter().flat_map(|shelf| shelf.items()).map(|item| item.name().to_owned());
    let known: Vec<String> = shelved.chain(beside).collect();
    let nearest = nearest(name, known.iter().map(String::as_str))?;
    let whole = folder.map_or_else(|| PathBuf::from(nearest), |folder| folder.join(nearest));
    Some(shell::path(&whole))
}
