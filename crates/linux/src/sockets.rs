//! Whom a socket is connected to: `/proc/PID/net/tcp` and its like (proc_pid_net(5)), and for local ones the kernel's socket
//! diagnosis (sock_diag(7)). How long those lists are is up to any user: whoever asks waits no longer than he wants to.

use std::fs;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};

use rustix::net::netlink::SOCK_DIAG;
use rustix::net::{SendFlags, send};
use sophron_core::text;

use crate::netlink::{self, HEADER, attribute};

/// One socket.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Socket {
    /// Of the network.
    Network {
        /// Its own address.
        local: SocketAddr,
        /// The other end's; `None` where there is none.
        remote: Option<SocketAddr>,
        /// Where it stands.
        state: SocketState,
        /// Which socket of this machine the other end is, by its number.
        peer: Option<u64>,
    },
    /// Of this machine alone.
    Local {
        /// Where it stands in the file system, of itself or of its other end.
        path: Option<String>,
        /// Which socket its other end is, by its number.
        peer: Option<u64>,
    },
}

/// Where a connection stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SocketState {
    /// It is connected.
    Connected,
    /// It waits for an answer to its wish to connect.
    Connecting,
    /// Others may connect to it.
    Listening,
    /// Anything else.
    Other,
}

/// The socket of that number (`socket:[4711]`), as the process sees it; `None` where it is not found.
pub fn find(pid: u32, number: u64) -> Option<Socket> {
    network(pid, number).or_else(|| local(pid, number))
}

fn network(pid: u32, number: u64) -> Option<Socket> {
    for list in ["tcp", "tcp6", "udp", "udp6"] {
        let text = fs::read_to_string(format!("/proc/{pid}/net/{list}")).unwrap_or_default();
        let Some(entry) = text.lines().filter_map(entry).find(|entry| entry.number == number) else { continue };
        let mirrored = |other: &Entry| (other.local, other.remote) == (entry.remote, entry.local);
        let is_local = entry.remote.ip().is_loopback() || entry.remote.ip() == entry.local.ip();
        let peer = text.lines().filter_map(self::entry).find(|other| is_local && mirrored(other));
        return Some(Socket::Network {
            local: entry.local,
            remote: Some(entry.remote).filter(|remote| remote.port() != 0),
            state: entry.state,
            peer: peer.map(|peer| peer.number).filter(|number| *number != 0),
        });
    }
    None
}

struct Entry {
    local: SocketAddr,
    remote: SocketAddr,
    state: SocketState,
    number: u64,
}

/// `  0: 0100007F:1F90 0100007F:A2C4 01 … inode …`.
fn entry(line: &str) -> Option<Entry> {
    let fields: Vec<&str> = line.split_whitespace().collect();
    let state = match *fields.get(3)? {
        "01" => SocketState::Connected,
        "02" => SocketState::Connecting,
        "0A" => SocketState::Listening,
        _ => SocketState::Other,
    };
    Some(Entry {
        local: address(fields.get(1)?)?,
        remote: address(fields.get(2)?)?,
        state,
        number: fields.get(9)?.parse().ok()?,
    })
}

/// Words of four bytes, each as the machine has it.
fn address(text: &str) -> Option<SocketAddr> {
    let (ip, port) = text.split_once(':')?;
    let port = u16::from_str_radix(port, 16).ok()?;
    let word = |at: usize| Some(u32::from_str_radix(ip.get(at..at + 8)?, 16).ok()?.to_ne_bytes());
    let ip = match ip.len() {
        8 => IpAddr::V4(Ipv4Addr::from(word(0)?)),
        32 => {
            let words = [word(0)?, word(8)?, word(16)?, word(24)?].concat();
            let ip = Ipv6Addr::from(<[u8; 16]>::try_from(words).ok()?);
            ip.to_ipv4_mapped().map_or(IpAddr::V6(ip), IpAddr::V4)
        }
        _ => return None,
    };
    Some(SocketAddr::new(ip, port))
}

