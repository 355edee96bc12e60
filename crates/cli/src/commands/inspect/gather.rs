//! What is known of a process: looks at this machine, or at a recording.

use std::path::Path;
use std::time::{Duration, Instant};

use sophron_core::facts::Facts;
use sophron_core::inspect::{self, Answer, Sightings, Wait};
use sophron_core::model::{Cost, Needs, Process, ProcessId, Snapshot};
use sophron_core::state::State;
use sophron_linux::inspect::{self as details, Chain, Details, Followed, Threads};
use sophron_linux::open_files;
use sophron_linux::patience::{beside, within};
use sophron_linux::{Sampler, cgroups, here, roles, terminal};

use super::Inspection;
use crate::args;
use crate::commands::checkup::notes;
use crate::commands::ended::Ended;
use crate::commands::target::{self, Target};
use crate::exit::{Exit, Failure};
use crate::places;
use crate::recordings::Recordings;
use crate::source;
use crate::watcher::rules_file::Guidance;

/// Over how long rates are measured where no answer is asked for.
const LENGTH: Duration = Duration::from_secs(1);
const RECORDED_LENGTH: Duration = Duration::from_secs(300);

/// So many looks, not more often than that.
const LOOKS: u32 = 50;
const OFTENEST: Duration = Duration::from_millis(50);

/// How long a file is waited for that can hang its reader.
const PATIENCE: Duration = Duration::from_millis(40);

/// How long it is looked for who has to answer.
const OTHER_ENDS: Duration = Duration::from_millis(300);

/// Which process of the target: an app's heaviest.
fn choose(target: Target<'_>) -> (Process, Vec<ProcessId>) {
    let members = match &target {
        Target::Process(_) => Vec::new(),
        Target::App(members) => members.iter().map(|member| member.id).collect(),
    };
    (target.heaviest().clone(), members)
}

pub(super) fn live(args: &args::Inspect, guidance: Guidance) -> Result<Inspection, Failure> {
    let failed = |error| Failure::of(Exit::Failed, error);
    let length = args.length.unwrap_or(LENGTH);
    let end = Instant::now() + length;
    let mut sampler = Sampler::new(Path::new("/proc"), Needs::PERIODIC).map_err(failed)?;
    let mut snapshot = Snapshot::default();
    sampler.sample(&mut snapshot).map_err(failed)?;
    // A target that is not there, or not the one meant, is refused before anything is measured.
    let target = target::find(&args.target, &snapshot)?;
    source::measuring(length);
    // A record can be long: it is read while is measured, and hardly waited for.
    let state = places::state(args.state.folder.as_deref()).ok();
    let ended = state.map(|state| beside(move || Ended::of(&state)));
    // The heaviest of an app has used most so far: its rates are not known yet.
    let (mut process, members) = match target {
        Target::App(members) => {
            let ids = members.iter().map(|member| member.id).collect();
            let most = members.iter().max_by_key(|member| (member.cpu_time, member.memory)).copied();
            (most.unwrap_or(members[0]).clone(), ids)
        }
        target => choose(target),
    };
    let pid = process.id.pid;
    let holders = terminal::holders(process.id.boot);
    // Whom it traces takes a look at everybody: that is part of the measuring time.
    let role = roles::role(&process);
    let before = details::details(pid);
    let held_before = process.memory_held;
    let mut threads = Threads::of(pid);
    let began = Instant::now();
    let step = (length / LOOKS).max(OFTENEST);
    let mut gone = false;
    loop {
        let left = end.saturating_duration_since(Instant::now());
        let wait = if left < step * 3 / 2 { left } else { step };
        std::thread::sleep(wait);
        gone = gone || !threads.look();
        if wait == left || gone {
            break;
        }
        source::measuring(end.saturating_duration_since(Instant::now()));
    }
    source::measured();
    let seconds = began.elapsed().as_secs_f64();
    sampler.sample(&mut snapshot).map_err(failed)?;
    match snapshot.find(&process.id) {
        Some(now) => process.clone_from(now),
        None => gone = true,
    }
    let after = details::details(pid);
    let rate = |before: Option<u64>, after: Option<u64>| {
        before.zip(after).map(|(before, after)| (after as f64 - before as f64) / seconds.max(0.001))
    };
    // One that did not run was not read again by the sampler; its counters were.
    let pair = before.disk.zip(after.disk);
    let of = |counter: fn((u64, u64)) -> u64| rate(pair.map(|pair| counter(pair.0)), pair.map(|pair| counter(pair.1)));
    (process.disk_read, process.disk_write) =
        (of(|disk| disk.0).map(|rate| rate as f32), of(|disk| disk.1).map(|rate| rate as f32));
    if !gone {
        sampler.read_costly(&mut process, Needs::NONE.with(Cost::Rollup), PATIENCE);
    }
    let sightings = Sightings {
        moved: rate(before.moved, after.moved).map(|rate| rate.max(0.0)),
        growth: rate(held_before, process.memory_held),
        frozen: process.state == State::Frozen || cgroups::is_frozen(pid),
        ..threads.finish()
    };
    let doing = if args.length.is_some() && !gone { inspect::judge(&sightings) } else { None };
    // A file on a disk that does not answer hangs whoever asks for its size.
    let files = within(PATIENCE, move || open_files::of(pid)).flatten();
    let followed = doing.as_ref().map(|doing| follow(&doing.answer, pid, &snapshot)).unwrap_or_default();
    let doing = if followed.deadlocked { doing.map(inspect::Doing::deadlocked) } else { doing };
    let protections = guidance.protections_now(&snapshot, holders);
    let protected = protections.reason(&Facts::new(&process, &snapshot.machine));
    let of_a_user = process.unit_of().is_some_and(|unit| unit.is_a_claim());
    let unit = process.unit.clone().unwrap_or_default();
    Ok(Inspection {
        family: inspect::family(&snapshot, &process),
        doing,
        details: after,
        files,
        followed,
        lever: Some(details::lever(pid)),
        restart: details::restart(Path::new("/"), &unit, of_a_user),
        group: cgroups::memory(pid),
        protected,
        role,
        note: notes(&snapshot, &args.state).remove(&process.id),
        ended_before: ended.and_then(|ended| ended.within(PATIENCE)?.before(&process)),
        gone,
        unmasked: if args.unmasked { sophron_linux::inspect::command_line(&process.id) } else { None },
        sightings,
        process,
        members,
        snapshot,
        zone: None,
        recorded: false,
        guidance,
        standings: Default::default(),
        suffix: String::new(),
    })
}

