//! The scripts by which shells ask the program what fits.

use clap_complete::env::Shells;

use crate::Outcome;

/// The three shells, and how their files are called where they look for them.
pub const SHELLS: [(&str, &str); 3] = [("bash", "sophron"), ("zsh", "_sophron"), ("fish", "sophron.fish")];

/// The script of a shell.
pub fn script(shell: &str) -> Outcome<Vec<u8>> {
    let shells = Shells::builtins();
    let completer = shells.completer(shell).ok_or("no such shell")?;
    let mut script = Vec::new();
    completer.write_registration(sophron::COMPLETING, "sophron", "sophron", "sophron", &mut script)?;
    Ok(script)
}

/// All of them.
pub fn all() -> Outcome<Vec<(String, Vec<u8>)>> {
    SHELLS.iter().map(|(shell, name)| Ok(((*name).to_owned(), script(shell)?))).collect()
}
