//! Who uses a device or a volume: processes by name and number.
//!
//! Source: proc_pid_fd(5), proc_pid_task(5), proc_pid_maps(5), proc_pid_cwd(5), proc_pid_comm(5), namespaces(7), kcmp(2).

use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io::{self, BufRead, BufReader, ErrorKind, Read};
use std::path::{Path, PathBuf};
use std::sync::mpsc::sync_channel;
use std::time::Duration;

use rustix::fs::{AtFlags, CWD, FileType, StatxFlags, statx};

use super::calls;
use crate::text::Shown;

/// Most processes, and files and mappings of all of them, that one look reads.
const MAX_PROCESSES: usize = 4_000_000;
const MAX_FILES: usize = 4_000_000;
/// Most bytes of one process's list of mappings: the kernel allows 65,530 by default.
const MAX_MAPS_BYTES: u64 = 64 << 20;
/// A process that hangs in the kernel may keep whoever looks at it.
const MAX_LOOK: Duration = Duration::from_secs(10);
/// Most that are named.
const NAMED_MOST: usize = 5;
/// Most sets of mounts that are looked into.
const NAMESPACES_MOST: usize = 200;

/// A process that uses something.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Process {
    number: u32,
    /// For people, with the number.
    pub(super) name: String,
}

/// What one look at all processes found.
#[derive(Debug)]
pub(super) struct Look {
    pub(super) found: Vec<Process>,
    /// Whether every process could be looked at.
    pub(super) is_complete: bool,
}

/// Folders of all processes but this one and the one `beside` it, with their numbers.
fn others(proc: &Path, beside: Option<u32>) -> impl Iterator<Item = (u32, PathBuf)> + use<> {
    let own = std::process::id();
    let entries = fs::read_dir(proc).into_iter().flatten().take(MAX_PROCESSES).flatten();
    let numbered = entries.filter_map(|entry| Some((entry.file_name().to_str()?.parse().ok()?, entry.path())));
    numbered.filter(move |(number, _)| *number != own && Some(*number) != beside)
}

fn process(number: u32, folder: &Path) -> Process {
    let name = fs::read(folder.join("comm")).unwrap_or_default();
    Process { number, name: format!("{} (process {number})", String::from_utf8_lossy(&name).trim().shown()) }
}

/// Reads processes one after the other, and notes whether anything of them stayed unseen.
struct Looking {
    files_left: Cell<usize>,
    is_complete: Cell<bool>,
    /// Whether the files at these device and inode numbers are searched for, by the mappings that were seen.
    known: Cell<BTreeMap<(String, String), bool>>,
}

impl Looking {
    fn new() -> Self {
        Self { files_left: Cell::new(MAX_FILES), is_complete: Cell::new(true), known: Cell::new(BTreeMap::new()) }
    }

    /// What was read, or nothing: a process that has ended has nothing open.
    fn seen<T>(&self, read: io::Result<T>) -> Option<T> {
        if read.as_ref().is_err_and(|error| error.kind() == ErrorKind::PermissionDenied) {
            self.is_complete.set(false);
        }
        read.ok()
    }

    /// Counts one file more; false once there are too many.
    fn counts(&self) -> bool {
        let left = self.files_left.get().checked_sub(1);
        self.files_left.set(left.unwrap_or_default());
        if left.is_none() {
            self.is_complete.set(false);
        }
        left.is_some()
    }

    /// Open files of a process: those of its first thread, and of all threads with a table of their own.
    fn open_files(&self, number: u32, folder: &Path) -> impl Iterator<Item = PathBuf> {
        let threads = fs::read_dir(folder.join("task")).into_iter().flatten().flatten();
        let apart = threads.filter_map(move |thread| {
            let id: u32 = thread.file_name().to_str()?.parse().ok()?;
            (id != number && !calls::share_files(number, id)).then(|| thread.path())
        });
        let tables = std::iter::once(folder.to_owned()).chain(apart);
        let files = tables.flat_map(|table| self.seen(fs::read_dir(table.join("fd"))).into_iter().flatten().flatten());
        files.map(|file| file.path()).take_while(|_| self.counts())
    }

