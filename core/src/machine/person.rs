//! The person for whom this runs.

use std::path::PathBuf;

/// Somebody who has an account on this system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Person {
    /// Number of the user.
    pub user: u32,
    /// Number of the group.
    pub group: u32,
    /// Numbers of all groups.
    pub(super) groups: Vec<u32>,
    /// The home folder.
    pub home: PathBuf,
}

/// Nobody can tell who the person is.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error(
    "running as root for user {asked}, but there is no such user, or SUDO_UID, PKEXEC_UID and DOAS_USER name different ones"
)]
pub struct PersonError {
    /// Name or number, as the environment gives it.
    pub asked: String,
}

impl PersonError {
    /// What to do about it.
    pub fn next_step(&self) -> &'static str {
        "run it as yourself or by sudo from your own account: whose list of protected drives holds can't be told"
    }
}
