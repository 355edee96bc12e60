//! What a checkup is made from: several looks at this machine, or the last samples of a recording.

use std::collections::HashMap;
use std::path::Path;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use sophron_core::audit::OpenSuspension;
use sophron_core::checkup::{Grown, Observation, Past, Scene, Settings, Surroundings, Watched};
use sophron_core::model::{Boot, Needs, Process, ProcessId, Snapshot};
use sophron_core::sorted::SortedSet;
use sophron_core::state::State;
use sophron_core::text::with_causes;
use sophron_linux::patience::{Asked, beside, within};
use sophron_linux::volumes::Survey;
use sophron_linux::{Sampler, cgroups, here, inspect, open_files, terminal, trail};

use crate::args;
use crate::exit::{Exit, Failure};
use crate::places;
use crate::recordings::Recordings;
use crate::source;

/// How long a checkup measures unless told otherwise.
const LENGTH: Duration = Duration::from_secs(3);

/// A recording has a sample every few seconds: that much of it is one look around.
const RECORDED_LENGTH: Duration = Duration::from_secs(30);

/// So many looks, not more often than that nor more seldom.
const LOOKS: u32 = 12;
const OFTENEST: Duration = Duration::from_millis(100);
const SELDOMEST: Duration = Duration::from_millis(500);

/// How long deleted files that are still held are looked for.
const HELD_FILES: Duration = Duration::from_millis(80);

/// Of so many processes, and so many threads of each, it is looked at every look whether one waits.
const MOST_ASKED: usize = 64;
const MOST_THREADS: usize = 32;

/// A smaller deleted file is not looked for.
const HELD_AT_LEAST: u64 = 16 << 20;

/// How long a disk that has not answered while we measured is waited for at the end.
const DISKS: Duration = Duration::from_millis(20);

/// So much of the lookback is looked at for who grows, and so far apart.
const BEFORE: Duration = Duration::from_secs(1800);
const APART: jiff::SignedDuration = jiff::SignedDuration::from_secs(60);
const LATELY: jiff::SignedDuration = jiff::SignedDuration::from_secs(240);

/// Everything a checkup needs.
pub(super) struct Gathered {
    pub scene: Scene,
    pub around: Surroundings<'static>,
    pub zone: Option<jiff::tz::TimeZone>,
    /// What holds our terminal: protected with us.
    pub terminal: SortedSet<ProcessId>,
    pub suffix: String,
    pub notes: Vec<String>,
}

/// Looks at this machine for as long as was asked for.
pub(super) fn live(args: &args::Checkup, settings: &Settings) -> Result<Gathered, Failure> {
    let length = args.length.unwrap_or(LENGTH);
    let end = Instant::now() + length;
    source::measuring(length);
    let failed = |error| Failure::of(Exit::Failed, error);
    let survey = Survey::begin(Path::new("/proc"));
    let before = held_before(&args.state);
    let mut sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).map_err(failed)?.with_passing();
    let mut observation = Observation::default();
    let mut snapshot = Snapshot::default();
    let mut look = |observation: &mut Observation| {
        sampler.sample(&mut snapshot).map_err(failed)?;
        observation.add(&snapshot);
        // Of whom it may not be read what he reads and writes, it is looked whether a thread of his waits.
        let unread = |process: &&Process| process.disk_read.is_none() && process.threads > 1;
        let active =
            snapshot.processes.iter().filter(unread).filter(|process| process.cpu.is_some_and(|cpu| cpu > 0.0));
        for process in active.take(MOST_ASKED) {
            if inspect::any_waits(process.id.pid, MOST_THREADS) {
                observation.also_waiting(process);
            }
        }
        Ok::<Boot, Failure>(snapshot.machine.boot)
    };
    let boot = look(&mut observation)?;
    let terminal = terminal::holders(boot);
    let step = (length / LOOKS).clamp(OFTENEST, SELDOMEST);
    loop {
        let left = end.saturating_duration_since(Instant::now());
        // The last two looks are one, rather than a very short one at the end.
        let wait = if left < step * 3 / 2 { left } else { step };
        std::thread::sleep(wait);
        look(&mut observation)?;
        if wait == left {
            break;
        }
        source::measuring(end.saturating_duration_since(Instant::now()));
    }
    source::measured();
    let mut scene = observation.finish();
    let (volumes, silent) = survey.finish(DISKS);
    let machine = &mut scene.snapshot.machine;
    machine.files_full = volumes.iter().map(sophron_core::model::Volume::full).max_by(f64::total_cmp);
    machine.volumes = volumes;
    let around = Surroundings {
        recorded: false,
        privileged: here::is_privileged(),
        silent,
        groups: tight_groups(&scene),
        held: held_files(&scene, settings),
        own: own(&scene.snapshot),
        notes: notes(&scene.snapshot, &args.state),
        grown: grown(&scene.snapshot, &before.within(DISKS).unwrap_or_default()),
        past: Past::default(),
        protected: None,
    };
    Ok(Gathered { scene, around, zone: None, terminal, suffix: String::new(), notes: Vec::new() })
}

