//! `sophron channels …` as it is typed.

use std::path::PathBuf;

use clap::Subcommand;
use clap_complete::engine::ArgValueCompleter;

use super::{Format, State};
use crate::completing;
use crate::exit::TABLE;

#[derive(Debug, clap::Args)]
pub struct Channels {
    /// The rules file [default: the one that `watch` reads]
    #[arg(long, value_name = "FILE", global = true)]
    pub rules: Option<PathBuf>,
    /// How to print it
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub format: Format,
    #[command(flatten)]
    pub state: State,
    #[command(subcommand)]
    pub command: Option<ChannelsCommand>,
}

#[derive(Debug, Subcommand)]
pub enum ChannelsCommand {
    /// Send a message by a channel now, and say each step
    #[command(after_help = TABLE)]
    Try {
        /// Its name
        #[arg(add = ArgValueCompleter::new(completing::channels))]
        name: String,
        /// Where the system log listens
        #[arg(long, value_name = "SOCKET", hide = true)]
        system_log: Option<PathBuf>,
    },
}
