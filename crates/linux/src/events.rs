//! Who came from whom, as it happens: the kernel's process events (netlink connector, NETLINK_CONNECTOR with CN_IDX_PROC).
//! A process whose parent has ended stands below another one, and no look at parents finds it any more; its fork was
//! seen. Only root may listen, and only in the machine's own namespaces.

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
        Some(Events { socket })
    }

    /// All that has come in since it was asked last.
    pub fn heard(&self) -> Heard {
        let mut heard = Heard { events: Vec::new(), lost: false };
        let mut buffer = [MaybeUninit::uninit(); 4096];
        loop {
            match recv(&self.socket, &mut buffer, RecvFlags::DONTWAIT) {
                Ok(((message, _), _)) => heard.events.extend(parse(message)),
                Err(rustix::io::Errno::NOBUFS) => heard.lost = true,
                Err(rustix::io::Errno::INTR) => {}
                Err(_) => return heard,
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
