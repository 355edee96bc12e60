//! The judge: lasting, the ladder's clock, unknown, calm.

use sophron_testkit::process;

use crate::script::{PID, Script, load, rule, seconds};

const LADDER: &str =
    "ladder = [ { at = '0s', do = 'alert' }, { at = '4s', do = 'lower' }, { at = '8s', do = 'terminate' } ]";

#[test]
fn a_case_opens_when_the_breach_has_lasted_and_the_ladder_follows_its_clock() {
    let mut script = Script::new(&rule(&format!("lasting = '3s'\n{LADDER}")));
    assert_eq!(
        script.ticks(13, 800),
        ["1:building", "4:opened 1", "4:alert", "8:lower", "12:terminate"],
        "the first tick in breach has held for nothing; three seconds later it has lasted"
    );
    assert_eq!(script.ticks(60, 800), Vec::<String>::new(), "a ladder at its end does nothing more");
}

#[test]
fn one_false_starts_lasting_anew_and_a_limit_is_not_a_breach() {
    let mut script = Script::new(&rule(&format!("lasting = '3s'\n{LADDER}")));
    assert_eq!(script.ticks(3, 800), ["1:building"]);
    assert_eq!(script.tick(750), ["abandoned"]);
    assert_eq!(script.ticks(4, 800), ["1:building", "4:opened 1", "4:alert"]);
}

#[test]
fn unknown_does_not_count_and_too_much_of_it_starts_anew() {
    let mut script = Script::new(&rule(&format!("lasting = '3s'\n{LADDER}")));
    script.ticks(3, 800);
    assert_eq!(script.tick_after(seconds(1), None), Vec::<String>::new());
    assert_eq!(script.ticks(2, 800), ["2:opened 1", "2:alert"], "held for 2 s before the unknown, and 1 s after");
    let mut script = Script::new(&rule(&format!("lasting = '3s'\n{LADDER}")));
    script.ticks(3, 800);
    for _ in 0..3 {
        script.tick_after(seconds(1), None);
    }
    assert_eq!(script.tick_after(seconds(1), None), ["abandoned"], "unknown for longer than lasting");
}

#[test]
fn a_slow_sample_counts_as_one_and_a_gap_or_nap_as_nothing() {
    let rules = rule(&format!("lasting = '3s'\n{LADDER}"));
    let mut script = Script::new(&rules);
    script.ticks(5, 800);
    assert_eq!(script.clock(), seconds(1));
    script.tick_after(seconds(3), Some(800));
    assert_eq!(script.clock(), seconds(4), "up to three times `every`: as it is");
    script.tick_after(seconds(9), Some(800));
    assert_eq!(script.clock(), seconds(5), "up to ten times: one `every`");
    script.tick_after(seconds(11), Some(800));
    script.world.nap(seconds(3600));
    script.tick(800);
    assert_eq!(script.clock(), seconds(5), "a gap and a nap: nothing");
    assert_eq!(script.ticks(5, 800), ["3:terminate"], "and after standing still that long, `lasting` again first");
}

#[test]
fn between_breach_and_calm_the_clock_stands_still_and_nothing_is_done() {
    let mut script = Script::new(&rule(&format!("lasting = '2s'\ncalm = 'memory.held < 520 MiB'\n{LADDER}")));
    script.ticks(5, 800);
    assert_eq!(script.clock(), seconds(2));
    assert_eq!(script.ticks(300, 600), Vec::<String>::new(), "600 MiB is never acted on for a limit of 750");
    assert_eq!(script.clock(), seconds(2));
    assert_eq!(
        script.ticks(8, 800),
        ["3:lower", "7:terminate"],
        "two ticks to hold again for `lasting`; the clock ran on meanwhile"
    );
}

#[test]
fn calm_must_hold_as_long_as_lasting_and_a_breach_during_it_goes_on() {
    let mut script = Script::new(&rule(&format!("lasting = '3s'\n{LADDER}")));
    script.ticks(8, 800);
    assert_eq!(script.ticks(2, 700), ["1:easing"]);
    assert_eq!(script.tick(800), ["again"]);
    assert_eq!(script.ticks(5, 700), ["1:easing", "4:closed 1 Calm"]);
    assert_eq!(script.judge.cases().count(), 0);
}

#[test]
fn calm_takes_two_ticks_and_no_unknown() {
    let mut script = Script::new(&rule("lasting = '0s'\nladder = [ { at = '0s', do = 'lower' } ]"));
    assert_eq!(script.tick(800), ["building", "opened 1", "lower"]);
    assert_eq!(script.tick(700), ["easing"]);
    assert_eq!(script.tick_after(seconds(1), None), Vec::<String>::new());
    assert_eq!(script.ticks(2, 700), ["1:easing", "2:closed 1 Calm"]);
}

