//! The rules file as it is read for use: trusted, whole, and with the protections that bind everyone.

use std::path::{Path, PathBuf};

use sophron_core::condition::Condition;
use sophron_core::rules::{self, LARGEST, RuleSet};
use sophron_linux::files::{self, PathError};

use crate::exit::{Exit, Failure};
use crate::places::MACHINE_RULES;
use crate::ui::diagnostics;

/// A rules file and where it came from.
pub struct Loaded {
    pub rules: RuleSet,
    pub path: PathBuf,
}

impl Loaded {
    /// The path for messages.
    pub fn origin(&self) -> String {
        diagnostics::origin(&self.path)
    }

    /// Its own protections and the machine's, each with its file.
    pub fn protections(&self) -> Result<Vec<(Condition, String)>, Failure> {
        let mut all: Vec<(Condition, String)> =
            self.rules.protect.iter().map(|condition| (condition.clone(), self.origin())).collect();
        let machine = Path::new(MACHINE_RULES);
        if self.path != machine && machine.exists() {
            let machine = load(machine).map_err(|failure| {
                failure.hint(format!("the protections of {MACHINE_RULES} bind every watcher: mend that file first"))
            })?;
            all.extend(machine.rules.protect.iter().map(|condition| (condition.clone(), MACHINE_RULES.to_owned())));
        }
        Ok(all)
    }
}

/// Reads a rules file. Its errors are printed; the failure counts them.
pub fn load(path: &Path) -> Result<Loaded, Failure> {
    let bytes = files::read_trusted(path, LARGEST as u64).map_err(|error| match &error {
        PathError::Unsafe { .. } => Failure::of(Exit::Refused, error)
            .hint("what decides over processes must be writable by nobody but root, or you"),
        PathError::Io { .. } => Failure::of(Exit::Failed, error),
    })?;
    let origin = diagnostics::origin(path);
    match rules::load(&bytes) {
        Ok(rules) => Ok(Loaded { rules, path: path.to_owned() }),
        Err(rejected) => {
            crate::ui::err(diagnostics::render(&rejected.errors, &rejected.text, &origin));
            let count = match rejected.errors.len() {
                1 => "1 error".to_owned(),
                many => format!("{many} errors"),
            };
            Err(Failure::new(Exit::Found, format!("{count} in {origin}; nothing of it is used")))
        }
    }
}
