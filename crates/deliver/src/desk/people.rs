//! The watcher's side of people's desks: one thread, which never waits for a helper. Who does not say in time what became of a notice is
//! ended; so is whoever says too much.

use std::collections::VecDeque;
use std::io;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, TrySendError, sync_channel};
use std::thread::{Builder, JoinHandle};
use std::time::{Duration, Instant};

use sophron_core::answer::{Answer, Answered, Answerer};
use sophron_core::audit::ToldRecord;
use sophron_core::dispatch::Asking;
use sophron_core::happening::{Happening, Scribe, What};
use sophron_core::sorted::SortedMap;
use sophron_core::telling::{AtDesk, Desks, Notice};
use sophron_core::text::cut;

use super::{FromHelper, Speaks, ToHelper};
use crate::{Current, reason};

/// Most that waits for this thread.
const MOST_WAITING: usize = 256;

/// What becomes of a notice has to be known within that time.
const UNTIL_SAID: Duration = Duration::from_secs(15);

/// A helper with nothing to show ends after that long.
const IDLE: Duration = Duration::from_secs(20);

/// At the end each has that long to take down what it has shown.
const LAST: Duration = Duration::from_millis(1500);

/// Most that one helper may say in a second.
const MOST_SAID: u32 = 50;

/// Most helpers at once.
const MOST_PEOPLE: usize = 32;

/// Questions by whose nonce an answer is known, also when it comes too late.
const MOST_ASKED: usize = 128;

/// Under pressure a process cannot be started at once.
const TRIES: u32 = 3;
const BETWEEN_TRIES: Duration = Duration::from_millis(150);

/// The watcher's end of the line to a helper.
pub trait End: Speaks {
    /// Ends the line: the helper takes down what it has shown, and ends; `at_once` it is ended where it stands.
    fn end(&self, at_once: bool);
}

/// Who starts helpers.
pub trait Lines: Send {
    /// One for that user.
    ///
    /// # Errors
    /// None can be had: for good, and why; or it may be tried again.
    fn start(&mut self, uid: u32) -> Result<Arc<dyn End>, (String, bool)>;
}

/// What it tells the watcher.
#[derive(Debug)]
pub enum Heard {
    /// A question is shown, and where; or not, and why.
    Shown(u64, Result<String, String>),
    /// An answer to a question of a case; and why it does not count, where that is known.
    Answer {
        /// The question.
        question: u64,
        /// Its case.
        case: u64,
        /// What, and by whom.
        answered: Answered,
        /// Why not.
        unsound: Option<String>,
    },
    /// What became of notices of a case, for the record.
    Told(u64, ToldRecord),
}

/// Takes it.
pub type Told = Box<dyn Fn(Heard) + Send>;

/// With what it begins.
pub struct Begin {
    /// The channel's name.
    pub channel: String,
    /// Whether no rule acts.
    pub shadow: bool,
    /// The rules.
    pub rules: Current,
    /// By which it is known what is recorded of what happens.
    pub scribe: Scribe,
    /// Who starts helpers.
    pub lines: Box<dyn Lines>,
    /// Makes a word that nobody guesses.
    pub nonce: fn() -> io::Result<String>,
    /// Takes what it tells.
    pub told: Told,
    /// What its thread does first.
    pub first: fn(),
}

enum Event {
    Happened(Arc<Happening>),
    Ask(Box<Asking>),
    Said(u32, u64, Vec<u8>),
    Ended(u32, u64),
    End,
}

/// Everybody's desk.
#[derive(Debug)]
pub struct Desk {
    events: SyncSender<Event>,
    thread: JoinHandle<()>,
}

impl std::fmt::Debug for Event {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Event")
    }
}

impl Desk {
    /// Begins, on a thread of its own.
    ///
    /// # Errors
    /// None can be started.
    pub fn begin(begin: Begin) -> io::Result<Desk> {
        let (events, happens) = sync_channel(MOST_WAITING);
        let back = events.clone();
        let desks = Desks::new(&begin.channel, begin.shadow);
        let run = move || {
            (begin.first)();
            let (helpers, asked, began) = (SortedMap::new(), VecDeque::new(), Instant::now());
            let people = People { begin, desks, back, helpers, asked, count: 0, began };
            people.run(&happens);
        };
        let thread = Builder::new().name("desk".to_owned()).spawn(run)?;
        Ok(Desk { events, thread })
    }

