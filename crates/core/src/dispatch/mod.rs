//! The dispatcher: everything that is decided while rules are watched with, in one place and without a machine. What comes in
//! are values with their time; what goes out are commands. It reads no clock, waits for nobody and holds no handle: a loop
//! around it does, on a live machine, and the rehearsal of a recording, which drives the very same code.

mod acting;
mod answering;
mod asking;
mod cases;
mod commission;
mod earlier;
mod ending;
mod hands;
mod held;
mod inquiry;
mod leave;
mod measuring;
mod outcomes;
mod request;
mod said;
mod sample;
mod stand_backs;
mod standing;
mod status;
pub mod throttle;
mod wants;

use std::sync::Arc;
use std::time::Duration;

pub use acting::children;
pub use answering::{Heeded, Incoming};
pub use asking::{Asking, Grants};
pub use commission::{Call, Check, Commission, Done};
pub use hands::{HAND_MARGIN, Hand};
pub use inquiry::{Inquiry, Running, Wanted};
use jiff::tz::TimeZone;
pub use leave::Leave;
pub use request::{Back, LONGEST_BACK, LONGEST_FROM_ALL, Request};
pub use stand_backs::{ActsAgain, Word};
pub use standing::{OpenCase, PartInWords, Standing, Story};
pub use status::{RuleStanding, Status, Subject as StatusSubject};
pub use wants::Wants;

use crate::cost::Every;
use crate::decide::Ledger;
use crate::effects::Effects;
use crate::happening::Happening;
use crate::judge::{Case, Judge, MemoryWish, Sight};
use crate::model::{Boot, Moment, ProcessId, Reader, Snapshot};
use crate::open::Open;
use crate::protect::Protections;
use crate::recording::Ours;
use crate::rules::{RuleName, RuleSet};
use crate::sorted::{SortedMap, SortedSet};
use crate::stand_back::{StandBack, StandsBack};

/// After a hand has acted on a process, rules stand back from it for this long.
pub(crate) const STAND_BACK: Duration = Duration::from_secs(15 * 60);

/// What does not change while it runs.
#[derive(Debug, Clone)]
pub struct Settings {
    /// Whether no rule acts.
    pub shadow: bool,
    /// Whether outcomes are only assumed, as in a rehearsal: then nothing is measured after an act, and a process that does
    /// not stand still in the sample was not resumed by somebody.
    pub assumed: bool,
    /// Sophron's own PID, by which its ancestors are found.
    pub own: Option<u32>,
    /// If given, only these processes are judged.
    pub only: Option<SortedSet<ProcessId>>,
    /// The zone that hours are meant in.
    pub zone: TimeZone,
}

/// What comes in.
#[derive(Debug)]
pub enum Input<'a> {
    /// A sample, and what is known beside it.
    Sample(&'a Snapshot, &'a Beside),
    /// The same of a sample in which is read what something hangs on.
    Look(&'a mut Snapshot, &'a mut dyn Reader, &'a Beside),
    /// No sample could be taken, and why.
    NoSample(String),
    /// Nothing but time: what was to happen by then is due.
    Time,
    /// What came of an act, or of taking something back.
    Acted(Box<Done>),
    /// What came of a program that was run.
    Ran(Box<Call>, crate::act::Outcome),
    /// What a person did beside the watcher.
    Hand(Box<Hand>),
    /// How the trail stands.
    Trail(Trail),
    /// The exact memory of a group, if it could be read, in bytes, and of how many of its processes it was not; and from when on the next
    /// may be read.
    Memory(Box<MemoryWish>, Option<(u64, usize)>, Duration),
    /// Other rules, with the protections that bind them.
    Rules(Arc<RuleSet>, Protections),
    /// Samples come further apart from now on, or less far.
    Every(Every),
    /// What somebody wants to know.
    Inquiry(Box<Inquiry>),
    /// Whether a question is shown to him whom it asks: where, or why it cannot be.
    Shown(u64, Result<String, String>),
    /// It could not be recorded that somebody is asked, and why.
    NotRecorded(u64, String),
    /// What a question is about is not wholly his whom it asks: he does not decide.
    NotHis(u64),
    /// An answer to a question.
    Answer(Box<Incoming>),
    /// Rules are to stand back, or not any more.
    Word(Box<Word>),
    /// What the run before has left open, in that boot.
    Earlier(Box<Open>, Boot),
    /// It is to end: everything in force is taken back.
    End,
}