/// What processes held in the last of the lookback: at first, and at its later looks, with the times (wall).
type HeldBefore = HashMap<ProcessId, Vec<(Timestamp, u64)>>;

/// Read beside the looks.
fn held_before(state: &args::State) -> Asked<HeldBefore> {
    let state = args::State { folder: state.folder.clone() };
    beside(move || {
        let mut held = HeldBefore::new();
        if let Some(recordings) = Recordings::last_of_lookback(BEFORE, &state) {
            let _ = recordings.each(|snapshot, _, _| {
                let at = snapshot.moment.wall;
                for process in snapshot.processes.iter().filter(|process| !process.kernel) {
                    let points = held.entry(process.id).or_default();
                    let is_due = points.last().is_none_or(|(last, _)| at.duration_since(*last) >= APART);
                    points.extend(process.memory_held.filter(|_| is_due).map(|held| (at, held)));
                }
            });
        }
        held
    })
}

/// Who holds more than before, and did not stop growing since.
fn grown(snapshot: &Snapshot, before: &HeldBefore) -> Vec<Grown> {
    let of = |process: &Process| {
        let (points, to) = (before.get(&process.id)?, process.memory_held?);
        let (at, from) = *points.first()?;
        let over = Duration::try_from(snapshot.moment.wall.duration_since(at)).ok()?;
        let all = to.saturating_sub(from);
        // In the last minutes at least half as fast as on average.
        let late = points.iter().rev().find(|(point, _)| snapshot.moment.wall.duration_since(*point) >= LATELY)?;
        let lately = to.saturating_sub(late.1);
        let share = LATELY.as_secs_f64() / over.as_secs_f64().max(1.0);
        let goes_on = lately as f64 >= all as f64 * share.min(1.0) / 2.0;
        (all > 0 && over >= BEFORE / 6 && goes_on).then_some(Grown { id: process.id, from, to, over })
    };
    snapshot.processes.iter().filter_map(of).collect()
}

/// Sophron's own processes: this one, and every watcher. Offenders for trying rules are meant to be found.
fn own(snapshot: &Snapshot) -> SortedSet<u32> {
    let is_own = |process: &&Process| {
        let command = process.command.as_deref().unwrap_or_default();
        process.app == "sophron" && command.split_whitespace().nth(1) != Some("misbehave")
    };
    let others = snapshot.processes.iter().filter(is_own).map(|process| process.id.pid);
    others.chain([std::process::id()]).collect()
}

