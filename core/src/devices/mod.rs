//! What is attached to this machine: the seam to the system, and what stands behind it.

mod aligned;
mod blink;
mod choose;
#[cfg(all(target_os = "linux", not(no_system)))]
pub mod linux;
mod logged;
mod mount_point;
mod platform;
mod sectors;
pub mod tray;

pub use aligned::{ALIGNMENT, AlignedBuf};
pub use blink::blink;
pub use choose::{ChooseError, arrived, choose};
pub use logged::Logged;
pub use platform::{After, Claimed, DriveFault, DriveIo, DriveWrite, Located, Platform, PlatformError};
pub use sectors::Sectors;
