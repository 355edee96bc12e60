//! `to = "log"`: the machine's own log, by the journal's own protocol where there is one (systemd.journal-fields(7), and "Native Journal
//! Protocol"), else as the classic line of syslog(3).

use std::io;
use std::os::unix::net::UnixDatagram;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use sophron_core::severity::Severity;
use sophron_core::telling::{Message, Trouble};

use crate::Way;

/// The journal's socket.
const JOURNAL: &str = "/run/systemd/journal/socket";

/// Facility `daemon`.
pub(crate) const FACILITY: u32 = 3;

/// How long a log that has no room is waited for.
const PATIENCE: Duration = Duration::from_millis(500);

/// How often it is asked meanwhile.
const A_MOMENT: Duration = Duration::from_millis(2);

/// The machine's own log.
#[derive(Debug, Clone)]
pub struct Log {
    journal: PathBuf,
    classic: PathBuf,
}

impl Log {
    /// At these sockets: the journal's where it is not the usual one, and the classic one.
    pub fn new(journal: Option<PathBuf>, classic: PathBuf) -> Log {
        Log { journal: journal.unwrap_or_else(|| JOURNAL.into()), classic }
    }

    /// Where it is told, and how that is called.
    fn place(&self) -> (&Path, &'static str) {
        if self.journal.exists() { (&self.journal, "the journal") } else { (&self.classic, "the system log") }
    }

    fn why(&self, error: &io::Error) -> String {
        let (place, what) = self.place();
        let place = place.display();
        match error.kind() {
            io::ErrorKind::NotFound | io::ErrorKind::ConnectionRefused => {
                format!("nobody listens for {what} at {place}: does a log service run?")
            }
            io::ErrorKind::WouldBlock => format!("{what} at {place} has no room now"),
            _ => format!("{what} at {place} does not take it: {error}"),
        }
    }

    /// Hands on one message.
    ///
    /// # Errors
    /// Nobody listens there, or it has no room for half a second.
    fn note(&self, message: &Message) -> io::Result<()> {
        let sender = UnixDatagram::unbound()?;
        sender.set_nonblocking(true)?;
        let (place, _) = self.place();
        let bytes = if place == self.journal { entry(message) } else { line(message) };
        let until = Instant::now() + PATIENCE;
        loop {
            match sender.send_to(&bytes, place) {
                // A log takes a few at a time: what comes in a burst waits for its reader.
                Err(error) if error.kind() == io::ErrorKind::WouldBlock && Instant::now() < until => {
                    std::thread::sleep(A_MOMENT);
                }
                done => return done.map(drop),
            }
        }
    }
}

impl Way for Log {
    fn deliver(&mut self, messages: &[Message]) -> (usize, Option<Trouble>) {
        for (taken, message) in messages.iter().enumerate() {
            if let Err(error) = self.note(message) {
                return (taken, Some(Trouble::Later(self.why(&error), None)));
            }
        }
        (messages.len(), None)
    }

    fn try_out(&mut self, message: &Message, say: &mut dyn FnMut(&str)) -> Result<(), String> {
        if !self.journal.exists() {
            say(&format!("the journal at {}: is not there", self.journal.display()));
        }
        let (place, what) = self.place();
        self.note(message).map_err(|error| self.why(&error))?;
        say(&format!("{what} at {}: taken, as {}", place.display(), message.id));
        Ok(())
    }
}

/// As syslog(3) counts.
pub(crate) fn level(severity: Severity) -> u32 {
    match severity {
        Severity::Notice => 5,
        Severity::Warning => 4,
        Severity::Critical => 2,
    }
}

fn line(message: &Message) -> Vec<u8> {
    let priority = FACILITY * 8 + level(message.severity);
    let pid = std::process::id();
    format!("<{priority}>sophron[{pid}]: {}: {} [{}]", message.severity.word(), message.line, message.id).into_bytes()
}

/// Fields of the journal: `NAME=value`, a line each; a value with a line end of its own stands behind its length.
fn entry(message: &Message) -> Vec<u8> {
    let mut entry = Vec::new();
    let mut field = |name: &str, value: &str| {
        entry.extend_from_slice(name.as_bytes());
        if value.contains('\n') {
            entry.push(b'\n');
            entry.extend_from_slice(&(value.len() as u64).to_le_bytes());
        } else {
            entry.push(b'=');
        }
        entry.extend_from_slice(value.as_bytes());
        entry.push(b'\n');
    };
    field("MESSAGE", &message.line);
    field("PRIORITY", &level(message.severity).to_string());
    field("SYSLOG_IDENTIFIER", "sophron");
    field("SYSLOG_FACILITY", &FACILITY.to_string());
    field("SOPHRON_ID", &message.id);
    field("SOPHRON_SEVERITY", message.severity.word());
    field("SOPHRON_WHAT", &message.word);
    let case = message.case.map(|case| case.to_string());
    let rest = [
        ("SOPHRON_CASE", &case),
        ("SOPHRON_RULE", &message.rule),
        ("SOPHRON_PROCESS", &message.process),
        ("SOPHRON_APP", &message.app),
        ("SOPHRON_OWNER", &message.owner),
    ];
    for (name, value) in rest {
        if let Some(value) = value {
            field(name, value);
        }
    }
    entry
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A value with a line end makes no field of its own.
    #[test]
    fn nothing_is_injected() {
        let mut message = Message::beside_the_trail(&jiff::Zoned::default(), "mossgate-desk-03", "blind", "x");
        message.app = Some("labelpress\nPRIORITY=7".to_owned());
        let entry = entry(&message);
        let end = b"SOPHRON_APP\n\x15\0\0\0\0\0\0\0labelpress\nPRIORITY=7\n";
        assert!(entry.ends_with(end), "{}", String::from_utf8_lossy(&entry));
    }
}
