//! The ways to people, as the running watcher begins them: each from where the trail says that it was last told of.

use std::path::Path;
use std::sync::Arc;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use sophron_core::audit::{InForce, Record, ToldBy, ToldRecord, ToldWord};
use sophron_core::happening::{Happening, News, What};
use sophron_core::rules::RuleSet;
use sophron_core::telling::{Channel, Message, StandIn, TOO_OLD, To};
use sophron_deliver::{Begin, Fenced, Log, Trail, Way};
use sophron_linux::trail::Tail;
use sophron_linux::{fence, here};

use super::desk::Trial;
use super::errand::{self, Errand};
use super::helpers::Helpers;
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
        let as_user = &rules.telling.as_user;
        // People at their desks are told of what is now, and not by the record.
        let by_record = |channel: &&Channel| !matches!(channel.to, To::Desk(_));
        for channel in rules.telling.channels.iter().filter(by_record) {
            let known = in_force.told_by(&channel.name);
            if known.is_none() {
                self.recorder.note(self.scribe.told(here::now().wall, ToldRecord::of(&channel.name, ToldWord::Begun)));
            }
            let cursor = known.map_or(0, ToldBy::cursor);
            let tail = if known.is_some() { Tail::from(state, cursor, oldest) } else { ends.clone() };
            let begin = Begin {
                channel: channel.clone(),
                rules: self.current.clone(),
                trail: Box::new(Place(tail.durable())),
                cursor,
                down: known.and_then(ToldBy::down_since).is_some(),
                stand_in: stand_in(channel, rules, in_force, state, oldest),
                way: way(channel, as_user, self.system_log.socket.as_path(), &self.helpers),
                told: self.told(),
                clock: here::now,
                first: sophron_linux::own_life::stand_back,
            };
            if let Err(error) = self.post.begin(begin) {
                self.say(News::Unheard(channel.name.clone(), format!("no thread can be started: {error}")));
            }
        }
    }

    /// Channels that cannot tell anybody as things are: that is said before there is anything to tell.
    pub(super) fn say_what_channels_want(&mut self, rules: &RuleSet) {
        let by_network = rules.telling.channels.iter().any(|channel| channel.to.server().is_some());
        if let Some(wanting) = fence::wanting().filter(|_| by_network) {
            self.say(News::Exposed(wanting.to_owned()));
        }
        for channel in &rules.telling.channels {
            for why in errand::wanting(channel, &rules.telling.as_user) {
                self.say(News::Unheard(channel.name.clone(), why));
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

/// For whom a channel stands in, and what it owes by now of what stands before its own place in the trail.
fn stand_in(
    channel: &Channel,
    rules: &RuleSet,
    in_force: &InForce,
    state: &Path,
    oldest: Timestamp,
) -> (StandIn, Vec<Message>) {
    let mut stand_in = StandIn::new(&rules.telling, &channel.name);
    let cursor = |name: &str| in_force.told_by(name).map(ToldBy::cursor);
    let Some(first) = stand_in.others().filter_map(cursor).min() else { return (stand_in, Vec::new()) };
    // Whoever begins now has told nothing of all that is there.
    let own = cursor(&channel.name).unwrap_or(u64::MAX);
    let records = Tail::from(state, first.min(own), oldest).more(usize::MAX);
    let owed = stand_in.prime(&records, own, rules, &TimeZone::system());
    (stand_in, owed)
}

/// How a channel is told.
pub fn way(channel: &Channel, as_user: &str, system_log: &Path, helpers: &Helpers) -> Box<dyn Way> {
    match &channel.to {
        To::Log => Box::new(log(system_log)),
        To::Desk(desk) => Box::new(Trial::new(desk.terminals, helpers)),
        to => Box::new(Fenced::new(to.clone(), Box::new(Errand::new(channel, as_user, helpers.clone())))),
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
    let zone = TimeZone::system();
    let line = happening.line(&zone).filter(|_| lost)?;
    Some(Message::beside_the_trail(&happening.at.to_zoned(zone), host, line.word, &line.text))
}
