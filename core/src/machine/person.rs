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
#[error("this runs as root for user {asked}, and the system knows no such user")]
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
