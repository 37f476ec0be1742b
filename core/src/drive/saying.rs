//! What a drive says of itself, whatever the system makes of it.

use serde::{Deserialize, Serialize};

/// What a drive says of itself.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Saying {
    /// Maker.
    pub vendor: Option<String>,
    /// Model.
    pub model: Option<String>,
    /// Serial number.
    pub serial: Option<String>,
    /// That its medium can be removed.
    pub removable: bool,
}