    /// Whether a process has a file mapped to which `is_searched` applies; the file may be closed since.
    fn has_mapped(&self, folder: &Path, is_searched: &dyn Fn(&Path) -> bool) -> bool {
        let Some(maps) = self.seen(File::open(folder.join("maps"))) else { return false };
        let mut known = self.known.take();
        let lines = BufReader::new(maps.take(MAX_MAPS_BYTES)).split(b'\n').map_while(|line| self.seen(line));
        let mut mappings = lines.take_while(|_| self.counts());
        let found = mappings.any(|line| {
            let line = String::from_utf8_lossy(&line);
            let Some(Mapping { addresses, device, inode, path }) = Mapping::parse(&line) else { return false };
            let file = (device.to_owned(), inode.to_owned());
            *known.entry(file).or_insert_with(|| {
                // Without root, the file of a mapping is found by its path alone.
                let place = folder.join("map_files").join(addresses);
                is_searched(&place) || is_searched(Path::new(path))
            })
        });
        self.known.set(known);
        found
    }
}

/// A line of a list of mappings that maps a file.
struct Mapping<'a> {
    addresses: &'a str,
    device: &'a str,
    inode: &'a str,
    path: &'a str,
}

impl<'a> Mapping<'a> {
    /// proc_pid_maps(5): addresses, permissions, offset, device, inode, path.
    fn parse(line: &'a str) -> Option<Self> {
        let mut rest = line;
        let mut field = || {
            let (field, after) = rest.split_once(' ')?;
            rest = after.trim_start();
            Some(field)
        };
        let (addresses, _, _, device, inode) = (field()?, field()?, field()?, field()?, field()?);
        (inode != "0" && rest.starts_with('/')).then_some(Self { addresses, device, inode, path: rest })
    }
}

/// The processes other than these two that have something open, or are, where `is_there` says.
pub(super) fn using(proc: &Path, beside: Option<u32>, is_there: impl Fn(&Path) -> bool) -> Vec<String> {
    let looking = Looking::new();
    let uses = |number: u32, folder: &Path| {
        let places = ["cwd", "root", "exe"].map(|name| folder.join(name));
        let mut leads =
            places.into_iter().chain(looking.open_files(number, folder)).filter_map(|link| fs::read_link(link).ok());
        leads.any(|target| is_there(&target))
    };
    let them = others(proc, beside).filter(|(number, folder)| uses(*number, folder));
    them.take(NAMED_MOST).map(|(number, folder)| process(number, &folder).name).collect()
}

/// The processes other than these two that have a block device with one of these numbers, `major:minor`, open or mapped. Takes 10 s at
/// most.
pub(super) fn holding_open(proc: &Path, beside: Option<u32>, numbers: &[String]) -> Look {
    let (proc, numbers) = (proc.to_owned(), numbers.to_owned());
    let (sender, receiver) = sync_channel(1);
    let thread = std::thread::Builder::new().name("processes".to_owned());
    let started = thread.spawn(move || {
        // Whoever waited for it may be gone.
        let _ = sender.send(look_at_all(&proc, beside, &numbers));
    });
    let unseen = || Look { found: Vec::new(), is_complete: false };
    started.map_or_else(|_| unseen(), |_| receiver.recv_timeout(MAX_LOOK).unwrap_or_else(|_| unseen()))
}

/// Whether a file is a block device with one of these numbers, `major:minor`.
pub(super) fn is_device(file: &Path, numbers: &[String]) -> bool {
    // Nothing is asked of servers that may not answer.
    let found = statx(CWD, file, AtFlags::STATX_DONT_SYNC, StatxFlags::TYPE);
    found.is_ok_and(|found| {
        let number = format!("{}:{}", found.stx_rdev_major, found.stx_rdev_minor);
        FileType::from_raw_mode(found.stx_mode.into()) == FileType::BlockDevice && numbers.contains(&number)
    })
}

