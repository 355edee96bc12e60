//! Who came from whom, as it happens: the kernel's process events (netlink connector, NETLINK_CONNECTOR with CN_IDX_PROC).
//! A process whose parent has ended stands below another one, and no look at parents finds it any more; its fork was
//! seen. Only root may listen, and only in the machine's own namespaces.

use std::os::fd::OwnedFd;

use rustix::net::netlink::CONNECTOR;
use rustix::net::{SendFlags, send};

use crate::netlink;

/// CN_IDX_PROC and CN_VAL_PROC (linux/connector.h).
const PROCESSES: u32 = 1;

/// PROC_CN_MCAST_LISTEN (linux/cn_proc.h).
const LISTEN: u32 = 1;

const FORK: u32 = 0x0000_0001;
const EXIT: u32 = 0x8000_0000;

/// NLMSG_DONE.
const DONE: u16 = 3;

/// struct cn_msg; and with struct nlmsghdr before it.
const CONNECTED: usize = 20;
const HEADERS: usize = netlink::HEADER + CONNECTED;

/// 16 MiB of waiting events lost nothing at 5,000 forks a second.
const BUFFER: usize = 16 << 20;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Event {
    Fork { parent: u32, child: u32 },
    Exit { pid: u32 },
}

/// Process events, from when it was made on.
#[derive(Debug)]
pub(crate) struct Events {
    socket: OwnedFd,
}

/// What came in.
pub(crate) struct Heard {
    pub events: Vec<Event>,
    /// Some were lost: there were more than the kernel keeps.
    pub lost: bool,
}

impl Events {
    /// Begins to listen; `None` where that is not allowed.
    pub fn listen() -> Option<Events> {
        let socket = netlink::socket(CONNECTOR, Some(BUFFER), PROCESSES)?;
        // cn_msg: index, value, sequence, acknowledgement, length, flags.
        let mut body = Vec::with_capacity(CONNECTED + 4);
        body.extend(PROCESSES.to_ne_bytes());
        body.extend(PROCESSES.to_ne_bytes());
        body.extend([0; 8]);
        body.extend(4_u16.to_ne_bytes());
        body.extend(0_u16.to_ne_bytes());
        body.extend(LISTEN.to_ne_bytes());
        send(&socket, &netlink::message(DONE, 0, &body), SendFlags::empty()).ok()?;
        Some(Events { socket })
    }

    /// All that has come in since it was asked last.
    pub fn heard(&self) -> Heard {
        let mut events = Vec::new();
        let lost = netlink::each(&self.socket, |message| events.extend(parse(message)));
        Heard { events, lost }
    }
}

/// One event; threads are passed over.
fn parse(message: &[u8]) -> Option<Event> {
    let event = message.get(HEADERS..)?;
    let number = |at: usize| Some(u32::from_ne_bytes(event.get(at..at + 4)?.try_into().ok()?));
    // struct proc_event: what, cpu, time stamp, then the event's own.
    match number(0)? {
        FORK => {
            let (parent, child, process) = (number(20)?, number(24)?, number(28)?);
            (child == process).then_some(Event::Fork { parent, child })
        }
        EXIT => {
            let (thread, process) = (number(16)?, number(20)?);
            (thread == process).then_some(Event::Exit { pid: process })
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn message(what: u32, numbers: [u32; 4]) -> Vec<u8> {
        let mut message = vec![0; HEADERS];
        message.extend(what.to_ne_bytes());
        message.extend([0; 12]);
        numbers.iter().for_each(|number| message.extend(number.to_ne_bytes()));
        message
    }

    #[test]
    fn forks_and_ends_of_processes_not_of_threads() {
        assert_eq!(parse(&message(FORK, [742, 740, 752, 752])), Some(Event::Fork { parent: 740, child: 752 }));
        assert_eq!(parse(&message(FORK, [742, 740, 753, 740])), None);
        assert_eq!(parse(&message(EXIT, [752, 752, 0, 17])), Some(Event::Exit { pid: 752 }));
        assert_eq!(parse(&message(2, [752, 752, 0, 0])), None);
        assert_eq!(parse(b"short"), None);
    }
}
