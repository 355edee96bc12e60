//! Talking to the kernel over netlink (netlink(7)): sockets, messages and attributes, whatever they are about.

use std::mem::MaybeUninit;
use std::os::fd::OwnedFd;

use rustix::net::netlink::SocketAddrNetlink;
use rustix::net::{AddressFamily, Protocol, RecvFlags, SocketFlags, SocketType, bind, recv, socket_with, sockopt};

/// struct nlmsghdr and struct nlattr.
pub(crate) const HEADER: usize = 16;
pub(crate) const ATTRIBUTE: usize = 4;

/// No message that we listen to is longer.
const LONGEST: usize = 4096;

/// A socket that waits for nothing, with room for so many bytes of messages, if that is given, and of those groups.
pub(crate) fn socket(protocol: Protocol, room: Option<usize>, groups: u32) -> Option<OwnedFd> {
    let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
    let socket = socket_with(AddressFamily::NETLINK, SocketType::RAW, flags, Some(protocol)).ok()?;
    if let Some(room) = room {
        // With less room messages may be lost: whoever listens is told.
        let _ = sockopt::set_socket_recv_buffer_size_force(&socket, room);
    }
    bind(&socket, &SocketAddrNetlink::new(0, groups)).ok()?;
    Some(socket)
}

/// A message: its type and flags (struct nlmsghdr), and what it says.
pub(crate) fn message(kind: u16, flags: u16, body: &[u8]) -> Vec<u8> {
    let mut message = Vec::with_capacity(HEADER + body.len());
    message.extend(((HEADER + body.len()) as u32).to_ne_bytes());
    message.extend(kind.to_ne_bytes());
    message.extend(flags.to_ne_bytes());
    // Sequence, sender.
    message.extend([0; 8]);
    message.extend(body);
    message
}

/// The next message, if one has come in.
pub(crate) fn next<T>(socket: &OwnedFd, read: impl FnOnce(&[u8]) -> T) -> rustix::io::Result<T> {
    let mut buffer = [MaybeUninit::uninit(); LONGEST];
    let ((message, _), _) = recv(socket, &mut buffer, RecvFlags::DONTWAIT)?;
    Ok(read(message))
}

/// Every message that has come in; whether some were lost, since there were more than the kernel keeps.
pub(crate) fn each(socket: &OwnedFd, mut read: impl FnMut(&[u8])) -> bool {
    let mut lost = false;
    loop {
        match next(socket, &mut read) {
            Ok(()) | Err(rustix::io::Errno::INTR) => {}
            Err(rustix::io::Errno::NOBUFS) => lost = true,
            Err(_) => return lost,
        }
    }
}

/// The first attribute of that type.
pub(crate) fn attribute(mut rest: &[u8], wanted: u16) -> Option<&[u8]> {
    loop {
        let number = |at: usize| Some(u16::from_ne_bytes(rest.get(at..at + 2)?.try_into().ok()?));
        let (length, found) = (usize::from(number(0)?), number(2)?);
        if found == wanted {
            return rest.get(ATTRIBUTE..length);
        }
        rest = rest.get(length.max(ATTRIBUTE).next_multiple_of(4)..)?;
    }
}
