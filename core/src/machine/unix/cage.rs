//! What this process can't ask of the kernel any more, nor anything that it starts: calls that no command needs, and whoever takes over
//! a parser would.
//!
//! Source: seccomp(2), seccomp_unotify(2); the numbers are those of the `libc` crate.

use std::collections::BTreeMap;
use std::io;
use std::sync::atomic::{AtomicBool, Ordering};

use nix::libc;
use seccompiler::{
    BpfProgram, SeccompAction, SeccompCmpArgLen, SeccompCmpOp, SeccompCondition, SeccompFilter, SeccompRule, TargetArch,
};

use super::is_root;
use crate::machine::{DriveRights, Network};

/// Access to other processes and to the kernel, other views of the machine, key stores, access to files without their names, changes
/// of a file's mode, owner, times and attributes, and a way to make calls that no filter sees.
const NEVER: [libc::c_long; 51] = [
    libc::SYS_pidfd_getfd,
    libc::SYS_process_madvise,
    libc::SYS_fsopen,
    libc::SYS_fsconfig,
    libc::SYS_fsmount,
    libc::SYS_fspick,
    libc::SYS_open_tree,
    libc::SYS_move_mount,
    libc::SYS_mount_setattr,
    libc::SYS_fanotify_init,
    libc::SYS_quotactl,
    libc::SYS_syslog,
    libc::SYS_fchmod,
    libc::SYS_fchmodat,
    libc::SYS_fchmodat2,
    libc::SYS_fchown,
    libc::SYS_fchownat,
    libc::SYS_utimensat,
    libc::SYS_setxattr,
    libc::SYS_lsetxattr,
    libc::SYS_fsetxattr,
    libc::SYS_removexattr,
    libc::SYS_lremovexattr,
    libc::SYS_ptrace,
    libc::SYS_process_vm_readv,
    libc::SYS_process_vm_writev,
    libc::SYS_bpf,
    libc::SYS_perf_event_open,
    libc::SYS_init_module,
    libc::SYS_finit_module,
    libc::SYS_delete_module,
    libc::SYS_kexec_load,
    libc::SYS_reboot,
    libc::SYS_swapon,
    libc::SYS_swapoff,
    libc::SYS_mount,
    libc::SYS_umount2,
    libc::SYS_pivot_root,
    libc::SYS_chroot,
    libc::SYS_unshare,
    libc::SYS_setns,
    libc::SYS_add_key,
    libc::SYS_request_key,
    libc::SYS_keyctl,
    libc::SYS_open_by_handle_at,
    libc::SYS_userfaultfd,
    libc::SYS_settimeofday,
    libc::SYS_clock_settime,
    libc::SYS_sethostname,
    libc::SYS_acct,
    libc::SYS_io_uring_setup,
];
/// Older forms of the same calls, which newer processors do not have.
#[cfg(target_arch = "x86_64")]
const NEVER_OLDER: [libc::c_long; 8] = [
    libc::SYS_chmod,
    libc::SYS_chown,
    libc::SYS_lchown,
    libc::SYS_utime,
    libc::SYS_utimes,
    libc::SYS_futimesat,
    libc::SYS_iopl,
    libc::SYS_ioperm,
];
#[cfg(not(target_arch = "x86_64"))]
const NEVER_OLDER: [libc::c_long; 0] = [];

