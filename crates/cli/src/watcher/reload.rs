//! The rules file, read anew while it is watched by: because somebody asks for it, or because it has changed. It is read and checked
//! on a thread of its own; what is not sound is not used, and the rules that are stay.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{RecvTimeoutError, Sender, SyncSender, channel};
use std::time::Duration;

use sophron_core::condition::Condition;
use sophron_core::dispatch::{Input, Wants};
use sophron_core::happening::News;
use sophron_core::protect::Protections;
use sophron_core::rules::RuleSet;
use sophron_core::sorted::SortedMap;
use sophron_linux::{here, trail};

use super::control::{Reloaded, Reply, RulesInUse};
use super::lookback::Lookback;
use super::rules_file::{self, Refusal};
use super::{LAST_TELLING, Wake, Watcher, start};
use crate::places::MACHINE_RULES;

/// How often it is looked whether the file has changed; it then has to stay as it is for as long.
const LOOK: Duration = Duration::from_secs(5);

/// Why it is read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reason {
    Changed,
    Signal,
    Asked(String),
}

impl std::fmt::Display for Reason {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Reason::Changed => f.write_str("the file has changed"),
            Reason::Signal => f.write_str("by signal"),
            Reason::Asked(who) => write!(f, "{who} asked for it"),
        }
    }
}

/// What was read.
pub struct Reading {
    pub result: Result<Fresh, Refusal>,
    pub reason: Reason,
    /// Which version of the files it is.
    version: String,
    reply: Option<Sender<Reply>>,
}

/// Rules that can be used.
pub struct Fresh {
    pub rules: Arc<RuleSet>,
    pub protections: Vec<(Condition, String)>,
    pub origin: String,
    pub owner: String,
}

/// The thread.
pub struct Reload {
    ask: Sender<(Reason, Option<Sender<Reply>>)>,
}

impl Reload {
    /// Starts it; `follows`: it is read anew as well when it has changed.
    ///
    /// # Errors
    /// No thread can be started.
    pub fn start(path: PathBuf, follows: bool, wake: SyncSender<Wake>) -> std::io::Result<Reload> {
        let (ask, asked) = channel();
        let run = move || {
            let mut used = version(&path);
            let mut seen = used.clone();
            // Who does not follow the file only waits to be asked.
            let wait = || if follows { asked.recv_timeout(LOOK) } else { asked.recv().map_err(Into::into) };
            loop {
                let (reason, reply) = match wait() {
                    Ok((reason, reply)) => (reason, reply),
                    Err(RecvTimeoutError::Disconnected) => return,
                    Err(RecvTimeoutError::Timeout) => {
                        let now = version(&path);
                        let settled = std::mem::replace(&mut seen, now.clone()) == now;
                        if now == used || !settled {
                            continue;
                        }
                        (Reason::Changed, None)
                    }
                };
                // What changes while it is read is read once more.
                used = version(&path);
                let version = used.clone();
                let result = read(&path);
                if wake.send(Wake::Rules(Box::new(Reading { result, reason, version, reply }))).is_err() {
                    return;
                }
            }
        };
        std::thread::Builder::new().name("rules".to_owned()).spawn(run)?;
        Ok(Reload { ask })
    }

    /// Has it read now.
    pub fn ask(&self, reason: Reason, reply: Option<Sender<Reply>>) {
        // It ends only after us.
        let _ = self.ask.send((reason, reply));
    }
}

fn read(path: &Path) -> Result<Fresh, Refusal> {
    let loaded = rules_file::load_anew(path)?;
    let protections = loaded.protections().map_err(|failure| Refusal::of(&failure))?;
    super::keeping(&loaded.rules.audit).map_err(|failure| Refusal::of(&failure))?;
    Ok(Fresh { origin: loaded.origin(), owner: rules_file::owner(path), protections, rules: Arc::new(loaded.rules) })
}

/// Which version of the rules files there is, without reading them: by device, inode, size and times (inode(7)).
fn version(path: &Path) -> String {
    let further = rules_file::further(path).unwrap_or_default();
    let all = [path, Path::new(MACHINE_RULES)].into_iter().chain(further.iter().map(PathBuf::as_path));
    let about = |path: &Path| {
        let file = std::fs::metadata(path).ok()?;
        let (modified, changed) = ((file.mtime(), file.mtime_nsec()), (file.ctime(), file.ctime_nsec()));
        Some((file.dev(), file.ino(), file.size(), modified, changed))
    };
    let all: SortedMap<&Path, _> = all.map(|path| (path, about(path))).collect();
    format!("{all:?}")
}