fn local(pid: u32, number: u64) -> Option<Socket> {
    let text = fs::read(format!("/proc/{pid}/net/unix")).ok()?;
    let text = String::from_utf8_lossy(&text);
    // Num RefCount Protocol Flags Type St Inode Path
    let of = |line: &str| {
        let fields: Vec<&str> = line.split_whitespace().collect();
        Some((fields.get(6)?.parse::<u64>().ok()?, fields.get(7).map(|path| text::clean(path.as_bytes()))))
    };
    let paths: Vec<(u64, Option<String>)> = text.lines().skip(1).filter_map(of).collect();
    let path = |number: u64| paths.iter().find(|(known, _)| *known == number).and_then(|(_, path)| path.clone());
    paths.iter().find(|(known, _)| *known == number)?;
    let peer = peer(number);
    Some(Socket::Local { path: path(number).or_else(|| path(peer?)), peer })
}

/// SOCK_DIAG_BY_FAMILY and NLM_F_REQUEST; UDIAG_SHOW_PEER, UNIX_DIAG_PEER and the length of struct unix_diag_msg
/// (linux/unix_diag.h).
const BY_FAMILY: u16 = 20;
const REQUEST: u16 = 1;
const SHOW_PEER: u32 = 4;
const PEER: u16 = 2;
const ANSWER: usize = 16;

/// The other end of a local socket.
fn peer(number: u64) -> Option<u64> {
    let number = u32::try_from(number).ok()?;
    let socket = netlink::socket(SOCK_DIAG, None, 0)?;
    // unix_diag_req: family, protocol, padding, states, inode, show, cookie.
    let mut body = vec![libc::AF_UNIX as u8, 0, 0, 0];
    body.extend(u32::MAX.to_ne_bytes());
    body.extend(number.to_ne_bytes());
    body.extend(SHOW_PEER.to_ne_bytes());
    body.extend([0xff; 8]);
    send(&socket, &netlink::message(BY_FAMILY, REQUEST, &body), SendFlags::empty()).ok()?;
    // The kernel has answered when the call that asks returns.
    netlink::next(&socket, |message| {
        let answers = message.get(4..6) == Some(&BY_FAMILY.to_ne_bytes());
        let attributes = message.get(HEADER + ANSWER..).filter(|_| answers)?;
        let peer = attribute(attributes, PEER)?.get(..4)?;
        Some(u64::from(u32::from_ne_bytes(peer.try_into().ok()?)))
    })
    .ok()?
}

#[cfg(test)]
mod tests {
    use std::net::{TcpListener, TcpStream};
    use std::os::fd::AsRawFd;
    use std::os::unix::net::UnixStream;

    use super::*;

    fn number(socket: &impl AsRawFd) -> u64 {
        let link = fs::read_link(format!("/proc/self/fd/{}", socket.as_raw_fd())).unwrap();
        link.to_str().unwrap().trim_start_matches("socket:[").trim_end_matches(']').parse().unwrap()
    }

    #[test]
    fn the_other_end_is_found() {
        let own = std::process::id();
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        let here = TcpStream::connect(address).unwrap();
        let there = listener.accept().unwrap().0;
        let found = find(own, number(&here)).unwrap();
        let (local, peer) = (here.local_addr().unwrap(), Some(number(&there)));
        assert_eq!(found, Socket::Network { local, remote: Some(address), state: SocketState::Connected, peer });
        let listens = find(own, number(&listener));
        assert!(matches!(listens, Some(Socket::Network { remote: None, state: SocketState::Listening, .. })));
        let (one, other) = UnixStream::pair().unwrap();
        assert_eq!(find(own, number(&one)), Some(Socket::Local { path: None, peer: Some(number(&other)) }));
        assert_eq!(find(own, 1), None);
    }

    #[test]
    fn addresses_of_both_families() {
        let told = |text: &str| address(text).map(|address| address.to_string());
        assert_eq!(told("0100007F:1F90").as_deref(), Some("127.0.0.1:8080"));
        assert_eq!(told("0000000000000000FFFF00000100007F:1F90").as_deref(), Some("127.0.0.1:8080"));
        assert_eq!(told("00000000000000000000000001000000:0050").as_deref(), Some("[::1]:80"));
        assert_eq!(told("x:1"), None);
    }
}
