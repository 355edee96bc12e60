//! What people see: words first, colour only added to them.

pub mod chart;
pub mod diagnostics;
pub mod events;
pub mod failure;
pub mod machine;
pub mod paragraph;
pub mod style;
pub mod table;
pub mod when;

use std::io::Write;

/// Writes to standard output. A reader that went away (`| head`) is no failure: there is nobody left to tell, and a
/// watcher goes on without its terminal.
pub fn out(text: impl std::fmt::Display) {
    let mut stdout = anstream::stdout().lock();
    let _ = write!(stdout, "{text}").and_then(|()| stdout.flush());
}

/// Writes to standard error, likewise.
pub fn err(text: impl std::fmt::Display) {
    let _ = write!(anstream::stderr().lock(), "{text}");
}
