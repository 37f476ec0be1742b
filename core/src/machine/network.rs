//! Whether the network is used.

/// Whether what this process does from here on needs other machines.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Network {
    /// It does.
    Used,
    /// It does not: no way out is left open.
    Unused,
}
