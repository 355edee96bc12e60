//! The report: what must hold of any day, and the hard ones of them.

use std::time::Duration;

use jiff::SignedDuration;
use jiff::tz::TimeZone;
use sophron_core::checkup::FindingKind;
use sophron_core::document::{Block, Document, Drawing, Plot, Text};
use sophron_core::model::{Process, Stall};
use sophron_core::report::{Collector, Frame, Setting, Stretch, customer, episodes, page};
use sophron_core::rules::{Hours, Span};
use sophron_core::severity::Severity;
use sophron_testkit::{World, process};

const MIB: u64 = 1 << 20;

struct Day {
    world: World,
    collector: Collector,
}

impl Day {
    fn new(processes: Vec<Process>, hours: Option<Hours>) -> Day {
        let setting = Setting { checkup: Default::default(), zone: TimeZone::UTC, hours };
        let mut day = Day { world: World::new(processes), collector: Collector::new(setting) };
        day.sample();
        day
    }

    fn sample(&mut self) {
        let mut snapshot = self.world.snapshot();
        snapshot.interval = Some(Duration::from_secs(10));
        self.collector.take(&snapshot);
    }

    fn minutes(&mut self, minutes: u64, mut each: impl FnMut(&mut World)) {
        for _ in 0..minutes * 6 {
            each(&mut self.world);
            self.world.pass(Duration::from_secs(10));
            self.sample();
        }
    }

    fn finish(self) -> Stretch {
        self.collector.finish().unwrap()
    }
}

fn stall(share: f64) -> Option<Stall> {
    Some(Stall { interval: Some(share), ..Stall::default() })
}

fn works(world: &mut World, pid: u32, percent: u64) {
    let process = world.process(pid);
    process.cpu = Some(percent as f64);
    process.cpu_time += Duration::from_millis(percent * 100);
}

fn frame() -> Frame {
    Frame { suffix: " --from day.jsonl".to_owned(), recorded: true, source: "a day".to_owned(), ..Frame::default() }
}

fn verdict(document: &Document) -> &str {
    let verdict = document.blocks.iter().find_map(|block| match block {
        Block::Verdict(_, words) => Some(words.as_str()),
        _ => None,
    });
    verdict.unwrap_or_default()
}

fn plots(document: &Document) -> Vec<&Plot> {
    document
        .blocks
        .iter()
        .filter_map(|block| match block {
            Block::Plot(plot) => Some(plot.as_ref()),
            _ => None,
        })
        .collect()
}

/// Waiting for CPU for an hour, with a pause that does not end it, and again after one that does.
#[test]
fn windows_become_episodes() {
    let mut day = Day::new(vec![process(100, "tilebaker"), process(101, "notepatch")], None);
    let calm = |world: &mut World| (world.machine.cpu, world.machine.stall_cpu) = (Some(5.0), stall(0.5));
    let short = |world: &mut World| {
        (world.machine.cpu, world.machine.stall_cpu) = (Some(99.0), stall(70.0));
        works(world, 100, 390);
    };
    day.minutes(30, calm);
    day.minutes(20, short);
    day.minutes(6, calm);
    day.minutes(14, short);
    day.minutes(40, calm);
    day.minutes(10, short);
    day.minutes(20, calm);
    let stretch = day.finish();
    let found = episodes(&stretch);
    let cpu: Vec<_> = found.iter().filter(|episode| episode.kind == FindingKind::Cpu).collect();
    assert_eq!(cpu.len(), 1, "{found:#?}");
    assert_eq!(cpu[0].severity, Severity::Critical);
    // 07:30 and half an hour: twice, the second time after forty minutes.
    let begin = stretch.from + SignedDuration::from_mins(30);
    let spans: Vec<_> = cpu[0]
        .spans
        .iter()
        .map(|(from, until)| (from.duration_since(begin).as_mins(), until.duration_since(*from).as_mins()))
        .collect();
    assert_eq!(spans, [(0, 40), (80, 10)]);
    assert_eq!(cpu[0].first().map(|first| first.app.as_str()), Some("tilebaker"));
    let document = page(&stretch, &found, &[], &frame());
    assert_eq!(verdict(&document), "Short of CPU for 50 m in the morning");
    let told = document.blocks.iter().find_map(|block| match block {
        Block::Entry(entry) if entry.word == "critical" => Some(entry.lines.clone()),
        _ => None,
    });
    let told = told.unwrap();
    assert_eq!(
        told[0],
        Text::Title(
            "short of CPU because of tilebaker (ines)".into(),
            "08:00 to 08:40, and again 09:20 to 09:30".into()
        )
    );
    assert_eq!(told[2], Text::Command("sophron checkup --from day.jsonl --at 08:20".into(), String::new()));
    // What is drawn is what is said.
    let felt = plots(&document)[0];
    assert_eq!(
        felt.says,
        "How the machine felt, in bars of 5 minutes, each by its worst minute: held up 44 m, smooth 1 h 36 m."
    );
    let customer = customer(&stretch, &found, &[], false, &["Close the tile baker at noon.".to_owned()]);
    assert_eq!(verdict(&customer), "The computer was slow twice, and for 44 minutes hardly usable");
}