    /// Something happened. Never waits: who is too busy for it shows it with what follows.
    pub fn happened(&self, happening: &Arc<Happening>) {
        let _ = self.events.try_send(Event::Happened(Arc::clone(happening)));
    }

    /// Has somebody asked.
    ///
    /// # Errors
    /// There is no room.
    pub fn ask(&self, asking: Asking) -> Result<(), String> {
        self.events.try_send(Event::Ask(Box::new(asking))).map_err(|_| "there is too much to show".to_owned())
    }

    /// Takes down what is shown, and waits for that at most so long.
    pub fn end(self, patience: Duration) {
        let until = Instant::now() + patience;
        while let Err(TrySendError::Full(_)) = self.events.try_send(Event::End)
            && Instant::now() < until
        {
            std::thread::sleep(Duration::from_millis(5));
        }
        while !self.thread.is_finished() && Instant::now() < until {
            std::thread::sleep(Duration::from_millis(5));
        }
    }
}

/// A helper, and what is not known yet of what it was told.
struct Helper {
    generation: u64,
    end: Arc<dyn End>,
    /// By nonce: which case, which question, and since when.
    waiting: SortedMap<String, (u64, Option<u64>, Instant)>,
    /// Since when it has had nothing to show.
    idle: Option<Instant>,
}

struct People {
    begin: Begin,
    desks: Desks,
    back: SyncSender<Event>,
    helpers: SortedMap<u32, Helper>,
    /// Nonces of questions: whom, which case, which question.
    asked: VecDeque<(String, u32, u64, u64)>,
    count: u64,
    began: Instant,
}

impl People {
    fn run(mut self, happens: &Receiver<Event>) {
        loop {
            let rest = self.rest();
            match happens.recv_timeout(rest) {
                Ok(Event::Happened(happening)) => self.happened(&happening),
                Ok(Event::Ask(asking)) => self.ask(*asking),
                Ok(Event::Said(uid, generation, message)) => self.said(uid, generation, &message),
                Ok(Event::Ended(uid, generation)) => self.ended(uid, generation, "its helper has ended"),
                Err(RecvTimeoutError::Timeout) => {}
                Ok(Event::End) | Err(RecvTimeoutError::Disconnected) => break,
            }
            self.mind_the_time();
        }
        self.end(happens);
    }

    /// Each takes down what it has shown; who does not in time is ended where it stands.
    fn end(mut self, happens: &Receiver<Event>) {
        self.helpers.values().for_each(|helper| helper.end.end(false));
        let until = Instant::now() + LAST;
        while !self.helpers.is_empty() {
            match happens.recv_timeout(until.saturating_duration_since(Instant::now())) {
                Ok(Event::Ended(uid, _)) => drop(self.helpers.remove(&uid)),
                Ok(_) => {}
                Err(_) => break,
            }
        }
        self.helpers.values().for_each(|helper| helper.end.end(true));
    }

    fn tell(&self, heard: Heard) {
        (self.begin.told)(heard);
    }

    fn happened(&mut self, happening: &Happening) {
        let all = self.desks.happened(happening, self.began.elapsed(), &self.begin.rules.now(), &self.begin.scribe);
        for one in all {
            match one {
                AtDesk::Show(uid, notice) => self.show(uid, notice),
                AtDesk::TakeDown(uid, case) => self.to(uid, &ToHelper::TakeDown { case }),
                AtDesk::Leave(uid, case) => self.to(uid, &ToHelper::Leave { case }),
            }
        }
        if matches!(happening.what, What::Turned(..) | What::Closed { .. }) {
            self.mind_who_is_idle();
        }
    }

    fn ask(&mut self, asking: Asking) {
        let number = asking.question.number;
        match self.desks.asks(&asking.asked, &self.begin.rules.now(), &self.begin.scribe) {
            Ok((uid, notice)) => self.show(uid, notice),
            Err(why) => self.tell(Heard::Shown(number, Err(why))),
        }
    }

    fn show(&mut self, uid: u32, notice: Box<Notice>) {
        let (case, question) = (notice.case, notice.question);
        if let Err(why) = self.shows(uid, notice) {
            self.came(case, question, Err(why));
        }
    }

