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
const NEVER: [libc::c_long; 28] = [
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
/// Families of sockets that lead out of this machine: address_families(7).
const OUTWARD: [libc::c_int; 4] = [libc::AF_INET, libc::AF_INET6, libc::AF_PACKET, libc::AF_VSOCK];

/// Refuses these calls from here on, for all that this thread starts; to be called while it is the only one.
///
/// # Errors
/// When this kernel, or this kind of processor, knows no such filter: nothing is refused then.
pub fn confine(network: Network) -> io::Result<()> {
    // Services of this machine do what root asks, whatever rights it has left.
    let local: &[libc::c_int] = if is_root() { &[libc::AF_UNIX] } else { &[] };
    let outward: &[libc::c_int] = if network == Network::Unused { &OUTWARD } else { &[] };
    let program = filter(&[local, outward].concat())?;
    seccompiler::apply_filter(&program).map_err(io::Error::other)
}

/// What is never needed is refused, and so are sockets of these families.
fn filter(families: &[libc::c_int]) -> io::Result<BpfProgram> {
    let mut rules: BTreeMap<i64, Vec<SeccompRule>> = NEVER.iter().map(|call| (*call, Vec::new())).collect();
    let family = |family: &libc::c_int| {
        let family = u64::try_from(*family).map_err(io::Error::other)?;
        let is_that = SeccompCondition::new(0, SeccompCmpArgLen::Dword, SeccompCmpOp::Eq, family);
        SeccompRule::new(vec![is_that.map_err(io::Error::other)?]).map_err(io::Error::other)
    };
    if !families.is_empty() {
        rules.insert(libc::SYS_socket, families.iter().map(family).collect::<io::Result<_>>()?);
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
    use std::os::unix::net::{UnixDatagram, UnixStream};

    use rustix::io::Errno;
    use rustix::mount::{UnmountFlags, unmount};

    use super::*;

    #[test]
    fn what_nobody_needs_is_refused_and_the_network_where_it_is_not_used() {
        let reach = |families: &'static [libc::c_int]| {
            let tried = move || {
                // It holds for the thread that asked for it.
                seccompiler::apply_filter(&filter(families).unwrap()).unwrap();
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
        assert_eq!(reach(&OUTWARD), [true, true, false]);
        assert_eq!(reach(&[libc::AF_UNIX]), [false, false, true]);
        assert_eq!(reach(&[]), [false; 3]);
    }
}
