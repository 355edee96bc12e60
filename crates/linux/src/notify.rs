//! What a service tells its service manager: one datagram a message (sd_notify(3)).

use std::ffi::OsStr;
use std::io;
use std::os::linux::net::SocketAddrExt;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::net::{SocketAddr, UnixDatagram};

/// A way to the service manager.
#[derive(Debug)]
pub struct Notify {
    sender: UnixDatagram,
    to: SocketAddr,
}

impl Notify {
    /// To the socket that the manager has named, by its path or, behind an `@`, by its abstract name.
    ///
    /// # Errors
    /// It is no name of a socket, or no socket can be had.
    pub fn to(name: &OsStr) -> io::Result<Notify> {
        let to = match name.as_bytes() {
            [b'@', rest @ ..] => SocketAddr::from_abstract_name(rest)?,
            [b'/', ..] => SocketAddr::from_pathname(name)?,
            _ => return Err(io::Error::other("it is neither a path nor an abstract name")),
        };
        let sender = UnixDatagram::unbound()?;
        // A manager that takes nothing holds nothing up.
        sender.set_nonblocking(true)?;
        Ok(Notify { sender, to })
    }

    /// Tells it: lines as `READY=1`.
    ///
    /// # Errors
    /// It does not take it.
    pub fn tell(&self, lines: &str) -> io::Result<()> {
        self.sender.send_to_addr(lines.as_bytes(), &self.to).map(|_| ())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_told_by_a_path_and_by_an_abstract_name() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("notify");
        let abstract_name = format!("sophron-notify-{}", std::process::id());
        let by_path = UnixDatagram::bind(&path).unwrap();
        let by_name = UnixDatagram::bind_addr(&SocketAddr::from_abstract_name(&abstract_name).unwrap()).unwrap();
        for (name, heard) in [(path.as_os_str(), by_path), (OsStr::new(&format!("@{abstract_name}")), by_name)] {
            Notify::to(name).unwrap().tell("READY=1\nSTATUS=watching").unwrap();
            let mut bytes = [0; 64];
            let length = heard.recv(&mut bytes).unwrap();
            assert_eq!(&bytes[..length], b"READY=1\nSTATUS=watching");
        }
        assert!(Notify::to(OsStr::new("relative")).is_err());
    }
}
