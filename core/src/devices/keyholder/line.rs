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
    Ok(socketpair(AddressFamily::UNIX, SocketType::SEQPACKET, SocketFlags::CLOEXEC, None)?)
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
    /// None: whoever sends one is not listened to any more.
    Nothing,
}

/// What was said: how much of `into` it fills, and the open file beside it; `None` where the other side has ended.
///
/// # Errors
/// When it is longer than `into`, more came beside it than may, or the line is broken.
pub(super) fn hear(line: impl AsFd, into: &mut [u8], beside: Beside) -> io::Result<Option<(usize, Option<OwnedFd>)>> {
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut handles = match beside {
        Beside::File => RecvAncillaryBuffer::new(&mut space),
        Beside::Nothing => RecvAncillaryBuffer::default(),
    };
    let heard = loop {
        match recvmsg(&line, &mut [IoSliceMut::new(into)], &mut handles, RecvFlags::CMSG_CLOEXEC) {
            Err(rustix::io::Errno::INTR) => {}
            heard => break heard?,
        }
    };
    let files = handles.drain().flat_map(|message| match message {
        RecvAncillaryMessage::ScmRights(files) => files.collect::<Vec<_>>(),
        _ => Vec::new(),
    });
    let file = files.collect::<Vec<_>>().pop();
    if heard.flags.intersects(ReturnFlags::TRUNC | ReturnFlags::CTRUNC) {
        return Err(io::ErrorKind::InvalidData.into());
    }
    Ok((heard.bytes > 0).then_some((heard.bytes, file)))
}
