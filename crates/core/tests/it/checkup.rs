//! The verdicts of a checkup, from snapshots: what is short, because of whom, and what contradictory and missing figures
//! come to.

use std::time::Duration;

use sophron_core::checkup::{
    Finding, FindingKind, GroupMemory, Grown, HeldFile, Next, Observation, Past, Report, Settings, Since, Surroundings,
    check,
};
use sophron_core::checkup::{LIMITS, Limits, Watched};
use sophron_core::model::{CpuSplit, Machine, Origin, Passing, Process, Stall, Volume};
use sophron_core::rules::{Severity, load};
use sophron_core::sorted::SortedSet;
use sophron_core::state::State;
use sophron_testkit::{World, process};

const SECOND: Duration = Duration::from_secs(1);
const MIB: u64 = 1 << 20;
const GIB: u64 = 1 << 30;

/// A quiet machine on which everything can be read.
fn quiet() -> World {
    let mut groundkeeper = process(1, "groundkeeper");
    groundkeeper.parent = 0;
    let mut world = World::new(vec![groundkeeper, process(535, "sheetlamp"), process(752, "labelpress")]);
    let still = Some(Stall { ten_seconds: 0.0, minute: Some(0.0), five_minutes: Some(0.0), interval: Some(0.0) });
    world.machine = Machine {
        cpu: Some(4.0),
        core_fullest: Some(9.0),
        iowait: Some(0.2),
        load: Some([0.2, 0.2, 0.2]),
        split: Some(CpuSplit { user: 3.0, kernel: 1.0, ..CpuSplit::default() }),
        swap_used: Some(0),
        swap_traffic: Some(0.0),
        stall_cpu: still,
        stall_memory: still,
        stall_io: still,
        disk_busy: Some(1.0),
        volumes: vec![Volume {
            point: "/".to_owned(),
            device: "/dev/mossdisk".to_owned(),
            size: 100 * GIB,
            free: 40 * GIB,
            number: 7,
        }],
        processes: 3,
        ..world.machine
    };
    world
}

fn stall(share: f64) -> Option<Stall> {
    Some(Stall { interval: Some(share), ..Stall::default() })
}

/// Four looks at a machine that does not change.
fn look(world: &mut World, settings: &Settings, around: &Surroundings<'_>) -> Report {
    let mut observation = Observation::default();
    for _ in 0..4 {
        world.pass(SECOND);
        observation.add(&world.snapshot());
    }
    check(&observation.finish(), settings, around)
}

fn plain(world: &mut World) -> Report {
    look(world, &Settings::default(), &Surroundings::default())
}

fn only(report: &Report) -> &Finding {
    assert_eq!(report.findings.len(), 1, "{report:#?}");
    &report.findings[0]
}

fn apps(finding: &Finding) -> Vec<&str> {
    finding.suspects.iter().map(|suspect| suspect.app.as_str()).collect()
}

