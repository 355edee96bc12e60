//! What is told of a process, section by section: a word for the margin, and its lines.

use std::time::Duration;

use sophron_core::act::Lever;
use sophron_core::condition::Truth;
use sophron_core::facts::Facts;
use sophron_core::inspect::{ThreadSeen, ancestors};
use sophron_core::model::Process;
use sophron_core::order::InOrder;
use sophron_core::state::State;
use sophron_core::text::{children, counted};
use sophron_core::units::{Value, scaled_duration, scaled_percent, scaled_size};
use sophron_linux::open_files::{FileKind, OpenFile};

use super::{Inspection, gather};
use crate::commands::ended::often;
use crate::ui::when;

/// Threads that use at least that much are worth naming, percent of one core.
const WORTH_NAMING: f64 = 1.0;

/// Near a limit is from that share of it on.
const NEAR: f64 = 0.8;

pub(super) type Section = (&'static str, Vec<String>);

/// All sections in their order; those with nothing to tell are left out.
pub(super) fn all(seen: &Inspection) -> Vec<Section> {
    let sections = vec![
        ("is", identity(seen)),
        ("started", started(seen)),
        ("family", family(seen)),
        ("memory", memory(seen)),
        ("cpu", cpu(seen)),
        ("threads", threads(seen)),
        ("disk", disk(seen)),
        ("files", files(seen)),
        ("limits", limits(seen)),
        ("lowering", lowering(seen)),
        ("suspended", suspended(seen)),
        ("protected", protected(seen)),
        ("again", again(seen)),
        ("rules", rules(seen)),
        ("not read", unread(seen)),
    ];
    sections.into_iter().filter(|(_, lines)| !lines.is_empty()).collect()
}

fn size(bytes: u64) -> String {
    scaled_size(bytes as f64)
}

fn rate(rate: f32) -> String {
    Value::Rate(f64::from(rate)).scaled()
}

/// To the second: nobody needs to know more of an age.
fn age(age: Duration) -> String {
    scaled_duration(Duration::from_secs(age.as_secs()))
}

fn identity(seen: &Inspection) -> Vec<String> {
    let process = &seen.process;
    let mut lines = Vec::new();
    let login = seen.details.login_uid.filter(|login| *login != process.uid);
    let login = login.map(|login| format!(", logged in as user {login}")).unwrap_or_default();
    let kind = if process.kernel { "a kernel thread" } else { "a process" };
    let state = if process.threads > 1 { "its main thread " } else { "" };
    lines.push(format!("{kind} of {} (user {}{login}), {state}{}", process.owner, process.uid, process.state.word()));
    lines.push(match &process.path {
        Some(path) => {
            let proof = match (process.path_proven(), process.replaced) {
                (_, true) => "replaced on disk since it started",
                (true, _) => "proven: that very file runs",
                (false, _) => {
                    "not proven: others than root can put another file there, or it sees other disks than we do"
                }
            };
            let proof = if seen.recorded && !process.path_proven() { "not proven in this recording" } else { proof };
            format!("runs {path} ({proof})")
        }
        None if process.kernel => "runs no file: it is a part of the kernel".to_owned(),
        None => "which file it runs may not be read; its name is its own account".to_owned(),
    });
    match (&seen.unmasked, &process.command) {
        (Some(command), _) => lines.push(format!("command {command}")),
        (None, Some(command)) if command.is_empty() => {}
        (None, Some(command)) => {
            let masked = if command.contains("***") { " (secrets masked; --unmasked shows them)" } else { "" };
            lines.push(format!("command {command}{masked}"));
        }
        (None, None) => {}
    }
    lines.extend(seen.details.folder.as_ref().map(|folder| format!("in the folder {folder}")));
    lines
}

fn started(seen: &Inspection) -> Vec<String> {
    let process = &seen.process;
    let now = seen.snapshot.moment.wall;
    let at = jiff::SignedDuration::try_from(process.age).ok().and_then(|age| now.checked_sub(age).ok()).unwrap_or(now);
    let chain: Vec<String> = ancestors(&seen.snapshot, process).iter().map(|parent| parent.label()).collect();
    let mut lines = vec![format!("{}, {} ago", when::clock_or_date(at, now, seen.zone.as_ref()), age(process.age))];
    lines.push(match chain.is_empty() {
        true => "by nobody that is still there or to be seen".to_owned(),
        false => format!("by {}", chain.join(", from ")),
    });
    let origin = process.origin.map(|origin| origin.word());
    match process.unit.as_deref().filter(|unit| !unit.is_empty()) {
        Some(unit) => lines.push(format!("in the unit {unit} ({})", origin.unwrap_or("other"))),
        None => lines.push(format!("in no unit of a service manager ({})", origin.unwrap_or("control group unknown"))),
    }
    let tty = if process.tty.is_empty() {
        "without a terminal".to_owned()
    } else {
        format!("on the terminal {}", process.tty)
    };
    let leader = seen.snapshot.process(process.session).filter(|leader| leader.id != process.id);
    let leader = leader.map(|leader| format!(", which {} leads", leader.label())).unwrap_or_default();
    lines.push(match process.session {
        0 => format!("in a session that began outside of what is seen here, {tty}"),
        session => format!("in the session {session}{leader}, {tty}"),
    });
    lines
}

fn family(seen: &Inspection) -> Vec<String> {
    let family = &seen.family;
    let mut lines = Vec::new();
    match family.descendants {
        0 => lines.push("no children".to_owned()),
        all => {
            let apps: Vec<String> = family.apps.iter().take(4).map(|(app, count)| format!("{count} {app}")).collect();
            let more = family.apps.len().saturating_sub(4);
            let more = if more > 0 { format!(" and {more} more apps") } else { String::new() };
            let children = children(family.children);
            lines.push(format!("{children}, in all {all} below it: {}{more}", apps.join(", ")));
        }
    }
    if family.ends_with_it.is_empty() && family.goes_on.is_none() {
        lines.push("nothing else ends with it".to_owned());
    }
    lines.extend(family.goes_on.clone());
    lines.extend(family.ends_with_it.iter().map(|what| format!("with it ends {what}")));
    lines.extend((family.uncollected > 0).then(|| {
        format!("{} of them ended already: it has not collected them, and they go with it", family.uncollected)
    }));
    lines
}

fn memory(seen: &Inspection) -> Vec<String> {
    let process = &seen.process;
    if process.kernel || process.has_ended() {
        return vec!["none of its own".to_owned()];
    }
    let mut lines = Vec::new();
    if let Some(held) = process.memory_held {
        let parts: Vec<String> = [
            ("anonymous", seen.details.anonymous),
            ("shared", seen.details.shared),
            ("swapped out", process.memory_swapped),
        ]
        .iter()
        .filter_map(|(name, bytes)| bytes.map(|bytes| format!("{name} {}", size(bytes))))
        .collect();
        let parts = if seen.details.anonymous.is_none() { String::new() } else { format!(" = {}", parts.join(" + ")) };
        lines.push(format!("held {}{parts}: what a leak keeps; rules look at this one", size(held)));
        lines.extend(growth(seen));
    }
    if let Some(resident) = process.memory {
        let share = scaled_percent(seen.snapshot.machine.share_of_memory(resident));
        let file = seen.details.file.map(|file| format!(", {} of it files it maps, which it may share", size(file)));
        lines.push(format!(
            "resident {}, {share} of RAM{}: what it has in RAM now",
            size(resident),
            file.unwrap_or_default()
        ));
    }
    if let Some(private) = process.memory_private {
        lines.push(format!("private {}: what its end would free", size(private)));
    }
    if let Some(proportional) = process.memory_proportional {
        lines.push(format!(
            "proportional {}: with its part of what it shares; the one to add up over a family",
            size(proportional)
        ));
    }
    if let Some(all) = process.memory_virtual {
        lines.push(format!("virtual {}: address space, says little", size(all)));
    }
    let peak = seen.details.peak.map(|peak| format!("at most so far {}", size(peak)));
    let locked = seen.details.locked.map(|locked| format!("locked in RAM {}", size(locked)));
    let rest: Vec<String> = [peak, locked].into_iter().flatten().collect();
    if !rest.is_empty() {
        lines.push(rest.join("; "));
    }
    lines
}

/// `growing by 9.04 MiB/s`, where what it holds changes.
pub(super) fn growth(seen: &Inspection) -> Option<String> {
    let growth = seen.sightings.growth.filter(|growth| growth.abs() >= 64.0 * 1024.0)?;
    let which = if growth > 0.0 { "growing" } else { "shrinking" };
    Some(format!("{which} by {}", Value::Rate(growth.abs()).scaled()))
}

fn cpu(seen: &Inspection) -> Vec<String> {
    let process = &seen.process;
    let life = process.age.as_secs_f64();
    let mean = if life >= 1.0 { 100.0 * process.cpu_time.as_secs_f64() / life } else { 0.0 };
    let now = process.cpu.map_or("now unknown".to_owned(), |cpu| {
        let over = scaled_duration(seen.snapshot.interval.unwrap_or_default());
        format!("now {} of a core (over {over})", scaled_percent(cpu))
    });
    let since = scaled_duration(process.cpu_time);
    let mut lines = vec![format!("{now}; since its start {since}, {} of a core on average", scaled_percent(mean))];
    if let Some(waited) = process.waited.filter(|waited| *waited >= 1.0) {
        lines.push(format!(
            "{} of a core more by children too short-lived to be seen",
            scaled_percent(f64::from(waited))
        ));
    }
    let policy = seen.details.policy.map(|policy| format!("; scheduled as {policy}")).unwrap_or_default();
    if process.nice != 0 || !policy.is_empty() {
        lines.push(format!("nice {} (higher gives way to the others){policy}", process.nice));
    }
    lines
}

fn threads(seen: &Inspection) -> Vec<String> {
    let threads = &seen.sightings.threads;
    if threads.is_empty() {
        return vec![counted(seen.process.threads, "thread")];
    }
    let worth: Vec<&ThreadSeen> =
        threads.iter().filter(|thread| thread.cpu.is_some_and(|cpu| cpu >= WORTH_NAMING)).collect();
    let over = scaled_duration(seen.sightings.length);
    let all = seen.process.threads.max(threads.len() as u32);
    let mut lines = Vec::new();
    lines.push(match (all, worth.len()) {
        (1, _) => "1 thread".to_owned(),
        (all, 0) => format!(
            "{}, none of which used {} of a core over {over}",
            counted(all, "thread"),
            scaled_percent(WORTH_NAMING)
        ),
        (all, busy) => format!("{}, {busy} of them busy over {over}:", counted(all, "thread")),
    });
    if all > 1 || seen.doing.is_some() {
        let mut named = worth;
        named.order_by(|a, b| b.cpu.unwrap_or(0.0).total_cmp(&a.cpu.unwrap_or(0.0)));
        lines.extend(named.iter().take(6).map(|thread| thread_line(thread)));
        if named.len() > 6 {
            lines.push(format!("and {} more", named.len() - 6));
        }
    }
    lines
}

fn thread_line(thread: &ThreadSeen) -> String {
    let cpu = thread.cpu.map_or("cpu unknown".to_owned(), |cpu| format!("cpu {} of a core", scaled_percent(cpu)));
    let wait =
        thread.waits.first().map(|(wait, looks)| format!("; at {looks} of {} looks waiting for {wait}", thread.looks));
    format!("{} {}: {cpu}, {}{}", thread.tid, thread.name, thread.state.word(), wait.unwrap_or_default())
}

fn disk(seen: &Inspection) -> Vec<String> {
    let process = &seen.process;
    let mut lines = Vec::new();
    if let (Some(read), Some(written)) = (process.disk_read, process.disk_write) {
        lines.push(format!("reads {}, writes {}", rate(read), rate(written)));
    }
    if let Some((read, written)) = seen.details.disk {
        lines.push(format!("since its start it read {} and wrote {}", size(read), size(written)));
    }
    if let Some(faults) = process.faults.filter(|faults| *faults >= 1.0) {
        lines.push(format!("{faults:.0} page faults a second waited for a disk: it is short of memory, or starting"));
    }
    lines
}

fn files(seen: &Inspection) -> Vec<String> {
    let Some(files) = &seen.files else { return Vec::new() };
    let count = |kind: FileKind| files.iter().filter(|file| file.kind == kind).count();
    let kinds = [
        (count(FileKind::Plain), "plain files"),
        (count(FileKind::Pipe), "pipes"),
        (count(FileKind::Socket), "connections"),
        (count(FileKind::Device), "devices"),
    ];
    let kinds: Vec<String> =
        kinds.iter().filter(|(count, _)| *count > 0).map(|(count, name)| format!("{name} {count}")).collect();
    let kinds = if kinds.is_empty() { String::new() } else { format!(": {}", kinds.join(", ")) };
    let mut lines = vec![format!("{} open{kinds}", files.len())];
    let mut largest: Vec<&OpenFile> =
        files.iter().filter(|file| file.kind == FileKind::Plain && file.size > 0).collect();
    largest.order_by_key(|file| std::cmp::Reverse(file.size));
    let line = |file: &&OpenFile| {
        let deleted = if file.deleted { " (deleted, and held until it closes it)" } else { "" };
        format!("{} {}{deleted}", size(file.size), file.name)
    };
    lines.extend(largest.iter().take(3).map(line));
    let hidden: Vec<&&OpenFile> = largest.iter().skip(3).filter(|file| file.deleted).collect();
    if !hidden.is_empty() {
        let bytes = hidden.iter().map(|file| file.size).fold(0, u64::saturating_add);
        lines.push(format!("and {} more deleted files with {}", hidden.len(), size(bytes)));
    }
    lines
}

fn limits(seen: &Inspection) -> Vec<String> {
    let mut lines = Vec::new();
    let near = |used: u64, limit: u64| limit > 0 && used as f64 >= limit as f64 * NEAR;
    let open = seen.files.as_ref().map(|files| files.len() as u64);
    if let Some((open, limit)) = open.zip(seen.details.open_files_limit).filter(|(open, limit)| near(*open, *limit)) {
        lines.push(format!("near its limit of open files: {open} of {limit}; the next ones may fail"));
    }
    if let Some((all, limit)) =
        seen.process.memory_virtual.zip(seen.details.address_limit).filter(|(all, limit)| near(*all, *limit))
    {
        lines.push(format!("near its limit of address space: {} of {}", size(all), size(limit)));
    }
    let used = seen.process.cpu_time.as_secs();
    if let Some(limit) = seen.details.cpu_limit.filter(|limit| near(used, *limit)) {
        lines.push(format!("near its limit of CPU time: {used} of {limit} s; the kernel ends it there"));
    }
    if let Some(group) = &seen.group {
        let word = if near(group.used, group.limit) { "near the memory limit" } else { "under the memory limit" };
        lines.push(format!(
            "{word} of the control group {}: {} of {}",
            group.group,
            size(group.used),
            size(group.limit)
        ));
    }
    if let Some(score) = seen.details.end_score.filter(|score| *score >= 1000) {
        lines.push(format!("when memory runs out the kernel ends it early (score {score} of 2000)"));
    }
    if lines.is_empty() && !seen.recorded {
        lines.push("near none".to_owned());
    }
    lines
}

fn lowering(seen: &Inspection) -> Vec<String> {
    if seen.process.kernel || seen.process.has_ended() {
        return Vec::new();
    }
    let line = match &seen.lever {
        Some(Lever::Nice) => "niceness works here: it shares its scheduling group with the others".to_owned(),
        Some(Lever::Weight { group, .. }) => {
            format!(
                "the CPU weight of its control group {group} works here; plain niceness acts only against that group's own processes"
            )
        }
        Some(Lever::SessionGroup { group }) => {
            let session = seen.process.session;
            let others =
                seen.snapshot.processes.iter().filter(|other| other.session == session && other.id != seen.process.id);
            let others = match others.count() {
                0 => "nobody else is in it".to_owned(),
                1 => "1 other process is in it".to_owned(),
                many => format!("{many} other processes are in it"),
            };
            format!(
                "the kernel groups it by session ({group}): plain niceness acts only inside that session, the session's own value against the others; {others}"
            )
        }
        None => return Vec::new(),
    };
    vec![line]
}

fn suspended(seen: &Inspection) -> Vec<String> {
    match (&seen.note, seen.process.state) {
        (Some(note), _) => vec![note.clone()],
        (None, State::Suspended) if seen.recorded => vec!["since when and by whom is not in this recording".to_owned()],
        (None, State::Suspended) => {
            vec!["not by Sophron, as far as its record tells: by a person or a program; since when, the kernel does not keep".to_owned()]
        }
        _ => seen
            .details
            .tracer
            .map(|tracer| format!("held by a debugger: process {tracer} traces it"))
            .into_iter()
            .collect(),
    }
}

fn protected(seen: &Inspection) -> Vec<String> {
    vec![match (&seen.protected, &seen.role) {
        (Some(why), _) => format!("yes: {why}; rules only ever alert on it"),
        (None, Some(role)) => format!("from suspending and ending: {role}; rules may only lower it"),
        (None, None) => "no: rules that cover it may act on it".to_owned(),
    }]
}

fn again(seen: &Inspection) -> Vec<String> {
    if seen.recorded {
        return Vec::new();
    }
    let unit = seen.process.unit.as_deref().unwrap_or_default();
    let mut lines = vec![match &seen.restart {
        Some(restart) => {
            let word = match (restart.after_a_polite_end(), restart.after_force()) {
                (true, true) => "the service manager starts its unit again whichever way it ends",
                (true, false) => "the service manager starts its unit again after a polite end",
                (false, true) => {
                    "the service manager starts its unit again after an end by force, not after a polite one"
                }
                (false, false) => "the service manager does not start its unit again",
            };
            let watchdog = if restart.watchdog {
                "; it also watches that the unit answers, so a suspension would end it"
            } else {
                ""
            };
            format!("{word} (Restart={} in {}){watchdog}", restart.policy, restart.file.display())
        }
        None if unit.ends_with(".service") => format!("unknown: no file of the unit {unit} was found"),
        None => match seen.ended_before {
            None => "not by a service manager; its parent may start another".to_owned(),
            Some(_) => "not by a service manager".to_owned(),
        },
    }];
    lines.extend(seen.ended_before.map(|(times, since)| {
        let since = when::clock_or_date(since, seen.snapshot.moment.wall, None);
        let parent = ancestors(&seen.snapshot, &seen.process);
        let parent = parent.first().map_or("unknown".to_owned(), |parent| parent.label());
        format!(
            "Sophron ended its like {} since {since}, and it came back: find what starts it ({parent})",
            often(times)
        )
    }));
    lines
}

fn rules(seen: &Inspection) -> Vec<String> {
    let Some(loaded) = &seen.guidance.loaded else { return vec!["no rules file: none covers it".to_owned()] };
    let facts = Facts::new(&seen.process, &seen.snapshot.machine);
    let mut lines = Vec::new();
    for rule in &loaded.rules.rules {
        let covered = rule.covering(&facts);
        let armed = if rule.armed { "armed" } else { "in shadow" };
        match covered {
            Truth::False => {}
            Truth::Unknown => lines.push(format!("{} may cover it: what its `where` names cannot be read", rule.name)),
            Truth::True => {
                // Whoever watches knows how long a breach has lasted, and what follows; a look does not.
                let now = match (seen.standings.get(&*rule.name), rule.breach.evaluate(&facts)) {
                    (Some(verdict), _) => format!("; the watcher that runs: {verdict}"),
                    (None, Truth::True) => ", breached now".to_owned(),
                    (None, Truth::False) => ", not breached now".to_owned(),
                    (None, Truth::Unknown) => ", cannot be judged now: what it names cannot be read".to_owned(),
                };
                lines.push(format!("{} ({armed}): {}{now}", rule.name, rule.breach));
            }
        }
    }
    if lines.is_empty() {
        lines.push(format!("none of the {} rules in {} covers it", loaded.rules.rules.len(), loaded.origin()));
    }
    lines
}

fn unread(seen: &Inspection) -> Vec<String> {
    let process: &Process = &seen.process;
    if process.kernel || process.has_ended() {
        return Vec::new();
    }
    if seen.recorded {
        return vec![
            "threads, open files, limits, levers and what would start it again are not in a recording".to_owned(),
        ];
    }
    let why = if gather::is_privileged() {
        "the kernel did not answer in time, or does not allow it"
    } else {
        "for its owner and root to read"
    };
    let missing = [
        (process.path.is_none(), "the file it runs"),
        (process.disk_read.is_none(), "what it reads and writes"),
        (process.memory_private.is_none(), "private and proportional memory"),
        (seen.files.is_none(), "open files"),
    ];
    let missing: Vec<&str> = missing.iter().filter(|(missing, _)| *missing).map(|(_, what)| *what).collect();
    if missing.is_empty() { Vec::new() } else { vec![format!("{}: {why}", missing.join(", "))] }
}
