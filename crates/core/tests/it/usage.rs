//! Usage: from samples to hours, and from hours to what is told of them.

use std::time::Duration;

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use proptest::prelude::*;
use sophron_core::checkup::Limits;
use sophron_core::document::{Block, Document, TableRow};
use sophron_core::facts::Facts;
use sophron_core::model::{Process, Stall};
use sophron_core::suggest::{Figures, Longer, suggest};
use sophron_core::units::Value;
use sophron_core::usage::{
    AppHour, Asked, By, Earlier, Gathering, Group, History, OTHERS, Row, Slot, Tally, file, total, view,
};
use sophron_testkit::{World, process};

const MIB: u64 = 1 << 20;

/// London without summer time, so that hours are those of UTC.
fn utc() -> TimeZone {
    TimeZone::UTC
}

/// A world in which time passes in steps, each told to a tally.
struct Told {
    world: World,
    tally: Tally,
}

impl Told {
    fn new(processes: Vec<Process>, zone: TimeZone) -> Told {
        let mut told = Told { world: World::new(processes), tally: Tally::new(Slot::Hour, zone, Limits::default()) };
        told.sample(Duration::ZERO);
        told
    }

    /// A sample after that time, with its own interval.
    fn sample(&mut self, passed: Duration) {
        self.world.pass(passed);
        let mut snapshot = self.world.snapshot();
        snapshot.interval = Some(passed);
        self.tally.take(&snapshot);
    }

    /// Time in which every process uses so many percent of a core.
    fn use_cpu(&mut self, seconds: u64, percent: u32) {
        for _ in 0..seconds / 10 {
            for process in &mut self.world.processes {
                process.cpu_time += Duration::from_millis(u64::from(percent) * 100);
                process.cpu = Some(f64::from(percent));
            }
            self.sample(Duration::from_secs(10));
        }
    }
}

fn at(rows: &[Row], text: &str) -> Row {
    let start: Timestamp = text.parse().unwrap();
    rows.iter().find(|row| row.start == start).cloned().unwrap_or_else(|| panic!("no row at {text}: {rows:?}"))
}

fn sum(row: &Row) -> f64 {
    row.apps.iter().map(|(_, hour)| hour.accounted()).sum()
}

/// The world begins at 07:30. What was used before first sight is nobody's; an interval over the full hour belongs to that in which
/// most of it is; of a restart nothing is counted twice.
#[test]
fn hours_hold_what_was_used_in_them() {
    let mut press = process(100, "labelpress");
    press.cpu_time = Duration::from_secs(5000);
    let mut told = Told::new(vec![press, process(101, "notepatch")], utc());
    told.world.machine.cpu = Some(25.0);
    told.use_cpu(3600, 40);
    let rows = told.tally.rows();
    let (first, second) = (at(&rows, "2026-11-24T07:00:00Z"), at(&rows, "2026-11-24T08:00:00Z"));
    assert_eq!((first.machine.seconds, second.machine.seconds), (1800.0, 1800.0));
    // Two at 40% of a core; the machine was busy with one core in all.
    assert!((sum(&first) - 1440.0).abs() < 0.1 && (sum(&second) - 1440.0).abs() < 0.1, "{rows:?}");
    assert!((first.machine.cpu - 1800.0).abs() < 0.1 && (first.machine.unseen - 360.0).abs() < 0.1, "{rows:?}");
    assert_eq!(first.apps[0].1.held, (30 * MIB) as f64);
    assert_eq!(first.apps[0].1.starts, 0);
    // Who begins has used all since then; who has ended is not there any more.
    let mut new = process(102, "tilebaker");
    (new.cpu_time, new.age) = (Duration::from_secs(3), Duration::from_secs(5));
    told.world.processes = vec![new];
    told.sample(Duration::from_secs(10));
    let row = at(&told.tally.rows(), "2026-11-24T08:00:00Z");
    let (_, baker) = row.apps.iter().find(|(app, _)| app.app == "tilebaker").unwrap();
    assert_eq!((baker.cpu, baker.starts, baker.most), (3.0, 1, 1));
}