/// How the trail stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Trail {
    /// It cannot be written: nothing is acted upon.
    Lost(String),
    /// It can be written again.
    Back,
    /// It is not what it was. Whether that still has to be recorded.
    Doubted(String, bool),
    /// A person has taken note of that.
    Accepted(String),
}

/// What is known beside a sample.
#[derive(Debug, Clone, Default)]
pub struct Beside {
    /// Whose guard is gone, of those that we hold suspended.
    pub unguarded: SortedSet<ProcessId>,
    /// Who waits for a file lock of whom, by PID: holder and waiter.
    pub waits: Vec<(u32, u32)>,
    /// Fixed processes that the sample does not show and whose handle says that they live.
    pub unseen: SortedSet<ProcessId>,
    /// Of how many processes nothing can be read for want of descriptors or memory.
    pub unread: usize,
    /// Sophron's own processes.
    pub own: SortedSet<u32>,
    /// Those of them that come and go: they are not even judged.
    pub helpers: SortedSet<u32>,
    /// What the watcher that recorded the sample was doing; empty on a live machine.
    pub recorded: Recorded,
}

/// The hand that another watcher had in a recorded sample.
#[derive(Debug, Clone, Default)]
pub struct Recorded {
    /// On whom a suspension of it was in force since the sample before.
    pub suspended: SortedSet<ProcessId>,
    /// On whom an act of it was under way.
    pub busy: SortedSet<ProcessId>,
    /// From whom its rules stood back, since a hand was at work.
    pub back: SortedSet<ProcessId>,
    /// And by somebody's word.
    pub by_word: StandsBack,
    /// In which cases an act of it was under way that we took for done, each as often as there were any.
    pub acting: Vec<u64>,
    /// Whom it had suspended as we did: its suspension is the one that the readings tell of, and ours is void.
    pub did: SortedSet<ProcessId>,
}

/// What goes out.
#[derive(Debug)]
pub enum Command {
    /// Record it and say it, as far as it is to be recorded and said.
    Tell(Box<Happening>),
    /// Say it, and do not record it.
    Say(Box<Happening>),
    /// What was being done at a sample, for a recording of it.
    Keep(Box<Ours>),
    /// Fix a process by a handle.
    Fix(ProcessId),
    /// Its handle is no longer needed.
    Release(ProcessId),
    /// Its guard is no longer needed: it has been resumed, or has ended.
    Dismiss(ProcessId),
    /// Carry out an act, or take something back.
    Act(Box<Commission>),
    /// Run a program.
    Run(Box<Call>),
    /// Read the exact memory of a group.
    Read(Box<MemoryWish>),
    /// Have somebody asked, once that is recorded.
    Ask(Box<Asking>),
    /// What becomes of an answer, by its ticket.
    Heard(u64, Heeded),
    /// Somebody's word is taken, by its ticket; what it has ended.
    Said(u64, Vec<StandBack>),
    /// Reply to an inquiry, by its ticket.
    Reply(u64, Option<Box<Standing>>),
}

