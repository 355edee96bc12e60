//! Figures to whoever asks for them on this machine: a little HTTP, by a helper that holds nothing but the latest text.

use std::collections::VecDeque;
use std::io::{self, BufRead, Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use crate::network::Timed;

/// Most of a question that is read, bytes.
const QUESTION: usize = 4096;

/// How long one question and its answer may take.
const MOST: Duration = Duration::from_secs(2);

/// Most who are answered at a time; whoever comes then takes the place of one who has not asked.
const AT_A_TIME: usize = 8;

/// Largest text, bytes.
const LARGEST: usize = 4 << 20;

/// How a text is handed over: its length in a line, and the text.
pub fn framed(text: &str) -> Vec<u8> {
    format!("{}\n{text}", text.len()).into_bytes()
}

/// Answers until there are no more texts: whoever wrote them is gone.
///
/// # Errors
/// No thread can be started.
pub fn serve(listener: TcpListener, mut texts: impl BufRead, content_type: &'static str) -> io::Result<()> {
    let latest = Arc::new(Mutex::new(Arc::<str>::from("")));
    let shown = Arc::clone(&latest);
    std::thread::Builder::new().spawn(move || answer_all(&listener, &shown, content_type))?;
    while let Some(text) = next(&mut texts) {
        *latest.lock().unwrap_or_else(PoisonError::into_inner) = text.into();
    }
    Ok(())
}

fn next(texts: &mut impl BufRead) -> Option<String> {
    let mut length = String::new();
    texts.take(32).read_line(&mut length).ok()?;
    let length: usize = length.trim().parse().ok().filter(|length| *length <= LARGEST)?;
    let mut text = vec![0; length];
    texts.read_exact(&mut text).ok()?;
    String::from_utf8(text).ok()
}

/// Those who are being answered, the oldest first.
type Guests = Mutex<VecDeque<Arc<Guest>>>;

struct Guest {
    line: TcpStream,
    /// Whether he has asked.
    asked: AtomicBool,
}

fn answer_all(listener: &TcpListener, latest: &Mutex<Arc<str>>, content_type: &'static str) {
    let guests: Arc<Guests> = Arc::default();
    loop {
        let Ok((line, _)) = listener.accept() else {
            // Out of descriptors for a moment.
            std::thread::sleep(Duration::from_millis(50));
            continue;
        };
        let Ok(guest) = line.try_clone().map(|line| Arc::new(Guest { line, asked: AtomicBool::new(false) })) else {
            continue;
        };
        if !has_room(&guests) {
            continue;
        }
        guests.lock().unwrap_or_else(PoisonError::into_inner).push_back(Arc::clone(&guest));
        let text = Arc::clone(&latest.lock().unwrap_or_else(PoisonError::into_inner));
        let (theirs, own) = (Arc::clone(&guests), Arc::clone(&guest));
        let answer = move || {
            // Whoever hangs up has no answer.
            let _ = answer(line, &own.asked, &text, content_type);
            leave(&theirs, &own);
        };
        if std::thread::Builder::new().spawn(answer).is_err() {
            leave(&guests, &guest);
        }
    }
}

/// Whether one more can be answered: who has been silent for longest goes for him.
fn has_room(guests: &Guests) -> bool {
    let mut guests = guests.lock().unwrap_or_else(PoisonError::into_inner);
    if guests.len() < AT_A_TIME {
        return true;
    }
    let silent = guests.iter().position(|guest| !guest.asked.load(Ordering::SeqCst));
    let gone = silent.and_then(|place| guests.remove(place));
    // His thread ends with his line.
    gone.inspect(|gone| drop(gone.line.shutdown(Shutdown::Both))).is_some()
}

fn leave(guests: &Guests, gone: &Arc<Guest>) {
    guests.lock().unwrap_or_else(PoisonError::into_inner).retain(|guest| !Arc::ptr_eq(guest, gone));
}

fn answer(line: TcpStream, has_asked: &AtomicBool, text: &str, content_type: &str) -> io::Result<()> {
    let mut line = Timed::new(line, MOST);
    let mut asked = Vec::new();
    let mut piece = [0; 1024];
    while !asked.windows(4).any(|end| end == b"\r\n\r\n") {
        let length = line.read(&mut piece)?;
        if length == 0 || asked.len() + length > QUESTION {
            return write(&mut line, "400 Bad Request", "text/plain", "what is asked is no short GET\n", true);
        }
        asked.extend_from_slice(&piece[..length]);
    }
    has_asked.store(true, Ordering::SeqCst);
    let (get, head) = (asked.starts_with(b"GET /"), asked.starts_with(b"HEAD /"));
    match (get || head, text.is_empty()) {
        (false, _) => write(&mut line, "405 Method Not Allowed", "text/plain", "only GET is answered\n", true),
        (true, true) => write(&mut line, "503 Service Unavailable", "text/plain", "there are no figures yet\n", get),
        (true, false) => write(&mut line, "200 OK", content_type, text, get),
    }
}

fn write(line: &mut Timed, status: &str, kind: &str, body: &str, whole: bool) -> io::Result<()> {
    let length = body.len();
    let head = format!(
        "HTTP/1.1 {status}\r\ncontent-type: {kind}\r\ncontent-length: {length}\r\nallow: GET, HEAD\r\ncache-control: no-store\r\nconnection: close\r\n\r\n"
    );
    line.write_all(head.as_bytes())?;
    if whole {
        line.write_all(body.as_bytes())?;
    }
    line.line().shutdown(Shutdown::Write)
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use super::*;

    /// Who only holds his line keeps nobody out.
    #[test]
    fn the_silent_make_room() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        let latest = Arc::new(Mutex::new(Arc::<str>::from("figures\n")));
        std::thread::spawn(move || answer_all(&listener, &latest, "text/plain"));
        let silent: Vec<TcpStream> = (0..3 * AT_A_TIME).map(|_| TcpStream::connect(address).unwrap()).collect();
        for _ in 0..20 {
            let mut honest = TcpStream::connect(address).unwrap();
            honest.write_all(b"GET / HTTP/1.1\r\n\r\n").unwrap();
            let mut said = String::new();
            honest.read_to_string(&mut said).unwrap();
            assert!(said.starts_with("HTTP/1.1 200 OK") && said.ends_with("figures\n"), "{said:?}");
        }
        drop(silent);
    }
}
