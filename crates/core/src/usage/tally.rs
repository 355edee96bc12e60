//! From snapshots to rows: differences of CPU time, and what the machine did meanwhile.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::Duration;

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

use super::minutes::Minutes;
use super::rows::{App, AppHour, MachineHour, OTHERS, Row};
use crate::checkup::{Limits, Watched};
use crate::model::{Boot, Moment, Names, Process, ProcessId, Snapshot};
use crate::order::InOrder;
use crate::severity::Severity;

/// Most apps of one stretch of time, and of one owner but root: the rest of his are [`OTHERS`].
const MOST_APPS: usize = 500;
const MOST_OF_ONE: usize = 125;

/// A longer interval says too little of when what happened in it did: it is taken for a gap in watching.
const GAP: Duration = Duration::from_secs(3600);

/// So much may be between two samples beside the interval that the second one tells of, for they are one after the other.
const BESIDE: Duration = Duration::from_secs(1);

/// A nap is told of at most so many stretches.
const LONGEST_NAP: u32 = 1000;

/// Names are told apart by so many characters: they are claims.
const LONGEST_NAME: usize = 64;

/// The app under which the kernel's own threads are counted.
const KERNEL: &str = "(kernel)";

/// How long a row is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Slot {
    /// An hour of the local clock.
    Hour,
    /// So many minutes of the local clock, of which an hour is a multiple.
    Minutes(i64),
}

impl Slot {
    /// The beginning of the stretch in which a moment is. Where an hour comes twice it is two hours.
    pub fn start(self, at: Timestamp, zone: &TimeZone) -> Timestamp {
        let local = at.as_second() + i64::from(zone.to_offset(at).seconds());
        let into = local.rem_euclid(self.seconds());
        Timestamp::from_second(at.as_second() - into).unwrap_or(at)
    }

    fn seconds(self) -> i64 {
        match self {
            Slot::Hour => 3600,
            Slot::Minutes(minutes) => minutes.max(1) * 60,
        }
    }
}

/// An app within the present stretch.
#[derive(Debug, Clone, Default)]
struct OfApp {
    hour: AppHour,
    held: Minutes,
    /// Those of the present sample.
    now: Now,
}

#[derive(Debug, Clone, Copy, Default)]
struct Now {
    processes: u32,
    held: f64,
}

/// The apps of a stretch, by their number: every process of every sample asks.
#[derive(Debug, Clone, Default)]
struct Places {
    of: Vec<(u32, OfApp)>,
    /// Where an app stands in that; [`u32::MAX`] for nowhere.
    place: Vec<u32>,
}

impl Places {
    fn find(&self, app: u32) -> Option<usize> {
        let place = *self.place.get(app as usize)?;
        (place != u32::MAX).then_some(place as usize)
    }

    /// That app's; begun where there was nothing.
    fn get(&mut self, app: u32) -> &mut OfApp {
        let place = match self.find(app) {
            Some(place) => place,
            None => {
                if self.place.len() <= app as usize {
                    self.place.resize(app as usize + 1, u32::MAX);
                }
                self.place[app as usize] = u32::try_from(self.of.len()).unwrap_or(u32::MAX);
                self.of.push((app, OfApp::default()));
                self.of.len() - 1
            }
        };
        &mut self.of[place].1
    }

    /// The same under other numbers.
    fn renumbered(self, new: impl Fn(u32) -> u32) -> Places {
        let mut places = Places::default();
        for (app, of) in self.of {
            *places.get(new(app)) = of;
        }
        places
    }
}

/// A stretch of time under way.
#[derive(Debug, Clone, Default)]
struct Open {
    machine: MachineHour,
    available: Minutes,
    /// Stall shares of the present minute: for cores, memory, disks.
    stalls: [Minutes; 3],
    apps: Places,
    /// How many apps each owner has in it.
    owners: HashMap<u32, usize>,
}

/// What is known of a process from the sample before.
#[derive(Debug, Clone)]
struct Known {
    id: ProcessId,
    cpu_time: Duration,
    names: Arc<Names>,
    uid: u32,
    app: u32,
}