/// The control groups of those that wait for pages, with their limits.
fn tight_groups(scene: &Scene) -> Vec<sophron_core::checkup::GroupMemory> {
    let waits = |process: &&Process| {
        let tally = scene.tally(process);
        let often = scene.looks > 0 && tally.waiting * 4 >= scene.looks;
        !process.kernel && (often || process.faults.is_some_and(|faults| faults >= 1.0))
    };
    let mut groups: Vec<sophron_core::checkup::GroupMemory> = Vec::new();
    for process in scene.snapshot.processes.iter().filter(waits) {
        let Some(found) = cgroups::memory(process.id.pid) else { continue };
        match groups.iter_mut().find(|known| known.group == found.group) {
            Some(known) => known.members.extend(found.members),
            None => groups.push(found),
        }
    }
    groups
}

/// Deleted files are looked for only where a file system is nearly full.
fn held_files(scene: &Scene, settings: &Settings) -> Vec<sophron_core::checkup::HeldFile> {
    let limits = &settings.limits;
    let nearly_full = |volume: &sophron_core::model::Volume| {
        limits.weigh(Watched::FilesFull, volume.full()).is_some()
            || limits.weigh(Watched::FilesFree, volume.free as f64).is_some()
    };
    if !scene.snapshot.machine.volumes.iter().any(nearly_full) {
        return Vec::new();
    }
    let alive = scene.snapshot.processes.iter().filter(|process| !process.kernel && !process.has_ended());
    let pids: Vec<u32> = alive.map(|process| process.id.pid).collect();
    let give_up = Instant::now() + HELD_FILES;
    within(HELD_FILES + DISKS, move || open_files::held(pids.into_iter(), HELD_AT_LEAST, give_up)).unwrap_or_default()
}

/// What the record tells of those that are suspended; where it cannot be read, that.
pub fn notes(snapshot: &Snapshot, state: &args::State) -> HashMap<ProcessId, String> {
    let suspended = |process: &&Process| matches!(process.state, State::Suspended);
    if snapshot.processes.iter().find(suspended).is_none() {
        return HashMap::new();
    }
    let unread = |why: &str| -> HashMap<ProcessId, String> {
        let note = format!("whether Sophron suspended it is not known: {why}");
        snapshot.processes.iter().filter(suspended).map(|process| (process.id, note.clone())).collect()
    };
    let latest = match places::state(state.folder.as_deref()).map(|state| trail::latest(&state, |_| {})) {
        Ok(Ok(Some(latest))) => latest,
        Ok(Ok(None)) | Err(_) => return HashMap::new(),
        Ok(Err(error)) => return unread(&with_causes(&error)),
    };
    let open: HashMap<ProcessId, OpenSuspension> = latest.in_force.suspensions().collect();
    let tell = |process: &Process| {
        let held = open.get(&process.id)?;
        let case = held.case.map(|case| format!(", case {case}")).unwrap_or_default();
        let rule = match &held.rule {
            Some(rule) => format!(" by the rule {rule}"),
            None => format!(" by {} by hand", held.who),
        };
        Some(format!("suspended by Sophron since {}{rule}{case}", crate::ui::when::date(held.since)))
    };
    snapshot.processes.iter().filter(suspended).filter_map(|process| Some((process.id, tell(process)?))).collect()
}

/// The last samples of a recording before the moment asked for, and since when its figures have been as they are.
pub(super) fn recorded(
    recordings: &Recordings,
    args: &args::Checkup,
    settings: &Settings,
) -> Result<Gathered, Failure> {
    let length = args.length.unwrap_or(RECORDED_LENGTH);
    let mut past = Past::default();
    let (window, told) = recordings.window(length, |snapshot| {
        past.note(snapshot, &settings.limits);
    })?;
    let mut observation = Observation::default();
    for snapshot in &window {
        observation.add(snapshot);
    }
    Ok(Gathered {
        scene: observation.finish(),
        around: Surroundings { recorded: true, privileged: true, past, ..Surroundings::default() },
        zone: Some(recordings.zone().clone()),
        terminal: SortedSet::new(),
        suffix: recordings.suffix().to_owned(),
        notes: told.notes,
    })
}
