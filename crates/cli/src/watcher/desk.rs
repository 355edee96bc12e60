//! People at their desks, as the running watcher tells and asks them: a helper for each, which becomes that person once it runs.

use std::io;
use std::process::{Child, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use sophron_core::audit::{InForce, ToldRecord, ToldWord};
use sophron_core::dispatch::{Asking, Incoming, Input};
use sophron_core::rules::RuleSet;
use sophron_core::telling::{Message, Notice, Trouble};
use sophron_deliver::Way;
use sophron_deliver::desk::{Begin, Desk, End, First, Heard, Lines, Speaks, try_out};
use sophron_linux::fence::Fence;
use sophron_linux::line::Line;
use sophron_linux::{bus, here, own_life, sys};

use super::errand::Told;
use super::helpers::Helpers;
use super::workers::Report;
use super::{Wake, Watcher};

/// The word by which the program that we are starts as a helper.
pub const WORD: &str = "desk";

/// A helper whose line has ended has that long to take down what it has shown.
const LAST: Duration = Duration::from_secs(5);

/// How often it is looked whether that is over.
const LOOK: Duration = Duration::from_secs(1);

/// Most processes of a question that are looked at one by one: of more, nobody decides.
const MOST_TARGETS: usize = 256;

impl Watcher {
    /// Begins to tell people at their desks, where the rules have a channel for that.
    pub(super) fn begin_at_desks(&mut self, rules: &Arc<RuleSet>, in_force: &InForce, shadow: bool) {
        let Some((channel, desk)) = rules.telling.desk() else { return };
        if in_force.told_by(&channel.name).is_none() {
            let begun = ToldRecord::of(&channel.name, ToldWord::Begun);
            self.recorder.note(self.scribe.told(here::now().wall, begun));
        }
        let (recorder, scribe, wake) = (self.recorder.clone(), self.scribe.clone(), self.wake.clone());
        let told = move |heard| {
            let wakes = match heard {
                Heard::Shown(question, came) => Wake::Shown(question, came),
                Heard::Answer { question, case, answered, unsound } => {
                    Wake::Answer(Incoming { ticket: 0, question: Some(question), case, answered, unsound }, None)
                }
                Heard::Told(case, told) => {
                    let record = scribe.told(here::now().wall, told);
                    recorder.note(sophron_core::audit::Draft { case: Some(case), ..record });
                    return;
                }
            };
            // The watcher listens until it ends.
            let _ = wake.send(wakes);
        };
        let begin = Begin {
            channel: channel.name.clone(),
            shadow,
            rules: self.current.clone(),
            scribe: self.scribe.clone(),
            lines: Box::new(OurHelpers { terminals: desk.terminals, helpers: self.helpers.clone() }),
            nonce: here::nonce,
            told: Box::new(told),
            first: own_life::stand_back,
        };
        match Desk::begin(begin) {
            Ok(desk) => self.desk = Some(desk),
            Err(error) => {
                let why = format!("no thread can be started: {error}");
                self.say(sophron_core::happening::News::Unheard(channel.name.clone(), why));
            }
        }
    }

    /// First it is recorded, and on disk; then he is asked. What is not wholly his he is told of, and does not decide.
    pub(super) fn have_asked(&mut self, mut asking: Asking) {
        let (number, uid) = (asking.question.number, asking.question.person.0);
        let wholly = asking.concerned.len() <= MOST_TARGETS
            && asking.concerned.iter().all(|target| here::is_wholly(target.id.pid, uid));
        if !wholly {
            asking.question.offers.clear();
            self.step(Input::NotHis(number));
            asking.asked = asking.asked.without_offers();
        }
        let Some(record) = self.scribe.record(&asking.asked) else { return };
        let recorder = self.recorder.clone();
        let midway = || "whoever was to record it ended midway".to_owned();
        let report = Report::new(self.wake.clone(), move || Wake::NotAsked(number, midway()));
        self.crew.asks.give(move || {
            report.tell(match recorder.commit(record) {
                Ok(()) => Wake::Asks(Box::new(asking)),
                Err(why) => Wake::NotAsked(number, why),
            });
        });
    }

    /// It is recorded that he is asked.
    pub(super) fn ask_at_desk(&mut self, asking: Asking) {
        let (number, uid) = (asking.question.number, asking.question.person.0);
        // Without it he answers where he sees it.
        let _ = self.answers.as_mut().map(|answers| answers.open_for(uid));
        self.publish(Arc::new(asking.asked.clone()));
        let asked = match &self.desk {
            Some(desk) => desk.ask(asking),
            None => Err("there is no channel `desk`".to_owned()),
        };
        if let Err(why) = asked {
            self.step(Input::Shown(number, Err(why)));
        }
    }
}

/// One notice, to whoever tries it out.
pub struct Trial(OurHelpers);

impl Trial {
    pub fn new(terminals: bool, helpers: &Helpers) -> Trial {
        Trial(OurHelpers { terminals, helpers: helpers.clone() })
    }
}

impl Way for Trial {
    fn deliver(&mut self, _: &[Message]) -> (usize, Option<Trouble>) {
        (0, Some(Trouble::Off("people at their desks are told of what is now".to_owned())))
    }

    fn try_out(&mut self, message: &Message, say: &mut dyn FnMut(&str)) -> Result<(), String> {
        // Who has become root still sits at his own desk.
        let uid = match here::uid() {
            0 => here::login_of(std::process::id()).unwrap_or(0),
            uid => uid,
        };
        if uid == 0 {
            return Err("nobody sits at a desk as root: try it with sudo from a session of your own".to_owned());
        }
        let nonce = here::nonce().map_err(|error| error.to_string())?;
        say(&format!("to the person with the user ID {uid}"));
        let place = try_out(&mut self.0, uid, Notice::trial(&message.brief), nonce)?;
        say(&format!("shown {place}"));
        Ok(())
    }
}

/// Who starts helpers.
struct OurHelpers {
    terminals: bool,
    helpers: Helpers,
}

impl Lines for OurHelpers {
    fn start(&mut self, uid: u32) -> Result<Arc<dyn End>, (String, bool)> {
        let for_good = |why: String| (why, false);
        let user = match here::is_root() {
            true => {
                Some((uid, here::group_of(uid).ok_or_else(|| for_good(format!("/etc/passwd knows no user {uid}")))?))
            }
            false if uid == here::uid() => None,
            false => return Err(for_good("only a watcher of root's can show it to somebody else".to_owned())),
        };
        let there = std::fs::symlink_metadata(bus::of_user(uid)).is_ok();
        if !there && !self.terminals {
            return Err(for_good("not logged in at a desktop".to_owned()));
        }
        let later = |error: io::Error| (format!("no helper can be started: {error}"), true);
        let (line, theirs) = Line::pair().map_err(later)?;
        let mut start = own_life::helper(WORD);
        start.stdin(theirs).stdout(Stdio::null()).stderr(Stdio::null());
        sys::contain(&mut start);
        sys::as_we_were(&mut start);
        let child = self.helpers.start(start).map_err(later)?;
        let fence = Fence { user, outlives: true, ..Fence::default() };
        let helper =
            OurEnd { line, child: Mutex::new(child), helpers: self.helpers.clone(), hung_up: AtomicBool::new(false) };
        let told = serde_json::to_vec(&Told { fence, job: First { terminals: self.terminals } });
        told.map_err(io::Error::other).and_then(|told| helper.line.say(&told)).map_err(later)?;
        Ok(Arc::new(helper))
    }
}

/// Our end of the line to one.
struct OurEnd {
    line: Line,
    child: Mutex<Child>,
    helpers: Helpers,
    hung_up: AtomicBool,
}

impl Speaks for OurEnd {
    fn say(&self, message: &[u8]) -> io::Result<()> {
        self.line.say(message)
    }

    fn hear(&self) -> Option<Vec<u8>> {
        let mut over: Option<Instant> = None;
        loop {
            match self.line.hear(Some(LOOK)) {
                Ok(heard) => return heard,
                Err(error) if error.kind() == io::ErrorKind::TimedOut => {}
                Err(_) => return None,
            }
            if self.hung_up.load(Ordering::SeqCst) {
                over = over.or(Some(Instant::now() + LAST));
            }
            if over.is_some_and(|over| over <= Instant::now()) {
                return None;
            }
        }
    }
}

impl End for OurEnd {
    fn end(&self, at_once: bool) {
        self.line.hang_up();
        self.hung_up.store(true, Ordering::SeqCst);
        if at_once {
            let mut child = self.child.lock().unwrap_or_else(PoisonError::into_inner);
            // Our own child, not collected yet: the number is still its own.
            let _ = child.kill();
            let _ = child.wait();
            self.helpers.ended(child.id());
        }
    }
}

impl Drop for OurEnd {
    fn drop(&mut self) {
        self.end(true);
    }
}
