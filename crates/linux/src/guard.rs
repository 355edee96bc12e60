//! The guard of a suspension: a small process of its own that holds the target's handle and a line to us. When the
//! line closes, whatever happened to us, or the time is over, it resumes the target and ends.

use std::io::{self, IoSlice, IoSliceMut};
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::net::{
    AddressFamily, RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, SendAncillaryBuffer, SendAncillaryMessage,
    SendFlags, SocketFlags, SocketType, recv, recvmsg, send, sendmsg, socketpair,
};
use rustix::process::{Signal, pidfd_send_signal};

use crate::handle::Handle;

const READY: &[u8] = b"ready";
const RELEASE: &[u8] = b"release";
/// Most targets of one guard.
pub(crate) const MOST_TARGETS: usize = 64;

const START_UP: Duration = Duration::from_secs(5);

/// A guard on watch, from our side.
#[derive(Debug)]
pub struct Guard {
    line: OwnedFd,
    child: Child,
}

/// The word by which the program that we are starts as a guard.
pub const WORD: &str = "guard";

/// A guard outlives the suspension by this much: whoever suspended resumes first, and the guard only if he does not.
const MARGIN: Duration = Duration::from_secs(2);

impl Guard {
    /// Puts any number of processes under guard for that long, by processes of their own, which outlive us.
    ///
    /// # Errors
    /// As [`Guard::start`]; those that were started so far are in `guards`.
    pub fn all(guards: &mut Vec<Guard>, targets: &[Arc<Handle>], length: Duration) -> io::Result<()> {
        for targets in targets.chunks(MOST_TARGETS) {
            let targets: Vec<&Handle> = targets.iter().map(AsRef::as_ref).collect();
            guards.push(Guard::start(crate::own_life::helper(WORD), &targets, length + MARGIN)?);
        }
        Ok(())
    }

    /// Starts a guard and waits until it holds the targets' handles; only then may they be suspended.
    /// `program` starts [`serve`] on its standard input.
    ///
    /// # Errors
    /// It could not be started, or did not answer within 5 s: nothing may be suspended then.
    pub fn start(mut program: Command, targets: &[&Handle], at_most: Duration) -> io::Result<Guard> {
        if targets.is_empty() || targets.len() > MOST_TARGETS {
            return Err(io::Error::from(io::ErrorKind::InvalidInput));
        }
        let (line, theirs) = socketpair(AddressFamily::UNIX, SocketType::SEQPACKET, SocketFlags::CLOEXEC, None)?;
        crate::sys::contain(&mut program);
        let child = program.stdin(Stdio::from(theirs)).stdout(Stdio::null()).stderr(Stdio::null()).spawn()?;
        // The command object would keep a copy of their end open, and with it the line.
        drop(program);
        let guard = Guard { line, child };
        let milliseconds = at_most.as_millis().to_string();
        let handles: Vec<BorrowedFd<'_>> = targets.iter().map(|target| target.as_fd()).collect();
        let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(MOST_TARGETS))];
        let mut ancillary = SendAncillaryBuffer::new(&mut space);
        ancillary.push(SendAncillaryMessage::ScmRights(&handles));
        sendmsg(&guard.line, &[IoSlice::new(milliseconds.as_bytes())], &mut ancillary, SendFlags::NOSIGNAL)?;
        let mut answer = [0; 16];
        if !wait(&[guard.line.as_fd()], Some(START_UP))? {
            return Err(io::Error::new(io::ErrorKind::TimedOut, "the guard does not answer"));
        }
        let (length, _) = recv(&guard.line, &mut answer, RecvFlags::empty())?;
        if answer.get(..length) == Some(READY) { Ok(guard) } else { Err(io::Error::other("the guard ended at once")) }
    }

    /// The guard's process ID.
    pub fn pid(&self) -> u32 {
        self.child.id()
    }

    /// Whether it still watches: it ends when its time is over, or when somebody ends it, and resumes the target.
    pub(crate) fn is_on_watch(&mut self) -> bool {
        matches!(self.child.try_wait(), Ok(None))
    }

    /// Lets it go without resuming: the target has been resumed, or has ended.
    pub fn release(mut self) {
        // A guard that has gone already cannot be told.
        let _ = send(&self.line, RELEASE, SendFlags::NOSIGNAL);
        let _ = self.child.wait();
    }
}

/// The guard itself: the other end of `line` says for how long, and hands over the target's handle. It leaves the
/// terminal's session first, so that a hang-up or a Ctrl-C there does not reach it; `stop` becomes readable when it is
/// told to end, upon which it resumes at once.
///
/// # Errors
/// The first message does not come or brings no handle: nothing was suspended yet.
pub fn serve(line: BorrowedFd<'_>, stop: BorrowedFd<'_>) -> io::Result<()> {
    // Fails only for the leader of a process group, which a spawned process is not.
    let _ = rustix::process::setsid();
    let mut message = [0; 32];
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(MOST_TARGETS))];
    let mut ancillary = RecvAncillaryBuffer::new(&mut space);
    let received = recvmsg(line, &mut [IoSliceMut::new(&mut message)], &mut ancillary, RecvFlags::CMSG_CLOEXEC)?;
    let bad = || io::Error::from(io::ErrorKind::InvalidData);
    let at_most = crate::proc::number(message.get(..received.bytes).ok_or_else(bad)?).map(Duration::from_millis);
    let at_most = at_most.ok_or_else(bad)?;
    let mut targets: Vec<OwnedFd> = Vec::new();
    for message in ancillary.drain() {
        if let RecvAncillaryMessage::ScmRights(handles) = message {
            targets.extend(handles);
        }
    }
    if targets.is_empty() {
        return Err(bad());
    }
    send(line, READY, SendFlags::NOSIGNAL)?;
    let until = Instant::now() + at_most;
    let told = wait(&[line, stop], Some(until.saturating_duration_since(Instant::now())));
    let mut word = [0; 16];
    let released = told.is_ok_and(|told| told)
        && wait(&[line], Some(Duration::ZERO)).unwrap_or(false)
        && recv(line, &mut word, RecvFlags::DONTWAIT).is_ok_and(|(length, _)| word.get(..length) == Some(RELEASE));
    if !released {
        for target in &targets {
            // If it has ended meanwhile there is nothing left to resume.
            let _ = pidfd_send_signal(target, Signal::CONT);
        }
    }
    Ok(())
}

/// Waits until one of them is readable or closed; `false` when the time is over.
fn wait(fds: &[BorrowedFd<'_>], at_most: Option<Duration>) -> io::Result<bool> {
    let until = at_most.map(|at_most| Instant::now() + at_most);
    loop {
        let left = until.map(|until| until.saturating_duration_since(Instant::now()));
        let left =
            left.map(|left| Timespec { tv_sec: left.as_secs().cast_signed(), tv_nsec: left.subsec_nanos().into() });
        let mut polled: Vec<PollFd<'_>> = fds.iter().map(|fd| PollFd::from_borrowed_fd(*fd, PollFlags::IN)).collect();
        match poll(&mut polled, left.as_ref()) {
            Ok(ready) => return Ok(ready > 0),
            Err(rustix::io::Errno::INTR) => {}
            Err(error) => return Err(error.into()),
        }
    }
}
