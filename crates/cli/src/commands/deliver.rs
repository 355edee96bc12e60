//! One delivery over the network: started by the watcher, never by hand. It gives up every right before it looks at anybody.

use std::io::{Read, Write};

use sophron_core::telling::Trouble;
use sophron_deliver::{Job, Said};

use crate::exit::{Exit, Failure};
use crate::watcher::errand::Told;

/// Largest job, bytes.
const LARGEST: u64 = 8 << 20;

pub fn run() -> Result<Exit, Failure> {
    super::by_the_watcher("`sophron channels try NAME` sends a message by a channel")?;
    let failed = |error: std::io::Error| Failure::new(Exit::Failed, "nothing can be delivered").because(error);
    let mut told = Vec::new();
    std::io::stdin().lock().take(LARGEST).read_to_end(&mut told).map_err(failed)?;
    let Told { fence, job } = serde_json::from_slice::<Told<Job>>(&told).map_err(|error| failed(error.into()))?;
    let mut say = |said: Said| {
        // Whoever listened is gone, and so are we at once.
        if let Ok(line) = serde_json::to_string(&said) {
            let _ = writeln!(std::io::stdout().lock(), "{line}");
        }
    };
    match fence.enter() {
        Ok(unfenced) => {
            unfenced.into_iter().for_each(|unfenced| say(Said::Step(unfenced)));
            sophron_deliver::carry_out(&job, &mut say);
        }
        Err(error) => say(Said::Trouble(Trouble::Off(format!("its helper cannot give up its rights: {error}")))),
    }
    Ok(Exit::Fine)
}
