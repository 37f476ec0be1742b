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
use rustix::io::Errno;

use super::calls;
use crate::text::Shown;

/// Maximum number of processes: `PID_MAX_LIMIT`, linux/threads.h.
const MAX_PROCESSES: usize = 1 << 22;
/// Maximum number of open files and mappings that one search reads.
const MAX_FILES: usize = 4_000_000;
/// Longest line of a list of mappings: a path of 4096 bytes, each escaped as four, after fields of fixed width.
const MAX_MAPPING_BYTES: u64 = 20_000;
/// Reading a process that hangs in the kernel may block.
const MAX_SEARCH_TIME: Duration = Duration::from_secs(10);
/// Most that are named.
const NAMED_MOST: usize = 5;
/// Most sets of mounts that are looked into.
const NAMESPACES_MOST: usize = 200;

/// Id and display name of a process.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Process {
    id: u32,
    pub(super) display_name: String,
}

/// Result of a search through all processes.
#[derive(Debug)]
pub(super) struct FoundProcesses {
    pub(super) processes: Vec<Process>,
    /// False if a process could not be read.
    pub(super) is_complete: bool,
}

/// Folders of all processes but this one and the one `beside` it, with their numbers.
fn others(proc: &Path, beside: Option<u32>) -> impl Iterator<Item = (u32, PathBuf)> + use<> {
    let own = std::process::id();
    let entries = fs::read_dir(proc).into_iter().flatten().take(MAX_PROCESSES).flatten();
    let numbered = entries.filter_map(|entry| Some((entry.file_name().to_str()?.parse().ok()?, entry.path())));
    numbered.filter(move |(number, _)| *number != own && Some(*number) != beside)
}

fn read_process(id: u32, folder: &Path) -> Process {
    let name = fs::read(folder.join("comm")).unwrap_or_default();
    Process { id, display_name: format!("{} (process {id})", String::from_utf8_lossy(&name).trim().shown()) }
}

/// Reads processes, and records whether any part of them was unreadable.
struct ProcessReader {
    files_left: Cell<usize>,
    is_complete: Cell<bool>,
    /// Search result for each mapped file, by its device and inode numbers.
    known_mappings: Cell<BTreeMap<(String, String), bool>>,
}

impl ProcessReader {
    fn new() -> Self {
        Self {
            files_left: Cell::new(MAX_FILES),
            is_complete: Cell::new(true),
            known_mappings: Cell::new(BTreeMap::new()),
        }
    }

    /// Returns the value. An error makes the search incomplete, unless the process has ended.
    fn readable<T>(&self, read: io::Result<T>) -> Option<T> {
        let has_ended =
            |error: &io::Error| error.kind() == ErrorKind::NotFound || Errno::from_io_error(error) == Some(Errno::SRCH);
        if read.as_ref().is_err_and(|error| !has_ended(error)) {
            self.is_complete.set(false);
        }
        read.ok()
    }

    /// Counts a file. Returns false if the limit is exceeded.
    fn count_file(&self) -> bool {
        let left = self.files_left.get().checked_sub(1);
        self.files_left.set(left.unwrap_or_default());
        if left.is_none() {
            self.is_complete.set(false);
        }
        left.is_some()
    }

    /// Returns the open files of a process: those of its main thread, and of threads with a separate descriptor table.
    fn open_files(&self, number: u32, folder: &Path) -> impl Iterator<Item = PathBuf> {
        let threads = self.readable(fs::read_dir(folder.join("task"))).into_iter().flatten().flatten();
        let apart = threads.filter_map(move |thread| {
            let id: u32 = thread.file_name().to_str()?.parse().ok()?;
            (id != number && !calls::share_open_files(number, id)).then(|| thread.path())
        });
        let tables = std::iter::once(folder.to_owned()).chain(apart);
        let files =
            tables.flat_map(|table| self.readable(fs::read_dir(table.join("fd"))).into_iter().flatten().flatten());
        files.map(|file| file.path()).take_while(|_| self.count_file())
    }

    /// Returns true if the process has mapped a matching file, even if it has closed the file since.
    fn has_mapped(&self, folder: &Path, matches: &dyn Fn(&Path) -> bool) -> bool {
        let Some(maps) = self.readable(File::open(folder.join("maps"))) else { return false };
        let mut known = self.known_mappings.take();
        let mut maps = BufReader::new(maps);
        let mut line = Vec::new();
        let mut next_line = || {
            line.clear();
            let count = self.readable(maps.by_ref().take(MAX_MAPPING_BYTES).read_until(b'\n', &mut line))?;
            (count > 0 && self.count_file()).then(|| String::from_utf8_lossy(&line).trim_end().to_owned())
        };
        let found = std::iter::from_fn(&mut next_line).any(|line| {
            let Some(Mapping { addresses, device, inode, path }) = Mapping::parse(&line) else { return false };
            let file = (device.to_owned(), inode.to_owned());
            *known.entry(file).or_insert_with(|| {
                // Following the links in map_files requires root; the path is what other accounts have.
                let link = folder.join("map_files").join(addresses);
                matches(&link) || matches(Path::new(path))
            })
        });
        self.known_mappings.set(known);
        found
    }
}

