//! What is asked of the operating system about ordinary files and about who we are. What stands behind it has a
//! folder for each system; one that nothing here knows gets errors and no guesses.
//!
//! Rights are not borrowed: where this is run as root for a person, all that reads and writes files is a process of that person's
//! own ([`crate::devices::keyholder`]), and what it makes is that person's.

pub mod clock;
#[cfg(not(all(unix, not(no_system))))]
mod elsewhere;

mod file;
mod image_file;
mod output_writer;
mod outputs;
mod person;
mod places;
mod sparse;
#[cfg(all(unix, not(no_system)))]
mod unix;
mod workload;

#[cfg(not(all(unix, not(no_system))))]
use elsewhere as system;
#[cfg(all(unix, not(no_system)))]
use unix as system;

pub use file::{
    Existing, FileStamp, begin_own, keep_absent, keep_own, lock_own, make_folder, names_in, open_own, open_regular,
    own_files_in, put_file, read_file_or_pipe, read_own, read_regular, remove_own, rename_without_replacing, stamps_in,
};
pub use image_file::ImageFile;
pub use output_writer::run_output_writer;
pub use outputs::{OutputFiles, start_output_writer, stop_output_writer};
pub use person::{Person, PersonError};
pub use places::NamedPlaces;
pub use sparse::{GivenFile, GivenFolder, ProgramError, ProgramRun, WrittenStretch};
pub use system::{
    Awake, Channel, HandedOver, KeyByKey, ROOT_PROGRAM, changed_at, confine, fence, file_number, find_program,
    forget_typed, free_bytes, has_one_name, home_of_this, host_name, is_confined, is_fenced, is_root, keep_files_alone,
    limit, logged_in, person_name, raise_interrupt, share_bytes, stay_awake, stop_when_told, terminal, written_by,
};
#[cfg(all(unix, not(no_system)))]
pub(crate) use unix::forbid_capabilities;
#[cfg(all(unix, not(no_system)))]
pub use unix::person;
pub use workload::{DriveRights, Network, Workload};