/// What exactly it waits for, and who has to answer in the end.
fn follow(answer: &Answer, pid: u32, snapshot: &Snapshot) -> Followed {
    let (Answer::Waiting(wait) | Answer::Stuck(Some(wait))) = answer else { return Followed::default() };
    if *wait == Wait::Core {
        return Followed::default();
    }
    let alive = snapshot.processes.iter().filter(|process| !process.has_ended());
    let processes: Vec<(u32, u32)> = alive.map(|process| (process.id.pid, process.parent)).collect();
    let name = |pid: u32| snapshot.process(pid).map_or(format!("process {pid}"), Process::label);
    let chain = Chain { processes: &processes, name: &name, give_up: Instant::now() + OTHER_ENDS };
    details::follow(pid, pid, &chain)
}

pub(super) fn recorded(
    recordings: &Recordings,
    args: &args::Inspect,
    guidance: Guidance,
) -> Result<Inspection, Failure> {
    let length = args.length.unwrap_or(RECORDED_LENGTH);
    let (window, told) = recordings.window(length, |_| {})?;
    for note in told.notes {
        crate::ui::err(format_args!("sophron: {note}\n"));
    }
    let length = window.iter().filter_map(|snapshot| snapshot.interval).sum();
    // A recording without a sample was refused when it was read.
    let snapshot = window.back().cloned().unwrap_or_default();
    let (process, members) = choose(target::find(&args.target, &snapshot)?);
    let cpu = window.iter().filter_map(|snapshot| snapshot.process(process.id.pid)?.cpu).collect();
    let sightings = Sightings { length, cpu, ..Sightings::default() };
    let protections = guidance.protections_of_a_recording(recordings.recorder());
    let protected = protections.reason(&Facts::new(&process, &snapshot.machine));
    Ok(Inspection {
        family: inspect::family(&snapshot, &process),
        process,
        members,
        zone: Some(recordings.zone().clone()),
        recorded: true,
        sightings,
        doing: None,
        details: Details::default(),
        files: None,
        followed: Followed::default(),
        lever: None,
        restart: None,
        group: None,
        protected,
        role: None,
        note: None,
        ended_before: None,
        gone: false,
        unmasked: None,
        guidance,
        standings: Default::default(),
        suffix: recordings.suffix().to_owned(),
        snapshot,
    })
}

/// Whether Sophron may read everything.
pub(super) fn is_privileged() -> bool {
    here::is_privileged()
}