#[test]
fn naps_gaps_and_steps_of_the_clock() {
    let mut told = Told::new(vec![process(100, "labelpress")], utc());
    told.use_cpu(600, 50);
    // Half an hour asleep, over the full hour: nothing was used, and it is told.
    told.world.moment.wall += SignedDuration::from_mins(10);
    told.world.nap(Duration::from_secs(1800));
    told.sample(Duration::from_secs(10));
    told.use_cpu(60, 50);
    let rows = told.tally.rows();
    let napped: f64 = rows.iter().map(|row| row.machine.napped).sum();
    assert!((napped - 1800.0).abs() < 1.0, "{rows:?}");
    assert!(at(&rows, "2026-11-24T08:00:00Z").machine.napped > 600.0, "{rows:?}");
    let used: f64 = rows.iter().map(sum).sum();
    assert!((used - 330.0).abs() < 0.1, "{used}");
    // A gap in watching, in which it used a lot: nobody knows when.
    told.world.processes[0].cpu_time += Duration::from_secs(4000);
    told.world.pass(Duration::from_secs(7200));
    told.sample(Duration::from_secs(10));
    told.use_cpu(60, 50);
    let used: f64 = told.tally.rows().iter().map(sum).sum();
    assert!((used - 360.0).abs() < 0.1, "{used}");
    // The clock is set back by an hour: what comes then is of that hour again, and nothing is lost.
    let before: f64 = told.tally.rows().iter().map(|row| row.machine.seconds).sum();
    told.world.moment.wall -= SignedDuration::from_hours(1);
    told.use_cpu(600, 50);
    let rows = told.tally.rows();
    let seen: f64 = rows.iter().map(|row| row.machine.seconds).sum();
    assert!((seen - before - 600.0).abs() < 0.1, "{before} {seen}");
    assert!(rows.windows(2).all(|pair| pair[0].start < pair[1].start));
}

/// Hours begin where the local clock has them: at the half hour of UTC in India; and where an hour comes twice, it is two.
#[test]
fn hours_are_those_of_the_local_clock() {
    let start = |at: &str, zone: &TimeZone| Slot::Hour.start(at.parse().unwrap(), zone).to_string();
    let kolkata = TimeZone::posix("IST-5:30").unwrap();
    assert_eq!(start("2026-11-24T07:45:10Z", &kolkata), "2026-11-24T07:30:00Z");
    assert_eq!(start("2026-11-24T07:29:59Z", &kolkata), "2026-11-24T06:30:00Z");
    let kathmandu = TimeZone::posix("NPT-5:45").unwrap();
    assert_eq!(start("2026-11-24T07:20:00Z", &kathmandu), "2026-11-24T07:15:00Z");
    let london = TimeZone::posix("GMT0BST,M3.5.0/1,M10.5.0").unwrap();
    // 25 October 2026: 01:30 comes twice.
    assert_eq!(start("2026-10-25T00:30:00Z", &london), "2026-10-25T00:00:00Z");
    assert_eq!(start("2026-10-25T01:30:00Z", &london), "2026-10-25T01:00:00Z");
}

/// Names are claims: one owner who makes up thousands crowds out nobody but himself.
#[test]
fn whoever_makes_up_names_crowds_out_himself() {
    let mut crowd: Vec<Process> = (0..2000).map(|pid| process(1000 + pid, &format!("made-up-{pid}"))).collect();
    let mut other = process(5000, "notepatch");
    other.uid = 1002;
    other.names_mut().owner = "tomas".to_owned();
    crowd.push(other);
    let mut told = Told::new(crowd, utc());
    told.use_cpu(60, 1);
    let row = told.tally.rows().pop().unwrap();
    assert!(row.apps.len() < 140, "{}", row.apps.len());
    let others = row.apps.iter().find(|(app, _)| app.app == OTHERS).unwrap();
    assert_eq!((others.0.owner.as_str(), others.1.most > 1800), ("ines", true));
    assert!(row.apps.iter().any(|(app, hour)| app.app == "notepatch" && hour.most == 1));
    // All of it is there.
    assert!((sum(&row) - 2001.0 * 0.6).abs() < 1.0, "{}", sum(&row));
    // New names every hour: what was forgotten takes no room, and what goes on is still counted under its own name.
    for hour in 0..4 {
        for (number, process) in told.world.processes.iter_mut().enumerate().take(2000) {
            process.names_mut().app = format!("made-up-{hour}-{number}");
        }
        told.world.pass(Duration::from_secs(3600));
        told.sample(Duration::from_secs(3600));
        told.use_cpu(60, 1);
        let latest = told.tally.rows().last().unwrap().start;
        told.tally.forget_before(latest);
    }
    let row = told.tally.rows().pop().unwrap();
    let own = row.apps.iter().find(|(app, _)| app.app == "notepatch").unwrap();
    assert!((own.1.cpu - 0.6).abs() < 0.01 && (sum(&row) - 2001.0 * 0.6).abs() < 1.0, "{row:?}");
}