/// Samples in, rows out.
#[derive(Debug, Clone)]
pub struct Tally {
    slot: Slot,
    zone: TimeZone,
    limits: Limits,
    apps: Vec<Arc<App>>,
    places: HashMap<Arc<App>, u32>,
    /// By their PIDs.
    known: Vec<Known>,
    open: BTreeMap<Timestamp, Open>,
    /// The stretch of the last sample, and until when it goes.
    now: Option<(Timestamp, Timestamp)>,
    last: Option<Moment>,
    boot: Option<Boot>,
}

impl Tally {
    /// Rows of that length by the clock of that zone; `limits` say from where on waiting is felt.
    pub fn new(slot: Slot, zone: TimeZone, limits: Limits) -> Tally {
        Tally {
            slot,
            zone,
            limits,
            apps: Vec::new(),
            places: HashMap::new(),
            known: Vec::new(),
            open: BTreeMap::new(),
            now: None,
            last: None,
            boot: None,
        }
    }

    /// The next sample, in the order of time.
    pub fn take(&mut self, snapshot: &Snapshot) {
        let moment = snapshot.moment;
        let boot = snapshot.machine.boot;
        let told = snapshot.interval.unwrap_or_default();
        let goes_on = self.last.is_some_and(|last| {
            let passed = moment.monotonic.checked_sub(last.monotonic);
            self.boot == Some(boot) && passed.is_some_and(|passed| passed <= GAP && passed <= told + BESIDE)
        });
        self.boot = Some(boot);
        let last = self.last.replace(moment).filter(|_| goes_on);
        let passed = last.map_or(Duration::ZERO, |last| moment.monotonic.saturating_sub(last.monotonic));
        self.napped(last, moment);
        let seconds = passed.as_secs_f64();
        // The middle of the interval says to which stretch it belongs.
        let middle = moment.wall.checked_sub(SignedDuration::try_from(passed / 2).unwrap_or_default());
        let at = middle.unwrap_or(moment.wall);
        let start = self.start(at);
        let minute = at.as_second().div_euclid(60);
        let mut open = self.open.remove(&start).unwrap_or_default();
        let attributed = self.processes(&mut open, snapshot, last.is_some(), seconds, minute);
        if last.is_some() {
            machine(&mut open, snapshot, &self.limits, seconds, minute, attributed);
        }
        self.open.insert(start, open);
    }

    fn start(&mut self, at: Timestamp) -> Timestamp {
        if let Some((start, _)) = self.now.filter(|(start, end)| *start <= at && at < *end) {
            return start;
        }
        let start = self.slot.start(at, &self.zone);
        let end = start.checked_add(SignedDuration::from_secs(self.slot.seconds())).unwrap_or(start);
        self.now = Some((start, end));
        start
    }

    /// A nap is in every stretch over which it lasted.
    fn napped(&mut self, last: Option<Moment>, now: Moment) {
        let Some(last) = last else { return };
        let awake = now.monotonic.saturating_sub(last.monotonic);
        let nap = now.boottime.saturating_sub(last.boottime).saturating_sub(awake);
        if nap < Duration::from_secs(1) {
            return;
        }
        let mut at = now.wall.checked_sub(SignedDuration::try_from(nap).unwrap_or_default()).unwrap_or(now.wall);
        let mut stretches = 0;
        while at < now.wall && stretches < LONGEST_NAP {
            stretches += 1;
            let start = self.start(at);
            let end = self.now.map_or(now.wall, |(_, end)| end).min(now.wall);
            let part = end.duration_since(at).as_secs_f64();
            self.open.entry(start).or_default().machine.napped += part;
            if end <= at {
                return;
            }
            at = end;
        }
    }

