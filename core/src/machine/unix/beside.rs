//! A program of the system that runs beside this one: what it is handed, and how one talks with it.

use std::fs::File;
use std::io::{self, Read, Write};
use std::os::fd::{AsRawFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::time::Duration;

use rustix::io::{FdFlags, fcntl_setfd};

/// Where the system's own programs lie; what a person put elsewhere comes after them.
const SYSTEM_FOLDERS: [&str; 3] = ["/usr/sbin", "/sbin", "/usr/bin"];

/// Where a program lies.
pub fn find_program(program: &str) -> Option<PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let folders = SYSTEM_FOLDERS.map(PathBuf::from).into_iter().chain(std::env::split_paths(&path));
    folders.map(|folder| folder.join(program)).find(|file| file.is_file())
}

/// What every program has that is started while this lives: it is to be dropped when the one that is meant has it.
#[derive(Debug)]
pub struct HandedOver(OwnedFd);

impl HandedOver {
    /// An open file.
    ///
    /// # Errors
    /// When the system gives no second handle of it.
    pub fn file(file: &File) -> io::Result<Self> {
        Self::of(file.try_clone()?.into())
    }

    fn of(handle: OwnedFd) -> io::Result<Self> {
        fcntl_setfd(&handle, FdFlags::empty())?;
        Ok(Self(handle))
    }

    /// The number by which the program knows it.
    pub fn number(&self) -> i32 {
        self.0.as_raw_fd()
    }
}

/// A line to a program, in both directions.
#[derive(Debug)]
pub struct Channel(UnixStream);

impl Channel {
    /// One end for us, and one to be handed over.
    ///
    /// # Errors
    /// When the system makes none.
    pub fn new() -> io::Result<(Self, HandedOver)> {
        let (ours, theirs) = UnixStream::pair()?;
        Ok((Self(ours), HandedOver::of(theirs.into())?))
    }

    /// Says something, and waits so long at most until it is taken.
    ///
    /// # Errors
    /// When nobody takes it.
    pub fn say(&mut self, bytes: &[u8], patience: Duration) -> io::Result<()> {
        self.0.set_write_timeout(Some(patience))?;
        self.0.write_all(bytes)
    }

    /// What was said: how much of `into` it fills, 0 at the end; `None` if nothing came for so long.
    ///
    /// # Errors
    /// When the line is broken.
    pub fn hear(&mut self, into: &mut [u8], patience: Duration) -> io::Result<Option<usize>> {
        self.0.set_read_timeout(Some(patience))?;
        match self.0.read(into) {
            Ok(count) => Ok(Some(count)),
            Err(error) => match error.kind() {
                io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut | io::ErrorKind::Interrupted => Ok(None),
                _ => Err(error),
            },
        }
    }
}
