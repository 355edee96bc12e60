//! Sophron's command line: one file a command, rendering, the running watcher, the demo.

#![forbid(unsafe_code)]

mod args;
mod commands;
mod exit;
mod lookback;
mod places;
mod recording_file;
mod recordings;
mod source;
mod ui;
mod watcher;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    if let Some(failure) = places::without_chosen_zone() {
        ui::failure::print(&failure);
        return failure.exit.into();
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