    fn shows(&mut self, uid: u32, notice: Box<Notice>) -> Result<(), String> {
        let nonce = (self.begin.nonce)().map_err(|error| format!("no nonce can be had: {error}"))?;
        let (case, question) = (notice.case, notice.question);
        let message = serde_json::to_vec(&ToHelper::Show { notice, nonce: nonce.clone() });
        let message = message.map_err(|error| error.to_string())?;
        let helper = self.helper(uid)?;
        helper.end.say(&message).map_err(|error| format!("its helper does not listen: {error}"))?;
        helper.idle = None;
        helper.waiting.insert(nonce.clone(), (case, question, Instant::now()));
        if let Some(question) = question {
            if self.asked.len() == MOST_ASKED {
                self.asked.pop_front();
            }
            self.asked.push_back((nonce, uid, case, question));
        }
        Ok(())
    }

    /// The one there is, or a new one.
    fn helper(&mut self, uid: u32) -> Result<&mut Helper, String> {
        if !self.helpers.contains_key(&uid) {
            if self.helpers.len() >= MOST_PEOPLE {
                return Err("too many people are told already".to_owned());
            }
            let mut tries = 0;
            let end = loop {
                tries += 1;
                match self.begin.lines.start(uid) {
                    Ok(end) => break end,
                    Err((_, true)) if tries < TRIES => std::thread::sleep(BETWEEN_TRIES),
                    Err((why, _)) => return Err(why),
                }
            };
            self.count += 1;
            let generation = self.count;
            let (ear, events) = (Arc::clone(&end), self.back.clone());
            let hears = move || hear(&*ear, &events, uid, generation);
            if let Err(error) = Builder::new().name("helper".to_owned()).spawn(hears) {
                end.end(true);
                return Err(format!("no thread can be started: {error}"));
            }
            self.helpers.insert(uid, Helper { generation, end, waiting: SortedMap::new(), idle: None });
        }
        self.helpers.get_mut(&uid).ok_or_else(|| "no helper".to_owned())
    }

    /// To whoever has shown him something; nobody is started for it.
    fn to(&mut self, uid: u32, what: &ToHelper) {
        if let (Some(helper), Ok(message)) = (self.helpers.get(&uid), serde_json::to_vec(what)) {
            // Whoever does not listen is found out by the next notice, and takes all down when his line ends.
            let _ = helper.end.say(&message);
        }
        self.mind_who_is_idle();
    }

    fn said(&mut self, uid: u32, generation: u64, message: &[u8]) {
        let Some(helper) = self.helpers.get_mut(&uid).filter(|helper| helper.generation == generation) else { return };
        let Ok(said) = serde_json::from_slice::<FromHelper>(message) else { return };
        match said {
            FromHelper::Shown { nonce, place, .. } => {
                if let Some((case, question, _)) = helper.waiting.remove(&nonce) {
                    self.came(case, question, Ok(reason(&place)));
                }
            }
            FromHelper::NotShown { nonce, why, .. } => {
                if let Some((case, question, _)) = helper.waiting.remove(&nonce) {
                    self.came(case, question, Err(reason(&why)));
                }
            }
            FromHelper::Answer { nonce, answer, session, locked, .. } => {
                let locked_out =
                    (locked == Some(true)).then(|| "nobody knows who answers at a locked screen".to_owned());
                self.answered(uid, &nonce, &answer, (session, locked), locked_out);
            }
            FromHelper::Forged { nonce, answer, by, .. } => {
                let why =
                    format!("it came from another program than the one that shows the question ({})", reason(&by));
                self.answered(uid, &nonce, &answer, (None, None), Some(why));
            }
        }
    }

    fn answered(
        &mut self,
        uid: u32,
        nonce: &str,
        answer: &str,
        (session, locked): (Option<String>, Option<bool>),
        unsound: Option<String>,
    ) {
        let asked = self.asked.iter().rfind(|(known, whom, ..)| known == nonce && *whom == uid);
        let Some((_, _, case, question)) = asked else { return };
        let (case, question) = (*case, *question);
        let over = format!("the bus of user {uid}");
        let by = Answerer { uid, over, session: session.as_deref().map(reason), locked };
        let answered = Answered { answer: Answer::from(cut(answer, 32)), by };
        self.tell(Heard::Answer { question, case, answered, unsound });
    }

