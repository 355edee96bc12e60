//! One look over a whole span: rates of all of it, how what was held went, and nobody who is gone.

use std::time::Duration;

use sophron_core::model::{ProcessId, Snapshot};
use sophron_core::over::{Over, Seen};
use sophron_testkit::{World, process};

use crate::script::{MIB, seconds};

/// A span of samples ten seconds apart; `change` says what happens before each.
fn span(samples: u64, mut change: impl FnMut(&mut World, u64)) -> (Snapshot, Vec<(u32, Seen)>) {
    let mut world = World::new(vec![process(10, "labelpress"), process(20, "herbarium")]);
    let mut over = Over::default();
    for sample in 0..samples {
        if sample > 0 {
            world.pass(seconds(10));
        }
        change(&mut world, sample);
        let interval = Some(seconds(10));
        over.take(&Snapshot { interval, ..world.snapshot() });
    }
    let (last, seen) = over.finish().unwrap();
    (last, seen.into_iter().map(|(id, seen): (ProcessId, Seen)| (id.pid, seen)).collect())
}

fn of(seen: &[(u32, Seen)], pid: u32) -> Option<&Seen> {
    seen.iter().find(|(found, _)| *found == pid).map(|(_, seen)| seen)
}

#[test]
fn rates_are_those_of_the_whole_span() {
    let (last, _) = span(4, |world, sample| {
        world.machine.cpu = Some([90.0, 10.0, 20.0, 60.0][sample as usize]);
        let press = world.process(10);
        press.cpu_time += seconds([500, 1, 2, 3][sample as usize]);
        press.disk_read = Some([9e9, 100.0, 200.0, 300.0][sample as usize]);
        press.waited = Some(30.0);
        world.process(20).disk_write = None;
    });
    let (press, herbarium) = (last.process(10).unwrap(), last.process(20).unwrap());
    // What was before the first sample is not of the span: 6 s of CPU in 30.
    assert_eq!((press.cpu, press.disk_read, press.waited), (Some(20.0), Some(200.0), Some(30.0)));
    assert_eq!((herbarium.cpu, herbarium.disk_write), (Some(0.0), None), "unknown stays unknown");
    assert_eq!((last.machine.cpu, last.interval), (Some(30.0), Some(seconds(30))));
}

/// Who began in the span has used in it all that he has used; who ended in it is not told of.
#[test]
fn who_came_and_who_went() {
    let (last, seen) = span(3, |world, sample| match sample {
        1 => {
            world.processes.remove(0);
            let mut baker = process(30, "tilebaker");
            (baker.cpu_time, baker.memory_held) = (seconds(4), Some(100 * MIB));
            world.processes.push(baker);
        }
        2 => {
            let baker = world.process(30);
            (baker.cpu_time, baker.memory_held) = (seconds(10), Some(70 * MIB));
        }
        _ => {}
    });
    assert_eq!(last.process(30).unwrap().cpu, Some(50.0), "10 s of 20");
    assert_eq!(of(&seen, 30).unwrap().growth, Some(-30.0 * MIB as f64), "it holds less than it began with");
    assert!(of(&seen, 10).is_none() && of(&seen, 20).is_some());
    // Under a PID that was another's before, it is another.
    let (_, seen) = span(2, |world, sample| {
        if sample == 1 {
            let press = world.process(10);
            (press.id.start, press.memory_held) = (press.id.start + 1, Some(500 * MIB));
        }
    });
    assert_eq!((seen.len(), of(&seen, 10).unwrap().growth), (2, Some(0.0)));
}

#[test]
fn what_cannot_be_read_has_no_course() {
    let (_, seen) = span(3, |world, sample| {
        world.process(10).memory_held = None;
        world.process(10).memory = Some([10, 20, 30][sample as usize] * MIB);
        let unread = world.process(20);
        (unread.memory_held, unread.memory) = (None, None);
    });
    assert_eq!(of(&seen, 10).unwrap().growth, Some(20.0 * MIB as f64), "what is resident stands for it");
    let unread = of(&seen, 20).unwrap();
    assert_eq!((unread.growth, unread.course.columns(20.0, 4)), (None, vec![None; 4]));
}

/// However long the span, a course has so many points, and the highest of each: a peak is never lost.
#[test]
fn a_peak_is_never_lost() {
    for samples in [2_u64, 7, 64, 65, 500, 5000] {
        let peak = samples / 3;
        let (_, seen) = span(samples, |world, sample| {
            world.process(10).memory_held = Some(if sample == peak { 900 } else { 10 } * MIB);
        });
        let length = (samples - 1) as f64 * 10.0;
        let columns = of(&seen, 10).unwrap().course.columns(length, 32);
        let highest = columns.iter().copied().flatten().fold(0.0, f64::max);
        assert_eq!((columns.len(), highest), (32, 900.0 * MIB as f64), "{samples} samples");
        let place = columns.iter().position(|column| *column == Some(highest)).unwrap() as f64 / 32.0;
        let wanted = peak as f64 * 10.0 / length;
        assert!((place - wanted).abs() <= 0.07, "{samples} samples: at {place} and not {wanted}");
        assert!(columns.iter().all(Option::is_some), "{samples} samples: no gap");
    }
}

#[test]
fn one_sample_is_no_span() {
    assert!(Over::default().finish().is_none());
    let (last, seen) = span(1, |world, _| world.process(10).cpu = Some(7.0));
    assert_eq!((last.process(10).unwrap().cpu, last.interval), (Some(7.0), Some(Duration::from_secs(10))));
    assert_eq!(of(&seen, 10).unwrap().growth, Some(0.0));
}