/// A leak is found where nothing was short; what fills and empties, or loads something once, is none.
#[test]
fn only_what_keeps_more_and_more_grows() {
    let apps = [(100, "labelpress", 160), (101, "herbarium", 100), (102, "plantledger", 200)];
    let holding = |(pid, app, mib): (u32, &str, u64)| Process { memory_held: Some(mib * MIB), ..process(pid, app) };
    let mut day = Day::new(apps.map(holding).to_vec(), None);
    for minute in 0..120 {
        let held = |world: &mut World, pid: u32, mib: u64| world.process(pid).memory_held = Some(mib * MIB);
        day.minutes(1, |world| {
            world.machine.cpu = Some(3.0);
            held(world, 100, 100 + 3 * minute.clamp(20, 80));
            held(world, 101, 100 + (minute % 30) * 20);
            held(world, 102, if minute > 40 { 900 } else { 200 });
        });
    }
    let stretch = day.finish();
    let found = episodes(&stretch);
    assert_eq!(found.iter().map(|episode| episode.kind).collect::<Vec<_>>(), [FindingKind::Grows], "{found:#?}");
    let grew = &found[0].grew[0];
    assert_eq!((grew.app.as_str(), grew.ended), ("labelpress", false));
    assert!((grew.first - 160.0 * MIB as f64).abs() < 1.0 && (grew.last - 340.0 * MIB as f64).abs() < 1.0, "{grew:?}");
    let began = grew.from.duration_since(stretch.from).as_mins();
    assert!((19..=22).contains(&began), "{began}");
    let document = page(&stretch, &found, &[], &frame());
    assert_eq!(verdict(&document), "labelpress grows");
}

/// Who reads as he computes is left in peace: it stands among what is fine, and nothing is news.
#[test]
fn honest_work_is_no_news() {
    let mut day = Day::new(vec![process(100, "plantledger")], None);
    day.minutes(60, |world| {
        (world.machine.cpu, world.machine.core_fullest) = (Some(26.0), Some(99.0));
        works(world, 100, 99);
        world.process(100).disk_read = Some(4e6);
    });
    let stretch = day.finish();
    let found = episodes(&stretch);
    assert!(found.iter().all(|episode| episode.is_honest()), "{found:#?}");
    let document = page(&stretch, &found, &[], &frame());
    assert_eq!(verdict(&document), "Nothing was short");
    let fine = document.blocks.iter().find_map(|block| match block {
        Block::List(lines) => Some(lines.clone()),
        _ => None,
    });
    assert!(fine.unwrap().iter().any(|line| line.starts_with("plantledger (ines) kept one core busy")), "{document:?}");
}

/// The same work is news where others waited for it.
#[test]
fn work_that_others_wait_for_is_news() {
    let mut day = Day::new(vec![process(100, "plantledger")], None);
    day.minutes(30, |world| {
        (world.machine.cpu, world.machine.stall_cpu) = (Some(99.0), stall(50.0));
        works(world, 100, 399);
        world.process(100).disk_read = Some(4e6);
    });
    let stretch = day.finish();
    let found = episodes(&stretch);
    let document = page(&stretch, &found, &[], &frame());
    assert_eq!(verdict(&document), "Short of CPU for 30 m in the morning");
    let told = format!("{document:?}");
    assert!(
        told.contains("seems to have been at work") && told.contains("Programs had to wait in all of the 30 m"),
        "{told}"
    );
    assert_eq!(verdict(&customer(&stretch, &found, &[], false, &[])), "The computer was slow once");
}

