//! Which way a channel is, and what it takes to go that way.

use std::fmt;
use std::net::IpAddr;

use serde::{Deserialize, Serialize};
use serde_json::Value;

/// Which way a channel is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum To {
    /// The machine's own log.
    Log,
    /// The desk of the person whose program it is.
    Desk(Desk),
    /// A log collector elsewhere.
    Collector(Collector),
    /// Electronic mail.
    Mail(Box<Mail>),
    /// A program elsewhere, over HTTP.
    Hook(Box<Hook>),
}

impl To {
    /// Every way's word.
    pub const WORDS: [&str; 5] = ["log", "desk", "collector", "mail", "hook"];

    /// Its word, as in `to = "…"`.
    pub fn word(&self) -> &'static str {
        match self {
            To::Log => "log",
            To::Desk(_) => "desk",
            To::Collector(_) => "collector",
            To::Mail(_) => "mail",
            To::Hook(_) => "hook",
        }
    }

    /// Where it goes over the network; none where it stays on the machine.
    pub fn server(&self) -> Option<&Server> {
        match self {
            To::Log | To::Desk(_) => None,
            To::Collector(collector) => Some(&collector.server),
            To::Mail(mail) => Some(&mail.server),
            To::Hook(hook) => Some(&hook.url.server),
        }
    }

    /// Whether nobody on the way can read it, or pretend to be who takes it.
    pub fn is_encrypted(&self) -> bool {
        match self {
            To::Log | To::Desk(_) => true,
            To::Collector(collector) => collector.over == Over::Tls,
            To::Mail(mail) => mail.secure != Secure::None,
            To::Hook(hook) => hook.url.is_https,
        }
    }

    /// Whether the other side says that it has taken a message.
    pub fn gives_receipts(&self) -> bool {
        !matches!(self, To::Collector(_))
    }
}

/// Notices in the graphical session of the person whose program it is.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Desk {
    /// Whether he is asked at his terminals where he has no desktop.
    pub terminals: bool,
}

/// A log collector: RFC 5424.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Collector {
    /// Where it listens.
    pub server: Server,
    /// By which transport.
    pub over: Over,
    /// The private enterprise number under which a message's fields stand as structured data; none without.
    pub enterprise: Option<u32>,
}

/// A transport of log messages.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Over {
    /// RFC 5426.
    Udp,
    /// RFC 6587, with octet counting.
    Tcp,
    /// RFC 5425.
    Tls,
}

impl Over {
    /// Every transport.
    pub const ALL: [Over; 3] = [Over::Udp, Over::Tcp, Over::Tls];

    /// Its word, as in `over = "…"`.
    pub fn word(self) -> &'static str {
        match self {
            Over::Udp => "udp",
            Over::Tcp => "tcp",
            Over::Tls => "tls",
        }
    }
}

/// Electronic mail.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mail {
    /// The server that takes it.
    pub server: Server,
    /// How the line is encrypted.
    pub secure: Secure,
    /// Who logs in; nobody, if not given.
    pub user: Option<String>,
    /// Whose mail it is.
    pub from: String,
    /// Who gets it.
    pub addresses: Vec<String>,
}

/// How a line to a mail server is encrypted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Secure {
    /// After the greeting; a server that does not offer it is not used.
    StartTls,
    /// From the first byte.
    Tls,
    /// Not at all.
    None,
}

impl Secure {
    /// Every way.
    pub const ALL: [Secure; 3] = [Secure::StartTls, Secure::Tls, Secure::None];

    /// Its word, as in `secure = "…"`.
    pub fn word(self) -> &'static str {
        match self {
            Secure::StartTls => "starttls",
            Secure::Tls => "tls",
            Secure::None => "none",
        }
    }
}

/// A program elsewhere, over HTTP.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hook {
    /// Where.
    pub url: Url,
    /// What is sent instead of an event; see [`shaped`](super::shaped).
    pub shape: Option<Value>,
}

/// A machine and a port.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Server {
    /// Its name, or its address.
    pub host: String,
    /// TCP's or UDP's.
    pub port: u16,
}

impl fmt::Display for Server {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Server { host, port } = self;
        if host.contains(':') { write!(f, "[{host}]:{port}") } else { write!(f, "{host}:{port}") }
    }
}

impl Server {
    /// Reads `mail.mossgate.example:587`, `192.0.2.7:514` or `[2001:db8::7]:514`.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn parse(text: &str) -> Result<Server, String> {
        let (host, port) = text.rsplit_once(':').ok_or("no port stands behind the name")?;
        let port = port.parse().ok().filter(|port| *port > 0).ok_or_else(|| format!("`{port}` is no port"))?;
        Ok(Server { host: host_of(host)?, port })
    }

    /// Whether it is this machine itself.
    pub fn is_here(&self) -> bool {
        self.host == "localhost" || self.host.parse().is_ok_and(|address: IpAddr| address.is_loopback())
    }
}

fn host_of(text: &str) -> Result<String, String> {
    if let Some(address) = text.strip_prefix('[').and_then(|text| text.strip_suffix(']')) {
        let address = address.parse::<std::net::Ipv6Addr>().map_err(|_| format!("`{text}` is no address"))?;
        return Ok(address.to_string());
    }
    // What others make of a name beyond these letters is not the same everywhere.
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | '_');
    let is_name = !text.is_empty() && text.len() <= 253 && text.chars().all(plain);
    if is_name { Ok(text.to_owned()) } else { Err(format!("`{text}` is no name of a machine")) }
}

/// `http://` or `https://`. What stands behind the server may be a secret: it is never shown.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Url {
    /// Where.
    pub server: Server,
    /// Whether the line is encrypted.
    pub is_https: bool,
    /// The path and what follows it, as it is sent: it begins with `/`.
    pub path: String,
}

/// Where the secret goes in a URL.
pub const SECRET: &str = "{secret}";

impl Url {
    /// Reads `https://hooks.mossgate.example/in`.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn parse(text: &str) -> Result<Url, String> {
        let (is_https, rest) = match (text.strip_prefix("https://"), text.strip_prefix("http://")) {
            (Some(rest), _) => (true, rest),
            (_, Some(rest)) => (false, rest),
            _ => return Err("it begins with neither https:// nor http://".to_owned()),
        };
        let end = rest.find(['/', '?', '#']).unwrap_or(rest.len());
        let (place, path) = rest.split_at(end);
        if place.contains('@') {
            return Err("a user or a password stands before the server".to_owned());
        }
        if let Some(bad) = path.chars().find(|c| !c.is_ascii_graphic() || matches!(c, '#' | '"' | '<' | '>' | '\\')) {
            return Err(format!("`{}` cannot stand in it", crate::text::clean(bad.to_string().as_bytes())));
        }
        let has_port = place.rsplit_once(':').is_some_and(|(host, _)| !host.starts_with('[') || host.ends_with(']'));
        let server = match has_port {
            true => Server::parse(place)?,
            false => Server { host: host_of(place)?, port: if is_https { 443 } else { 80 } },
        };
        let path = if path.starts_with('/') { path.to_owned() } else { format!("/{path}") };
        Ok(Url { server, is_https, path })
    }
}

impl fmt::Display for Url {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (scheme, usual) = if self.is_https { ("https", 443) } else { ("http", 80) };
        let place = self.server.to_string();
        let place =
            if self.server.port == usual { place.rsplit_once(':').map_or("", |(host, _)| host) } else { &place };
        write!(f, "{scheme}://{place}")
    }
}

impl fmt::Debug for Url {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}/…")
    }
}
