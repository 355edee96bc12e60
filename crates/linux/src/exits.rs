//! What processes had used when they ended, as the kernel tells whoever asks for it (taskstats over generic netlink,
//! linux/taskstats.h): of those that come and go between two samples nothing else is left. Only root may listen, and only in the
//! machine's own namespaces.

use std::os::fd::OwnedFd;
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::net::netlink::GENERIC;
use rustix::net::{SendFlags, send};

use crate::netlink::{self, ATTRIBUTE, HEADER, attribute};

/// struct genlmsghdr.
const GENERIC_HEADER: usize = 4;

/// GENL_ID_CTRL, CTRL_CMD_GETFAMILY, CTRL_ATTR_FAMILY_NAME, CTRL_ATTR_FAMILY_ID (linux/genetlink.h).
const CONTROL: u16 = 16;
const GET_FAMILY: u8 = 3;
const FAMILY_NAME: u16 = 2;
const FAMILY_ID: u16 = 1;

/// TASKSTATS_CMD_GET, TASKSTATS_CMD_ATTR_REGISTER_CPUMASK, TASKSTATS_TYPE_AGGR_PID, TASKSTATS_TYPE_STATS.
const GET: u8 = 1;
const REGISTER: u16 = 3;
const OF_A_THREAD: u16 = 4;
const FIGURES: u16 = 3;

/// Offsets in struct taskstats: it only ever grows at its end. `ac_tgid` is there from version 12 on.
const RUN_TIME: usize = 72;
const NAME: usize = 80;
const UID: usize = 120;
const PID: usize = 128;
const PROCESS: usize = 368;

/// NLM_F_REQUEST and NLM_F_ACK; NLMSG_ERROR.
const REQUEST: u16 = 1;
const ACKNOWLEDGE: u16 = 4;
const ERROR: u16 = 2;

/// About 8,000 that wait.
const BUFFER: usize = 8 << 20;

/// The kernel answers at once.
const PATIENCE: Timespec = Timespec { tv_sec: 1, tv_nsec: 0 };

/// A thread that has ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Exit {
    pub process: u32,
    pub uid: u32,
    /// Its short name.
    pub name: Vec<u8>,
    /// CPU time that it had used.
    pub used: Duration,
}

/// The ends of threads, from when it was made on.
#[derive(Debug)]
pub(crate) struct Exits {
    socket: OwnedFd,
}

impl Exits {
    /// Begins to listen; `None` where that is not allowed or not to be had.
    pub fn listen() -> Option<Exits> {
        let socket = netlink::socket(GENERIC, Some(BUFFER), 0)?;
        let family = ask(&socket, &request(CONTROL, GET_FAMILY, FAMILY_NAME, b"TASKSTATS\0", REQUEST), |message| {
            let family = attribute(message.get(HEADER + GENERIC_HEADER..)?, FAMILY_ID)?;
            Some(u16::from_ne_bytes(family.get(..2)?.try_into().ok()?))
        })?;
        let mut cores = std::fs::read("/sys/devices/system/cpu/possible").ok()?.trim_ascii().to_vec();
        cores.push(0);
        ask(&socket, &request(family, GET, REGISTER, &cores, REQUEST | ACKNOWLEDGE), |message| {
            let status = message.get(HEADER..HEADER + 4).filter(|_| kind(message) == Some(ERROR))?;
            (status == [0; 4]).then_some(())
        })?;
        Some(Exits { socket })
    }

    /// All that have ended since it was asked last, as far as the kernel kept them.
    pub fn heard(&self) -> Vec<Exit> {
        let mut heard = Vec::new();
        // Some may be lost: what is heard is that much less.
        netlink::each(&self.socket, |message| heard.extend(parse(message)));
        heard
    }
}

/// What the kernel answers.
fn ask<T>(socket: &OwnedFd, request: &[u8], read: impl Fn(&[u8]) -> Option<T>) -> Option<T> {
    send(socket, request, SendFlags::empty()).ok()?;
    poll(&mut [PollFd::new(socket, PollFlags::IN)], Some(&PATIENCE)).ok()?;
    netlink::next(socket, read).ok()?
}

/// A message with one attribute.
fn request(family: u16, command: u8, attribute: u16, value: &[u8], flags: u16) -> Vec<u8> {
    // The command, its version, two bytes of nothing; then the attribute.
    let mut body = vec![command, 1, 0, 0];
    body.extend(((ATTRIBUTE + value.len()) as u16).to_ne_bytes());
    body.extend(attribute.to_ne_bytes());
    body.extend(value);
    body.resize(body.len().next_multiple_of(4), 0);
    netlink::message(family, flags, &body)
}

fn kind(message: &[u8]) -> Option<u16> {
    Some(u16::from_ne_bytes(message.get(4..6)?.try_into().ok()?))
}

/// A thread's end; that of a whole process, which is told beside it, says nothing of CPU.
fn parse(message: &[u8]) -> Option<Exit> {
    let figures = attribute(attribute(message.get(HEADER + GENERIC_HEADER..)?, OF_A_THREAD)?, FIGURES)?;
    let number = |at: usize| Some(u32::from_ne_bytes(figures.get(at..at + 4)?.try_into().ok()?));
    let name = figures.get(NAME..NAME + 32)?;
    Some(Exit {
        process: number(PROCESS).filter(|process| *process != 0).or_else(|| number(PID))?,
        uid: number(UID)?,
        name: name.iter().copied().take_while(|byte| *byte != 0).collect(),
        used: Duration::from_nanos(u64::from_ne_bytes(figures.get(RUN_TIME..RUN_TIME + 8)?.try_into().ok()?)),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_process_that_ends_is_told_of_with_what_it_had_used() {
        let Some(exits) = Exits::listen() else { return eprintln!("skipped: not allowed to listen here") };
        let script = "i=0; while [ $i -lt 200000 ]; do i=$((i+1)); done";
        let mut child = std::process::Command::new("sh").args(["-c", script]).spawn().unwrap();
        let pid = child.id();
        child.wait().unwrap();
        let patience = std::iter::repeat_with(|| {
            let _ = poll(&mut [PollFd::new(&exits.socket, PollFlags::IN)], Some(&PATIENCE));
            exits.heard()
        });
        let found = patience.take(10).flatten().find(|exit| exit.process == pid).expect("it is told of");
        assert_eq!((found.name.as_slice(), found.uid), (&b"sh"[..], crate::here::uid()));
        assert!(found.used > Duration::from_millis(5), "{found:?}");
    }

    #[test]
    fn what_is_cut_off_is_nothing() {
        let whole = request(7, 0, OF_A_THREAD, &[8, 0, 3, 0, 0, 0, 0, 0], 0);
        assert!((0..=whole.len()).all(|length| parse(&whole[..length]).is_none()));
        assert_eq!(attribute(&[0, 0, 9, 9, 0, 0, 9, 9], 1), None);
    }
}
