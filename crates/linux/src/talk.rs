//! A talk with a program that was started: what it is told on its standard input and what it says on its standard output. Nobody waits:
//! not for a program that does not read, nor for one that leaves its output to another; and when its time is over it is ended.

use std::io::{self, ErrorKind, Read, Write};
use std::process::{Child, ChildStdin, ChildStdout, Command, ExitStatus, Stdio};
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::io::ioctl_fionbio;
use rustix::process::{Pid, Signal, WaitId, WaitIdOptions, kill_process_group, waitid};

/// How often it is looked whether it has ended.
const A_MOMENT: Duration = Duration::from_millis(20);

/// So many pieces of what it says are taken at once.
const AT_ONCE: usize = 64;

/// How it ended.
#[derive(Debug, Clone, Copy)]
pub struct Ended {
    /// By itself, and not by us.
    pub in_time: bool,
    /// Its exit status.
    pub status: ExitStatus,
}

/// Starts a program in a session of its own, tells it that, hands on what it says, and ends it and all that it has started in that session
/// when it has ended or its time is over. `started` is told of its PID.
///
/// # Errors
/// It cannot be started.
pub fn with(
    mut start: Command,
    told: &[u8],
    most: Duration,
    started: impl FnOnce(u32),
    heard: &mut dyn FnMut(&[u8]),
) -> io::Result<Ended> {
    start.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
    crate::sys::contain(&mut start);
    let began = Instant::now();
    let mut child = start.spawn()?;
    started(child.id());
    let mut talk = Talk::with(&mut child, told);
    while !has_ended(&child) && began.elapsed() < most {
        match &mut talk {
            Ok(talk) => talk.go_on(A_MOMENT, heard),
            Err(_) => break,
        }
    }
    let in_time = has_ended(&child);
    // With it goes whatever it has started and left running in its session. It is not collected yet: its number, and so that
    // of its group, is still its own.
    if let Some(group) = Pid::from_raw(child.id().cast_signed()) {
        let _ = kill_process_group(group, Signal::KILL);
    }
    let status = child.wait()?;
    talk?.go_on(Duration::ZERO, heard);
    Ok(Ended { in_time, status })
}

/// Tells a program something, and waits for it to be read at most that long.
///
/// # Errors
/// It does not read, or is gone.
pub fn tell(to: &mut ChildStdin, mut told: &[u8], patience: Duration) -> io::Result<()> {
    ioctl_fionbio(&*to, true)?;
    let until = Instant::now() + patience;
    while !told.is_empty() {
        match to.write(told) {
            Ok(length) => told = &told[length..],
            Err(error) if would_wait(&error) && Instant::now() < until => std::thread::sleep(Duration::from_millis(1)),
            Err(error) => return Err(error),
        }
    }
    Ok(())
}

/// Whether it has ended; it stays uncollected (waitid(2), WNOWAIT).
fn has_ended(child: &Child) -> bool {
    let Some(pid) = Pid::from_raw(child.id().cast_signed()) else { return true };
    let options = WaitIdOptions::EXITED | WaitIdOptions::NOHANG | WaitIdOptions::NOWAIT;
    matches!(waitid(WaitId::Pid(pid), options), Ok(Some(_)) | Err(rustix::io::Errno::CHILD))
}

struct Talk<'t> {
    to: Option<ChildStdin>,
    from: Option<ChildStdout>,
    told: &'t [u8],
}

impl<'t> Talk<'t> {
    fn with(child: &mut Child, told: &'t [u8]) -> io::Result<Talk<'t>> {
        let talk = Talk { to: child.stdin.take(), from: child.stdout.take(), told };
        talk.to.as_ref().map(|to| ioctl_fionbio(to, true)).transpose()?;
        talk.from.as_ref().map(|from| ioctl_fionbio(from, true)).transpose()?;
        Ok(talk)
    }

    /// Tells and hears what can be told and heard within that time.
    fn go_on(&mut self, patience: Duration, heard: &mut dyn FnMut(&[u8])) {
        let timeout = Timespec { tv_sec: 0, tv_nsec: patience.subsec_nanos().into() };
        let to = self.to.as_ref().map(|to| PollFd::new(to, PollFlags::OUT));
        let from = self.from.as_ref().map(|from| PollFd::new(from, PollFlags::IN));
        let mut both: Vec<PollFd<'_>> = to.into_iter().chain(from).collect();
        if both.is_empty() {
            std::thread::sleep(patience);
        } else if !matches!(poll(&mut both, Some(&timeout)), Ok(ready) if ready > 0) {
            return;
        }
        drop(both);
        if let Some(to) = &mut self.to {
            match to.write(self.told) {
                Ok(told) => self.told = &self.told[told..],
                Err(error) if would_wait(&error) => {}
                Err(_) => self.told = &[],
            }
            if self.told.is_empty() {
                self.to = None;
            }
        }
        let mut piece = [0; 4096];
        // Whoever never stops talking does not keep us from looking at the time.
        for _ in 0..AT_ONCE {
            let Some(from) = &mut self.from else { return };
            match from.read(&mut piece) {
                Ok(length) if length > 0 => heard(&piece[..length]),
                Err(error) if would_wait(&error) => return,
                _ => self.from = None,
            }
        }
    }
}

fn would_wait(error: &io::Error) -> bool {
    matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::Interrupted)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shell(text: &str) -> Command {
        let mut shell = Command::new("/bin/sh");
        shell.args(["-c", text]);
        shell
    }

    #[test]
    fn it_is_told_and_heard() {
        let mut said = Vec::new();
        let told = vec![b'x'; 300_000];
        let ended =
            with(shell("wc -c"), &told, Duration::from_secs(60), |_| (), &mut |piece| said.extend(piece)).unwrap();
        assert!(ended.in_time && ended.status.success() && said.trim_ascii() == b"300000", "{said:?}");
    }

    /// Neither whoever never stops talking, nor whoever leaves his output to another, keeps us longer.
    #[test]
    fn nobody_keeps_us_longer_than_that() {
        for text in ["while :; do echo x; done", "cat /dev/zero", "sleep 600 & cat > /dev/null; sleep 600"] {
            let began = Instant::now();
            let ended = with(shell(text), b"x", Duration::from_millis(300), |_| (), &mut |_| ()).unwrap();
            assert!(!ended.in_time && began.elapsed() < Duration::from_secs(60), "{text}");
        }
    }
}
