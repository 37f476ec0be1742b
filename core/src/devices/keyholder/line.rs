//! The line between the two sides: a socket pair that keeps messages apart, and on which open files are handed over.

use std::io::{self, IoSlice, IoSliceMut};
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use rustix::net::{
    AddressFamily, RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, ReturnFlags, SendAncillaryBuffer,
    SendAncillaryMessage, SendFlags, SocketFlags, SocketType, recvmsg, sendmsg, socketpair, sockopt,
};

/// Both ends of a new line: unix(7), `SOCK_SEQPACKET`.
pub(super) fn pair() -> io::Result<(OwnedFd, OwnedFd)> {
    let (ours, theirs) = socketpair(AddressFamily::UNIX, SocketType::SEQPACKET, SocketFlags::CLOEXEC, None)?;
    // The kernel tells with each message which process sent it.
    sockopt::set_socket_passcred(&ours, true)?;
    Ok((ours, theirs))
}

/// Whether this is an end of such a line.
pub(super) fn is_line(end: impl AsFd) -> bool {
    sockopt::socket_type(&end).is_ok_and(|kind| kind == SocketType::SEQPACKET)
        && sockopt::socket_domain(&end).is_ok_and(|family| family == AddressFamily::UNIX)
}

/// Says something, with an open file beside it or none.
pub(super) fn say(line: impl AsFd, words: &[u8], beside: Option<BorrowedFd<'_>>) -> io::Result<()> {
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut handles = SendAncillaryBuffer::new(&mut space);
    if let Some(file) = &beside
        && !handles.push(SendAncillaryMessage::ScmRights(std::slice::from_ref(file)))
    {
        return Err(io::Error::other("no room for an open file beside the words"));
    }
    let sent = sendmsg(line, &[IoSlice::new(words)], &mut handles, SendFlags::NOSIGNAL)?;
    if sent == words.len() { Ok(()) } else { Err(io::ErrorKind::WriteZero.into()) }
}

/// Whether an open file may come beside what is heard.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Beside {
    /// One.
    File,
    /// None: whoever sends one is not listened to any more, and neither is another process than this one.
    Nothing {
        /// Number of the process.
        from: u32,
    },
}

/// What was said: how much of `into` it fills, and the open file beside it; `None` where the other side has ended.
///
/// # Errors
/// When it is longer than `into`, more came beside it than may, or the line is broken.
pub(super) fn hear(line: impl AsFd, into: &mut [u8], beside: Beside) -> io::Result<Option<(usize, Option<OwnedFd>)>> {
    let mut file_space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut sender_space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmCredentials(1))];
    let mut handles = match beside {
        Beside::File => RecvAncillaryBuffer::new(&mut file_space),
        Beside::Nothing { .. } => RecvAncillaryBuffer::new(&mut sender_space),
    };
    let heard = loop {
        match recvmsg(&line, &mut [IoSliceMut::new(into)], &mut handles, RecvFlags::CMSG_CLOEXEC) {
            Err(rustix::io::Errno::INTR) => {}
            heard => break heard?,
        }
    };
    let (mut file, mut sender, mut has_files) = (None, None, false);
    for message in handles.drain() {
        match message {
            RecvAncillaryMessage::ScmRights(files) => {
                has_files = true;
                file = files.last();
            }
            RecvAncillaryMessage::ScmCredentials(credentials) => {
                sender = u32::try_from(credentials.pid.as_raw_nonzero().get()).ok()
            }
            _ => {}
        }
    }
    let is_refused = match beside {
        Beside::File => false,
        // The end of the line is no message, and nobody's.
        Beside::Nothing { from } => has_files || heard.bytes > 0 && sender != Some(from),
    };
    if is_refused || heard.flags.intersects(ReturnFlags::TRUNC | ReturnFlags::CTRUNC) {
        return Err(io::ErrorKind::InvalidData.into());
    }
    Ok((heard.bytes > 0).then_some((heard.bytes, file)))
}
