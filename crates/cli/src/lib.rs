//! Sophron's command line: one file a command, rendering, the running watcher, the demo. It is a library so that its manual pages
//! and completions are made from what it is.

#![forbid(unsafe_code)]

mod args;
mod commands;
mod completing;
mod exit;
mod history;
mod lookback;
mod moments;
mod places;
mod recording_file;
mod recordings;
mod source;
mod ui;
mod watcher;

use std::process::ExitCode;

use clap::{CommandFactory, Parser};

pub use completing::VARIABLE as COMPLETING;
pub use exit::TABLE as EXIT_STATUS;

/// The command line with all its commands, as clap knows it.
pub fn command() -> clap::Command {
    args::Args::command()
}

/// What the program does: reads its arguments, carries the command out, says what went wrong.
pub fn run() -> ExitCode {
    if let Some(failure) = places::without_chosen_zone() {
        ui::failure::print(&failure);
        return failure.exit.into();
    }
    if completing::asked_for() {
        return ExitCode::SUCCESS;
    }
    let args = match args::Args::try_parse() {
        Ok(args) => args,
        Err(error) => return args::answer(&error),
    };
    let failure = match (commands::run(args.command), ui::untaken()) {
        (Ok(exit), None) => return exit.into(),
        (Ok(_), Some(why)) => exit::Failure::new(
            exit::Exit::Failed,
            format!("standard output could not be written to, and what it holds is not whole: {why}"),
        ),
        (Err(failure), _) => failure,
    };
    ui::failure::print(&failure);
    failure.exit.into()
}