/// The state of a watch.
#[derive(Debug)]
pub struct Dispatcher {
    settings: Settings,
    rules: Arc<RuleSet>,
    judge: Judge,
    ledger: Ledger,
    effects: Effects,
    protections: Protections,
    /// Processes with an act or an undo under way.
    busy: SortedSet<ProcessId>,
    /// The cases that acts are under way for, each as often as there are any.
    acting: Vec<u64>,
    /// What is to be taken back from whom once nothing is under way on him.
    queued: Vec<Commission>,
    /// Lowerings that go along with another case's greater one, which is under way.
    joining: SortedMap<ProcessId, Vec<(u64, i32)>>,
    /// Processes on which a suspension of ours was in force since the last tick.
    touched: SortedSet<ProcessId>,
    held: held::Held,
    hands: hands::Hands,
    /// What was said of standing back, as long as it holds.
    stand_backs: Vec<StandBack>,
    /// From whom rules stood back at the last sample, by somebody's word.
    back: StandsBack,
    /// How often something changed that the next run has to know.
    revision: u64,
    measuring: measuring::Measuring,
    asks: asking::Asks,
    /// Cases whose process ended while the outcome of an act on it is awaited.
    closing: Vec<cases::Leaving>,
    ended_by_us: SortedSet<ProcessId>,
    /// Cases whose rule does something else now, and what stays in force of what they hold.
    revised: SortedMap<u64, crate::judge::Stays>,
    /// Whether others are protected than at the last sample.
    protected_anew: bool,
    /// What was in the way of a step of a case, on that process: told once.
    in_the_way: SortedMap<(u64, usize, Option<ProcessId>), String>,
    /// Rules whose program runs.
    running: SortedSet<RuleName>,
    throttle: throttle::Throttle,
    said: said::Said,
    trail: TrailState,
    /// From when on exact memory of a group may be read; `None` while it is.
    memory_from: Option<Duration>,
    ending: ending::Ending,
    /// The moment of the present input.
    now: Moment,
    /// That of the last sample.
    last: Option<Moment>,
    interval: Option<Duration>,
    /// Cases in which the watcher that recorded was still at it at the last sample.
    still_at: SortedSet<u64>,
    /// What came of acts since the last sample, for a recording.
    kept: Vec<crate::recording::Outcome>,
    /// What became of questions since then.
    kept_of_asking: Vec<crate::recording::Asked>,
    ticks: u64,
    out: Vec<Command>,
}

/// What keeps anything from being acted upon on the strength of the trail: why it cannot be written, what is doubtful about it.
#[derive(Debug, Clone, Default)]
struct TrailState {
    lost: Option<String>,
    doubted: Option<String>,
}

impl Dispatcher {
    /// A watch by these rules, which numbers its cases from `next_case` on.
    pub fn new(settings: Settings, rules: Arc<RuleSet>, protections: Protections, next_case: u64) -> Dispatcher {
        Dispatcher {
            settings,
            judge: Judge::new(&rules, next_case),
            rules,
            ledger: Ledger::default(),
            effects: Effects::default(),
            protections,
            busy: SortedSet::new(),
            acting: Vec::new(),
            queued: Vec::new(),
            joining: SortedMap::new(),
            touched: SortedSet::new(),
            held: held::Held::default(),
            hands: hands::Hands::default(),
            stand_backs: Vec::new(),
            back: StandsBack::default(),
            revision: 0,
            measuring: measuring::Measuring::default(),
            asks: asking::Asks::default(),
            closing: Vec::new(),
            ended_by_us: SortedSet::new(),
            revised: SortedMap::new(),
            protected_anew: false,
            in_the_way: SortedMap::new(),
            running: SortedSet::new(),
            throttle: throttle::Throttle::default(),
            said: said::Said::default(),
            trail: TrailState::default(),
            memory_from: Some(Duration::ZERO),
            ending: ending::Ending::default(),
            now: Moment::default(),
            last: None,
            interval: None,
            still_at: SortedSet::new(),
            kept: Vec::new(),
            kept_of_asking: Vec::new(),
            ticks: 0,
            out: Vec::new(),
        }
    }

