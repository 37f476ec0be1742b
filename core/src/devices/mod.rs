//! What is attached to this machine: the seam to the system, and what stands behind it.

mod aligned;
mod blink;
mod choose;
#[cfg(all(target_os = "linux", not(no_system)))]
pub mod disk_service;
#[cfg(all(target_os = "linux", not(no_system)))]
pub mod keyholder;
#[cfg(all(target_os = "linux", not(no_system)))]
pub mod linux;
mod logged;
mod mount_point;
mod not_served;
mod platform;
mod sectors;
#[cfg(all(target_os = "linux", not(no_system)))]
mod this_machine;
pub mod tray;

pub use aligned::{ALIGNMENT, AlignedBuf};
pub use blink::blink;
pub use choose::{ChooseError, arrived, choose};
pub use logged::Logged;
pub use not_served::NotServed;
pub use platform::{After, Claimed, DriveFault, DriveIo, DriveWrite, Located, Opening, Platform, PlatformError, Whom};
pub use sectors::Sectors;
#[cfg(all(target_os = "linux", not(no_system)))]
pub use this_machine::this_machine;

#[cfg(all(target_os = "linux", not(no_system)))]
pub(crate) use linux::end_with_this_thread;

/// Nothing here has a program end with the thread that starts it: it ends when it is told to.
#[cfg(not(all(target_os = "linux", not(no_system))))]
pub(crate) fn end_with_this_thread(_command: &mut std::process::Command) {}
