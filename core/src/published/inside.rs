//! Checks that images carry inside: the list of checksums at the root of the tree.
//!
//! An image with no published checksum can thus still be tested for damage; its origin stays unproven.

use std::collections::BTreeMap;
use std::ops::ControlFlow;

use crate::bytes::ReadAt;
use crate::hash::{Hashers, Sum};
use crate::published::sidecar::is_list;
use crate::published::sums::SUMS_BYTES_MOST;
use crate::published::{CheckError, sums};
use crate::stop::Cancel;
use crate::volume::iso9660::{Extent, IsoVolume};

/// Read in pieces of this many bytes.
const PIECE: u64 = 1 << 20;

/// How the files of an image came out against the list that lies in it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FileList {
    /// The list's name.
    pub source: String,
    /// How many files it names.
    pub files: usize,
    /// Files whose bytes are not those of the list.
    pub damaged: Vec<String>,
    /// Files that the list names and the image does not have.
    pub missing: Vec<String>,
}

impl FileList {
    /// Whether every file is there and as it should be.
    pub fn ok(&self) -> bool {
        self.damaged.is_empty() && self.missing.is_empty()
    }
}

/// The name of a list, and the files that it names by their paths.
type Listed = (String, BTreeMap<String, ListedFile>);

struct ListedFile {
    sum: Sum,
    /// Several when a file is larger than one directory record can say.
    extents: Vec<Extent>,
}

/// Finds the first list at the root of the volume and checks every file that it names; `None` without a list that names any.
///
/// `progress` hears the bytes done, and of how many.
///
/// # Errors
/// When the image can't be read, or `cancel` says stop.
pub fn file_list(
    image: &dyn ReadAt,
    volume: &IsoVolume,
    cancel: &Cancel,
    progress: &mut dyn FnMut(u64, u64),
) -> Result<Option<FileList>, CheckError> {
    let Some((source, wanted)) = listed(image, volume)?.filter(|(_, wanted)| !wanted.is_empty()) else {
        return Ok(None);
    };
    let mut found = FileList { source, files: wanted.len(), ..FileList::default() };
    let (here, missing): (Vec<_>, Vec<_>) = wanted.into_iter().partition(|(_, wanted)| !wanted.extents.is_empty());
    found.missing = missing.into_iter().map(|(path, _)| path).collect();
    let mut here = here;
    // In the order in which they lie, so that the disk reads straight on.
    here.sort_by_key(|(_, wanted)| wanted.extents.first().map(|extent| extent.start));
    let sizes = here.iter().flat_map(|(_, wanted)| &wanted.extents).map(|extent| extent.bytes);
    let total = sizes.fold(0u64, u64::saturating_add);
    let mut done = 0u64;
    for (path, wanted) in here {
        let mut hashers = Hashers::new([wanted.sum.algorithm]);
        for extent in &wanted.extents {
            hash(image, *extent, &mut hashers, cancel, &mut |bytes| {
                done = done.saturating_add(bytes);
                progress(done, total);
            })?;
        }
        if hashers.finish().first() != Some(&wanted.sum) {
            found.damaged.push(path);
        }
    }
    Ok(Some(found))
}

/// The list in a volume's top folder, and where what it names lies.
fn listed(image: &dyn ReadAt, volume: &IsoVolume) -> Result<Option<Listed>, CheckError> {
    let fail = |at| move |source| CheckError::Image { at, source };
    let mut list = None;
    let mut find = |path: &str, extent: Extent| {
        if !path.contains('/') && is_list(path) && extent.bytes <= SUMS_BYTES_MOST {
            list = Some((path.to_owned(), extent));
            return ControlFlow::Break(());
        }
        ControlFlow::Continue(())
    };
    volume.files(image, &mut find).map_err(fail(volume.root.start))?;
    let Some((source, extent)) = list else { return Ok(None) };
    let mut text = vec![0u8; usize::try_from(extent.bytes).unwrap_or_default()];
    let count = image.fill_at(extent.start, &mut text).map_err(fail(extent.start))?;
    text.truncate(count);

    let mut wanted: BTreeMap<String, ListedFile> = BTreeMap::new();
    for line in sums::parse(&text, sums::kind_in(&source)).lines {
        let Some(name) = line.name else { continue };
        let path = name.trim_start_matches("./").trim_start_matches('/').to_owned();
        wanted.insert(path, ListedFile { sum: line.sum, extents: Vec::new() });
    }
    let mut place = |path: &str, extent: Extent| {
        if let Some(wanted) = wanted.get_mut(path) {
            wanted.extents.push(extent);
        }
        ControlFlow::Continue(())
    };
    volume.files(image, &mut place).map_err(fail(volume.root.start))?;
    Ok(Some((source, wanted)))
}

/// Hashes what lies there; `progress` hears each piece's length.
fn hash(
    image: &dyn ReadAt,
    extent: Extent,
    hashers: &mut Hashers,
    cancel: &Cancel,
    progress: &mut dyn FnMut(u64),
) -> Result<(), CheckError> {
    let mut at = 0u64;
    while at < extent.bytes {
        if cancel.is_set() {
            return Err(CheckError::Stopped);
        }
        let want = extent.bytes.saturating_sub(at).min(PIECE);
        let mut piece = vec![0u8; usize::try_from(want).unwrap_or_default()];
        let start = extent.start.saturating_add(at);
        let count = image.fill_at(start, &mut piece).map_err(|source| CheckError::Image { at: start, source })?;
        hashers.update(piece.get(..count).unwrap_or_default());
        if (count as u64) < want {
            break; // behind the image's end: the sum will not match
        }
        at = at.saturating_add(want);
        progress(want);
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::hash::Algorithm;
    use crate::volume::iso9660;
    use pyrotyp_sample::{Esp, File, Recipe, Tables};

    #[test]
    fn every_listed_file_is_checked_and_the_damaged_ones_are_named() {
        let mut files = vec![File::filler("live/system.img", 1_500_000, 1), File::filler("live/kernel.bin", 3000, 2)];
        let sum = |file: &File| {
            let mut hashers = Hashers::new([Algorithm::Md5]);
            hashers.update(&file.bytes);
            format!("{}  ./{}\n", hashers.finish().remove(0).hex, file.path)
        };
        let list: String = files.iter().map(sum).collect();
        files.push(File::text("md5sum.txt", &format!("{list}{}  ./live/gone.bin\n", "0".repeat(32))));
        let recipe = Recipe {
            name: "T".into(),
            label: "T".into(),
            tables: Tables::None,
            esp: Esp::None,
            el_torito: false,
            files,
        };
        let mut image = recipe.build();
        let volume = iso9660::read(&image).unwrap().unwrap().unwrap();
        let check = |image: &Vec<u8>| file_list(image, &volume, &Cancel::new(), &mut |_, _| ()).unwrap().unwrap();
        let found = check(&image);
        assert_eq!(
            (found.files, found.damaged.len(), found.missing.as_slice()),
            (3, 0, &["live/gone.bin".to_owned()][..])
        );
        let system = volume.file_at(&image, 100_000).unwrap().unwrap();
        image[system.1.start as usize + 1_400_000] ^= 1;
        assert_eq!(check(&image).damaged, ["live/system.img"]);
    }
}