#[test]
fn after_a_relapse_the_next_undo_waits_twice_as_long() {
    let mut script = Script::new(&rule("lasting = '3s'\nladder = [ { at = '0s', do = 'lower' } ]"));
    script.ticks(4, 800);
    assert_eq!(script.ticks(9, 700), ["1:easing", "4:closed 1 Calm"]);
    script.ticks(4, 800);
    assert_eq!(script.ticks(9, 700), ["1:easing", "7:closed 2 Calm"]);
    script.ticks(4, 800);
    assert_eq!(script.ticks(20, 700), ["1:easing", "13:closed 3 Calm"]);
    script.ticks(601, 700);
    script.ticks(4, 800);
    assert_eq!(script.ticks(9, 700), ["1:easing", "4:closed 4 Calm"], "ten minutes later it is forgotten");
}

#[test]
fn a_step_waits_for_the_outcome_before_it_and_comes_one_a_tick() {
    let mut script = Script::new(&rule(
        "lasting = '0s'\nladder = [ { at = '0s', do = 'alert' }, { at = '0s', do = 'lower' }, { at = '1s', do = 'terminate' } ]",
    ));
    script.prompt = false;
    assert_eq!(script.tick(800), ["building", "opened 1", "alert"]);
    assert_eq!(script.ticks(3, 800), Vec::<String>::new());
    script.judge.settled(1, None, false);
    assert_eq!(script.tick(800), ["lower"]);
    script.judge.postponed(1);
    script.busy = true;
    assert_eq!(script.tick(800), Vec::<String>::new(), "another rule's act on it is under way");
    script.busy = false;
    assert_eq!(script.tick(800), ["lower"], "postponed: due again");
    script.judge.settled(1, None, true);
    assert_eq!(script.tick(800), ["terminate"]);
}

#[test]
fn a_process_that_ends_or_is_no_longer_covered_closes_its_case() {
    let rules = rule("lasting = '0s'");
    let mut script = Script::new(&rules);
    script.tick(800);
    script.world.process(PID).names_mut().app = "plantledger".to_owned();
    assert_eq!(script.tick(800), ["closed 1 Left"]);

    let mut script = Script::new(&rules);
    script.tick(800);
    // The same PID, another process.
    script.world.processes = vec![process(PID, "labelpress")];
    let next = script.world.process(PID);
    (next.id.start, next.age) = (next.id.start + 1, seconds(0));
    assert_eq!(
        script.tick(800),
        ["closed 1 Ended", "building", "opened 1", "alert"],
        "the same program from the same file is the same case"
    );
    script.world.processes.clear();
    assert_eq!(script.judge_now(), ["closed 1 Ended"]);
    // Ten minutes later it is another story.
    script.world.processes = vec![process(PID, "labelpress")];
    assert_eq!(script.tick_after(seconds(601), Some(800)), ["building", "opened 2", "alert"]);
}

#[test]
fn an_unknown_where_covers_nobody_and_is_counted() {
    let rules =
        load("[[rule]]\nname = 'a'\nwhere = 'path ~ \"/opt/*\"'\nbreach = 'memory.held > 1 MiB'\nlasting = '0s'");
    let mut script = Script::new(&rules);
    script.world.process(PID).names_mut().path = None;
    assert_eq!(script.tick(800), Vec::<String>::new());
    let (_, status) = script.judge.status().next().unwrap();
    assert_eq!((status.covered, status.undecided, status.unreadable.len()), (0, 1, 1));
}

/// Whoever comes after one that ended, of the same owner, program and file, goes on with its breach: forking and exiting is no way
/// out. Neither is one that ran long before such a successor, nor who comes a while later, nor another's.
#[test]
fn who_takes_turns_to_breach_is_judged_as_one() {
    // Each lives for two samples, and every second one shows a new one: `lasting` is five.
    let relay = |lives: u64, change: &dyn Fn(&mut sophron_core::model::Process, u64)| {
        let mut script = Script::new(&rule(&format!("lasting = '5s'\n{LADDER}")));
        let mut words = Vec::new();
        for tick in 0..40 {
            if tick % lives == 0 {
                let mut next = process(PID + u32::try_from(tick).unwrap(), "labelpress");
                next.age = seconds(0);
                change(&mut next, tick);
                script.world.processes = vec![next];
            }
            script.world.pass(seconds(1));
            for process in &mut script.world.processes {
                process.memory_held = Some(800 << 20);
                process.age += seconds(1);
            }
            words.extend(script.judge_now());
        }
        words.retain(|word| word != "building" && word != "abandoned");
        words
    };
    let caught = ["opened 1", "alert", "lower", "terminate"];
    for lives in [1, 2, 4] {
        assert!(relay(lives, &|_, _| {}).starts_with(&caught.map(str::to_owned)[..2]), "of {lives} samples each");
    }
    let none = Vec::<String>::new();
    assert_eq!(relay(2, &|next, tick| next.uid += tick as u32), none, "of several owners");
    assert_eq!(relay(2, &|next, tick| next.names_mut().app += &tick.to_string()), none, "several programs");
    assert_eq!(relay(2, &|next, _| next.age = seconds(600)), none, "who ran long before is no successor");
    // Two in breach, then a while nobody: work that comes again and again, and is not one.
    let now_and_then = |next: &mut sophron_core::model::Process, tick| {
        if tick % 12 != 0 {
            next.names_mut().app = "herbarium".to_owned();
        }
    };
    assert_eq!(relay(3, &now_and_then), none);
}
