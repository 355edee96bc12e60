//! The ways over the network, from the watcher's side: each delivery is a helper's, in a process of its own without rights, which is ended
//! when its time is over. What it says is no more trusted than whom it talks to.

use std::time::Duration;

use sophron_core::telling::{Message, To, Trouble};

use crate::job::{Job, Said, Supplies};
use crate::{Way, reason};

/// Most of what a helper says that is listened to, bytes.
const MOST_SAID: usize = 64 * 1024;

/// Who has a job carried out behind a fence.
pub trait Carrier: Send {
    /// What that way takes; each step is said.
    ///
    /// # Errors
    /// What is missing, or cannot be read.
    fn supplies(&mut self, say: &mut dyn FnMut(&str)) -> Result<Supplies, Trouble>;

    /// Hands the job to a helper, and on what it says; whether it ended by itself within that time.
    ///
    /// # Errors
    /// None could be started.
    fn carry(&mut self, job: &Job, most: Duration, heard: &mut dyn FnMut(&[u8])) -> std::io::Result<bool>;
}

/// A way over the network.
pub struct Fenced {
    to: To,
    carrier: Box<dyn Carrier>,
}

impl Fenced {
    /// By that way.
    pub fn new(to: To, carrier: Box<dyn Carrier>) -> Fenced {
        Fenced { to, carrier }
    }

    /// How long a delivery may take.
    fn most(&self) -> Duration {
        Duration::from_secs(if matches!(self.to, To::Mail(_)) { 90 } else { 15 })
    }

    fn run(&mut self, messages: &[Message], say: &mut dyn FnMut(&str)) -> (usize, Option<Trouble>) {
        let supplies = match self.carrier.supplies(say) {
            Ok(supplies) => supplies,
            Err(trouble) => return (0, Some(trouble)),
        };
        let most = self.most();
        let job = Job { to: self.to.clone(), supplies, messages: messages.to_vec() };
        let mut heard = Heard::default();
        let mut take = |piece: &[u8]| heard.take(piece, say);
        let ended = self.carrier.carry(&job, most, &mut take);
        let taken = heard.taken.min(messages.len());
        let trouble = match (heard.trouble, ended) {
            (Some(trouble), _) => Some(trouble),
            (None, Err(error)) => Some(Trouble::Later(format!("no helper can be started: {error}"), None)),
            (None, Ok(false)) => {
                Some(Trouble::Later(format!("it took longer than {} s: its helper was ended", most.as_secs()), None))
            }
            (None, Ok(true)) if taken == 0 => Some(Trouble::Later("its helper ended without a word".to_owned(), None)),
            (None, Ok(true)) => None,
        };
        (taken, trouble)
    }
}

impl Way for Fenced {
    fn deliver(&mut self, messages: &[Message]) -> (usize, Option<Trouble>) {
        self.run(messages, &mut |_| ())
    }

    fn try_out(&mut self, message: &Message, say: &mut dyn FnMut(&str)) -> Result<(), String> {
        match self.run(std::slice::from_ref(message), say) {
            (_, Some(Trouble::Later(why, _) | Trouble::ForGood(why) | Trouble::Off(why))) => Err(why),
            _ => Ok(()),
        }
    }
}

/// What a helper has said so far.
#[derive(Default)]
struct Heard {
    line: Vec<u8>,
    length: usize,
    taken: usize,
    trouble: Option<Trouble>,
}

impl Heard {
    fn take(&mut self, piece: &[u8], say: &mut dyn FnMut(&str)) {
        self.length = self.length.saturating_add(piece.len());
        if self.length > MOST_SAID {
            return;
        }
        for byte in piece {
            if *byte != b'\n' {
                self.line.push(*byte);
                continue;
            }
            match serde_json::from_slice(&std::mem::take(&mut self.line)) {
                Ok(Said::Step(step)) => say(&reason(&step)),
                Ok(Said::Taken(count)) => self.taken = self.taken.saturating_add(count),
                Ok(Said::Trouble(trouble)) => self.trouble = Some(cleaned(trouble)),
                Err(_) => {}
            }
        }
    }
}

fn cleaned(trouble: Trouble) -> Trouble {
    match trouble {
        Trouble::Later(why, after) => Trouble::Later(reason(&why), after),
        Trouble::ForGood(why) => Trouble::ForGood(reason(&why)),
        Trouble::Off(why) => Trouble::Off(reason(&why)),
    }
}
