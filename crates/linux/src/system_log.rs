//! The system log: one datagram a line to its socket (syslog(3), `/dev/log`).

use std::io;
use std::os::unix::net::UnixDatagram;
use std::path::Path;

/// Where the system log listens.
pub const SOCKET: &str = "/dev/log";

/// Facility `authpriv`, severity `notice`.
const PRIORITY: u32 = 10 * 8 + 5;

/// Writes a line there. It never waits: a log that does not take it is an error.
///
/// # Errors
/// Nobody listens, or it is full.
pub fn note(socket: &Path, line: &str) -> io::Result<()> {
    let sender = UnixDatagram::unbound()?;
    sender.set_nonblocking(true)?;
    sender.send_to(format!("<{PRIORITY}>sophron[{}]: {line}", std::process::id()).as_bytes(), socket)?;
    Ok(())
}
