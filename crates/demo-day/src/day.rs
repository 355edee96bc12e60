//! The day as it passes: every program at every sample.

use std::sync::Arc;
use std::time::Duration;

use jiff::civil::Time;
use jiff::tz::TimeZone;
use sophron_core::model::{
    Boot, CpuSplit, DiskUse, Machine, Moment, Names, Origin, Process, ProcessId, Snapshot, Stall,
};
use sophron_core::recording::{FORMAT, Header, Ours, Writer};
use sophron_core::state::State;

use crate::StoryError;
use crate::random::Random;
use crate::story::{Event, Program, Story, What};

const BOOT: Boot = Boot(0x6d6f_7373_6761_7465_0000_0000_0000_0003);
const MIB: f64 = 1024.0 * 1024.0;
/// The machine was started ten minutes before the day begins.
const UP: Duration = Duration::from_secs(600);

/// A process of the story.
struct Actor<'s> {
    program: &'s Program,
    process: Process,
    base: f64,
    held: f64,
    grown: f64,
}

struct Day<'s> {
    story: &'s Story,
    random: Random,
    actors: Vec<Actor<'s>>,
    workers: Vec<(Process, u32)>,
    kernel: Vec<Process>,
    next_pid: u32,
    load: [f64; 3],
}

/// All samples as the lines of a recording.
pub fn record(story: &Story) -> Result<String, StoryError> {
    let fail = |error: &dyn std::fmt::Display| StoryError(error.to_string());
    let zone = TimeZone::get(&story.zone).map_err(|error| fail(&error))?;
    let begin = story.begin.to_zoned(zone.clone()).map_err(|error| fail(&error))?.timestamp();
    let end = story.end.to_zoned(zone.clone()).map_err(|error| fail(&error))?.timestamp();
    let header = Header {
        sophron: "recording".to_owned(),
        format: FORMAT,
        host: story.host.clone(),
        boot: BOOT.to_string(),
        every: story.every as f64,
        begun: begin,
        zone: Some(story.zone.clone()),
        uid: 0,
    };
    let mut day = Day::new(story);
    let mut writer = Writer::new(header);
    let mut lines = String::new();
    let every = Duration::from_secs(story.every);
    let mut moment = Moment { wall: begin, monotonic: UP, boottime: UP };
    while moment.wall <= end {
        let now = moment.wall.to_zoned(zone.clone()).time();
        let nap = story.event.iter().find(|event| event.what == What::Nap && is_on(event, now));
        if let Some(nap) = nap {
            let left = nap.until.duration_since(now).unsigned_abs();
            moment.wall = moment.wall.checked_add(left).map_err(|error| fail(&error))?;
            moment.boottime += left;
            continue;
        }
        let snapshot = day.pass(moment, now, every);
        lines.push_str(&writer.line(&snapshot, |_| true, Ours::default()).map_err(|error| fail(&error))?);
        moment.wall = moment.wall.checked_add(every).map_err(|error| fail(&error))?;
        moment.monotonic += every;
        moment.boottime += every;
    }
    Ok(lines)
}

fn is_on(event: &Event, now: Time) -> bool {
    event.from <= now && now < event.until
}