/// Minutes in which programs stood still beyond the limit are what is felt.
#[test]
fn waiting_is_counted_by_the_minute() {
    let mut told = Told::new(vec![process(100, "labelpress")], utc());
    let stall = |share: f64| Some(Stall { interval: Some(share), ..Stall::default() });
    for (minutes, share) in [(3, 2.0), (4, 30.0), (2, 70.0), (1, 5.0)] {
        told.world.machine.stall_cpu = stall(share);
        told.use_cpu(minutes * 60, 1);
    }
    let machine = told.tally.rows()[0].machine;
    assert!((machine.waited - 360.0).abs() < 15.0, "{machine:?}");
    assert!((machine.held_up - 120.0).abs() < 15.0, "{machine:?}");
    assert!((machine.stalled[0] - (3.6 + 72.0 + 84.0 + 3.0)).abs() < 0.5, "{machine:?}");
}

proptest! {
    /// Whatever is used by whom, in whatever steps: the apps and nobody's part are what the machine was busy with, and no row has
    /// less than nothing.
    #[test]
    fn the_sum_is_what_the_machine_was_busy_with(
        steps in prop::collection::vec((1u64..400, 0u32..100, 0u32..100, 0u32..60, 0u64..3000), 1..60)
    ) {
        let mut told = Told::new(vec![process(100, "labelpress"), process(101, "notepatch")], utc());
        let mut busy = 0.0;
        for (seconds, one, two, children, nap) in steps {
            let of = [f64::from(one), f64::from(two)];
            for (process, percent) in told.world.processes.iter_mut().zip(of) {
                process.cpu_time += Duration::from_secs_f64(percent / 100.0 * seconds as f64);
                process.waited = Some(children as f32);
            }
            // Something of it is nobody's.
            let all = of[0] + of[1] + 2.0 * f64::from(children) + 7.0;
            told.world.machine.cpu = Some(all / 4.0);
            if nap > 2900 {
                told.world.nap(Duration::from_secs(nap));
            }
            told.sample(Duration::from_secs(seconds));
            busy += all / 100.0 * seconds as f64;
        }
        let rows = told.tally.rows();
        let all: f64 = rows.iter().map(|row| sum(row) + row.machine.unseen).sum();
        prop_assert!((all - busy).abs() <= busy * 0.01 + 0.01, "{all} {busy}");
        prop_assert!(rows.iter().all(|row| row.machine.unseen >= 0.0 && row.machine.seconds >= 0.0));
        let totals = total(&rows, |app| app.app.clone());
        prop_assert!((totals.values().map(|total| total.sum.accounted()).sum::<f64>() - rows.iter().map(sum).sum::<f64>()).abs() < 1e-6);
        // As a file it is the same, to what its figures are worth.
        let mut history = History::empty("mossgate-desk-03", utc());
        history.rows = rows;
        let lines = file::write(&history);
        let back = file::read(lines.as_bytes().split(|byte| *byte == b'\n')).unwrap();
        prop_assert_eq!(back.rows.len(), history.rows.len());
        for (one, other) in back.rows.iter().zip(&history.rows) {
            prop_assert!((sum(one) - sum(other)).abs() < 0.5 && one.start == other.start);
        }
    }

    /// A file is not trusted: whatever stands in it is read or refused, and never breaks anything.
    #[test]
    fn no_file_breaks_anything(bytes in prop::collection::vec(any::<u8>(), 0..400), line in 0usize..8, place in 0usize..200) {
        let mut told = Told::new(vec![process(100, "labelpress")], utc());
        told.use_cpu(7200, 10);
        let mut history = History::empty("mossgate-desk-03", utc());
        history.rows = told.tally.rows();
        let mut lines: Vec<Vec<u8>> = file::write(&history).lines().map(|line| line.as_bytes().to_vec()).collect();
        let _ = file::read([bytes.as_slice()].into_iter());
        if let Some(line) = lines.get_mut(line) {
            let place = place.min(line.len());
            line.splice(place..place, bytes);
        }
        if let Ok(read) = file::read(lines.iter().map(Vec::as_slice)) {
            let asked = Asked { group: Group::App, by: By::Cpu, of_some: false, limit: 10 };
            let _ = view(&read, asked, None);
        }
    }
}

fn verdict(document: &Document) -> String {
    let found = document.blocks.iter().find_map(|block| match block {
        Block::Verdict(_, words) => Some(words.clone()),
        _ => None,
    });
    found.unwrap_or_default()
}

