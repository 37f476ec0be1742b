//! Where a command may read and write.

use std::fs::OpenOptions;
use std::path::{Path, PathBuf};

use super::file::{make_folder, open_own};
use super::outputs::OutputFiles;

/// Most files of a folder that are named one by one.
const FILES_MOST: usize = 4000;

/// Files and folders that a command needs; a folder stands for all that is below it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NamedPlaces {
    /// What may be read.
    pub read: Vec<PathBuf>,
    /// Folders whose names may be listed.
    pub listed: Vec<PathBuf>,
    /// What may be read, made, changed and removed.
    pub written: Vec<PathBuf>,
    /// Files that the output writer writes.
    pub outputs: OutputFiles,
}

impl NamedPlaces {
    /// A file that was named, and the files beside it, such as lists and signatures; of those whose names begin with a dot, none.
    pub fn read_beside(&mut self, file: &Path) {
        // A link lies in one folder, and what it leads to in another.
        for file in [Some(file.to_owned()), file.canonicalize().ok()].into_iter().flatten() {
            let folder = match file.parent() {
                Some(folder) if folder != Path::new("") => folder.to_owned(),
                _ => PathBuf::from("."),
            };
            self.read_files_in(&folder);
            self.read.push(file);
        }
    }

    /// The files of a folder, and none of its folders.
    pub fn read_files_in(&mut self, folder: &Path) {
        let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
        let files = entries.filter(|entry| {
            // A list or signature may be a link to a file elsewhere: it was put beside the image to be read with it.
            let is_file = entry.path().metadata().is_ok_and(|found| found.is_file());
            is_file && !entry.file_name().as_encoded_bytes().starts_with(b".")
        });
        self.read.extend(files.take(FILES_MOST).map(|entry| entry.path()));
        self.listed.push(folder.to_owned());
    }

    /// Adds a folder to write to. Creates it now, because its parent folder stays closed.
    pub fn write_below(&mut self, folder: &Path) {
        // The command reports a folder that can't be created.
        let _ = make_folder(folder);
        self.written.extend(Some(folder.to_owned()).filter(|folder| folder.is_dir()));
    }

    /// Adds a file that the output writer writes.
    pub fn add_output(&mut self, file: &Path) {
        self.outputs.add_file(file);
    }

    /// Adds a file that the command itself writes. Creates it now; the output writer removes it if it is still empty at the end.
    pub fn create_output(&mut self, file: &Path) {
        let created = open_own(file, OpenOptions::new().read(true).write(true).create(true).truncate(false));
        // The command reports a file that can't be created.
        if created.is_ok() {
            self.outputs.add_created_file(file);
            self.written.push(file.to_owned());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn beside_a_file_are_files_and_a_new_folder_is_made_where_one_is() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        ["a.iso", "SHA256SUMS", ".netrc"].iter().for_each(|name| std::fs::write(at(name), name).unwrap());
        std::fs::create_dir(at("folder")).unwrap();
        std::fs::write(at("folder/list"), "").unwrap();
        std::os::unix::fs::symlink(at("folder/list"), at("SHA512SUMS")).unwrap();
        std::os::unix::fs::symlink(at("folder"), at("link")).unwrap();
        let mut places = NamedPlaces::default();
        places.read_beside(&at("a.iso"));
        let names: std::collections::BTreeSet<_> = places.read.iter().filter_map(|path| path.file_name()).collect();
        assert_eq!(names.into_iter().collect::<Vec<_>>(), ["SHA256SUMS", "SHA512SUMS", "a.iso"]);
        assert_eq!(places.listed[0], folder.path());
        places.write_below(&at("folder/new/newer"));
        places.create_output(&at("folder/stick.img.part"));
        assert_eq!(places.written, [at("folder/new/newer"), at("folder/stick.img.part")]);
    }
}
