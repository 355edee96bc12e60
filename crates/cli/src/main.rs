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
    let args = match args::Args::try_parse() {
        Ok(args) => args,
        Err(error) => return args::answer(&error),
    };
    match commands::run(args.command) {
        Ok(exit) => exit.into(),
        Err(failure) => {
            ui::failure::print(&failure);
            failure.exit.into()
        }
    }
}