/// Ten working days of office hours; from ten to eleven programs wait, but on one of them.
#[test]
fn which_hour_is_bad_is_counted_by_days() {
    let mut history = History::empty("mossgate-desk-03", utc());
    let monday: Timestamp = "2026-11-02T00:00:00Z".parse().unwrap();
    for day in 0..12 {
        for hour in 8..17 {
            let mut row = Row { start: monday + SignedDuration::from_hours(day * 24 + hour), ..Row::default() };
            row.machine.seconds = 3600.0;
            let weekday = day % 7 < 5;
            row.machine.waited = match (weekday, hour, day) {
                (true, 10, 3) => 0.0,
                (true, 10, _) => 1200.0,
                (true, 14, 8) => 900.0,
                _ => 0.0,
            };
            history.rows.push(row);
        }
    }
    let asked = Asked { group: Group::Hour, by: By::Waiting, of_some: false, limit: 24 };
    assert_eq!(
        verdict(&view(&history, asked, None)),
        "10:00 to 11:00: programs waited on 9 of 10 working days, others 1 in 80"
    );
    history.rows.iter_mut().for_each(|row| row.machine.waited = 0.0);
    assert_eq!(verdict(&view(&history, asked, None)), "programs never waited as much as is felt");
}

/// Of a quiet machine's first minute: no part is more than all of it, and it ends when it was read.
#[test]
fn next_to_nothing_is_told_as_such() {
    let start: Timestamp = "2026-11-02T10:00:00Z".parse().unwrap();
    let apps = [("labelpress", 0.2), ("notepatch", 0.1)]
        .map(|(app, cpu)| (History::app(app, "ines", 1000), AppHour { seconds: 60.0, cpu, ..AppHour::default() }));
    let mut row = Row { start, apps: apps.to_vec(), ..Row::default() };
    (row.machine.seconds, row.machine.cpu) = (60.0, 0.15);
    let mut history = History::empty("mossgate-desk-03", utc());
    (history.rows, history.read) = (vec![row], Some(start + SignedDuration::from_mins(20)));
    let told = view(&history, Asked { group: Group::App, by: By::Cpu, of_some: false, limit: 5 }, None);
    assert_eq!(verdict(&told), "hardly any CPU time was used");
    let told = told.json().to_string();
    assert!(told.contains("to Mon 2 Nov 2026 10:20 UTC") && told.contains(",66.66"), "{told}");
}

/// Beside an earlier time: day by day, by as much as was watched; and what was not watched is never a change.
#[test]
fn a_time_stands_beside_one_before() {
    let monday: Timestamp = "2026-11-02T00:00:00Z".parse().unwrap();
    let week = |from: i64, days: &[i64], waited: f64, seconds: f64, app: &str| {
        let mut history = History::empty("mossgate-desk-03", utc());
        for day in days {
            let start = monday + SignedDuration::from_hours(24 * (from + day) + 10);
            let used = AppHour { seconds, cpu: seconds / 10.0, ..AppHour::default() };
            let apps = vec![(History::app(app, "ines", 1000), used)];
            let mut row = Row { start, apps, ..Row::default() };
            (row.machine.seconds, row.machine.waited, row.machine.cpu) = (seconds, waited, seconds / 10.0);
            history.rows.push(row);
        }
        history
    };
    let (before, now) =
        (week(0, &[0, 1], 300.0, 1800.0, "notepatch"), week(7, &[0, 1, 2], 1200.0, 3600.0, "labelpress"));
    let told = |group: Group, before: &History| {
        let asked =
            Asked { group, by: if group == Group::App { By::Cpu } else { By::Waiting }, of_some: false, limit: 3 };
        let told = view(&now, asked, Some(Earlier { history: before, by: SignedDuration::from_hours(7 * 24) }));
        let rows = told.blocks.iter().find_map(|block| match block {
            Block::Table(table) => Some(table.rows.clone()),
            _ => None,
        });
        let row = |row: TableRow| {
            format!(
                "{}: {}",
                row.name.0,
                row.cells.iter().map(|cell| cell.text.as_str()).collect::<Vec<_>>().join(", ")
            )
        };
        (verdict(&told), rows.unwrap().into_iter().map(row).collect::<Vec<_>>())
    };
    let (headline, rows) = told(Group::Day, &before);
    assert_eq!(
        headline,
        "the greatest change is that of Mon 9 Nov: programs waited, 20 min against 10 min (2.0 times)"
    );
    assert_eq!(rows[0], "Mon 9 Nov: 20 min, 10 min, +10 min, 2.00 times");
    assert_eq!(rows[2], "Wed 11 Nov: 20 min, not watched, , ");
    assert_eq!(told(Group::Hour, &before).1, ["10:00 to 11:00: 20 min, 10 min, +10 min, 2.00 times"]);
    assert_eq!(
        told(Group::App, &before).1,
        ["labelpress: 18 min, , +18 min, new", "notepatch: , 18 min, -18 min, gone"]
    );
    let (headline, rows) = told(Group::App, &History::empty("mossgate-desk-03", utc()));
    assert!(
        headline.starts_with("nothing is known of 7d earlier to compare with; most CPU time was used by"),
        "{headline}"
    );
    assert!(!rows[0].contains("new"), "{rows:?}");
}

