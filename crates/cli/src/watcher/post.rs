//! The ways to people, as the running watcher begins them: each from where the trail says that it was last told of.

use std::path::Path;
use std::sync::Arc;

use jiff::tz::TimeZone;
use sophron_core::audit::{InForce, Record, ToldBy, ToldRecord, ToldWord};
use sophron_core::happening::{Happening, News, What};
use sophron_core::rules::RuleSet;
use sophron_core::telling::{Channel, Message, TOO_OLD, To};
use sophron_deliver::{Begin, Log, Trail, Way};
use sophron_linux::here;
use sophron_linux::trail::Tail;

use super::{Wake, Watcher};

/// A channel's own place in the trail.
struct Place(Tail);

impl Trail for Place {
    fn more(&mut self, most: usize) -> Vec<Record> {
        self.0.more(most)
    }
}

impl Watcher {
    /// One thread a channel. `ends`: where the trail ended before this run wrote anything: there a new channel begins.
    pub(super) fn begin_to_tell(&mut self, rules: &Arc<RuleSet>, in_force: &InForce, (state, ends): (&Path, Tail)) {
        let oldest = here::now().wall - TOO_OLD;
        for channel in &rules.telling.channels {
            let known = in_force.told_by(&channel.name);
            if known.is_none() {
                self.recorder.note(self.scribe.told(here::now().wall, ToldRecord::of(&channel.name, ToldWord::Begun)));
            }
            let cursor = known.map_or(0, ToldBy::cursor);
            let tail = if known.is_some() { Tail::from(state, cursor, oldest) } else { ends.clone() };
            let begin = Begin {
                channel: channel.clone(),
                rules: Arc::clone(rules),
                trail: Box::new(Place(tail.durable())),
                cursor,
                down: known.and_then(ToldBy::down_since).is_some(),
                way: way(channel, self.system_log.socket.as_path()),
                told: self.told(),
                clock: here::now,
                first: sophron_linux::own_life::stand_back,
            };
            if let Err(error) = self.post.begin(begin) {
                self.say(News::Unheard(channel.name.clone(), format!("no thread can be started: {error}")));
            }
        }
    }

    /// What became of it goes into the trail, and to whoever listens.
    fn told(&self) -> Box<dyn Fn(ToldRecord) + Send> {
        let (recorder, scribe, wake) = (self.recorder.clone(), self.scribe.clone(), self.wake.clone());
        Box::new(move |told| {
            recorder.note(scribe.told(here::now().wall, told.clone()));
            if told.outcome != ToldWord::Taken {
                // A watcher that is busy, or ends, has other things to show.
                let _ = wake.try_send(Wake::Told(told));
            }
        })
    }
}

/// How a channel is told.
pub fn way(channel: &Channel, system_log: &Path) -> Box<dyn Way> {
    match channel.to {
        To::Log => Box::new(log(system_log)),
    }
}

/// The machine's own log; where its socket is another than usual, the journal's is looked for beside it.
pub fn log(socket: &Path) -> Log {
    let usual = socket == Path::new(sophron_linux::system_log::SOCKET);
    Log::new((!usual).then(|| socket.with_file_name("journal")), socket.to_owned())
}

/// What no trail has: that it cannot be written.
pub fn beside(happening: &Happening, host: &str) -> Option<Message> {
    let lost = matches!(happening.what, What::Watcher(News::TrailLost(_)));
    let line = happening.line(&TimeZone::UTC).filter(|_| lost)?;
    Some(Message::beside_the_trail(happening.at, host, line.word, &line.text))
}