/// Requests of ioctl(2) that nothing here makes. Terminal input and consoles (`TIOCSTI`, `TIOCLINUX`: asm-generic/ioctls.h, linux/tiocl.h),
/// loop devices (linux/loop.h), commands to the drive itself (`SG_IO`, scsi/sg.h; NVMe, linux/nvme_ioctl.h; `MMC_IOC_CMD`, linux/mmc/ioctl.h),
/// and discarding, zeroing, partitions and settings of a block device (linux/fs.h, linux/blkpg.h).
const REQUESTS: [u32; 26] = [
    0x5412,
    0x541C,
    0x4C00,
    0x4C01,
    0x4C02,
    0x4C04,
    0x4C06,
    0x4C07,
    0x4C08,
    0x4C0A,
    0x2285,
    0x0001,
    0xC048_4E41,
    0xC048_4E43,
    0xC048_4E45,
    0xC048_B300,
    0x1277,
    0x127D,
    0x127F,
    0x1269,
    0x125D,
    0x1261,
    0x1262,
    0x1264,
    0x4008_1271,
    0x5393,
];
/// Requests that a process makes for a drive that it opened by its own rights: read the partition table again (`BLKRRPART`), unlock and
/// eject the medium. Where the broker opens drives, it also makes these.
const OWN_DRIVE_REQUESTS: [u32; 4] = [0x125F, 0x5309, 0x5380, 0x5381];
/// Flags of clone(2) that make a namespace: linux/sched.h.
const NAMESPACES: [u64; 7] = [0x2_0000, 0x200_0000, 0x400_0000, 0x800_0000, 0x1000_0000, 0x2000_0000, 0x4000_0000];

static IS_CONFINED: AtomicBool = AtomicBool::new(false);
/// Families of sockets that lead out of this machine: address_families(7).
const OUTWARD: [libc::c_int; 4] = [libc::AF_INET, libc::AF_INET6, libc::AF_PACKET, libc::AF_VSOCK];

/// Refuses these calls from here on, for all that this thread starts; to be called while it is the only one.
///
/// # Errors
/// When this kernel, or this kind of processor, knows no such filter: nothing is refused then.
pub fn confine(network: Network, drives: DriveRights) -> io::Result<()> {
    // Services of this machine do what root asks, whatever rights it has left.
    let local: &[libc::c_int] = if is_root() { &[libc::AF_UNIX] } else { &[] };
    let outward: &[libc::c_int] = if network == Network::Unused { &OUTWARD } else { &[] };
    for program in filters(&[local, outward].concat(), drives)? {
        seccompiler::apply_filter(&program).map_err(io::Error::other)?;
    }
    IS_CONFINED.store(true, Ordering::Relaxed);
    Ok(())
}

/// A rule that holds where all of these conditions do.
fn rule(conditions: Vec<Result<SeccompCondition, seccompiler::BackendError>>) -> io::Result<SeccompRule> {
    let conditions: Result<Vec<_>, _> = conditions.into_iter().collect();
    SeccompRule::new(conditions.map_err(io::Error::other)?).map_err(io::Error::other)
}

/// Refuses what nothing here needs, and sockets of these families.
fn filters(families: &[libc::c_int], drives: DriveRights) -> io::Result<[BpfProgram; 2]> {
    use {
        SeccompCmpArgLen::Dword, SeccompCmpArgLen::Qword, SeccompCmpOp::Eq, SeccompCmpOp::MaskedEq, SeccompCmpOp::Ne,
    };
    let never = NEVER.iter().chain(&NEVER_OLDER);
    let mut rules: BTreeMap<i64, Vec<SeccompRule>> = never.map(|call| (*call, Vec::new())).collect();
    let family = |family: &libc::c_int| {
        let family = u64::try_from(*family).map_err(io::Error::other)?;
        rule(vec![SeccompCondition::new(0, Dword, Eq, family)])
    };
    if !families.is_empty() {
        rules.insert(libc::SYS_socket, families.iter().map(family).collect::<io::Result<_>>()?);
    }
    let own: &[u32] = if drives == DriveRights::Lent { &OWN_DRIVE_REQUESTS } else { &[] };
    let request = |request: &u32| rule(vec![SeccompCondition::new(1, Dword, Eq, u64::from(*request))]);
    rules.insert(libc::SYS_ioctl, REQUESTS.iter().chain(own).map(request).collect::<io::Result<_>>()?);
    let namespace = |flag: &u64| rule(vec![SeccompCondition::new(0, Qword, MaskedEq(*flag), *flag)]);
    rules.insert(libc::SYS_clone, NAMESPACES.iter().map(namespace).collect::<io::Result<_>>()?);
    // Limits of other processes: nothing but this process's own are changed.
    rules.insert(libc::SYS_prlimit64, vec![rule(vec![SeccompCondition::new(0, Dword, Ne, 0)])?]);
    // The flags of clone3 lie in memory, which no filter reads: without it, the C library uses clone.
    let newer = BTreeMap::from([(libc::SYS_clone3, Vec::new())]);
    Ok([program(rules, libc::EPERM)?, program(newer, libc::ENOSYS)?])
}

