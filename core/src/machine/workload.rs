//! What a process is for: what it needs beside files.

/// Whether what this process does from here on needs other machines.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Network {
    /// It does.
    Used,
    /// It does not: no way out is left open.
    Unused,
}

/// What a process is for, as far as memory and time go.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Workload {
    /// It looks at something, and is soon over.
    Looks,
    /// It reads or writes as much as there is.
    Works,
    /// It starts an emulated PC.
    Emulates,
}

/// By whose rights this process has drives.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DriveRights {
    /// By its own: it makes what requests a drive needs.
    Own,
    /// Another process opens them and makes the requests: this one only reads and writes.
    Lent,
}
