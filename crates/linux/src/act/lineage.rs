//! Who came from whom, as it happens: the kernel's process events (netlink connector, NETLINK_CONNECTOR with CN_IDX_PROC).
//! A process whose parent has ended stands below another one, and no look at parents finds it any more; its fork was
//! seen. Only root may listen, and only in the machine's own namespaces.

use std::collections::BTreeSet;
use std::mem::MaybeUninit;
use std::os::fd::OwnedFd;

use rustix::net::netlink::{CONNECTOR, SocketAddrNetlink};
use rustix::net::{
    AddressFamily, RecvFlags, SendFlags, SocketFlags, SocketType, bind, recv, send, socket_with, sockopt,
};

/// CN_IDX_PROC and CN_VAL_PROC (linux/connector.h).
const PROCESSES: u32 = 1;

/// PROC_CN_MCAST_LISTEN (linux/cn_proc.h).
const LISTEN: u32 = 1;

const FORK: u32 = 0x0000_0001;
const EXIT: u32 = 0x8000_0000;

/// struct nlmsghdr and struct cn_msg.
const HEADERS: usize = 16 + 20;

/// 16 MiB of waiting events lost nothing at 5,000 forks a second.
const BUFFER: usize = 16 << 20;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Event {
    Fork { parent: u32, child: u32 },
    Exit { pid: u32 },
}

/// Listens to process events from its making on.
#[derive(Debug)]
pub struct Lineage {
    socket: OwnedFd,
    /// What happened before it was said whom to follow.
    early: Vec<Event>,
    following: bool,
    descendants: BTreeSet<u32>,
}

impl Lineage {
    /// Begins to listen; `None` where that is not allowed.
    pub fn listen() -> Option<Lineage> {
        let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
        let socket = socket_with(AddressFamily::NETLINK, SocketType::DGRAM, flags, Some(CONNECTOR)).ok()?;
        // A smaller buffer may lose events: then looks at parents have to do.
        let _ = sockopt::set_socket_recv_buffer_size_force(&socket, BUFFER);
        bind(&socket, &SocketAddrNetlink::new(0, PROCESSES)).ok()?;
        let length = (HEADERS + 4) as u32;
        let mut request = Vec::with_capacity(HEADERS + 4);
        // nlmsghdr: length, type NLMSG_DONE, no flags, sequence, sender.
        request.extend(length.to_ne_bytes());
        request.extend(3_u16.to_ne_bytes());
        request.extend(0_u16.to_ne_bytes());
        request.extend([0; 8]);
        // cn_msg: index, value, sequence, acknowledgement, length, flags.
        request.extend(PROCESSES.to_ne_bytes());
        request.extend(PROCESSES.to_ne_bytes());
        request.extend([0; 8]);
        request.extend(4_u16.to_ne_bytes());
        request.extend(0_u16.to_ne_bytes());
        request.extend(LISTEN.to_ne_bytes());
        send(&socket, &request, SendFlags::empty()).ok()?;
        Some(Lineage { socket, early: Vec::new(), following: false, descendants: BTreeSet::new() })
    }

    /// Follows those from when it began to listen.
    pub(super) fn follow(&mut self, roots: impl Iterator<Item = u32>, spared: &dyn Fn(u32) -> bool) {
        self.descendants.extend(roots);
        self.following = true;
        for event in std::mem::take(&mut self.early) {
            self.take(event, spared);
        }
    }

    /// The processes that descend from those followed and live, by PID.
    pub(super) fn descendants(&mut self, spared: &dyn Fn(u32) -> bool) -> &BTreeSet<u32> {
        let mut buffer = [MaybeUninit::uninit(); 4096];
        // An overrun or anything else ends it: looks at parents have to do then.
        while let Ok(((message, _), _)) = recv(&self.socket, &mut buffer, RecvFlags::DONTWAIT) {
            if let Some(event) = parse(message) {
                self.take(event, spared);
            }
        }
        &self.descendants
    }

    fn take(&mut self, event: Event, spared: &dyn Fn(u32) -> bool) {
        match event {
            _ if !self.following => self.early.push(event),
            Event::Fork { parent, child } => {
                if self.descendants.contains(&parent) && !spared(child) && !spared(parent) {
                    self.descendants.insert(child);
                }
            }
            // Its number may be somebody else's from now on.
            Event::Exit { pid } => {
                self.descendants.remove(&pid);
            }
        }
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