fn program(rules: BTreeMap<i64, Vec<SeccompRule>>, error: libc::c_int) -> io::Result<BpfProgram> {
    let refused = SeccompAction::Errno(error.unsigned_abs());
    let processor = TargetArch::try_from(std::env::consts::ARCH).map_err(io::Error::other)?;
    let filter = SeccompFilter::new(rules, SeccompAction::Allow, refused, processor).map_err(io::Error::other)?;
    filter.try_into().map_err(io::Error::other)
}

/// Whether [`confine`] holds for this process; a filter of somebody else, as containers have, does not count.
pub fn is_confined() -> bool {
    IS_CONFINED.load(Ordering::Relaxed)
}

#[cfg(test)]
mod tests {
    use std::net::{TcpListener, UdpSocket};
    use std::os::unix::net::{UnixDatagram, UnixStream};

    use rustix::io::Errno;
    use rustix::mount::{UnmountFlags, unmount};

    use super::*;

    #[test]
    fn what_nobody_needs_is_refused_and_the_network_where_it_is_not_used() {
        let reach = |families: &'static [libc::c_int]| {
            let tried = move || {
                // It holds for the thread that asked for it.
                let programs = filters(families, DriveRights::Lent).unwrap();
                programs.iter().for_each(|program| seccompiler::apply_filter(program).unwrap());
                assert!(UnixStream::pair().is_ok());
                let refused = |error: io::Error| error.raw_os_error() == Some(libc::EPERM);
                assert!(rustix::mount::mount_bind("/nowhere", "/nowhere").is_err_and(|error| error == Errno::PERM));
                assert!(unmount("/nowhere", UnmountFlags::empty()).is_err_and(|error| error == Errno::PERM));
                let sockets = [
                    TcpListener::bind("127.0.0.1:0").err(),
                    UdpSocket::bind("127.0.0.1:0").err(),
                    UnixDatagram::unbound().err(),
                ];
                sockets.map(|error| error.is_some_and(refused))
            };
            std::thread::spawn(tried).join().unwrap()
        };
        assert!(!is_confined(), "a filter of another thread does not count");
        assert_eq!(reach(&OUTWARD), [true, true, false]);
        assert_eq!(reach(&[libc::AF_UNIX]), [false, false, true]);
        assert_eq!(reach(&[]), [false; 3]);
    }

    #[test]
    fn modes_times_limits_and_requests_are_refused_and_threads_still_start() {
        use std::fs::{self, File, FileTimes, Permissions};
        use std::os::unix::fs::{PermissionsExt, chown};
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("file");
        let file = File::create(&path).unwrap();
        let tried = move || {
            let programs = filters(&[], DriveRights::Lent).unwrap();
            programs.iter().for_each(|program| seccompiler::apply_filter(program).unwrap());
            let is_refused = |error: io::Error| error.raw_os_error() == Some(libc::EPERM);
            let mode = Permissions::from_mode(0o4755);
            let tried = [
                fs::set_permissions(&path, mode.clone()),
                file.set_permissions(mode),
                chown(&path, None, None),
                file.set_times(FileTimes::new().set_modified(std::time::SystemTime::UNIX_EPOCH)),
                rustix::fs::setxattr(&path, "user.a", b"b", rustix::fs::XattrFlags::empty()).map_err(Into::into),
                rustix::process::prlimit(
                    rustix::process::getppid(),
                    rustix::process::Resource::Cpu,
                    rustix::process::Rlimit { current: None, maximum: None },
                )
                .map(drop)
                .map_err(Into::into),
            ];
            assert!(tried.into_iter().all(|done| done.is_err_and(is_refused)));
            let own = rustix::process::getrlimit(rustix::process::Resource::Core);
            assert_eq!(std::thread::spawn(move || own.maximum).join().unwrap(), own.maximum);
        };
        std::thread::spawn(tried).join().unwrap();
    }
}