impl<'s> Day<'s> {
    fn new(story: &'s Story) -> Day<'s> {
        let mut day = Day {
            story,
            random: Random(story.seed),
            actors: Vec::new(),
            workers: Vec::new(),
            kernel: Vec::new(),
            next_pid: 1,
            load: [0.4; 3],
        };
        let first = &story.program[..1.min(story.program.len())];
        for program in first {
            day.start(program, UP);
        }
        day.kernel = (0..story.kernel_threads).map(|number| day.kernel_thread(number)).collect();
        for program in &story.program[first.len()..] {
            if program.from.is_none() {
                for _ in 0..program.count {
                    day.start(program, UP);
                }
            }
        }
        day
    }

    fn id(&mut self, boottime: Duration) -> ProcessId {
        let pid = self.next_pid;
        self.next_pid += 1 + (self.random.unit() * 6.0) as u32;
        // Those that were there before the day came up in the order of their PIDs.
        let started = if boottime == UP { u64::from(pid) * 8 } else { boottime.as_millis() as u64 / 10 };
        ProcessId { pid, start: started, boot: BOOT }
    }

    fn kernel_thread(&mut self, number: u32) -> Process {
        let names = ["threadbed", "softsoil", "pagemulch", "diskroot", "timerfern", "netmoss"];
        let id = self.id(UP);
        let name = format!("{}/{}", names[number as usize % names.len()], number / names.len() as u32);
        let names = Names {
            name: name.clone(),
            app: name,
            owner: "root".to_owned(),
            person: None,
            origin: Some(Origin::Kernel),
            unit: Some(String::new()),
            group: Some("/".to_owned()),
            ..Names::default()
        };
        Process {
            names: Arc::new(names),
            parent: if number == 0 { 0 } else { 2 },
            uid: 0,
            state: State::Idle,
            kernel: true,
            memory: Some(0),
            memory_held: Some(0),
            memory_swapped: Some(0),
            memory_virtual: Some(0),
            waited: Some(0.0),
            disk_read: Some(0.0),
            disk_write: Some(0.0),
            faults: Some(0.0),
            threads: 1,
            age: UP,
            ..Process::unread(id)
        }
    }

    fn start(&mut self, program: &'s Program, boottime: Duration) {
        let id = self.id(boottime);
        let process = person(program, &program.app, id, self.parent_of(program), boottime);
        let base = program.memory.0 as f64 * self.random.between(0.85, 1.15);
        self.actors.push(Actor { program, process, base, held: base, grown: 0.0 });
    }

    /// The first of a family is its parent; the desktop's shell starts what runs on the desktop.
    fn parent_of(&self, program: &Program) -> u32 {
        let first =
            |app: &str| self.actors.iter().find(|actor| actor.process.app == app).map(|actor| actor.process.id.pid);
        let shell = if program.unit.starts_with("app-") { first("fernpanel") } else { None };
        first(&program.app).or(shell).unwrap_or(if self.actors.is_empty() { 0 } else { 1 })
    }

    /// One sample.
    fn pass(&mut self, moment: Moment, now: Time, every: Duration) -> Snapshot {
        self.come_and_go(moment.boottime, now);
        let events: Vec<&Event> = self.story.event.iter().filter(|event| is_on(event, now)).collect();
        let mut total = 0.0;
        for at in 0..self.actors.len() {
            total += self.act(at, &events, now, every);
        }
        total += self.swarm(&events, moment.boottime, every);
        let machine = self.machine(total, &events, moment);
        let mut processes: Vec<Process> = self.actors.iter().map(|actor| actor.process.clone()).collect();
        processes.extend(self.workers.iter().map(|(worker, _)| worker.clone()));
        processes.extend(self.kernel.iter().cloned());
        for process in &mut processes {
            process.age = moment.boottime.saturating_sub(Duration::from_millis(process.id.start * 10));
        }
        processes.sort_by_key(|process| process.id.pid);
        Snapshot { moment, interval: Some(every), machine, processes }
    }

    fn come_and_go(&mut self, boottime: Duration, now: Time) {
        self.actors.retain(|actor| actor.program.until.is_none_or(|until| now < until));
        for program in &self.story.program {
            let due = program.from.is_some_and(|from| from <= now) && program.until.is_none_or(|until| now < until);
            if due && !self.actors.iter().any(|actor| std::ptr::eq(actor.program, program)) {
                for _ in 0..program.count {
                    self.start(program, boottime);
                }
            }
        }
    }

    /// One program for one interval; what it used, percent of one core.
    fn act(&mut self, at: usize, events: &[&Event], now: Time, every: Duration) -> f64 {
        let random = &mut self.random;
        let first_of_its_kind = !self.actors[..at].iter().any(|other| other.program.app == self.actors[at].program.app);
        let actor = &mut self.actors[at];
        let mine =
            |event: &&&Event| event.app == actor.program.app && (first_of_its_kind || event.what == What::Squeeze);
        let mut cpu = 0.0;
        if random.chance(actor.program.active * rhythm(now)) {
            cpu = actor.program.cpu * random.between(0.4, 1.7);
        }
        let mut target = actor.base;
        for event in events.iter().filter(mine) {
            match event.what {
                What::Busy | What::Burst => cpu = event.cpu * random.between(0.9, 1.08),
                What::Spin => cpu = event.cpu * random.between(0.99, 1.01),
                What::Leak => {
                    let per_minute = event.per_minute.map_or(0.0, |size| size.0 as f64);
                    actor.grown += per_minute * every.as_secs_f64() / 60.0 * random.between(0.6, 1.4);
                    cpu = cpu.max(actor.program.cpu * random.between(1.0, 3.0));
                }
                What::Swarm | What::Squeeze | What::Nap => {}
            }
            target = event.memory.map_or(target, |size| size.0 as f64);
        }
        target += actor.grown;
        let active = cpu > 0.05;
        if active || (actor.held - target).abs() > 2.0 * MIB {
            actor.held += (target - actor.held) * 0.12 + random.between(-0.1, 0.1) * MIB;
        }
        let process = &mut actor.process;
        let cpu = (cpu * 10.0).round() / 10.0;
        process.cpu = Some(cpu);
        process.cpu_time += Duration::from_millis((every.as_secs_f64() * cpu * 10.0).round() as u64);
        process.waited = Some(0.0);
        // The kernel counts pages, and nobody looks closer than a quarter of a MiB.
        let held = ((actor.held / MIB * 4.0).round() / 4.0 * MIB) as u64;
        process.memory_held = Some(held);
        process.memory = Some(held + (actor.base * 0.3 / MIB).round() as u64 * MIB as u64);
        // What is resident is a part of the address space.
        process.memory_virtual = process.memory_virtual.max(process.memory.map(|memory| memory + memory / 8));
        process.disk_read =
            Some(if active { (actor.program.disk_read() * random.between(0.8, 1.15)) as f32 } else { 0.0 });
        process.state = if cpu > 60.0 { State::Running } else { State::Sleeping };
        cpu
    }

    /// Many short workers below one parent: some are seen, most are not.
    fn swarm(&mut self, events: &[&Event], boottime: Duration, every: Duration) -> f64 {
        for (_, left) in &mut self.workers {
            *left -= 1;
        }
        self.workers.retain(|(_, left)| *left > 0);
        let Some(event) = events.iter().find(|event| event.what == What::Swarm) else {
            self.workers.clear();
            return 0.0;
        };
        let Some(parent) = self.actors.iter().position(|actor| actor.program.app == event.app) else { return 0.0 };
        let unseen = event.cpu * self.random.between(0.55, 0.75);
        self.actors[parent].process.waited = Some((unseen * 10.0).round() as f32 / 10.0);
        let program = self.actors[parent].program;
        let parent_pid = self.actors[parent].process.id.pid;
        let mut seen = 0.0;
        // PIDs are used up by workers that nobody sees.
        self.next_pid += 40;
        for (worker, _) in &mut self.workers {
            worker.cpu = Some(0.0);
        }
        for _ in 0..(self.random.between(3.0, 7.0) as u32) {
            let id = self.id(boottime.saturating_sub(every / 2));
            let mut worker = person(program, &event.worker, id, parent_pid, boottime);
            let cpu = (self.random.between(3.0, 14.0) * 10.0).round() / 10.0;
            worker.cpu = Some(cpu);
            worker.cpu_time = Duration::from_millis((every.as_secs_f64() * cpu * 10.0) as u64);
            worker.memory = Some(((self.random.between(9.0, 30.0)).round() * MIB) as u64);
            worker.memory_virtual = worker.memory_virtual.max(worker.memory);
            worker.memory_held = worker.memory.map(|memory| memory * 3 / 4);
            seen += cpu;
            self.workers.push((worker, 1 + (self.random.unit() * 2.0) as u32));
        }
        seen + unseen
    }

    fn machine(&mut self, total: f64, events: &[&Event], moment: Moment) -> Machine {
        let cores = f64::from(self.story.cores);
        let used: u64 = self.actors.iter().filter_map(|actor| actor.process.memory).sum();
        let memory = self.story.memory.0;
        // A part of what is resident is shared, and the kernel takes its own.
        let used = (used as f64 * 0.82) as u64 + memory / 14;
        let available = memory.saturating_sub(used).max(190 * MIB as u64);
        let short = available < memory / 10;
        let squeeze = events.iter().any(|event| event.what == What::Squeeze) && short;
        let copying = self.actors.iter().any(|actor| actor.process.disk_read.unwrap_or(0.0) > 20e6);
        for (load, minutes) in self.load.iter_mut().zip([1.0, 5.0, 15.0]) {
            let keep = (-(self.story.every as f64) / 60.0 / minutes).exp();
            *load = *load * keep + (total / 100.0 + if copying { 1.0 } else { 0.0 }) * (1.0 - keep);
        }
        let random = &mut self.random;
        let tenth = |value: f64| (value * 10.0).round() / 10.0;
        let stall = |share: f64| Stall { ten_seconds: tenth(share), ..Stall::default() };
        let disk = DiskUse {
            name: "mossdisk".to_owned(),
            busy: tenth(if copying {
                random.between(88.0, 96.0)
            } else if squeeze {
                random.between(52.0, 83.0)
            } else {
                random.between(0.2, 3.0)
            }),
            answer: Some(Duration::from_micros(if copying || squeeze { 21_400 } else { 800 })),
        };
        let cpu = (total / cores + random.between(0.5, 1.5)).min(100.0);
        let kernel = random.between(0.12, 0.2);
        let split = CpuSplit { user: cpu * (1.0 - kernel), kernel: cpu * kernel, ..CpuSplit::default() };
        let mut load = self.load.map(|load| (load * 100.0).round() / 100.0);
        load.iter_mut().for_each(|load| *load = load.max(0.0));
        Machine {
            host: self.story.host.clone(),
            boot: BOOT,
            cores: self.story.cores,
            cpu: Some(tenth(cpu)),
            core_fullest: Some(tenth((total.min(100.0) * random.between(0.9, 1.0)).max(cpu).min(100.0))),
            iowait: Some(tenth(if copying {
                random.between(19.0, 26.0)
            } else if squeeze {
                random.between(6.0, 22.0)
            } else {
                random.between(0.0, 0.6)
            })),
            load: Some(load),
            memory_total: memory,
            memory_available: Some(available / (1 << 20) * (1 << 20)),
            swap_used: Some(if short { self.story.swap.0 / 3 } else { self.story.swap.0 / 20 } / (1 << 20) * (1 << 20)),
            swap_traffic: Some(if squeeze { (random.between(4.0, 18.0) * MIB).round() } else { 0.0 }),
            stall_cpu: Some(stall(if cpu > 85.0 { random.between(20.0, 45.0) } else { random.between(0.0, 1.5) })),
            stall_memory: Some(stall(if squeeze { random.between(8.0, 27.0) } else { 0.0 })),
            stall_io: Some(stall(if copying {
                random.between(24.0, 36.0)
            } else if squeeze {
                random.between(10.0, 25.0)
            } else {
                random.between(0.0, 0.8)
            })),
            disk_busy: Some(disk.busy),
            disk_answer: disk.answer,
            running: Some((total / 100.0).round() as u32),
            blocked: Some(u32::from(copying)),
            split: Some(split),
            disks: vec![disk],
            files_full: Some(71.4),
            uptime: moment.boottime,
            ..Machine::default()
        }
    }
}

/// More is done in the middle of the morning and of the afternoon than at noon and in the evening.
pub(crate) fn rhythm(now: Time) -> f64 {
    let hour = f64::from(now.hour()) + f64::from(now.minute()) / 60.0;
    let hill = |at: f64| (-(hour - at).powi(2) / 4.0).exp();
    0.35 + 0.8 * hill(9.8) + 0.7 * hill(14.6)
}

/// The user ID of a person of the story.
pub(crate) fn uid_of(owner: &str) -> u32 {
    match owner {
        "ines" => 1001,
        "tomas" => 1002,
        "kiosk" => 1003,
        _ => 0,
    }
}

fn person(program: &Program, app: &str, id: ProcessId, parent: u32, boottime: Duration) -> Process {
    let uid = uid_of(&program.owner);
    let (slice, origin) = match uid {
        0 | 1003 => ("/system.slice".to_owned(), Origin::Service),
        _ if program.unit.starts_with("app-") => {
            (format!("/user.slice/user-{uid}.slice/user@{uid}.service/app.slice"), Origin::Desktop)
        }
        _ => ("/system.slice".to_owned(), Origin::Service),
    };
    let path = format!("/opt/mossgate/{app}");
    let names = Names {
        name: app.chars().take(15).collect(),
        app: app.to_owned(),
        command_unread: false,
        app_rests_on: sophron_core::model::Basis::Proof,
        path_rests_on: sophron_core::model::Basis::Proof,
        replaced: false,
        command: Some(path.clone()),
        unmasked: None,
        path: Some(path),
        owner: program.owner.clone(),
        person: None,
        tty: String::new(),
        group: Some(format!("{slice}/{}", program.unit)),
        unit: Some(program.unit.clone()),
        origin: Some(origin),
    };
    Process {
        names: Arc::new(names),
        parent,
        uid,
        session: id.pid,
        memory_swapped: Some(0),
        memory_virtual: Some(program.memory.0 * 4),
        waited: Some(0.0),
        disk_read: Some(0.0),
        disk_write: Some(0.0),
        faults: Some(0.0),
        threads: program.threads,
        age: boottime,
        ..Process::unread(id)
    }
}
