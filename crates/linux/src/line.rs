//! A line between us and a helper of ours: whole messages, both ways, and nobody waits for the other (SOCK_SEQPACKET, unix(7)).

use std::io::{self, stdin};
use std::os::fd::{AsFd, OwnedFd};
use std::process::Stdio;
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::net::{
    AddressFamily, RecvFlags, SendFlags, Shutdown, SocketFlags, SocketType, recv, send, shutdown, socketpair,
};

/// Longest message, bytes.
pub const LONGEST: usize = 8192;

/// One end.
#[derive(Debug)]
pub struct Line(OwnedFd);

impl Line {
    /// Ours, and the other, which a helper gets as its standard input.
    ///
    /// # Errors
    /// As socketpair(2).
    pub fn pair() -> io::Result<(Line, Stdio)> {
        let (ours, theirs) = socketpair(AddressFamily::UNIX, SocketType::SEQPACKET, SocketFlags::CLOEXEC, None)?;
        Ok((Line(ours), Stdio::from(theirs)))
    }

    /// Of a helper: its standard input.
    ///
    /// # Errors
    /// As dup(2).
    pub fn of_stdin() -> io::Result<Line> {
        Ok(Line(stdin().as_fd().try_clone_to_owned()?))
    }

    /// Says one thing; it is not waited for the other side to take it.
    ///
    /// # Errors
    /// It is too long, there is no room, or nobody is there.
    pub fn say(&self, message: &[u8]) -> io::Result<()> {
        if message.is_empty() || message.len() > LONGEST {
            return Err(io::Error::new(io::ErrorKind::InvalidInput, "not a message of 1 to 8192 bytes"));
        }
        send(&self.0, message, SendFlags::DONTWAIT | SendFlags::NOSIGNAL)?;
        Ok(())
    }

    /// Hears one thing, and waits for it at most that long, or for ever; nothing at the end of the line.
    ///
    /// # Errors
    /// Nothing came within that time (`TimedOut`), or it cannot be read.
    pub fn hear(&self, patience: Option<Duration>) -> io::Result<Option<Vec<u8>>> {
        let patience = patience.map(|patience| Timespec {
            tv_sec: patience.as_secs().cast_signed(),
            tv_nsec: patience.subsec_nanos().into(),
        });
        let ready = loop {
            match poll(&mut [PollFd::new(&self.0, PollFlags::IN)], patience.as_ref()) {
                Err(rustix::io::Errno::INTR) => {}
                other => break other?,
            }
        };
        if ready == 0 {
            return Err(io::ErrorKind::TimedOut.into());
        }
        let mut message = vec![0; LONGEST + 1];
        let (length, _) = recv(&self.0, &mut message[..], RecvFlags::DONTWAIT)?;
        message.truncate(length.min(LONGEST));
        Ok((length > 0).then_some(message))
    }

    /// Says no more: the other side hears the end of the line. What it still has to say is heard.
    pub fn hang_up(&self) {
        let _ = shutdown(&self.0, Shutdown::Write);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn messages_stay_whole_and_nobody_waits() {
        let (one, other) = socketpair(AddressFamily::UNIX, SocketType::SEQPACKET, SocketFlags::CLOEXEC, None).unwrap();
        let (one, other) = (Line(one), Line(other));
        one.say(b"a").unwrap();
        one.say(b"bc").unwrap();
        let hear = |line: &Line| line.hear(Some(Duration::from_secs(10))).unwrap();
        assert_eq!((hear(&other), hear(&other)), (Some(b"a".to_vec()), Some(b"bc".to_vec())));
        assert!(other.hear(Some(Duration::ZERO)).is_err_and(|error| error.kind() == io::ErrorKind::TimedOut));
        assert!(one.say(&[0; LONGEST + 1]).is_err() && one.say(b"").is_err());
        // Whoever does not listen holds nobody up.
        assert!((0..100_000).any(|_| one.say(&[0; LONGEST]).is_err()));
        drop(other);
        assert_eq!(one.hear(None).unwrap_or(None), None);
    }
}