    /// Takes one input, and says what has to be done next.
    #[must_use]
    pub fn step(&mut self, now: Moment, input: Input<'_>) -> Vec<Command> {
        self.now = now;
        match input {
            Input::Sample(snapshot, beside) => self.sample(Sight::Whole(snapshot), beside),
            Input::Look(snapshot, reader, beside) => self.sample(Sight::Lazy(snapshot, reader, 0), beside),
            Input::NoSample(why) => self.say_blind(now, why),
            Input::Time => self.resume_what_is_over(now),
            Input::Acted(done) => self.acted(now, *done),
            Input::Ran(call, outcome) => self.ran(now, *call, outcome),
            Input::Hand(hand) => self.hands.queue(*hand),
            Input::Trail(trail) => self.trail(now, trail),
            Input::Memory(wish, exact, from) => {
                self.memory_from = Some(from);
                if let Some((bytes, uncounted)) = exact {
                    self.judge.memory_read(&wish, bytes);
                    self.say_what_is_uncounted(now, &wish.rule, uncounted);
                }
            }
            Input::Every(changed) => {
                self.judge.sampled_every(changed.every);
                self.news(now, crate::happening::News::Pace(changed));
            }
            Input::Rules(rules, protections) => self.adopt(now, rules, protections),
            Input::Inquiry(inquiry) => {
                let standing = self.standing(now, &inquiry).map(Box::new);
                self.out.push(Command::Reply(inquiry.ticket, standing));
            }
            Input::Shown(question, came) => self.shown(now, question, came),
            Input::NotRecorded(question, why) => self.not_recorded(now, question, &why),
            Input::NotHis(question) => self.asks.offer_nothing(question),
            Input::Answer(incoming) => self.answer(now, *incoming),
            Input::Word(word) => self.take_word(now, *word),
            Input::Earlier(open, boot) => self.go_on_with(now, &open, boot),
            Input::End => self.begin_to_end(now),
        }
        std::mem::take(&mut self.out)
    }

    /// When time alone makes something due, on the monotonic clock.
    pub fn next_wake(&self) -> Option<Duration> {
        let suspended = self.effects.suspended().filter(|(id, _)| !self.busy.contains(id));
        suspended.map(|(_, suspended)| suspended.until).min()
    }

    /// The cases that are in breach, and from which rules do not stand back, and the number of the tick that showed it.
    pub fn breached(&self) -> (u64, SortedSet<u64>) {
        let may_act = |case: &&Case| case.holds && !self.is_held_back(case);
        (self.ticks, self.judge.cases().filter(may_act).map(|case| case.number).collect())
    }

    /// Whether nothing is under way.
    pub fn is_settled(&self) -> bool {
        self.busy.is_empty() && self.running.is_empty() && self.queued.is_empty()
    }

    /// Whether it should be looked who waits for file locks.
    pub fn minds_locks(&self) -> bool {
        self.held.any_holder()
    }

    /// What came of acts since the last sample, at the end of a recording.
    pub fn last_of_ours(&mut self) -> Ours {
        let asked = std::mem::take(&mut self.kept_of_asking);
        Ours { outcomes: std::mem::take(&mut self.kept), asked, ..Ours::default() }
    }

    /// The judge, to look at.
    pub fn judge(&self) -> &Judge {
        &self.judge
    }

    /// What is in force, to look at.
    pub fn effects(&self) -> &Effects {
        &self.effects
    }

    fn trail(&mut self, now: Moment, trail: Trail) {
        use crate::happening::News;
        match trail {
            Trail::Lost(why) => {
                self.trail.lost = Some(why.clone());
                self.news(now, News::TrailLost(why));
            }
            Trail::Back => {
                self.trail.lost = None;
                self.news(now, News::TrailBack);
            }
            Trail::Doubted(what, to_record) => {
                self.trail.doubted = Some(what.clone());
                self.news(now, News::TrailDoubted(what, to_record));
            }
            Trail::Accepted(by) => {
                self.trail.doubted = None;
                self.news(now, News::LossAccepted(by));
            }
        }
    }

    /// Whether it is news what is in the way of a step.
    fn is_news(&mut self, (case, step, on): (u64, usize, Option<ProcessId>), why: &str) -> bool {
        self.in_the_way.insert((case, step, on), why.to_owned()).as_deref() != Some(why)
    }

    /// Whether nothing may be acted upon: the trail cannot be written, or is in doubt.
    pub fn is_disarmed(&self) -> bool {
        self.trail.lost.is_some() || self.trail.doubted.is_some()
    }

    /// Why, where that is so.
    fn disarmed(&self) -> Option<String> {
        let lost = self.trail.lost.as_ref().map(|why| format!("the audit trail cannot be written: {why}"));
        lost.or_else(|| Some(format!("the audit trail is not what it was: {}", self.trail.doubted.as_ref()?)))
    }

    fn news(&mut self, now: Moment, news: crate::happening::News) {
        self.tell(Happening::news(now.wall, news));
    }
}
