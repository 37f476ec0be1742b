//! What this process can't ask of the kernel any more, nor anything that it starts: calls that no command needs, and whoever takes over
//! a parser would.
//!
//! Source: seccomp(2), seccomp_unotify(2); the numbers are those of the `libc` crate.

use std::collections::BTreeMap;
use std::io;

use nix::libc;
use seccompiler::{
    BpfProgram, SeccompAction, SeccompCmpArgLen, SeccompCmpOp, SeccompCondition, SeccompFilter, SeccompRule, TargetArch,
};

use super::is_root;
use crate::machine::Network;

/// Into other processes; into the kernel; other views of the machine; what keeps keys; what gets round names of files; and a way to
/// make calls that no filter sees.
const NEVER: [libc::c_long; 27] = [
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
/// Taking a volume out of the tree of files.
const UNMOUNTING: [libc::c_long; 1] = [libc::SYS_umount2];
/// Families of sockets that lead out of this machine: address_families(7).
const OUTWARD: [libc::c_int; 4] = [libc::AF_INET, libc::AF_INET6, libc::AF_PACKET, libc::AF_VSOCK];

/// Refuses these calls from here on, for all that this thread starts; to be called while it is the only one.
///
/// # Errors
/// When this kernel, or this kind of processor, knows no such filter: nothing is refused then.
pub fn confine(network: Network) -> io::Result<()> {
    // It is root's own way to a stick that the desktop mounted, where nobody else keeps the rights.
    let further: &[libc::c_long] = if is_root() { &[] } else { &UNMOUNTING };
    let program = filter(network, further)?;
    seccompiler::apply_filter(&program).map_err(io::Error::other)
}

/// What is never needed is refused, and so are some `further` calls.
fn filter(network: Network, further: &[libc::c_long]) -> io::Result<BpfProgram> {
    let mut rules: BTreeMap<i64, Vec<SeccompRule>> =
        NEVER.iter().chain(further).map(|call| (*call, Vec::new())).collect();
    if network == Network::Unused {
        let family = |family: &libc::c_int| {
            let family = u64::try_from(*family).map_err(io::Error::other)?;
            let is_that = SeccompCondition::new(0, SeccompCmpArgLen::Dword, SeccompCmpOp::Eq, family);
            SeccompRule::new(vec![is_that.map_err(io::Error::other)?]).map_err(io::Error::other)
        };
        rules.insert(libc::SYS_socket, OUTWARD.iter().map(family).collect::<io::Result<_>>()?);
    }
    let refused = SeccompAction::Errno(libc::EPERM.unsigned_abs());
    let processor = TargetArch::try_from(std::env::consts::ARCH).map_err(io::Error::other)?;
    let filter = SeccompFilter::new(rules, SeccompAction::Allow, refused, processor).map_err(io::Error::other)?;
    filter.try_into().map_err(io::Error::other)
}

/// Whether such a filter holds for this process: proc_pid_status(5), `Seccomp`.
pub fn is_confined() -> bool {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    status.lines().any(|line| line.strip_prefix("Seccomp:").is_some_and(|mode| mode.trim() == "2"))
}

#[cfg(test)]
mod tests {
    use std::net::{TcpListener, UdpSocket};
    use std::os::unix::net::UnixStream;

    use rustix::io::Errno;
    use rustix::mount::{UnmountFlags, unmount};

    use super::*;

    #[test]
    fn what_nobody_needs_is_refused_and_the_network_where_it_is_not_used() {
        let reach = |network, further: &'static [libc::c_long]| {
            let tried = move || {
                // It holds for the thread that asked for it.
                seccompiler::apply_filter(&filter(network, further).unwrap()).unwrap();
                assert!(UnixStream::pair().is_ok());
                let refused = |error: io::Error| error.raw_os_error() == Some(libc::EPERM);
                assert!(rustix::mount::mount_bind("/nowhere", "/nowhere").is_err_and(|error| error == Errno::PERM));
                let sockets = [TcpListener::bind("127.0.0.1:0").err(), UdpSocket::bind("127.0.0.1:0").err()];
                let unmounted = unmount("/nowhere", UnmountFlags::empty()).unwrap_err();
                (sockets.map(|error| error.is_some_and(refused)), unmounted)
            };
            std::thread::spawn(tried).join().unwrap()
        };
        assert_eq!(reach(Network::Unused, &UNMOUNTING), ([true; 2], Errno::PERM));
        let (sockets, unmounted) = reach(Network::Used, &[]);
        assert_eq!(sockets, [false; 2]);
        // As root there is no such place; for anybody else it is not allowed by other rules.
        assert_eq!(unmounted, if is_root() { Errno::NOENT } else { Errno::PERM });
    }
}