#[test]
fn nothing_is_short_of_a_quiet_machine() {
    let report = plain(&mut quiet());
    assert_eq!((report.verdict.as_str(), report.found()), ("nothing is short", false));
    assert!(report.unread.is_empty(), "{:?}", report.unread);
    insta::assert_snapshot!(report.fine.join("\n"), @r"
    cpu 4.0% of 4 cores (programs 3.0%, kernel 1.0%); the fullest core 9.0%
    load 0.2, 0.2 and 0.2 over 1, 5 and 15 minutes on 4 cores: steady
    memory 3.00 GiB of 8.00 GiB can still be had
    disks the busiest 1.0% busy
    file systems / 60% full, 40.0 GiB free
    3 processes, none stuck, frozen, suspended or a zombie
    ");
}

#[test]
fn each_shortage_has_its_verdict_and_its_suspect() {
    type Change = fn(&mut World);
    let cases: [(&str, Change, FindingKind, Severity, &str); 9] = [
        (
            "short of CPU",
            |world| {
                (world.machine.cpu, world.machine.stall_cpu) = (Some(99.0), stall(64.0));
                world.process(752).cpu = Some(390.0);
            },
            FindingKind::Cpu,
            Severity::Critical,
            "labelpress",
        ),
        (
            "the CPU is used up, and hardly anybody waits for it",
            |world| {
                (world.machine.cpu, world.machine.stall_cpu) = (Some(99.0), stall(3.0));
                world.process(752).cpu = Some(390.0);
            },
            FindingKind::Cpu,
            Severity::Notice,
            "labelpress",
        ),
        (
            "some programs wait for CPU although there is some left",
            |world| {
                (world.machine.cpu, world.machine.stall_cpu) = (Some(25.0), stall(70.0));
                world.process(752).cpu = Some(80.0);
            },
            FindingKind::Cpu,
            Severity::Critical,
            "labelpress",
        ),
        (
            "one program keeps one core to itself: sheetlamp",
            |world| {
                (world.machine.cpu, world.machine.core_fullest) = (Some(27.0), Some(98.0));
                world.process(535).cpu = Some(99.0);
            },
            FindingKind::Core,
            Severity::Notice,
            "sheetlamp",
        ),
        (
            "short of memory",
            |world| {
                world.machine.memory_available = Some(300 * MIB);
                world.process(752).memory_held = Some(6 * GIB);
            },
            FindingKind::Memory,
            Severity::Critical,
            "labelpress",
        ),
        (
            "some programs wait for memory",
            |world| {
                world.machine.stall_memory = stall(12.0);
                world.process(752).memory_held = Some(2 * GIB);
            },
            FindingKind::Memory,
            Severity::Notice,
            "labelpress",
        ),
        (
            "waiting on disk",
            |world| {
                world.machine.stall_io = stall(44.0);
                world.process(752).disk_read = Some(38e6);
            },
            FindingKind::Disk,
            Severity::Critical,
            "labelpress",
        ),
        (
            "a disk is always busy, and hardly anybody waits for it",
            |world| {
                (world.machine.disk_busy, world.machine.stall_io) = (Some(99.0), stall(2.0));
                world.process(752).disk_write = Some(38e6);
            },
            FindingKind::Disk,
            Severity::Notice,
            "labelpress",
        ),
        (
            "/ is nearly full",
            |world| {
                world.machine.volumes[0].free = 3 * GIB;
                world.process(752).disk_write = Some(38e6);
            },
            FindingKind::Files,
            Severity::Critical,
            "labelpress",
        ),
    ];
    for (verdict, change, kind, severity, suspect) in cases {
        let mut world = quiet();
        change(&mut world);
        let report = plain(&mut world);
        assert_eq!(report.verdict, verdict);
        let found = only(&report);
        assert_eq!((found.kind, found.severity, apps(found)[0]), (kind, severity, suspect), "{verdict}");
        assert!(found.next.iter().any(|next| matches!(next, Next::Type(line, _) if line.starts_with("inspect "))));
    }
}

/// A kernel without stall shares, a container without disk figures: what is left decides, and what is missing is said.
#[test]
fn missing_figures_are_left_out_and_said() {
    let mut world = quiet();
    let machine = &mut world.machine;
    (machine.stall_cpu, machine.stall_memory, machine.stall_io, machine.disk_busy) = (None, None, None, None);
    let report = plain(&mut world);
    assert_eq!(report.verdict, "nothing is short");
    assert!(report.unread.iter().any(|line| line.contains("/proc/pressure")));
    assert!(report.unread.iter().any(|line| line.contains("/proc/diskstats")));

    world.machine.cpu = Some(97.0);
    world.machine.iowait = Some(40.0);
    world.machine.swap_traffic = Some(12.0 * MIB as f64);
    let report = plain(&mut world);
    assert_eq!(report.verdict, "short of memory; short of CPU; waiting on disk");
    assert!(report.findings.iter().all(|finding| finding.severity == Severity::Critical));

    world.machine = Machine { host: "mossgate-desk-03".to_owned(), cores: 4, ..Machine::default() };
    let report = plain(&mut world);
    assert_eq!(report.verdict, "nothing is short");
    assert!(report.unread.len() >= 5, "{:?}", report.unread);
}

#[test]
fn a_disk_hog_whose_rates_may_not_be_read_is_found_by_its_waiting() {
    let mut world = quiet();
    world.machine.stall_io = stall(30.0);
    for pid in [1, 535, 752] {
        (world.process(pid).disk_read, world.process(pid).disk_write) = (None, None);
    }
    world.process(535).state = State::Waiting;
    world.process(535).cpu = Some(3.0);
    let report = plain(&mut world);
    let found = only(&report);
    assert_eq!(apps(found), ["sheetlamp"]);
    assert_eq!(found.suspects[0].amount, "found waiting in the kernel at 4 of 4 looks");
}

#[test]
fn a_control_group_at_its_limit_is_short_while_the_machine_is_not() {
    let mut world = quiet();
    world.process(752).faults = Some(400.0);
    let group = GroupMemory { group: "/press".to_owned(), limit: 40 * MIB, used: 40 * MIB, members: vec![752] };
    let around = Surroundings { groups: vec![group.clone()], ..Surroundings::default() };
    let report = look(&mut world, &Settings::default(), &around);
    assert_eq!(report.verdict, "short of memory in the control group /press");
    assert_eq!(apps(only(&report)), ["labelpress"]);
    // A group full of files that nobody waits for is as it should be.
    world.process(752).faults = Some(0.0);
    assert!(!look(&mut world, &Settings::default(), &around).found());
}

#[test]
fn a_busy_window_is_told_from_what_prints_into_it() {
    let mut world = quiet();
    let mut window = process(800, "fernterm");
    window.cpu = Some(95.0);
    let mut shell = process(801, "fernshell");
    (shell.parent, shell.session) = (800, 801);
    shell.names_mut().tty = "pts/3".to_owned();
    let mut printer = process(802, "seedlist");
    (printer.parent, printer.session, printer.cpu) = (801, 801, Some(30.0));
    printer.names_mut().tty = "pts/3".to_owned();
    world.processes.extend([window, shell, printer]);
    (world.machine.cpu, world.machine.core_fullest) = (Some(32.0), Some(97.0));
    let report = plain(&mut world);
    let found = only(&report);
    assert_eq!(apps(found), ["seedlist", "fernterm"]);
    assert!(
        found.suspects[1].notes[0].contains("it shows the terminal pts/3 that seedlist"),
        "{:?}",
        found.suspects[1].notes
    );
}

#[test]
fn time_of_the_short_lived_is_found_or_said() {
    let mut world = quiet();
    let mut baker = process(758, "tilebaker");
    (baker.waited, baker.cpu) = (Some(140.0), Some(2.0));
    let mut worker = process(900, "tileworker");
    (worker.parent, worker.cpu) = (758, Some(40.0));
    world.processes.extend([baker, worker]);
    (world.machine.cpu, world.machine.core_fullest) = (Some(46.0), Some(97.0));
    let report = plain(&mut world);
    let found = only(&report);
    assert_eq!(found.headline, "one program keeps one core to itself: tilebaker's short-lived children");
    assert_eq!(apps(found), ["tilebaker"]);
    assert!(found.suspects[0].amount.starts_with("cpu 182% of a core with its children, 140%"));

    // Whose parents ignore their end: nobody has the time, and only the machine was busy.
    world.process(758).waited = Some(0.0);
    world.machine.cpu = Some(99.0);
    world.machine.stall_cpu = stall(50.0);
    let report = plain(&mut world);
    assert!(only(&report).remarks.iter().any(|line| line.contains("354% of a core went to processes too short-lived")));
    // Also where the machine is short of nothing.
    let mut world = quiet();
    world.machine.cpu = Some(30.0);
    let found = plain(&mut world);
    assert_eq!(found.verdict, "nothing is short; CPU goes to nobody who is seen");
    assert_eq!(only(&found).kind, FindingKind::Unseen);
    let mill = |name: &str, cpu| Passing { owner: "mara".to_owned(), uid: 1001, name: name.to_owned(), count: 25, cpu };
    world.machine.passing = vec![mill("mill", 95.0), mill("", 4.0)];
    let found = plain(&mut world);
    assert_eq!(only(&found).headline, "CPU goes to short-lived processes: mill (mara)");
    let told =
        "of what came and went, most was used by mill (mara), 25 a second, 95%; others of mara, 25 a second, 4.0%";
    assert!(only(&found).remarks[0].ends_with(told), "{:?}", only(&found).remarks);
    // Where all use as much as that, who is heard of from the kernel is named like the others.
    let mut world = quiet();
    world.machine.stall_cpu = stall(50.0);
    world.process(752).cpu = Some(f64::from(world.machine.cores) * 99.0 - 22.0);
    world.machine.cpu = Some(99.0);
    world.machine.passing = vec![mill("mill", 22.0)];
    let said =
        |world: &mut World| only(&plain(world)).remarks.iter().any(|line| line.contains("mill (mara), 25 a second"));
    assert!(said(&mut world));
    // What no figure of the machine shows was somebody's who asked for it.
    world.process(752).cpu = Some(f64::from(world.machine.cores) * 99.0 - 2.0);
    assert!(!said(&mut world));
}

#[test]
fn the_honest_and_the_protected_are_left_to_finish_and_sophron_is_marked() {
    let mut world = quiet();
    (world.machine.cpu, world.machine.core_fullest) = (Some(60.0), Some(98.0));
    world.process(752).cpu = Some(190.0);
    world.process(752).disk_read = Some(3e6);
    let advice = |report: &Report| match &only(report).next[0] {
        Next::Say(advice) => advice.clone(),
        other => panic!("{other:?}"),
    };
    assert!(advice(&plain(&mut world)).starts_with("let labelpress finish: it reads and writes"));

    world.process(752).disk_read = Some(0.0);
    let protected = |process: &Process| (process.app == "labelpress").then(|| "[protect]".to_owned());
    let around = Surroundings { protected: Some(&protected), own: SortedSet::from([752]), ..Surroundings::default() };
    let report = look(&mut world, &Settings::default(), &around);
    assert_eq!(advice(&report), "let labelpress finish: it is protected ([protect])");
    assert_eq!(only(&report).suspects[0].notes, ["this is Sophron itself"]);
    assert_eq!(report.own, Some(190.0));
}

#[test]
fn what_does_not_go_on_is_worth_knowing() {
    let mut world = quiet();
    let states = [(801, State::Waiting), (802, State::Suspended), (803, State::Frozen), (804, State::Zombie)];
    for (pid, state) in states {
        let mut held_up = process(pid, "herbarium");
        held_up.state = state;
        held_up.parent = if state == State::Zombie { 535 } else { 1 };
        world.processes.push(held_up);
    }
    let mut kernel = process(30, "diskroot");
    (kernel.kernel, kernel.state) = (true, State::Waiting);
    kernel.names_mut().origin = Some(Origin::Kernel);
    world.processes.push(kernel);
    world.processes.sort_by_key(|process| process.id.pid);
    let report = plain(&mut world);
    assert_eq!(report.verdict, "1 process is stuck in the kernel");
    let kinds: Vec<FindingKind> = report.findings.iter().map(|finding| finding.kind).collect();
    assert_eq!(kinds, [FindingKind::Stuck, FindingKind::Frozen, FindingKind::Suspended, FindingKind::Zombies]);
    // A zombie is its parent's mistake.
    assert_eq!(apps(&report.findings[3]), ["sheetlamp"]);

    // One that reads or computes now and then waits, but is not stuck.
    world.process(801).disk_read = Some(4096.0);
    assert!(plain(&mut world).verdict.starts_with("nothing is short; 1 process is frozen"));
}

#[test]
fn a_full_disk_names_who_holds_deleted_files_on_it() {
    let mut world = quiet();
    world.machine.volumes[0].free = 9 * GIB;
    let held = |number: u64| HeldFile { pid: 752, path: "/var/spool/labels".to_owned(), size: 20 * GIB, number };
    let around = Surroundings { held: vec![held(7), held(8)], ..Surroundings::default() };
    let report = look(&mut world, &Settings::default(), &around);
    let found = only(&report);
    assert_eq!((found.severity, found.of.as_deref(), apps(found)[0]), (Severity::Notice, Some("/"), "labelpress"));
    assert!(found.suspects[0].amount.starts_with("holds 20.0 GiB in deleted files"), "{:?}", found.suspects[0]);
    // A small file system has little free by nature; a large one has 5 GiB to lose.
    world.machine.volumes[0] = Volume { size: GIB, free: GIB / 2, ..world.machine.volumes[0].clone() };
    assert!(!plain(&mut world).found());
    world.machine.volumes[0] = Volume { size: 30 * GIB, free: 4 * GIB, ..world.machine.volumes[0].clone() };
    assert_eq!(only(&plain(&mut world)).figures[0].limit, "5.00 GiB");
}

#[test]
fn the_load_has_a_trend_and_what_is_over_is_no_finding() {
    let mut world = quiet();
    world.machine.load = Some([1.0, 7.0, 4.0]);
    let report = plain(&mut world);
    assert_eq!(report.verdict, "nothing is short");
    assert!(report.fine[1].ends_with("the rush of the last minutes is over"), "{:?}", report.fine);

    world.machine.load = Some([12.0, 7.0, 4.0]);
    (world.machine.running, world.machine.blocked) = (Some(1), Some(9));
    world.process(752).state = State::Waiting;
    world.process(752).cpu = Some(1.0);
    let report = plain(&mut world);
    assert_eq!(report.verdict, "the load is high, with neither CPU nor disk busy");
    let remark = &only(&report).remarks[0];
    assert!(remark.contains("rising; 90% of it only waits for a disk"), "{remark}");
}

#[test]
fn a_rules_file_changes_limits_and_marks_what_is_known() {
    let file = r#"format = 1
[checkup]
machine.core.fullest = { notice = "99%" }
machine.load.core = { critical = 4.5 }
machine.swap.traffic = { notice = "2 MiB/s", critical = "20 MiB/s" }
[[checkup.known]]
finding = "files"
of = "/"
reason = "the new disk comes in December"
"#;
    let settings = load(file.as_bytes()).unwrap().checkup;
    let mut world = quiet();
    (world.machine.cpu, world.machine.core_fullest) = (Some(27.0), Some(98.0));
    world.process(535).cpu = Some(98.0);
    world.machine.volumes[0].free = 3 * GIB;
    let report = look(&mut world, &settings, &Surroundings::default());
    assert_eq!(report.verdict, "nothing is short (but for 1 known finding)");
    assert_eq!(only(&report).known.as_deref(), Some("the new disk comes in December"));
    assert!(!report.found());
    world.machine.volumes[0].point = "/srv".to_owned();
    assert!(look(&mut world, &settings, &Surroundings::default()).found());

    let wrong = "format = 1\n[checkup]\nmachine.cpu = { notice = \"5 MiB\" }\nmachine.disc.busy = { notice = \"90%\" }\n\
        machine.iowait = { notice = \"50%\" }\n[[checkup.known]]\nfinding = \"filez\"\n";
    let errors = load(wrong.as_bytes()).unwrap_err().errors;
    let shown: Vec<String> = errors.iter().map(|error| format!("{}: {}", error.title, error.helps.join(" "))).collect();
    insta::assert_snapshot!(shown.join("\n"), @r#"
    the limit on machine.cpu is a percentage: write `notice = "85%"`
    checkup has no limit on `machine.disc.busy`: write `machine.disk.busy`
    the notice level 50% lies beyond the critical one, 35%: give both, the milder one as `notice`
    a known finding lacks `reason`: add `reason = "the new disk comes in December"`
    checkup has no finding `filez`: write `files`
    "#);
}

#[test]
fn since_when_is_told_by_what_came_before() {
    let mut world = quiet();
    let settings = Settings::default();
    let mut past = Past::default();
    let mut pass = |world: &mut World, cpu: f64, seconds: u64| {
        (world.machine.core_fullest, world.process(535).cpu) = (Some(cpu), Some(cpu));
        for _ in 0..seconds / 10 {
            world.pass(SECOND * 10);
            past.note(&world.snapshot(), &settings.limits);
        }
        world.moment.wall
    };
    pass(&mut world, 97.0, 60);
    let calm = pass(&mut world, 10.0, 120);
    pass(&mut world, 97.0, 60);
    // A dip of half a minute is still the same.
    pass(&mut world, 10.0, 30);
    pass(&mut world, 97.0, 60);
    let around = Surroundings { past, ..Surroundings::default() };
    let report = look(&mut world, &settings, &around);
    let began = calm.checked_add(SECOND * 10).unwrap();
    assert_eq!(only(&report).since, Some(Since::At(began)));

    // Of the live machine the kernel's longer averages tell it.
    let mut world = quiet();
    world.machine.cpu = Some(99.0);
    world.machine.stall_cpu =
        Some(Stall { ten_seconds: 70.0, minute: Some(60.0), five_minutes: Some(20.0), interval: Some(70.0) });
    assert_eq!(only(&plain(&mut world)).since, Some(Since::OnAverage(Duration::from_secs(60))));
}

/// Who grows is named while nothing is short, with when memory ends; by what went on before, where that is known.
#[test]
fn who_grows_is_named_before_anything_is_short() {
    let mut world = quiet();
    let gib = 1_u64 << 30;
    world.process(752).memory_held = Some(gib);
    let id = world.process(752).id;
    let with = |from: u64, minutes: u64| {
        let grown = Grown { id, from, to: gib, over: Duration::from_secs(minutes * 60) };
        Surroundings { grown: vec![grown], ..Surroundings::default() }
    };
    let report = look(&mut world, &Settings::default(), &with(gib / 4, 30));
    let found = only(&report);
    assert_eq!((found.kind, report.verdict.starts_with("nothing is short; ")), (FindingKind::Grows, true));
    assert_eq!(found.headline, "labelpress grows by 25.6 MiB a minute");
    assert!(found.suspects[0].amount.ends_with("768 MiB more than 30 m 00 s ago"), "{}", found.suspects[0].amount);
    assert!(found.remarks[0].contains("is used up in "), "{:?}", found.remarks);
    // A fifth more in half an hour is no growth, as long as memory is not about to end.
    let report = look(&mut world, &Settings::default(), &with(gib / 5 * 4, 30));
    assert!(report.findings.is_empty(), "{:?}", report.findings);
    world.machine.memory_available = Some(60 << 20);
    let report = look(&mut world, &Settings::default(), &with(gib / 5 * 4, 30));
    assert!(report.findings.iter().any(|found| found.kind == FindingKind::Grows), "memory ends within minutes");
}

/// What the machine's first process collected for others is not its doing, and who has a name is named.
#[test]
fn nobody_is_lost_in_the_tree_of_the_first_process() {
    let mut world = quiet();
    (world.machine.cpu, world.machine.core_fullest) = (Some(28.0), Some(97.0));
    world.process(752).cpu = Some(91.0);
    world.process(752).parent = 1;
    let mut init = process(1, "init");
    (init.parent, init.waited) = (0, Some(16.0));
    world.processes.push(init);
    let found = plain(&mut world);
    assert_eq!(only(&found).headline, "one program keeps one core to itself: labelpress");
    assert_eq!(apps(only(&found)), ["labelpress"]);
}

#[test]
fn every_figure_has_its_row_and_sane_levels() {
    for (place, limit) in LIMITS.iter().enumerate() {
        assert_eq!(limit.watched as usize, place);
        assert_eq!(limit.over, limit.notice < limit.critical, "{}", limit.field);
    }
}

#[test]
fn levels_bound_from_their_own_side() {
    let mut limits = Limits::default();
    assert_eq!(limits.weigh(Watched::Cpu, 84.9), None);
    assert_eq!(limits.weigh(Watched::Cpu, 95.0), Some(Severity::Critical));
    assert_eq!(limits.weigh(Watched::MemoryAvailable, 14.0), Some(Severity::Notice));
    assert_eq!(limits.weigh(Watched::MemoryAvailable, 5.0), Some(Severity::Critical));
    assert_eq!(limits.weigh(Watched::CoreFullest, 100.0), Some(Severity::Notice));
    limits.set(Watched::Cpu, Some(99.0), None);
    assert_eq!(limits.weigh(Watched::Cpu, 96.0), Some(Severity::Critical));
}
