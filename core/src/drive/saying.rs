//! What a drive says of itself, whatever the system makes of it.

use serde::{Deserialize, Serialize};

use crate::text::Shown;

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

/// Vendor and model in one line, or what there is of them.
pub fn name_of(vendor: Option<&str>, model: Option<&str>) -> String {
    let name = [vendor, model].into_iter().flatten().collect::<Vec<_>>().join(" ");
    if name.is_empty() { "unnamed drive".to_owned() } else { name.shown() }
}
