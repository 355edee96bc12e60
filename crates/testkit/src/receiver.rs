//! Those whom messages are sent to: a web server, a mail server, a log collector, on this machine; each takes what comes, or does what
//! a test wants of it. The certificate is `localhost`'s, by an authority of the tests' own, which nobody else believes.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};

use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::{ServerConfig, ServerConnection, StreamOwned};

/// The tests' authority, PEM.
pub const AUTHORITY: &str = include_str!("tls/ca.pem");

/// A line to a server, encrypted or not.
pub enum Line {
    /// In the clear.
    Plain(TcpStream),
    /// Encrypted.
    Tls(Box<StreamOwned<ServerConnection, TcpStream>>),
}

impl Line {
    /// Encrypts it from now on.
    ///
    /// # Panics
    /// It is already.
    pub fn encrypt(self) -> Line {
        let Line::Plain(line) = self else { panic!("it is encrypted already") };
        let certificate = CertificateDer::from_pem_slice(include_bytes!("tls/server.pem")).expect("our own");
        let key = PrivateKeyDer::from_pem_slice(include_bytes!("tls/server.key")).expect("our own");
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config = ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
        let config = config.expect("usual versions").with_no_client_auth().with_single_cert(vec![certificate], key);
        let session = ServerConnection::new(Arc::new(config.expect("they fit"))).expect("a session");
        Line::Tls(Box::new(StreamOwned::new(session, line)))
    }
}

impl Read for Line {
    fn read(&mut self, bytes: &mut [u8]) -> std::io::Result<usize> {
        match self {
            Line::Plain(line) => line.read(bytes),
            Line::Tls(line) => line.read(bytes),
        }
    }
}

impl Write for Line {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        match self {
            Line::Plain(line) => line.write(bytes),
            Line::Tls(line) => line.write(bytes),
        }
    }

    fn flush(&mut self) -> std::io::Result<()> {
        match self {
            Line::Plain(line) => line.flush(),
            Line::Tls(line) => line.flush(),
        }
    }
}

/// Serves each line on a thread of its own; the port, and what they tell.
///
/// # Panics
/// There is no free port.
pub fn serve(one: impl Fn(Line, &Sender<String>) + Send + Sync + 'static) -> (u16, Receiver<String>) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = listener.local_addr().expect("it is bound").port();
    let (tell, told) = channel();
    let one = Arc::new(one);
    std::thread::spawn(move || {
        for line in listener.incoming().flatten() {
            let (one, tell) = (Arc::clone(&one), tell.clone());
            std::thread::spawn(move || one(Line::Plain(line), &tell));
        }
    });
    (port, told)
}

/// A web server that tells of each request, head and body; what it answers is chosen by the path.
pub fn web(tls: bool, answer: impl Fn(&str) -> String + Send + Sync + 'static) -> (u16, Receiver<String>) {
    serve(move |line, tell| {
        let mut line = BufReader::new(if tls { line.encrypt() } else { line });
        loop {
            let mut head = String::new();
            while !head.ends_with("\r\n\r\n") {
                if !matches!(line.read_line(&mut head), Ok(length) if length > 0) {
                    return;
                }
            }
            let head = head.to_lowercase();
            let length = head.split_once("content-length: ").and_then(|(_, rest)| rest.lines().next()?.parse().ok());
            let mut body = vec![0; length.unwrap_or(0)];
            if line.read_exact(&mut body).is_err() {
                return;
            }
            let body = String::from_utf8_lossy(&body);
            let path = head.split(' ').nth(1).unwrap_or_default().to_owned();
            if tell.send(format!("{head}{body}")).is_err()
                || line.get_mut().write_all(answer(&path).as_bytes()).is_err()
            {
                return;
            }
        }
    })
}

/// An answer without a body.
pub fn status(status: &str) -> String {
    format!("HTTP/1.1 {status}\r\ncontent-length: 0\r\n\r\n")
}

