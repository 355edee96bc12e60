//! `sophron rules new`: a commented file to begin with, all in shadow.

use std::path::Path;

use sophron_linux::new_files;

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
    // Nobody but the owner may write to what decides over processes.
    new_files::write(path, STARTER.as_bytes(), new_files::FOR_ALL).map_err(|error| {
        let failure = Failure::of(Exit::Failed, error);
        let there = std::fs::symlink_metadata(path).is_ok();
        if there { failure.hint("it is there already, and nothing is overwritten: give another name") } else { failure }
    })?;
    ui::out(format_args!("{shown} written, all in shadow. Next: sophron rules check {shown}\n"));
    Ok(Exit::Fine)
}
