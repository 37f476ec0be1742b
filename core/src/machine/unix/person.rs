//! Who is the person for whom this runs, and how does a process become that person's?

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::{fs, io};

use nix::unistd::{Gid, Uid, User, getgrouplist};

use super::is_root;
use crate::machine::person::{Person, PersonError};

/// How far up the tree of processes the person's own may be.
const ANCESTORS_MOST: usize = 24;
/// Longest environment that is looked at, in bytes.
const ENVIRONMENT_BYTES_MOST: u64 = 256 << 10;

impl Person {
    fn of(user: &User) -> Self {
        let name = std::ffi::CString::new(user.name.as_bytes()).ok();
        let groups = name.and_then(|name| getgrouplist(&name, user.gid).ok()).unwrap_or_default();
        let groups = groups.into_iter().map(Gid::as_raw).collect();
        Self { user: user.uid.as_raw(), group: user.gid.as_raw(), groups, home: user.dir.clone() }
    }

    /// Has this thread run as that person from here on, with that person's groups.
    ///
    /// # Errors
    /// When the rights can't be laid down.
    pub(crate) fn become_this(&self) -> io::Result<()> {
        use rustix::process::{Gid, Uid};
        use rustix::thread::{set_thread_groups, set_thread_res_gid, set_thread_res_uid};
        let (user, group) = (Uid::from_raw(self.user), Gid::from_raw(self.group));
        let groups: Vec<Gid> = self.groups.iter().map(|group| Gid::from_raw(*group)).collect();
        set_thread_groups(&groups)?;
        set_thread_res_gid(group, group, group)?;
        set_thread_res_uid(user, user, user)?;
        Ok(())
    }

    /// What a variable was in the person's own environment, before root's took its place: that of the program that gave
    /// the rights, or else of what that was called from.
    pub fn variable(&self, name: &str) -> Option<OsString> {
        let mut process = std::process::id();
        let mut found = None;
        for _ in 0..ANCESTORS_MOST {
            let status = fs::read_to_string(format!("/proc/{process}/status")).ok()?;
            let field = |key: &str| {
                let value = status.lines().find_map(|line| line.strip_prefix(key))?;
                value.split_whitespace().next()?.parse::<u32>().ok()
            };
            let is_own = field("Uid:") == Some(self.user);
            let is_this = process == std::process::id();
            if let Some(value) = variable_of(process, name).filter(|_| !is_this) {
                found = Some(value);
            }
            if is_own {
                break;
            }
            process = field("PPid:").filter(|parent| *parent > 1)?;
        }
        found
    }
}

fn variable_of(process: u32, name: &str) -> Option<OsString> {
    let path = PathBuf::from(format!("/proc/{process}/environ"));
    let bytes = crate::machine::file::read_regular(&path, ENVIRONMENT_BYTES_MOST).ok()?;
    let value =
        bytes.split(|byte| *byte == 0).find_map(|pair| pair.strip_prefix(name.as_bytes())?.strip_prefix(b"="))?;
    (!value.is_empty()).then(|| OsStr::from_bytes(value).to_owned())
}

/// The person for whom this runs as root, as the program that gave the rights says; `None` where nobody did.
///
/// # Errors
/// When the system does not know that person.
pub fn person() -> Result<Option<Person>, PersonError> {
    if !is_root() {
        return Ok(None);
    }
    // What is no text names nobody: it is no reason to keep root's rights for everything.
    let text =
        |name| std::env::var_os(name).map(|text| text.to_string_lossy().into_owned()).filter(|text| !text.is_empty());
    let by_number =
        |number: &str| number.parse().ok().and_then(|number| User::from_uid(Uid::from_raw(number)).ok().flatten());
    let by_name = |name: &str| User::from_name(name).ok().flatten();
    let named = [
        text("SUDO_UID").map(|number| (by_number(&number), number)),
        text("PKEXEC_UID").map(|number| (by_number(&number), number)),
        text("DOAS_USER").map(|name| (by_name(&name), name)),
    ];
    let mut person: Option<User> = None;
    for (user, asked) in named.into_iter().flatten() {
        let user = user.ok_or(PersonError { asked: asked.clone() })?;
        // A variable that was kept from an outer call names root; whoever is less than root counts.
        match &person {
            _ if user.uid.is_root() => {}
            Some(other) if other.uid != user.uid => return Err(PersonError { asked }),
            _ => person = Some(user),
        }
    }
    Ok(person.map(|user| Person::of(&user)))
}

/// Who logged in, which a shell of root's does not change.
pub fn logged_in() -> Option<Person> {
    // 4294967295: nobody has logged in, as in a rescue system (proc_pid_loginuid(5)).
    let number = fs::read_to_string("/proc/self/loginuid").ok().and_then(|text| text.trim().parse::<u32>().ok());
    let number = number.filter(|number| is_root() && *number != u32::MAX && *number != 0)?;
    User::from_uid(Uid::from_raw(number)).ok().flatten().map(|user| Person::of(&user))
}

/// The home folder of whoever this runs as, as the system has it.
pub fn home_of_this() -> Option<PathBuf> {
    let user = User::from_uid(Uid::effective()).ok().flatten()?;
    Some(user.dir).filter(|home| home != Path::new(""))
}

/// The name of whoever this runs as, as the system has it.
pub fn person_name() -> Option<String> {
    User::from_uid(Uid::current()).ok().flatten().map(|user| user.name)
}

/// The name of this machine.
pub fn host_name() -> Option<String> {
    let name = rustix::system::uname().nodename().to_string_lossy().into_owned();
    Some(name).filter(|name| !name.is_empty())
}