    /// Every process; what was used by all of them, seconds.
    fn processes(&mut self, open: &mut Open, snapshot: &Snapshot, goes_on: bool, seconds: f64, minute: i64) -> f64 {
        let mut attributed = 0.0;
        let mut known: Vec<Option<Known>> = std::mem::take(&mut self.known).into_iter().map(Some).collect();
        let pids: Vec<u32> = known.iter().flatten().map(|known| known.id.pid).collect();
        for process in &snapshot.processes {
            let was = pids.binary_search(&process.id.pid).ok().and_then(|place| known[place].take());
            let (app, before) = self.place(process, was.filter(|was| was.id == process.id));
            let used = match before {
                Some(before) if goes_on => process.cpu_time.saturating_sub(before),
                // Who has begun since the sample before has used all of it since then.
                None if goes_on && process.age.as_secs_f64() <= seconds => process.cpu_time,
                _ => Duration::ZERO,
            };
            if process.has_ended() && used.is_zero() {
                continue;
            }
            let of = self.of(open, app);
            let through = f64::from(process.children_cpu().unwrap_or(0.0)) / 100.0 * seconds;
            of.hour.cpu += used.as_secs_f64();
            of.hour.through += through;
            attributed += used.as_secs_f64() + through;
            of.hour.read += f64::from(process.disk_read.unwrap_or(0.0)) * seconds;
            of.hour.written += f64::from(process.disk_write.unwrap_or(0.0)) * seconds;
            of.hour.starts += u32::from(before.is_none() && goes_on && process.age.as_secs_f64() <= seconds);
            of.now.processes += 1;
            of.now.held += process.memory_held.unwrap_or(0) as f64;
        }
        if !self.known.is_sorted_by_key(|known| known.id.pid) {
            self.known.sort_by_key(|known| known.id.pid);
        }
        for (_, of) in open.apps.of.iter_mut().filter(|(_, of)| of.now.processes > 0) {
            let now = std::mem::take(&mut of.now);
            of.hour.most = of.hour.most.max(now.processes);
            of.hour.held_high = of.hour.held_high.max(now.held);
            // A first sample is of no length, and still one of what is held.
            of.held.add(minute, now.held, seconds.max(1e-3));
            of.hour.seconds += seconds;
        }
        attributed
    }

    /// The app of a process, and the CPU time that it had at the sample before.
    fn place(&mut self, process: &Process, was: Option<Known>) -> (u32, Option<Duration>) {
        let before = was.as_ref().map(|was| was.cpu_time);
        let same = |was: &Known| {
            was.uid == process.uid
                && (Arc::ptr_eq(&was.names, &process.names)
                    || was.names.app == process.names.app && was.names.owner == process.names.owner)
        };
        let (app, names) = match was.filter(same) {
            Some(was) if Arc::ptr_eq(&was.names, &process.names) => (was.app, was.names),
            Some(was) => (was.app, Arc::clone(&process.names)),
            // Who runs another program now has used his time before under the other name: what is new is counted to this one.
            None => {
                let name = if process.kernel { KERNEL } else { process.app.as_str() };
                let name = crate::text::cut(name, LONGEST_NAME).to_owned();
                let app = App { app: name, owner: process.owner.clone(), uid: process.uid };
                (self.intern(app), Arc::clone(&process.names))
            }
        };
        self.known.push(Known { id: process.id, cpu_time: process.cpu_time, names, uid: process.uid, app });
        (app, before)
    }

    fn intern(&mut self, app: App) -> u32 {
        let next = u32::try_from(self.apps.len()).unwrap_or(u32::MAX);
        if let Some(place) = self.places.get(&app) {
            return *place;
        }
        let app = Arc::new(app);
        self.apps.push(Arc::clone(&app));
        self.places.insert(app, next);
        next
    }