/// Gone through in parts, a day is the same day: wherever it is cut, also in the middle of a window and of a minute.
#[test]
fn parts_of_a_day_are_the_day() {
    let mut world = World::new(vec![process(100, "tilebaker"), process(101, "labelpress")]);
    let mut samples = Vec::new();
    for at in 0..1500 {
        let busy = (300..700).contains(&at) || (1000..1100).contains(&at);
        (world.machine.cpu, world.machine.stall_cpu) =
            if busy { (Some(99.0), stall(70.0)) } else { (Some(5.0), stall(0.2)) };
        works(&mut world, 100, if busy { 390 } else { 3 });
        world.process(101).memory_held = Some((100 + at / 4) * MIB);
        if at == 900 {
            world.nap(Duration::from_secs(1200));
        }
        world.pass(Duration::from_secs(10));
        let mut snapshot = world.snapshot();
        snapshot.interval = Some(Duration::from_secs(10));
        samples.push(snapshot);
    }
    let setting = Setting { checkup: Default::default(), zone: TimeZone::UTC, hours: None };
    let part = |samples: &[sophron_core::model::Snapshot]| {
        let mut collector = Collector::new(setting.clone());
        samples.iter().for_each(|snapshot| collector.take(snapshot));
        collector
    };
    let told = |collector: Collector| {
        let stretch = collector.finish().unwrap();
        let found = episodes(&stretch);
        (page(&stretch, &found, &[], &frame()), stretch.rows.len(), (stretch.seen(), stretch.samples))
    };
    let (whole, rows, seen) = told(part(&samples));
    for cut in [[1, 2], [400, 901], [613, 1007], [899, 1499]] {
        // Each part begins with the last sample of the one before.
        let parts = [&samples[..cut[0]], &samples[cut[0] - 1..cut[1]], &samples[cut[1] - 1..]].map(part);
        let joined = parts.into_iter().reduce(Collector::and).unwrap();
        let (other, other_rows, other_seen) = told(joined);
        assert_eq!((other_rows, other_seen), (rows, seen), "{cut:?}");
        let words = |document: &Document| {
            let mut words: Vec<String> = Vec::new();
            for block in &document.blocks {
                match block {
                    Block::Entry(entry) => words.push(format!("{entry:?}")),
                    Block::Verdict(_, text) => words.push(text.clone()),
                    Block::Plot(plot) => words.push(plot.says.clone()),
                    _ => {}
                }
            }
            words
        };
        assert_eq!(words(&other), words(&whole), "{cut:?}");
    }
}

/// Outside the hours nobody waited, since nobody was there; and a nap is no time in which all was well.
#[test]
fn only_the_hours_that_are_meant_count() {
    let office = Hours::named("office", false, ["Tue 08:00-09:00"].map(|span| Span::parse(span).unwrap()).into());
    let mut day = Day::new(vec![process(100, "nightcopy")], Some(office));
    let waits = |world: &mut World| (world.machine.cpu, world.machine.stall_io) = (Some(5.0), stall(30.0));
    // From 07:30 on: half an hour before the hours, half an hour in them, a nap of twenty minutes.
    day.minutes(60, waits);
    day.world.nap(Duration::from_secs(1200));
    day.minutes(30, waits);
    let stretch = day.finish();
    let document = page(&stretch, &episodes(&stretch), &[], &frame());
    let felt = &plots(&document)[0];
    assert!(
        felt.says.contains("slower 40 m")
            && felt.says.contains("outside the hours 50 m")
            && !felt.says.contains("smooth"),
        "{}",
        felt.says
    );
    assert_eq!(felt.axis.blanks.iter().map(|(.., why)| *why).collect::<Vec<_>>(), ["asleep"]);
    let Drawing::Levels { bars, .. } = &felt.drawing else { panic!("it is a strip") };
    assert!(bars.iter().all(|(from, until, _)| from <= until && *from >= felt.axis.from && *until <= felt.axis.until));
}

/// Clocks that are set back and forth, and the ends of time: told as far as they can be, and never a panic.
#[test]
fn no_clock_breaks_it() {
    for begin in ["-009999-01-02T02:00:00Z", "9999-12-30T19:00:00Z", "1970-01-01T00:00:00Z"] {
        let mut day = Day::new(vec![process(100, "labelpress")], None);
        day.world.moment.wall = begin.parse().unwrap();
        for step in [0, 3600, -7200, 86_400, -90_000, 600] {
            let wall = day.world.moment.wall.checked_add(SignedDuration::from_secs(step));
            day.world.moment.wall = wall.unwrap_or(day.world.moment.wall);
            day.minutes(12, |world| {
                (world.machine.cpu, world.machine.stall_cpu) = (Some(99.0), stall(70.0));
                works(world, 100, 399);
                let held = world.processes[0].memory_held.unwrap_or(0);
                world.process(100).memory_held = Some(held + 2 * MIB);
            });
        }
        let stretch = day.finish();
        assert!(stretch.from <= stretch.until);
        let found = episodes(&stretch);
        let document = page(&stretch, &found, &[], &frame());
        assert!(verdict(&document).contains("Short of CPU"), "{begin}: {}", verdict(&document));
        let _ = customer(&stretch, &found, &[], false, &[]);
    }
}

/// A single sample, or hours without any figure: nothing is invented.
#[test]
fn little_is_told_of_little() {
    let day = Day::new(vec![process(100, "notepatch")], None);
    let stretch = day.finish();
    let document = page(&stretch, &episodes(&stretch), &[], &frame());
    assert_eq!(verdict(&document), "Nothing was short");
    let mut day = Day::new(Vec::new(), None);
    day.world.machine = sophron_core::model::Machine { boot: day.world.machine.boot, ..Default::default() };
    day.minutes(20, |_| {});
    let stretch = day.finish();
    let document = page(&stretch, &episodes(&stretch), &[], &frame());
    assert!(document.blocks.len() > 5);
    let _ = customer(&stretch, &[], &[], false, &[]);
}
