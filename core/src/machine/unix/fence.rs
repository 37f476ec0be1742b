//! Which files this process may reach from here on, and all that it starts, whatever rights it has.
//!
//! Source: landlock(7).

use std::io;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};

use landlock::{
    ABI, Access, AccessFs, CompatLevel, Compatible, Ruleset, RulesetAttr, RulesetCreatedAttr, RulesetError,
    RulesetStatus, Scope, path_beneath_rules,
};

use crate::machine::Places;

/// Where the system's own files are: programs and what they load, its settings, what it says of itself and of its drives.
const OF_THE_SYSTEM: [&str; 17] = [
    "/usr",
    "/bin",
    "/sbin",
    "/lib",
    "/lib32",
    "/lib64",
    "/libx32",
    "/nix",
    "/gnu",
    "/etc",
    "/proc",
    "/sys",
    "/run/udev",
    "/run/systemd/resolve",
    "/run/resolvconf",
    "/run/NetworkManager",
    "/var/lib/ca-certificates",
];
/// Drives, the terminal, and what gives zeros or takes everything: by rights of their own.
const DEVICES: &str = "/dev";
/// What is asked for; an older kernel gives what it knows of it.
const KNOWN: ABI = ABI::V7;

static IS_FENCED: AtomicBool = AtomicBool::new(false);

/// Leaves this process what the system's own files and these places are; to be called while it has one thread.
///
/// # Errors
/// When this kernel can't do that: everything is as it was then.
pub fn fence(places: &Places) -> io::Result<()> {
    let status = restricted(places).map_err(io::Error::other)?;
    if status == RulesetStatus::NotEnforced {
        return Err(io::Error::new(io::ErrorKind::Unsupported, "this kernel has no Landlock"));
    }
    IS_FENCED.store(true, Ordering::Relaxed);
    Ok(())
}

fn restricted(places: &Places) -> Result<RulesetStatus, RulesetError> {
    let read = AccessFs::from_read(KNOWN);
    let devices =
        AccessFs::ReadFile | AccessFs::ReadDir | AccessFs::WriteFile | AccessFs::Truncate | AccessFs::IoctlDev;
    let own_program = std::env::current_exe().ok();
    let system = OF_THE_SYSTEM.iter().map(PathBuf::from).chain(own_program);
    let ruleset = Ruleset::default().set_compatibility(CompatLevel::BestEffort);
    let ruleset = ruleset.handle_access(AccessFs::from_all(KNOWN))?.scope(Scope::from_all(KNOWN))?;
    let ruleset = ruleset
        .create()?
        .add_rules(path_beneath_rules(system.chain(places.read.iter().cloned()), read))?
        .add_rules(path_beneath_rules([DEVICES], devices))?
        .add_rules(path_beneath_rules(&places.listed, AccessFs::ReadDir))?
        .add_rules(path_beneath_rules(&places.written, AccessFs::from_all(KNOWN)))?;
    Ok(ruleset.restrict_self()?.ruleset)
}

/// Whether that holds for this process.
pub fn is_fenced() -> bool {
    IS_FENCED.load(Ordering::Relaxed)
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    #[test]
    fn what_was_not_named_is_out_of_reach() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        for name in ["named", "written", "other"] {
            fs::create_dir(at(name)).unwrap();
            fs::write(at(name).join("file"), name).unwrap();
        }
        let places = Places { read: vec![at("named")], listed: vec![at("other")], written: vec![at("written")] };
        // It holds for the thread that asked for it.
        let tried = std::thread::spawn(move || {
            if restricted(&places).unwrap() == RulesetStatus::NotEnforced {
                return None;
            }
            let [named, written, other] =
                [&places.read, &places.written, &places.listed].map(|one| one[0].join("file"));
            assert_eq!((fs::read(&named).is_ok(), fs::read(&other).is_ok()), (true, false));
            assert_eq!((fs::read_dir(&places.listed[0]).is_ok(), fs::read_dir("/root").is_ok()), (true, false));
            let put = [&named, &written, &other].map(|file| fs::write(file, "new").is_ok());
            let renamed = fs::rename(&written, written.with_file_name("renamed")).is_ok();
            let gone = fs::remove_file(&other).is_ok();
            let system = fs::read("/etc/passwd").is_ok() && fs::write("/dev/null", "x").is_ok();
            Some((put, renamed, gone, system, fs::write("/etc/pyrotyp-fence", "x").is_ok()))
        });
        let came = tried.join().unwrap();
        assert!(came.is_none_or(|came| came == ([false, true, false], true, false, true, false)), "{came:?}");
    }
}