    fn came(&mut self, case: u64, question: Option<u64>, came: Result<String, String>) {
        if let Some((case, told)) = self.desks.came(case, came.clone().map(|_| ())) {
            self.tell(Heard::Told(case, told));
        }
        if let Some(question) = question {
            self.tell(Heard::Shown(question, came));
        }
    }

    fn ended(&mut self, uid: u32, generation: u64, why: &str) {
        if self.helpers.get(&uid).is_none_or(|helper| helper.generation != generation) {
            return;
        }
        let Some(helper) = self.helpers.remove(&uid) else { return };
        helper.end.end(true);
        for (case, question, _) in helper.waiting.into_values() {
            self.came(case, question, Err(why.to_owned()));
        }
    }

    fn mind_who_is_idle(&mut self) {
        for (uid, helper) in &mut self.helpers {
            let idle = helper.waiting.is_empty() && !self.desks.is_watched(*uid);
            helper.idle = if idle { helper.idle.or(Some(Instant::now())) } else { None };
        }
    }

    /// How long nothing is due.
    fn rest(&self) -> Duration {
        let of = |helper: &Helper| {
            let said = helper.waiting.values().map(|(.., since)| *since + UNTIL_SAID).min();
            said.into_iter().chain(helper.idle.map(|since| since + IDLE)).min()
        };
        let next = self.helpers.values().filter_map(of).min();
        next.map_or(Duration::from_secs(3600), |next| next.saturating_duration_since(Instant::now()))
    }

    fn mind_the_time(&mut self) {
        let now = Instant::now();
        let late = |helper: &Helper| helper.waiting.values().any(|(.., since)| *since + UNTIL_SAID <= now);
        let late: Vec<(u32, u64)> =
            self.helpers.iter().filter(|(_, one)| late(one)).map(|(uid, one)| (*uid, one.generation)).collect();
        for (uid, generation) in late {
            self.ended(uid, generation, "its helper says nothing: it was ended");
        }
        let idle = |_: &u32, helper: &mut Helper| {
            let over = helper.idle.is_some_and(|since| since + IDLE <= now);
            if over {
                helper.end.end(false);
            }
            !over
        };
        self.helpers.retain(idle);
    }
}

/// Has a notice shown to that user, and left to him: where it is shown.
///
/// # Errors
/// Why it is not.
pub fn try_out(lines: &mut dyn Lines, uid: u32, notice: Notice, nonce: String) -> Result<String, String> {
    let end = lines.start(uid).map_err(|(why, _)| why)?;
    let case = notice.case;
    let say = |what: &ToHelper| {
        let message = serde_json::to_vec(what).map_err(|error| error.to_string())?;
        end.say(&message).map_err(|error| format!("its helper does not listen: {error}"))
    };
    say(&ToHelper::Show { notice: Box::new(notice), nonce })?;
    let (sends, heard) = sync_channel(1);
    let ear = Arc::clone(&end);
    let hears = move || drop(sends.send(ear.hear()));
    Builder::new()
        .name("helper".to_owned())
        .spawn(hears)
        .map_err(|error| format!("no thread can be started: {error}"))?;
    let heard = heard.recv_timeout(UNTIL_SAID).ok().flatten();
    let said = heard.and_then(|message| serde_json::from_slice(&message).ok());
    let came = match said {
        Some(FromHelper::Shown { place, .. }) => Ok(reason(&place)),
        Some(FromHelper::NotShown { why, .. }) => Err(reason(&why)),
        _ => Err("its helper says nothing".to_owned()),
    };
    let _ = say(&ToHelper::Leave { case });
    end.end(came.is_err());
    came
}

/// Hands on what a helper says, as far as it does not say too much.
fn hear(end: &dyn End, events: &SyncSender<Event>, uid: u32, generation: u64) {
    let (mut since, mut said) = (Instant::now(), 0_u32);
    while let Some(message) = end.hear() {
        if since.elapsed() > Duration::from_secs(1) {
            (since, said) = (Instant::now(), 0);
        }
        said += 1;
        if said > MOST_SAID || events.send(Event::Said(uid, generation, message)).is_err() {
            break;
        }
    }
    end.end(true);
    let _ = events.send(Event::Ended(uid, generation));
}
