//! One file a command.

mod audit;
mod demo;
mod guard;
mod list;
mod misbehave;
mod rules_check;
mod watch;

use crate::args::{AuditCommand, Command, Rules};
use crate::exit::{Exit, Failure};

/// Runs a command.
pub fn run(command: Command) -> Result<Exit, Failure> {
    match command {
        Command::List(args) => list::run(&args),
        Command::Rules { command: Rules::Check { file } } => rules_check::run(&file),
        Command::Watch(args) => watch::run(&args),
        Command::Audit { list, command: None } => audit::list(&list),
        Command::Audit { command: Some(AuditCommand::Verify { state }), .. } => audit::verify(&state),
        Command::Demo => demo::run(),
        Command::Misbehave(args) => misbehave::run(args),
        Command::Guard => guard::run(),
    }
}
