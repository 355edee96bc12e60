//! To another machine: its address, a line to it, an encrypted one; each bounded in time.

use std::io::{self, ErrorKind, Read, Write};
use std::net::{SocketAddr, TcpStream, ToSocketAddrs};
use std::sync::Arc;
use std::sync::mpsc::sync_channel;
use std::time::{Duration, Instant};

use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{ClientConfig, ClientConnection, RootCertStore, StreamOwned};
use sophron_core::telling::Server;

use crate::job::Said;

/// How long the address of a name is waited for.
const RESOLVING: Duration = Duration::from_secs(3);

/// How long a line is waited for.
const CONNECTING: Duration = Duration::from_secs(5);

/// How it is said that a line cannot be encrypted.
const UNTRUSTED: &str = "no encrypted line: ";

/// The addresses of a machine.
pub fn addresses(server: &Server, say: &mut dyn FnMut(Said)) -> Result<Vec<SocketAddr>, String> {
    let (give, given) = sync_channel(1);
    let asked = (server.host.clone(), server.port);
    // Who answers names may be silent for longer than anybody waits: the thread ends with us.
    let ask = move || {
        let _ = give.send(asked.to_socket_addrs().map(Iterator::collect::<Vec<_>>));
    };
    std::thread::Builder::new().spawn(ask).map_err(|error| format!("no thread can be started: {error}"))?;
    let host = &server.host;
    let found = given.recv_timeout(RESOLVING);
    let found =
        found.map_err(|_| format!("nobody says within {} s what the address of {host} is", RESOLVING.as_secs()))?;
    let found = found.map_err(|error| format!("the address of {host} is not known: {error}"))?;
    let all: Vec<String> = found.iter().map(|address| address.ip().to_string()).collect();
    if all.is_empty() {
        return Err(format!("{host} has no address"));
    }
    if all != [host.as_str()] {
        say(Said::Step(format!("{host} is at {}", all.join(", "))));
    }
    Ok(found)
}

/// A line to the first of its addresses that answers.
pub fn connect(server: &Server, say: &mut dyn FnMut(Said)) -> Result<TcpStream, String> {
    let mut why = String::new();
    for address in addresses(server, say)? {
        match TcpStream::connect_timeout(&address, CONNECTING) {
            Ok(stream) => {
                say(Said::Step(format!("connected to {address}")));
                return Ok(stream);
            }
            Err(error) => why = format!("{address}: {}", words(&error)),
        }
    }
    Err(why)
}

/// Why something did not go over the line.
pub fn words(error: &io::Error) -> String {
    if let Some(cause) = error.get_ref().filter(|cause| cause.is::<rustls::Error>()) {
        return untrusted(&cause.to_string());
    }
    match error.kind() {
        ErrorKind::ConnectionRefused => "nobody listens there".to_owned(),
        ErrorKind::TimedOut | ErrorKind::WouldBlock => "it does not answer in time".to_owned(),
        ErrorKind::UnexpectedEof | ErrorKind::BrokenPipe | ErrorKind::ConnectionReset => "it has hung up".to_owned(),
        _ => error.to_string(),
    }
}

/// Whom to believe who the other side is.
pub fn roots(pem: &str) -> Result<Vec<CertificateDer<'static>>, String> {
    let all: Vec<CertificateDer<'static>> = CertificateDer::pem_slice_iter(pem.as_bytes()).flatten().collect();
    if all.is_empty() {
        Err("nobody may vouch for the other side: there is no certificate".to_owned())
    } else {
        Ok(all)
    }
}

/// How a line is encrypted.
pub fn encryption(pem: &str) -> Result<Arc<ClientConfig>, String> {
    let mut store = RootCertStore::empty();
    store.add_parsable_certificates(roots(pem)?);
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
    let config = config.map_err(|error| format!("nothing can be encrypted: {error}"))?;
    Ok(Arc::new(config.with_root_certificates(store).with_no_client_auth()))
}

/// An encrypted line to who can prove that he is that machine.
pub fn encrypted<S: Read + Write>(
    mut line: S,
    server: &Server,
    pem: &str,
    say: &mut dyn FnMut(Said),
) -> Result<StreamOwned<ClientConnection, S>, String> {
    let name = ServerName::try_from(server.host.clone()).map_err(|_| format!("{} is no name", server.host))?;
    let mut session = ClientConnection::new(encryption(pem)?, name).map_err(|error| untrusted(&error.to_string()))?;
    while session.is_handshaking() {
        session.complete_io(&mut line).map_err(|error| match words(&error) {
            known if known.starts_with(UNTRUSTED) => known,
            why => format!("{UNTRUSTED}{why}; does it speak TLS at that port?"),
        })?;
    }
    let version = session.protocol_version().and_then(|version| version.as_str());
    let version = version.unwrap_or("TLS").replace("TLSv1_", "TLS 1.");
    say(Said::Step(format!("{version} with {}: its certificate fits that name", server.host)));
    Ok(StreamOwned::new(session, line))
}

/// Why the other side is not believed.
pub fn untrusted(why: &str) -> String {
    let hint = if why.contains("UnknownIssuer") {
        "; `ca_file` names who may vouch for it"
    } else if why.contains("BadSignature") || why.contains("InvalidContentType") || why.contains("corrupt message") {
        "; does it speak TLS at that port?"
    } else {
        ""
    };
    format!("{UNTRUSTED}{why}{hint}")
}

/// A line that is over at that time, however slowly the other side drips.
#[derive(Debug)]
pub struct Timed {
    line: TcpStream,
    until: Instant,
}

impl Timed {
    /// From now on for so long.
    pub fn new(line: TcpStream, most: Duration) -> Timed {
        Timed { line, until: Instant::now() + most }
    }

    /// The line itself.
    pub fn line(&self) -> &TcpStream {
        &self.line
    }

    fn left(&self) -> io::Result<Duration> {
        let left = self.until.checked_duration_since(Instant::now()).filter(|left| !left.is_zero());
        left.ok_or_else(|| ErrorKind::TimedOut.into())
    }
}

impl Read for Timed {
    fn read(&mut self, bytes: &mut [u8]) -> io::Result<usize> {
        self.line.set_read_timeout(Some(self.left()?))?;
        self.line.read(bytes)
    }
}

impl Write for Timed {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.line.set_write_timeout(Some(self.left()?))?;
        self.line.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.line.flush()
    }
}
