//! `sophron rules new`: a commented file to begin with, all in shadow.

use std::fs::OpenOptions;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use crate::exit::{Exit, Failure};
use crate::ui;

/// The starter file for a desktop.
pub const STARTER: &str = include_str!("../../../../../examples/starter.toml");

/// Prints it, or writes it to a file that does not exist yet.
pub fn run(file: Option<&Path>) -> Result<Exit, Failure> {
    let Some(path) = file else {
        ui::out(STARTER);
        return Ok(Exit::Fine);
    };
    let shown = sophron_core::text::clean(path.as_os_str().as_encoded_bytes());
    let failed = |error: std::io::Error| {
        let there = error.kind() == std::io::ErrorKind::AlreadyExists;
        let failure = Failure::new(Exit::Failed, format!("{shown} cannot be written")).because(error);
        if there { failure.hint("it is there already, and nothing is overwritten: give another name") } else { failure }
    };
    // Nobody but the owner may write to what decides over processes.
    let mut out = OpenOptions::new().write(true).create_new(true).mode(0o644).open(path).map_err(failed)?;
    out.write_all(STARTER.as_bytes()).and_then(|()| out.sync_all()).map_err(failed)?;
    ui::out(format_args!("{shown} written, all in shadow. Next: sophron rules check {shown}\n"));
    Ok(Exit::Fine)
}
