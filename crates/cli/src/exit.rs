//! Exit statuses and failures: one table, one place.

use std::error::Error;
use std::fmt;
use std::process::ExitCode;

/// How a command ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exit {
    /// All is as it should be.
    Fine = 0,
    /// It could not be done.
    Failed = 1,
    /// The command was not understood.
    Usage = 2,
    /// Something was found: checkup trouble, a rules file with errors, a broken chain, a rehearsal that hits whom it should
    /// spare or cannot judge a rule, a watcher that does not do its work.
    Found = 3,
    /// It was refused: others could change a file that decides, or a right is wanting.
    Refused = 4,
}

/// The table as every help shows it.
pub const TABLE: &str = "Exit status:
  0  fine
  1  failed
  2  wrong usage
  3  something was found: checkup trouble, a rules file with errors, a broken chain,
     a rehearsal that hits whom it should spare or cannot judge a rule, a lowering without effect,
     a channel that is down, a watcher that is disarmed, cannot judge or does not run,
     rules that were not read anew
  4  refused: unsafe file or folder, no right to it, wrong check letters";

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> ExitCode {
        ExitCode::from(exit as u8)
    }
}

/// Why a command could not do what it was asked: one line for the person, the causes below it, and what to do.
#[derive(Debug)]
pub struct Failure {
    pub exit: Exit,
    pub message: String,
    pub source: Option<Box<dyn Error + Send + Sync>>,
    pub hints: Vec<String>,
}

impl Failure {
    pub fn new(exit: Exit, message: impl Into<String>) -> Failure {
        Failure { exit, message: message.into(), source: None, hints: Vec::new() }
    }

    /// A failure whose line is the error's own, with its causes below.
    pub fn of(exit: Exit, error: impl Error + Send + Sync + 'static) -> Failure {
        Failure { source: None, message: error.to_string(), exit, hints: Vec::new() }.caused_by_source_of(error)
    }

    fn caused_by_source_of(mut self, error: impl Error + Send + Sync + 'static) -> Failure {
        let mut causes = Vec::new();
        let mut next = error.source();
        while let Some(cause) = next {
            causes.push(cause.to_string());
            next = cause.source();
        }
        self.source = Chain::build(causes).map(|chain| Box::new(chain) as Box<dyn Error + Send + Sync>);
        self
    }

    pub fn because(mut self, error: impl Error + Send + Sync + 'static) -> Failure {
        self.source = Some(Box::new(error));
        self
    }

    /// The message and its causes in one line.
    pub fn in_a_line(&self) -> String {
        let source = self.source.as_deref().map(|source| sophron_core::text::with_causes(source));
        source.map_or(self.message.clone(), |causes| format!("{}: {causes}", self.message))
    }

    #[must_use]
    pub fn hint(mut self, hint: impl Into<String>) -> Failure {
        self.hints.push(hint.into());
        self
    }
}

/// Causes that have been read off an error.
#[derive(Debug)]
struct Chain {
    message: String,
    next: Option<Box<Chain>>,
}

impl Chain {
    fn build(causes: Vec<String>) -> Option<Chain> {
        causes.into_iter().rev().fold(None, |next, message| Some(Chain { message, next: next.map(Box::new) }))
    }
}

impl fmt::Display for Chain {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl Error for Chain {
    fn source(&self) -> Option<&(dyn Error + 'static)> {
        self.next.as_deref().map(|next| next as &(dyn Error + 'static))
    }
}