    /// What is counted of an app; of one too many, of the others.
    fn of<'o>(&mut self, open: &'o mut Open, app: u32) -> &'o mut OfApp {
        let mut place = app;
        if open.apps.find(app).is_none() {
            let whose = self.apps.get(app as usize).map(|app| App::clone(app)).unwrap_or_else(App::nobody);
            let own = open.owners.entry(whose.uid).or_default();
            if open.apps.of.len() >= MOST_APPS || whose.uid != 0 && *own >= MOST_OF_ONE {
                place = self.intern(App { app: OTHERS.to_owned(), ..whose });
            } else {
                *own += 1;
            }
        }
        open.apps.get(place)
    }

    /// How many stretches are under way.
    pub fn open(&self) -> usize {
        self.open.len()
    }

    /// What is known so far, the earliest first.
    pub fn rows(&self) -> Vec<Row> {
        self.open.iter().map(|(start, open)| self.row(*start, open)).collect()
    }

    fn row(&self, start: Timestamp, open: &Open) -> Row {
        let mut machine = open.machine;
        machine.available = open.available.median();
        machine.unseen = machine.unseen.max(0.0);
        let (waited, held_up) = felt(&open.stalls, &self.limits);
        machine.waited += waited;
        machine.held_up += held_up;
        let of = |(place, of): &(u32, OfApp)| {
            let app = Arc::clone(self.apps.get(*place as usize)?);
            Some((app, AppHour { held: of.held.median().unwrap_or(0.0), ..of.hour }))
        };
        let mut apps: Vec<(Arc<App>, AppHour)> = open.apps.of.iter().filter_map(of).collect();
        apps.order_by(|a, b| a.0.cmp(&b.0));
        Row { start, machine, apps }
    }

    /// Lets go of what began before that moment: it has been kept elsewhere.
    pub fn forget_before(&mut self, start: Timestamp) {
        self.open.retain(|begun, _| *begun >= start);
        // Names that nobody has any more would only grow.
        if self.apps.len() > 4 * MOST_APPS {
            self.intern_anew();
        }
    }

    fn intern_anew(&mut self) {
        let old = std::mem::take(&mut self.apps);
        self.places.clear();
        let mut moved: HashMap<u32, u32> = HashMap::new();
        let used: Vec<u32> = self
            .known
            .iter()
            .map(|known| known.app)
            .chain(self.open.values().flat_map(|open| open.apps.of.iter().map(|(app, _)| *app)))
            .collect();
        for place in used {
            if let (false, Some(app)) = (moved.contains_key(&place), old.get(place as usize)) {
                let new = self.intern(App::clone(app));
                moved.insert(place, new);
            }
        }
        let new = |place: u32| moved.get(&place).copied().unwrap_or(place);
        self.known.iter_mut().for_each(|known| known.app = new(known.app));
        for open in self.open.values_mut() {
            open.apps = std::mem::take(&mut open.apps).renumbered(new);
        }
    }
}

/// The machine over one interval.
fn machine(open: &mut Open, snapshot: &Snapshot, limits: &Limits, seconds: f64, minute: i64, attributed: f64) {
    let (of, machine) = (&mut open.machine, &snapshot.machine);
    of.seconds += seconds;
    of.until = of.until.max(Some(snapshot.moment.wall));
    of.cores = machine.cores;
    of.memory = machine.memory_total;
    if let Some(cpu) = machine.cpu {
        let busy = cpu / 100.0 * f64::from(machine.cores) * seconds;
        of.cpu += busy;
        of.unseen += busy - attributed;
    }
    if let Some(available) = machine.memory_available.map(|bytes| bytes as f64) {
        of.available_low = Some(of.available_low.map_or(available, |low| low.min(available)));
        open.available.add(minute, available, seconds);
    }
    of.swapped += machine.swap_traffic.unwrap_or(0.0) * seconds;
    of.disk_busy += machine.disk_busy.unwrap_or(0.0) / 100.0 * seconds;
    of.files_full = match (of.files_full, machine.files_full) {
        (Some(a), Some(b)) => Some(a.max(b)),
        (a, b) => a.or(b),
    };
    let stalls = [machine.stall_cpu, machine.stall_memory, machine.stall_io];
    let is_new = open.stalls.iter().all(|minutes| minutes.minute != minute);
    if is_new {
        let (waited, held_up) = felt(&open.stalls, limits);
        of.waited += waited;
        of.held_up += held_up;
    }
    for (place, stall) in stalls.into_iter().enumerate() {
        let share = stall.and_then(|stall| stall.interval).unwrap_or(0.0);
        of.stalled[place] += share / 100.0 * seconds;
        let minutes = &mut open.stalls[place];
        if minutes.minute != minute {
            *minutes = Minutes::begun(minute);
        }
        minutes.add(minute, share, seconds);
    }
}

/// Figures of which waiting is told, in the order in which they are kept.
const WAITING: [Watched; 3] = [Watched::StallCpu, Watched::StallMemory, Watched::StallIo];

/// For how long of a minute waiting was beyond the limit, and beyond the critical one, seconds.
fn felt(stalls: &[Minutes; 3], limits: &Limits) -> (f64, f64) {
    let weigh = |(minutes, watched): (&Minutes, Watched)| limits.weigh(watched, minutes.present()?);
    let worst = stalls.iter().zip(WAITING).filter_map(weigh).max();
    let seconds = stalls.iter().map(|minutes| minutes.seconds).fold(0.0, f64::max);
    (if worst.is_some() { seconds } else { 0.0 }, if worst == Some(Severity::Critical) { seconds } else { 0.0 })
}
