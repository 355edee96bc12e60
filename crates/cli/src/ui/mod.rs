//! What people see: words first, colour only added to them.

pub mod chart;
pub mod diagnostics;
pub mod document;
pub mod events;
pub mod failure;
pub mod machine;
pub mod page;
pub mod paragraph;
pub mod plot;
pub mod style;
pub mod table;
pub mod timeline;
pub mod when;

use std::io::{Error, ErrorKind, Write};
use std::sync::OnceLock;

/// Why standard output did not take something, the first time.
static UNTAKEN: OnceLock<Error> = OnceLock::new();

/// Writes to standard output. That it was not taken is kept: [`untaken`].
pub fn out(text: impl std::fmt::Display) {
    if let Err(error) = put(text) {
        let _ = UNTAKEN.set(error);
    }
}

/// Writes to standard output; whether it was taken. A watcher goes on without its terminal.
pub fn say(text: impl std::fmt::Display) -> bool {
    put(text).is_ok()
}

/// Why what standard output was to hold is not whole, if it is not.
pub fn untaken() -> Option<&'static Error> {
    UNTAKEN.get()
}

/// A reader that went away (`| head`) is no failure: there is nobody left to miss anything.
fn put(text: impl std::fmt::Display) -> Result<(), Error> {
    let mut stdout = anstream::stdout().lock();
    match write!(stdout, "{text}").and_then(|()| stdout.flush()) {
        Err(error) if error.kind() != ErrorKind::BrokenPipe => Err(error),
        _ => Ok(()),
    }
}

/// Writes to standard error, likewise.
pub fn err(text: impl std::fmt::Display) {
    let _ = write!(anstream::stderr().lock(), "{text}");
}

/// Writes to standard output, page by page where a person sits at a terminal that is too low for it.
pub fn page(text: &str) {
    use std::io::IsTerminal;
    let height = rustix::termios::tcgetwinsize(std::io::stdout()).map_or(0, |size| usize::from(size.ws_row));
    let asks = std::io::stdout().is_terminal() && std::io::stdin().is_terminal() && height > 4;
    let lines: Vec<&str> = text.split_inclusive('\n').collect();
    if !asks || lines.len() < height {
        return out(text);
    }
    let pages = lines.chunks(height - 2);
    let last = pages.len() - 1;
    for (number, part) in pages.enumerate() {
        out(part.concat());
        if number == last {
            return;
        }
        err(format_args!("page {} of {}; Enter for the next, q and Enter to end: ", number + 1, last + 1));
        let mut answer = String::new();
        if !matches!(std::io::stdin().read_line(&mut answer), Ok(read) if read > 0) || answer.trim() == "q" {
            return;
        }
    }
}