impl Watcher {
    /// The rules were read anew.
    pub(super) fn take_rules(&mut self, reading: Reading) {
        let Reading { result, reason, version, reply } = reading;
        let reloaded = match result {
            Ok(fresh) => {
                self.rules.refused = None;
                Reloaded { seen: Ok(self.adopt(fresh, &reason)), diagnostics: String::new() }
            }
            Err(refusal) => {
                let why = refusal.why;
                // People are told once of each version of the file.
                if self.refused.replace(version.clone()).as_ref() != Some(&version) {
                    self.say(News::RulesRefused { origin: self.rules.origin.clone(), why: why.clone() });
                }
                self.rules.refused = Some(why.clone());
                Reloaded { seen: Err(why), diagnostics: refusal.diagnostics }
            }
        };
        self.service.reloaded();
        if let Some(reply) = reply {
            // Whoever asked may have gone.
            let _ = reply.send(Reply::Reload(reloaded));
        }
    }

    /// Goes on by these; what is used now, in words.
    fn adopt(&mut self, fresh: Fresh, reason: &Reason) -> String {
        let Fresh { rules, protections, origin, owner } = fresh;
        let (before, of_before) = (Arc::clone(&self.rule_set), self.protected_by.clone());
        let of_now = format!("{protections:?}");
        if rules.digest == before.digest && of_now == of_before {
            return format!("{origin} is as it was: nothing has changed");
        }
        let names = rules.rules.iter().map(|rule| rule.name.clone()).collect();
        self.rules = RulesInUse {
            origin: origin.clone(),
            digest: rules.digest.clone(),
            loaded: here::now().wall,
            owner: owner.clone(),
            by: reason.to_string(),
            refused: None,
        };
        self.say(News::RulesLoaded {
            origin: origin.clone(),
            names,
            digest: rules.digest.clone(),
            before: Some((before.digest.clone(), reason.to_string())),
            owner,
        });
        self.refused = None;
        (self.rule_set, self.protected_by) = (Arc::clone(&rules), of_now);
        self.wants = Wants::of(&rules);
        let demand = start::demand(&self.wants, self.kept.recording.is_some());
        self.sampler.read_from_now_on(self.wants.of_everybody(), demand, self.wants.trees(), self.wants.passing());
        if rules.every != before.every {
            (self.every, self.cost) = (rules.every, sophron_core::cost::Cost::new(rules.every));
            self.service.paces(self.every);
        }
        self.current.set(&rules);
        let conditions = Protections { conditions: protections, ..Protections::default() };
        self.step(Input::Rules(Arc::clone(&rules), conditions));
        if rules.telling != before.telling || rules.figures != before.figures {
            self.tell_otherwise();
        }
        if rules.lookback != before.lookback || rules.usage != before.usage {
            self.keep_other_days(&rules);
        } else if let Some(lookback) = &self.kept.lookback {
            lookback.rules(&rules);
        }
        if rules.rules.iter().any(sophron_core::rules::Rule::asks) && self.answers.is_none() {
            self.listen_for_answers();
        }
        let armed = rules.rules.iter().filter(|rule| rule.armed).count();
        let rest = match rules.audit == before.audit {
            true => "",
            false => "; what [audit] says counts from the watcher's next start",
        };
        format!("{origin}: {} ({armed} armed){rest}", sophron_core::text::counted(rules.rules.len(), "rule"))
    }

    /// People are told by other channels: those that were end first, and beside.
    fn tell_otherwise(&mut self) {
        let retired = self.post.retire();
        let (desk, figures) = (self.desk.take(), self.figures.take());
        let (state, wake) = (self.state.clone(), self.wake.clone());
        let change = move || {
            retired.end(LAST_TELLING);
            desk.into_iter().for_each(|desk| desk.end(LAST_TELLING));
            figures.into_iter().for_each(super::figures::Giver::end);
            let latest = trail::latest(&state, |_| {}).ok().flatten().unwrap_or_default();
            // The watcher may have ended meanwhile.
            let _ = wake.send(Wake::TellAnew(Box::new(latest.in_force)));
        };
        if let Err(error) = std::thread::Builder::new().name("change".to_owned()).spawn(change) {
            self.say(News::Unheard("of the new rules".to_owned(), format!("no thread can be started: {error}")));
        }
    }

    /// The channels of the rules that are used now.
    pub(super) fn tell_anew(&mut self, in_force: &sophron_core::audit::InForce) {
        let (rules, state) = (Arc::clone(&self.rule_set), self.state.clone());
        let ends = trail::Tail::at_end(&state);
        self.figures = self.begin_figures(&rules, in_force, ends.clone());
        self.begin_to_tell(&rules, in_force, (&state, ends));
        let shadow = self.shadow;
        self.begin_at_desks(&rules, in_force, shadow);
        self.say_what_channels_want(&rules);
    }

    fn keep_other_days(&mut self, rules: &Arc<RuleSet>) {
        let before = self.kept.lookback.take();
        let (state, rules, wake, own) = (self.state.clone(), Arc::clone(rules), self.wake.clone(), self.own_folder);
        let change = move || {
            before.into_iter().for_each(Lookback::end);
            let _ = wake.clone().send(Wake::Keeps(Lookback::start(state, &rules, own, wake)));
        };
        if let Err(error) = std::thread::Builder::new().name("change".to_owned()).spawn(change) {
            self.say(News::Lookback(Some(format!("no thread can be started: {error}"))));
        }
    }
}
