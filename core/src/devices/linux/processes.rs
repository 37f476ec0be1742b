//! Who uses a device or a volume: processes by name and number, as far as this process may see them.
//!
//! Source: proc_pid_fd(5), proc_pid_cwd(5), proc_pid_comm(5), namespaces(7).

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, CWD, FileType, StatxFlags, statx};

use crate::text::Shown;

/// Most processes, and open files of each, that are looked at.
const PROCESSES_MOST: usize = 20_000;
const FILES_MOST: usize = 4_000;
/// Most that are named.
const NAMED_MOST: usize = 5;
/// Most sets of mounts that are looked into.
const NAMESPACES_MOST: usize = 200;

/// Folders of all processes but this one and the one `beside` it, with their numbers.
fn others(proc: &Path, beside: Option<u32>) -> impl Iterator<Item = (u32, PathBuf)> {
    let own = std::process::id();
    let entries = fs::read_dir(proc).into_iter().flatten().take(PROCESSES_MOST).flatten();
    let numbered = entries.filter_map(|entry| Some((entry.file_name().to_str()?.parse().ok()?, entry.path())));
    numbered.filter(move |(number, _)| *number != own && Some(*number) != beside)
}

fn name_of(number: u32, folder: &Path) -> String {
    let name = fs::read(folder.join("comm")).unwrap_or_default();
    format!("{} (process {number})", String::from_utf8_lossy(&name).trim().shown())
}

fn open_files(folder: &Path) -> impl Iterator<Item = PathBuf> + use<> {
    let files = fs::read_dir(folder.join("fd")).into_iter().flatten().take(FILES_MOST).flatten();
    files.map(|file| file.path())
}

/// Names of the processes other than these two that have something open, or are, where `is_there` says.
pub(super) fn using(proc: &Path, beside: Option<u32>, is_there: impl Fn(&Path) -> bool) -> Vec<String> {
    let uses = |folder: &Path| {
        let places = ["cwd", "root", "exe"].map(|name| folder.join(name));
        let mut leads = places.into_iter().chain(open_files(folder)).filter_map(|link| fs::read_link(link).ok());
        leads.any(|target| is_there(&target))
    };
    let them = others(proc, beside).filter(|(_, folder)| uses(folder));
    them.take(NAMED_MOST).map(|(number, folder)| name_of(number, &folder)).collect()
}

/// Numbers and names of the processes other than these two that have a block device with one of these numbers,
/// `major:minor`, open.
pub(super) fn holding_open(proc: &Path, beside: Option<u32>, numbers: &[String]) -> Vec<(u32, String)> {
    let is_device = |file: &PathBuf| {
        // Nothing is asked of servers that may not answer.
        let found = statx(CWD, file, AtFlags::STATX_DONT_SYNC, StatxFlags::TYPE);
        found.is_ok_and(|found| {
            let number = format!("{}:{}", found.stx_rdev_major, found.stx_rdev_minor);
            FileType::from_raw_mode(found.stx_mode.into()) == FileType::BlockDevice && numbers.contains(&number)
        })
    };
    let them = others(proc, beside).filter(|(_, folder)| open_files(folder).any(|file| is_device(&file)));
    them.take(NAMED_MOST).map(|(number, folder)| (number, name_of(number, &folder))).collect()
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
            found.push((name_of(number, &folder), mounts));
        }
    }
    found
}