fn look_at_all(proc: &Path, beside: Option<u32>, numbers: &[String]) -> Look {
    let is_device = |file: &Path| is_device(file, numbers);
    let looking = Looking::new();
    // Where processes of other accounts are hidden, the first one is.
    if fs::symlink_metadata(proc.join("1")).is_err() {
        looking.is_complete.set(false);
    }
    let holds = |number: u32, folder: &Path| {
        looking.open_files(number, folder).any(|file| is_device(&file)) || looking.has_mapped(folder, &is_device)
    };
    let them = others(proc, beside).filter(|(number, folder)| holds(*number, folder));
    let found = them.take(NAMED_MOST).map(|(number, folder)| process(number, &folder)).collect();
    Look { found, is_complete: looking.is_complete.get() }
}

/// Whether a process has a file open for writing to which `is_searched` applies; also where that can't be told.
pub(super) fn has_open_for_writing(proc: &Path, number: u32, is_searched: impl Fn(&Path) -> bool) -> bool {
    let folder = proc.join(number.to_string());
    let looking = Looking::new();
    // proc_pid_fdinfo(5): the flags of open(2), octal; O_RDONLY is 0.
    let is_written = |file: &Path| {
        let info = file.file_name().zip(file.parent().and_then(Path::parent));
        let info = info.and_then(|(name, table)| fs::read_to_string(table.join("fdinfo").join(name)).ok());
        let flags = info.as_deref().and_then(|info| info.lines().find_map(|line| line.strip_prefix("flags:")));
        flags.and_then(|flags| u32::from_str_radix(flags.trim(), 8).ok()).is_none_or(|flags| flags & 3 != 0)
    };
    looking.open_files(number, &folder).any(|file| is_searched(&file) && is_written(&file))
        || !looking.is_complete.get()
}

/// The mounts of every other set of mounts than this process's own, with a process that sees it.
pub(super) fn other_mounts(proc: &Path) -> Vec<(String, Vec<u8>)> {
    let set_of = |folder: &Path| fs::read_link(folder.join("ns/mnt")).ok();
    let mut seen: BTreeSet<PathBuf> = set_of(&proc.join("self")).into_iter().collect();
    let mut found = Vec::new();
    for (number, folder) in others(proc, None) {
        if found.len() < NAMESPACES_MOST
            && set_of(&folder).is_some_and(|set| seen.insert(set))
            && let Ok(mounts) = fs::read(folder.join("mountinfo"))
        {
            found.push((process(number, &folder).name, mounts));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_file_that_is_open_for_writing_counts_as_one() {
        let path = tempfile::NamedTempFile::new().unwrap().into_temp_path();
        let is_it = |file: &Path| fs::read_link(file).is_ok_and(|target| target == *path);
        let is_open = || has_open_for_writing(Path::new("/proc"), std::process::id(), is_it);
        assert!(!is_open());
        let _read = File::open(&path).unwrap();
        assert!(!is_open());
        let _written = File::options().append(true).open(&path).unwrap();
        assert!(is_open());
        // Of a process that is not there, nothing is known to be closed.
        assert!(!has_open_for_writing(Path::new("/proc"), u32::MAX, |_| true));
    }

    #[test]
    fn mappings_of_files_are_read_from_their_lines() {
        let line = "7f0b2c000000-7f0b2c100000 rw-s 00000000 00:06 412                        /dev/sdb (deleted)";
        let Mapping { addresses, device, inode, path } = Mapping::parse(line).unwrap();
        assert_eq!(
            (addresses, device, inode, path),
            ("7f0b2c000000-7f0b2c100000", "00:06", "412", "/dev/sdb (deleted)")
        );
        for line in ["", "7f0b-7f0c rw-p 0 00:00 0 [heap]", "7f0b-7f0c rw-p 0 00:00 0", "a b c d 5 socket:[1]"] {
            assert!(Mapping::parse(line).is_none(), "{line}");
        }
    }
}