/// A mail server that tells of each mail. `greeting` are the words behind EHLO; whoever has to log in does so as `sophron` with `password`;
/// recipients that begin with a number are answered with it.
pub fn mail(greeting: &'static [&'static str], password: Option<&'static str>) -> (u16, Receiver<String>) {
    serve(move |line, tell| {
        let mut line = BufReader::new(line);
        let say = |line: &mut BufReader<Line>, text: &str| {
            let _ = line.get_mut().write_all(format!("{text}\r\n").as_bytes());
            let _ = line.get_mut().flush();
        };
        let mut logged_in = password.is_none();
        say(&mut line, "220 mail.mossgate.example");
        loop {
            let mut asked = String::new();
            if !matches!(line.read_line(&mut asked), Ok(length) if length > 0) {
                return;
            }
            let asked = asked.trim_end();
            match asked.split(' ').next().unwrap_or_default() {
                "EHLO" => {
                    let secure = matches!(line.get_ref(), Line::Tls(_));
                    let words: Vec<&str> =
                        greeting.iter().copied().filter(|word| !secure || *word != "STARTTLS").collect();
                    say(&mut line, "250-mail.mossgate.example");
                    words.iter().for_each(|word| say(&mut line, &format!("250-{word}")));
                    say(&mut line, "250 8BITMIME");
                }
                "STARTTLS" => {
                    say(&mut line, "220 go on");
                    line = BufReader::new(line.into_inner().encrypt());
                }
                "AUTH" => {
                    // PLAIN: nothing, the user, the password, with a zero byte before each.
                    let given = asked.rsplit(' ').next().unwrap_or_default();
                    logged_in = password.is_some_and(|password| given == plain(password));
                    say(&mut line, if logged_in { "235 welcome" } else { "535 who is that" });
                }
                "MAIL" if !logged_in => say(&mut line, "530 log in first"),
                "RCPT" => {
                    let to = asked.split_once('<').map_or("", |(_, to)| to);
                    match to.get(..3).filter(|code| code.chars().all(|c| c.is_ascii_digit())) {
                        Some(code) => say(&mut line, &format!("{code} not him")),
                        None => say(&mut line, "250 yes"),
                    }
                }
                "DATA" => {
                    say(&mut line, "354 go on");
                    let mut mail = String::new();
                    while !mail.ends_with("\r\n.\r\n") {
                        if !matches!(line.read_line(&mut mail), Ok(length) if length > 0) {
                            return;
                        }
                    }
                    say(&mut line, "250 queued");
                    if tell.send(mail).is_err() {
                        return;
                    }
                }
                "QUIT" => return say(&mut line, "221 bye"),
                _ => say(&mut line, "250 yes"),
            }
        }
    })
}

/// `AUTH PLAIN`'s one answer, of the user `sophron`.
fn plain(password: &str) -> String {
    const LETTERS: &[u8] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let given = format!("\0sophron\0{password}");
    let letters = given.as_bytes().chunks(3).flat_map(|three| {
        let bits = three.iter().fold(0u32, |bits, byte| bits << 8 | u32::from(*byte)) << (8 * (3 - three.len()));
        let letter = move |at: usize| LETTERS[(bits >> (18 - 6 * at)) as usize & 63] as char;
        (0..4).map(move |at| if at <= three.len() { letter(at) } else { '=' })
    });
    letters.collect()
}

/// A log collector that tells of each message, by octet counting.
pub fn collector(tls: bool) -> (u16, Receiver<String>) {
    serve(move |line, tell| {
        let mut line = BufReader::new(if tls { line.encrypt() } else { line });
        loop {
            let mut length = Vec::new();
            let Ok(1..) = line.read_until(b' ', &mut length) else { return };
            let Some(length) = std::str::from_utf8(&length).ok().and_then(|length| length.trim().parse().ok()) else {
                let _ = tell.send("not counted".to_owned());
                return;
            };
            let mut message = vec![0; length];
            if line.read_exact(&mut message).is_err()
                || tell.send(String::from_utf8_lossy(&message).into_owned()).is_err()
            {
                return;
            }
        }
    })
}
