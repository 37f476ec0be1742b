//! Who uses a device or a volume: processes by name and number, as far as this process may see them.
//!
//! Source: proc_pid_fd(5), proc_pid_cwd(5), proc_pid_comm(5).

use std::fs;
use std::path::{Path, PathBuf};

/// Most processes, and open files of each, that are looked at.
const PROCESSES_MOST: usize = 20_000;
const FILES_MOST: usize = 4_000;
/// Most that are named.
const NAMED_MOST: usize = 5;

/// Names of the processes other than this one that have something open, or are, where `is_there` says.
pub fn using(proc: &Path, is_there: impl Fn(&Path) -> bool) -> Vec<String> {
    let mut found = Vec::new();
    let own = std::process::id();
    for entry in fs::read_dir(proc).into_iter().flatten().take(PROCESSES_MOST).flatten() {
        let Some(number) = entry.file_name().to_str().and_then(|name| name.parse::<u32>().ok()) else { continue };
        if number == own || found.len() >= NAMED_MOST {
            continue;
        }
        let folder = entry.path();
        let places = ["cwd", "root", "exe"].map(|name| folder.join(name));
        let files = fs::read_dir(folder.join("fd")).into_iter().flatten().take(FILES_MOST).flatten();
        let mut leads: Box<dyn Iterator<Item = PathBuf>> = Box::new(
            places.into_iter().chain(files.map(|file| file.path())).filter_map(|link| fs::read_link(link).ok()),
        );
        if leads.any(|target| is_there(&target)) {
            let name = fs::read_to_string(folder.join("comm")).unwrap_or_default();
            found.push(format!("{} (process {number})", name.trim()));
        }
    }
    found
}
