//! Lays a folder's files out on a volume, and writes that as the image of a drive.
//!
//!     cargo run --example compose_tree -- FOLDER KIND DRIVE_BYTES FILE
//!
//! `KIND` is `fat32` or `exfat`. The image is a sparse file, and goes onto a drive of this size as any image does.

use std::fs::{self, File};
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use pyrotyp_core::bytes::{MIB, ReadAt};
use pyrotyp_core::compose::{FileBytes, Storage, TableForm, Tree, VolumeKind, storage_with};

/// A file that is opened only while it is read: there may be more of them than can be open at once.
struct OnDisk {
    path: PathBuf,
    bytes: u64,
}

impl ReadAt for OnDisk {
    fn size(&self) -> u64 {
        self.bytes
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        File::open(&self.path)?.read_at(into, at)
    }
}

/// Everything below a folder, with its path from there on; what is no file is a folder.
fn below(folder: &Path) -> io::Result<Vec<(String, Option<OnDisk>)>> {
    let (mut found, mut waiting) = (Vec::new(), vec![folder.to_owned()]);
    while let Some(next) = waiting.pop() {
        let mut entries = fs::read_dir(&next)?.collect::<io::Result<Vec<_>>>()?;
        // The same folder gives the same image, whatever the order in which it is listed.
        entries.sort_by_key(fs::DirEntry::file_name);
        for entry in entries {
            let (path, about) = (entry.path(), entry.metadata()?);
            let inside = path.strip_prefix(folder).map_err(io::Error::other)?;
            let name = inside.to_str().ok_or_else(|| io::Error::other(format!("{path:?} is not UTF-8")))?;
            if about.is_dir() {
                found.push((name.to_owned(), None));
                waiting.push(path);
            } else {
                found.push((name.to_owned(), Some(OnDisk { path, bytes: about.len() })));
            }
        }
    }
    Ok(found)
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let [folder, kind, drive_bytes, file] = words.as_slice() else {
        return Err("FOLDER KIND DRIVE_BYTES FILE".into());
    };
    let kind = VolumeKind::ALL.into_iter().find(|known| known.word() == kind).ok_or("KIND: fat32 or exfat")?;
    let drive_bytes: u64 = drive_bytes.parse()?;
    let found = below(Path::new(folder))?;
    let mut tree = Tree::default();
    for (path, file) in &found {
        match file {
            Some(of) => tree.add_file(path, None, FileBytes::all_of(of))?,
            None => tree.add_folder(path, None)?,
        }
    }
    let label = "BENCH".to_owned();
    let wanted = Storage { drive_bytes, sector_bytes: 512, kind, table: TableForm::Mbr, label, serial: 1 };
    let made = storage_with(&wanted, &tree)?;
    let image = File::create_new(file)?;
    image.set_len(drive_bytes)?;
    let mut piece = vec![0u8; MIB as usize];
    for at in (0..made.size()).step_by(piece.len()) {
        let count = made.fill_at(at, &mut piece)?;
        let read = &piece[..count];
        // Zeros stay holes of the file.
        if read.iter().any(|byte| *byte != 0) {
            image.write_all_at(read, at)?;
        }
    }
    Ok(())
}
