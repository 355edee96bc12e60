//! Sockets of message buses (dbus-daemon(1)): who has to listen there, and without waiting for whoever does not.

use std::io;
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};

use rustix::net::sockopt::socket_peercred;
use rustix::net::{AddressFamily, SocketAddrUnix, SocketFlags, SocketType, connect, socket_with};

/// The machine's own.
pub fn of_machine() -> PathBuf {
    PathBuf::from("/run/dbus/system_bus_socket")
}

/// That of a user's session. The environment chooses neither.
pub fn of_user(uid: u32) -> PathBuf {
    PathBuf::from(format!("/run/user/{uid}/bus"))
}

/// Why a bus is not spoken to.
#[derive(Debug, thiserror::Error)]
pub enum BusError {
    /// What listens there is somebody else, or it is a link.
    #[error("{0}")]
    Foreign(String),
    /// There is none, or it cannot be reached.
    #[error(transparent)]
    Unreachable(#[from] io::Error),
}

/// Connects to the socket at which that user has to listen; anybody, if none is given. Whoever takes no one in is not waited for.
///
/// # Errors
/// Nobody listens there, it is somebody else, or he takes no one in at present (`WouldBlock`).
pub fn reach(path: &Path, owner: Option<u32>) -> Result<UnixStream, BusError> {
    if owner.is_some() && path.is_symlink() {
        return Err(BusError::Foreign("it is a link, and links are not followed".to_owned()));
    }
    let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
    let socket = socket_with(AddressFamily::UNIX, SocketType::STREAM, flags, None).map_err(io::Error::from)?;
    connect(&socket, &SocketAddrUnix::new(path).map_err(io::Error::from)?).map_err(io::Error::from)?;
    // Whoever put the socket there: what counts is who listens at it (SO_PEERCRED, unix(7)).
    let peer = socket_peercred(&socket).map_err(io::Error::from)?.uid.as_raw();
    if let Some(owner) = owner.filter(|owner| *owner != peer) {
        return Err(BusError::Foreign(format!("user {peer} listens there, and not user {owner}")));
    }
    Ok(UnixStream::from(socket))
}
