//! `to = "collector"`: a log collector, by RFC 5424 over UDP (RFC 5426), TCP with octet counting (RFC 6587) or TLS (RFC 5425). None of
//! these has receipts: what has left may not have arrived.

use std::io::{self, ErrorKind, Read, Write};
use std::net::{Shutdown, SocketAddr, TcpStream, UdpSocket};
use std::time::Duration;

use jiff::Unit;
use rustls::{ClientConnection, StreamOwned};
use sophron_core::telling::{Collector, Message, Over, Trouble};
use sophron_core::text::cut;

use crate::job::{Job, Said};
use crate::log::{FACILITY, level};
use crate::network::{self, Timed, words};

/// Longest line, bytes (RFC 5424 has every receiver take 2,048).
const LONGEST: usize = 2048;

/// Longest value of a field, bytes.
const LONGEST_VALUE: usize = 128;

/// How long all of it may take.
const MOST: Duration = Duration::from_secs(12);

/// How long it is waited for that a collector hangs up as well, or says that it is not there.
const LAST_WORD: Duration = Duration::from_secs(2);

/// The same over UDP, where mostly nothing comes.
const LAST_WORD_UDP: Duration = Duration::from_millis(200);

pub fn deliver(to: &Collector, job: &Job, say: &mut dyn FnMut(Said)) -> Result<(), Trouble> {
    let lines: Vec<String> = job.messages.iter().map(|message| line(message, to.enterprise)).collect();
    let later = |why: String| Trouble::Later(why, None);
    let count = lines.len();
    match to.over {
        Over::Udp => {
            let address = network::addresses(&to.server, say).map_err(later)?.first().copied();
            let address = address.ok_or_else(|| later("it has no address".to_owned()))?;
            by_datagram(address, &lines).map_err(|error| later(format!("{address}: {}", words(&error))))?;
        }
        Over::Tcp => {
            let line = network::connect(&to.server, say).map_err(later)?;
            by_line(Timed::new(line, MOST), &lines)
                .map_err(|error| later(format!("{}: {}", to.server, words(&error))))?;
        }
        Over::Tls => {
            let line = network::connect(&to.server, say).map_err(later)?;
            let line = Timed::new(line, MOST);
            let line = network::encrypted(line, &to.server, &job.supplies.roots, say).map_err(later)?;
            by_tls(line, &lines).map_err(|error| later(format!("{}: {}", to.server, words(&error))))?;
        }
    }
    say(Said::Step("sent: a collector gives no receipt, look there".to_owned()));
    say(Said::Taken(count));
    Ok(())
}

fn by_datagram(address: SocketAddr, lines: &[String]) -> io::Result<()> {
    let any = if address.is_ipv4() { "0.0.0.0:0" } else { "[::]:0" };
    let socket = UdpSocket::bind(any)?;
    socket.connect(address)?;
    for line in lines {
        socket.send(line.as_bytes())?;
    }
    // That nobody listens is said by the other machine, in its own time.
    socket.set_read_timeout(Some(LAST_WORD_UDP))?;
    match socket.recv(&mut [0; 16]) {
        Err(error) if !matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) => Err(error),
        _ => Ok(()),
    }
}

fn by_line(mut line: Timed, lines: &[String]) -> io::Result<()> {
    let beneath = line.line().try_clone()?;
    send(&mut line, &beneath, lines)?;
    hang_up(&beneath)
}

fn by_tls(mut line: StreamOwned<ClientConnection, Timed>, lines: &[String]) -> io::Result<()> {
    let beneath = line.sock.line().try_clone()?;
    send(&mut line, &beneath, lines)?;
    line.conn.send_close_notify();
    line.flush()?;
    hang_up(&beneath)
}

fn send(line: &mut dyn Write, beneath: &TcpStream, lines: &[String]) -> io::Result<()> {
    for text in lines {
        still_there(beneath)?;
        line.write_all(format!("{} {text}", text.len()).as_bytes())?;
    }
    line.flush()
}

/// After the other side has hung up one more write still succeeds: it is looked for before each.
fn still_there(line: &TcpStream) -> io::Result<()> {
    line.set_nonblocking(true)?;
    let seen = line.peek(&mut [0; 1]);
    line.set_nonblocking(false)?;
    match seen {
        Ok(0) => Err(ErrorKind::UnexpectedEof.into()),
        Err(error) if error.kind() != ErrorKind::WouldBlock => Err(error),
        _ => Ok(()),
    }
}

/// Whoever hangs up in turn has read all; a line that is torn has lost some.
fn hang_up(mut line: &TcpStream) -> io::Result<()> {
    line.shutdown(Shutdown::Write)?;
    line.set_read_timeout(Some(LAST_WORD))?;
    match line.read(&mut [0; 1024]) {
        Err(error) if !matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) => Err(error),
        _ => Ok(()),
    }
}

/// `<PRI>1 TIME HOST sophron - WHAT [fields] text`.
fn line(message: &Message, enterprise: Option<u32>) -> String {
    let priority = FACILITY * 8 + level(message.severity);
    let at = message.at.round(Unit::Microsecond).unwrap_or(message.at);
    let (host, what) = (printable(&message.host, 255), printable(&message.word, 32));
    let fields = enterprise.map_or_else(|| "-".to_owned(), |enterprise| fields(message, enterprise));
    let text = format!("{}: {} [{}]", message.severity.word(), message.line, message.id);
    cut(&format!("<{priority}>1 {at} {host} sophron - {what} {fields} {text}"), LONGEST).to_owned()
}

fn fields(message: &Message, enterprise: u32) -> String {
    let mut all = format!("[sophron@{enterprise}");
    let case = message.case.map(|case| case.to_string());
    let given = [
        ("id", Some(&message.id)),
        ("case", case.as_ref()),
        ("rule", message.rule.as_ref()),
        ("process", message.process.as_ref()),
        ("app", message.app.as_ref()),
        ("owner", message.owner.as_ref()),
    ];
    for (name, value) in given {
        let Some(value) = value else { continue };
        all.push_str(&format!(" {name}=\""));
        for c in cut(value, LONGEST_VALUE).chars() {
            if matches!(c, '"' | '\\' | ']') {
                all.push('\\');
            }
            all.push(c);
        }
        all.push('"');
    }
    all.push(']');
    all
}

/// In printing letters of ASCII without blanks, at most so many; `-` for nothing.
fn printable(text: &str, most: usize) -> String {
    let one = |c: char| if c.is_ascii_graphic() { c } else { '-' };
    let text: String = text.chars().map(one).take(most).collect();
    if text.is_empty() { "-".to_owned() } else { text }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_one_and_its_fields_are_its_own() {
        let mut message = Message::trial(&jiff::Zoned::default(), "mossgate desk\n", "x");
        message.case = Some(47);
        message.app = Some("a\"] [evil@1 x=\"y\\".repeat(50));
        let line = line(&message, Some(32473));
        assert!(line.starts_with("<29>1 1970-01-01T00:00:00Z mossgate-desk- sophron - trial [sophron@32473 id=\"trial-0\" case=\"47\" app=\"a\\\"\\] [evil@1 x=\\\"y\\\\"), "{line}");
        assert!(
            line.ends_with("\"] notice: trial: x; nothing has happened [trial-0]") && line.len() <= LONGEST,
            "{line}"
        );
    }
}
