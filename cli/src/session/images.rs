//! The image that was meant, opened and looked into.

use std::io;
use std::path::{Path, PathBuf};

use pyrotyp_core::examine::OpenedImage;
use pyrotyp_core::image::{Inspection, Verdict};
use pyrotyp_core::shelf::Shelf;
use pyrotyp_core::text::{Shown, shell};
use pyrotyp_core::{Level, image, machine};

use super::folders::state_folder;
use super::release;
use crate::asked::Common;
use crate::exit::{Exit, Failure, plain};
use crate::near::nearest;

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

/// An image that was opened, and where it lies.
#[derive(Clone, Copy)]
pub(crate) struct OpenedAt<'a> {
    pub(crate) path: &'a Path,
    pub(crate) opened: &'a OpenedImage,
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
    let mut opened = OpenedImage::open(path).map_err(fail)?;
    let inspection = &mut opened.inspection;
    let name = called.file_name().unwrap_or_default().to_string_lossy();
    if let Some(finding) = image::unfinished(&name) {
        inspection.findings.push(finding);
        inspection.verdict = Verdict::No;
    }
    let stop = inspection.findings.iter_mut().find(|finding| finding.level == Level::Stop);
    if let Some((finding, next)) = stop.zip(joining(&name)) {
        finding.next = next;
    }
    Ok(opened)
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