/// A mapped file, from one line of a process's list of mappings.
struct Mapping<'a> {
    addresses: &'a str,
    device: &'a str,
    inode: &'a str,
    path: &'a str,
}

impl<'a> Mapping<'a> {
    /// Parses a line of proc_pid_maps(5): addresses, permissions, offset, device, inode, path.
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

/// Returns the processes, except these two, that have a matching file open or run from it.
pub(super) fn using(proc: &Path, beside: Option<u32>, is_there: impl Fn(&Path) -> bool) -> Vec<String> {
    let reader = ProcessReader::new();
    let uses = |number: u32, folder: &Path| {
        let places = ["cwd", "root", "exe"].map(|name| folder.join(name));
        let mut leads =
            places.into_iter().chain(reader.open_files(number, folder)).filter_map(|link| fs::read_link(link).ok());
        leads.any(|target| is_there(&target))
    };
    let them = others(proc, beside).filter(|(number, folder)| uses(*number, folder));
    them.take(NAMED_MOST).map(|(id, folder)| read_process(id, &folder).display_name).collect()
}

/// Returns the processes, except these two, that have a block device with one of these numbers (`major:minor`) open or mapped. The
/// search ends after 10 s.
pub(super) fn holding_open(proc: &Path, beside: Option<u32>, numbers: &[String]) -> FoundProcesses {
    let (proc, numbers) = (proc.to_owned(), numbers.to_owned());
    let (sender, receiver) = sync_channel(1);
    let thread = std::thread::Builder::new().name("processes".to_owned());
    let started = thread.spawn(move || {
        // After the timeout nothing receives the result.
        let _ = sender.send(search(&proc, beside, &numbers));
    });
    let unknown = || FoundProcesses { processes: Vec::new(), is_complete: false };
    started.map_or_else(|_| unknown(), |_| receiver.recv_timeout(MAX_SEARCH_TIME).unwrap_or_else(|_| unknown()))
}

/// Returns true if the file is a block device with one of these numbers, `major:minor`.
pub(super) fn is_block_device(file: &Path, numbers: &[String]) -> bool {
    // A network file server may not answer.
    let found = statx(CWD, file, AtFlags::STATX_DONT_SYNC, StatxFlags::TYPE);
    found.is_ok_and(|found| {
        let number = format!("{}:{}", found.stx_rdev_major, found.stx_rdev_minor);
        FileType::from_raw_mode(found.stx_mode.into()) == FileType::BlockDevice && numbers.contains(&number)
    })
}

fn search(proc: &Path, beside: Option<u32>, numbers: &[String]) -> FoundProcesses {
    let matches = |file: &Path| is_block_device(file, numbers);
    let reader = ProcessReader::new();
    // With the mount option hidepid, process 1 is hidden too.
    if fs::symlink_metadata(proc.join("1")).is_err() {
        reader.is_complete.set(false);
    }
    let holds = |number: u32, folder: &Path| {
        reader.open_files(number, folder).any(|file| matches(&file)) || reader.has_mapped(folder, &matches)
    };
    let them = others(proc, beside).filter(|(number, folder)| holds(*number, folder));
    let processes = them.take(NAMED_MOST).map(|(id, folder)| read_process(id, &folder)).collect();
    FoundProcesses { processes, is_complete: reader.is_complete.get() }
}

/// Returns true if the process has a matching file open for writing, or if its open files can't be read.
pub(super) fn has_open_for_writing(proc: &Path, id: u32, matches: impl Fn(&Path) -> bool) -> bool {
    let folder = proc.join(id.to_string());
    let reader = ProcessReader::new();
    // proc_pid_fdinfo(5): the flags of open(2), octal; O_RDONLY is 0.
    let is_written = |file: &Path| {
        let info = file.file_name().zip(file.parent().and_then(Path::parent));
        let info = info.and_then(|(name, table)| fs::read_to_string(table.join("fdinfo").join(name)).ok());
        let flags = info.as_deref().and_then(|info| info.lines().find_map(|line| line.strip_prefix("flags:")));
        flags.and_then(|flags| u32::from_str_radix(flags.trim(), 8).ok()).is_none_or(|flags| flags & 3 != 0)
    };
    reader.open_files(id, &folder).any(|file| matches(&file) && is_written(&file)) || !reader.is_complete.get()
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
            found.push((read_process(number, &folder).display_name, mounts));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_files_open_for_writing_are_found() {
        let path = tempfile::NamedTempFile::new().unwrap().into_temp_path();
        let is_it = |file: &Path| fs::read_link(file).is_ok_and(|target| target == *path);
        let is_open = || has_open_for_writing(Path::new("/proc"), std::process::id(), is_it);
        assert!(!is_open());
        let _read = File::open(&path).unwrap();
        assert!(!is_open());
        let _written = File::options().append(true).open(&path).unwrap();
        assert!(is_open());
        // A process that does not exist has no open files.
        assert!(!has_open_for_writing(Path::new("/proc"), u32::MAX, |_| true));
    }

    #[test]
    fn mapping_lines_are_parsed() {
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
