//! A place where anybody on this machine may put a word, and who that was is the kernel's word (SO_PASSCRED, unix(7)): nobody's line is
//! kept open, so nobody can be kept waiting.

use std::io::{self, IoSliceMut};
use std::mem::MaybeUninit;
use std::os::fd::OwnedFd;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::io::Errno;
use rustix::net::sockopt::{Timeout, set_socket_passcred, set_socket_timeout};
use rustix::net::{
    AddressFamily, RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, SendFlags, SocketAddrAny, SocketAddrUnix,
    SocketFlags, SocketType, bind, connect, recvmsg, send, sendto, socket_with,
};

/// Longest word, bytes.
pub const LONGEST: usize = 1024;

/// The place.
#[derive(Debug)]
pub struct Inbox(OwnedFd);

/// A word, and whose it is.
#[derive(Debug)]
pub struct Word {
    /// The word.
    pub bytes: Vec<u8>,
    /// The user ID that its sender had.
    pub uid: u32,
    /// The process that sent it.
    pub pid: u32,
    from: Option<SocketAddrAny>,
}

impl Inbox {
    /// Opens one: that user alone may put something in, so nobody else can fill it up; without one, everybody.
    ///
    /// # Errors
    /// Its folder is missing, or it cannot be made.
    pub fn open(path: &Path, of: Option<u32>) -> io::Result<Inbox> {
        let socket = socket_with(AddressFamily::UNIX, SocketType::DGRAM, SocketFlags::CLOEXEC, None)?;
        set_socket_passcred(&socket, true)?;
        bind(&socket, &SocketAddrUnix::new(path)?)?;
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(if of.is_some() { 0o600 } else { 0o666 }))?;
        std::os::unix::fs::lchown(path, of, None)?;
        Ok(Inbox(socket))
    }

    /// The next word; it is waited for.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn take(&self) -> io::Result<Word> {
        loop {
            let mut bytes = vec![0; LONGEST];
            let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmCredentials(1))];
            let mut beside = RecvAncillaryBuffer::new(&mut space);
            let told = recvmsg(&self.0, &mut [IoSliceMut::new(&mut bytes)], &mut beside, RecvFlags::CMSG_CLOEXEC)?;
            let sender = beside.drain().find_map(|beside| match beside {
                RecvAncillaryMessage::ScmCredentials(sender) => Some(sender),
                _ => None,
            });
            bytes.truncate(told.bytes);
            // The kernel tells of each; a word without is nobody's.
            if let Some(sender) = sender {
                let (uid, pid) = (sender.uid.as_raw(), sender.pid.as_raw_nonzero().get().cast_unsigned());
                return Ok(Word { bytes, uid, pid, from: told.address });
            }
        }
    }

    /// Says something to whoever sent it, if he can take it now.
    pub fn reply(&self, to: &Word, bytes: &[u8]) {
        if let Some(address) = &to.from {
            let _ = sendto(&self.0, bytes, SendFlags::DONTWAIT | SendFlags::NOSIGNAL, address);
        }
    }
}

/// Puts a word there, and waits for what is said to it at most so long.
///
/// # Errors
/// Nobody takes it, or nothing is said to it in that time (`TimedOut`).
pub fn put(path: &Path, bytes: &[u8], patience: Duration) -> io::Result<Vec<u8>> {
    let socket = socket_with(AddressFamily::UNIX, SocketType::DGRAM, SocketFlags::CLOEXEC, None)?;
    // With that it has an address of its own, to which the other side can reply.
    set_socket_passcred(&socket, true)?;
    connect(&socket, &SocketAddrUnix::new(path)?)?;
    let waits = Timespec { tv_sec: patience.as_secs().cast_signed(), tv_nsec: patience.subsec_nanos().into() };
    // Where others put in more than is taken out, everybody has his turn.
    set_socket_timeout(&socket, Timeout::Send, Some(patience))?;
    send(&socket, bytes, SendFlags::NOSIGNAL).map_err(|error| match error {
        Errno::AGAIN => io::ErrorKind::TimedOut.into(),
        error => io::Error::from(error),
    })?;
    if poll(&mut [PollFd::new(&socket, PollFlags::IN)], Some(&waits))? == 0 {
        return Err(io::ErrorKind::TimedOut.into());
    }
    let mut reply = vec![0; LONGEST];
    let (length, _) = rustix::net::recv(&socket, &mut reply[..], RecvFlags::DONTWAIT)?;
    reply.truncate(length);
    Ok(reply)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whose_word_it_is_the_kernel_says() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("inbox");
        let inbox = Inbox::open(&path, None).unwrap();
        let answers = std::thread::spawn(move || {
            let word = inbox.take().unwrap();
            inbox.reply(&word, b"heard");
            (word.bytes, word.uid, word.pid)
        });
        assert_eq!(put(&path, b"let it run", Duration::from_secs(20)).unwrap(), b"heard");
        assert_eq!(answers.join().unwrap(), (b"let it run".to_vec(), crate::here::uid(), std::process::id()));
        assert!(put(&folder.path().join("nobody"), b"x", Duration::ZERO).is_err());
    }
}
