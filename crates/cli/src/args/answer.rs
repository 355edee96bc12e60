//! `sophron answer` as it is typed.

use clap::ValueEnum;
use clap_complete::engine::ArgValueCompleter;

use super::State;
use crate::completing;

#[derive(Debug, clap::Args)]
pub struct Answer {
    /// The case in which it is asked
    #[arg(value_name = "CASE", add = ArgValueCompleter::new(completing::cases))]
    pub case: u64,
    /// What is decided
    #[arg(value_enum, value_name = "ANSWER")]
    pub answer: Decision,
    #[command(flatten)]
    pub state: State,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Decision {
    /// It runs on, for as long as the rule allows
    LetRun,
    /// It stands still for five minutes
    Suspend,
    /// It is asked to end at once
    End,
    /// Its unit is started anew
    Restart,
}

impl From<Decision> for sophron_core::answer::Answer {
    fn from(decision: Decision) -> Self {
        use sophron_core::answer::Answer;
        match decision {
            Decision::LetRun => Answer::LetRun,
            Decision::Suspend => Answer::Suspend,
            Decision::End => Answer::End,
            Decision::Restart => Answer::Restart,
        }
    }
}