/// `typical` is known once the app was there for a working day: of one process, and of all together.
#[test]
fn what_is_usual_is_told_to_conditions() {
    let mut gathering = Gathering::default();
    let hour =
        |held: u64| AppHour { seconds: 3600.0, cpu: 360.0, held: (held * MIB) as f64, most: 4, ..Default::default() };
    (0..9).for_each(|at| gathering.add("labelpress", &hour(400 + at * 10)));
    (0..3).for_each(|_| gathering.add("notepatch", &hour(100)));
    let usual = gathering.finish();
    let of = |app: &str, whole: bool| usual.value(app, sophron_core::model::Field::MemoryHeld, whole);
    assert_eq!(of("labelpress", true), Some(Value::Size(440 * MIB)));
    assert_eq!(of("labelpress", false), Some(Value::Size(110 * MIB)));
    assert_eq!(of("notepatch", true), None, "three hours are too few");
    let condition = sophron_core::condition::Condition::parse(
        "memory.held > typical(memory.held)",
        sophron_core::condition::Place::Any,
    )
    .unwrap();
    let mut world = World::new(vec![process(100, "labelpress")]);
    world.process(100).memory_held = Some(111 * MIB);
    let truth = |world: &World| condition.evaluate(&Facts::new(&world.processes[0], &world.machine));
    assert_eq!(truth(&world), sophron_core::condition::Truth::Unknown);
    world.machine.usual = Some(std::sync::Arc::new(usual));
    assert_eq!(truth(&world), sophron_core::condition::Truth::True);
    world.process(100).memory_held = Some(110 * MIB);
    assert_eq!(truth(&world), sophron_core::condition::Truth::False);
}

/// What the history knows to come now and then is no runaway: the limit stands above it, and that is said.
#[test]
fn what_comes_now_and_then_is_no_runaway() {
    let mut world = World::new(vec![process(100, "tilebaker")]);
    let mut figures = Figures::default();
    for minute in 0..150 {
        let cpu = if (60..90).contains(&minute) { 120.0 } else { 2.0 };
        for _ in 0..6 {
            world.pass(Duration::from_secs(10));
            world.process(100).cpu = Some(cpu);
            let mut snapshot = world.snapshot();
            snapshot.interval = Some(Duration::from_secs(10));
            figures.take(&snapshot, |_| true);
        }
    }
    let suggested = |figures: &Figures| suggest(figures, None).unwrap().suggestions.len();
    assert_eq!(suggested(&figures), 1);
    // Sixty days in which one hour in ten was as busy.
    let mut history = History::empty("mossgate-desk-03", utc());
    let begin = world.moment.wall - SignedDuration::from_hours(24 * 60);
    for number in 0..24 * 60 {
        let cpu = if number % 10 == 0 { 1.3 * 3600.0 } else { 60.0 };
        let hour = AppHour { seconds: 3600.0, cpu, held: 4e8, most: 1, ..AppHour::default() };
        let start = begin + SignedDuration::from_hours(number);
        let apps = vec![(History::app("tilebaker", "ines", 1001), hour)];
        history.rows.push(Row { start, apps, ..Row::default() });
    }
    figures.longer = Longer::of(&history, SignedDuration::from_hours(24));
    assert_eq!(suggested(&figures), 0);
    let asked = suggest(&figures, Some("tilebaker")).unwrap();
    let because = asked.suggestions[0].because.join("; ");
    assert!(
        because.contains("over 60 days, by the history of usage, it was at most 130.0% of a core in 19 of 20 hours"),
        "{because}"
    );
    assert_eq!(Longer::of(&history, SignedDuration::from_hours(24 * 70)), None, "it does not reach further");
}
