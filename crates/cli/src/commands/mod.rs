//! One file a command.

mod answer;
mod audit;
mod channels;
mod checkup;
mod deliver;
mod demo;
mod desk;
mod ended;
mod figures;
mod guard;
mod hands;
mod inspect;
mod list;
mod misbehave;
mod record;
mod rehearse;
mod report;
mod rules;
mod stand_back;
mod status;
mod suggest;
mod target;
mod unit;
mod usage;
mod watch;

use sophron_core::condition::{Condition, Place};
use sophron_core::model::Field;

use sophron_core::act::Act;

use crate::args::Command;
use crate::exit::{Exit, Failure};
use crate::ui::{self, diagnostics};

/// The condition of `--where`.
fn condition(text: &str) -> Result<Condition, Failure> {
    condition_of(text, "--where")
}

/// A condition given as an option.
fn condition_of(text: &str, option: &str) -> Result<Condition, Failure> {
    Condition::parse(text, Place::Look).map_err(|errors| {
        ui::err(diagnostics::render(&errors, text, option));
        let failure = Failure::new(Exit::Usage, format!("the condition of {option} was not understood"));
        // `--where memory > 750` has lost its sign: the shell has written to a file called 750.
        let lone = Field::named(text.trim()).is_some();
        let quote = "quote it for the shell, as --where 'memory > 750 MiB and owner != root'";
        match lone {
            true => failure.hint(format!("a shell takes `>` and what follows for itself, and writes to a file: {quote}; or write it in words: over")),
            false => failure.hint(quote),
        }
    })
}

/// A helper's standard input is the watcher's; whoever types it at a terminal is told what he may want.
fn by_the_watcher(instead: &str) -> Result<(), Failure> {
    if std::io::IsTerminal::is_terminal(&std::io::stdin()) {
        return Err(Failure::new(Exit::Usage, "the watcher starts this, and nobody by hand").hint(instead));
    }
    Ok(())
}

/// Runs a command.
pub fn run(command: Command) -> Result<Exit, Failure> {
    match command {
        Command::Checkup(args) => checkup::run(&args),
        Command::List(args) => list::run(&args),
        Command::Inspect(args) => inspect::run(&args),
        Command::Lower { hand, nice, only } => hands::run(Act::Lower { nice, only: only.into() }, &hand),
        Command::Suspend { hand, length } => hands::run(Act::Suspend { length }, &hand),
        Command::Resume { hand, left: true } => hands::resume_the_left(&hand),
        Command::Resume { hand, .. } => hands::run(Act::Resume, &hand),
        Command::Terminate { hand, force_after } => hands::run(Act::Terminate { force_after }, &hand),
        Command::Restart { hand } => hands::run(Act::Restart, &hand),
        Command::Restore(args) => hands::restore(&args),
        Command::Usage { list, command } => usage::run(&list, command),
        Command::Report(args) => report::run(&args),
        Command::Record(args) => record::run(&args),
        Command::Rehearse(args) => rehearse::run(&args),
        Command::Suggest(args) => suggest::run(&args),
        Command::Rules { command } => rules::run(command),
        Command::Watch(args) => watch::run(&args),
        Command::Audit { list, command } => audit::run(&list, command),
        Command::Status(args) => status::run(&args),
        Command::StandBack(args) => stand_back::run(&args),
        Command::Channels(args) => channels::run(&args),
        Command::Answer(args) => answer::run(&args),
        Command::Demo => demo::run(),
        Command::Misbehave(args) => misbehave::run(args),
        Command::Guard => guard::run(),
        Command::Deliver => deliver::run(),
        Command::Desk => desk::run(),
        Command::Unit => unit::run(),
        Command::Figures => figures::run(),
    }
}
