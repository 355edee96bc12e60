//! A suspension of ours: nothing is judged while it is in force, and the ladder's clock runs on.

use sophron_core::state::State;
use sophron_testkit::{World, process};

use crate::script::{PID, Script, load, seconds};

const SPIN: &str = "[[rule]]\nname = 'lamp-spin'\nbreach = 'cpu > 90%'\nlasting = '2s'\narmed = true\n\
    ladder = [ { at = '0s', do = 'alert' }, { at = '2s', do = 'suspend', for = '5s' }, { at = '10s', do = 'terminate' } ]";

fn spinner() -> Script {
    let mut script = Script::new(&load(SPIN));
    script.world = World::new(vec![process(PID, "sheetlamp")]);
    script.world.process(PID).cpu = Some(99.0);
    script
}

fn ticks(script: &mut Script, count: u64) -> Vec<String> {
    let one = |script: &mut Script| {
        script.world.pass(seconds(1));
        script.judge_now()
    };
    (1..=count).flat_map(|tick| one(script).into_iter().map(move |word| format!("{tick}:{word}"))).collect()
}

#[test]
fn a_suspended_spinner_is_not_calm_and_reaches_its_terminate() {
    let mut script = spinner();
    assert_eq!(ticks(&mut script, 5), ["1:building", "3:opened 1", "3:alert", "5:suspend"]);
    script.suspended = true;
    script.world.process(PID).cpu = Some(0.0);
    script.world.process(PID).state = State::Suspended;
    assert_eq!(ticks(&mut script, 5), Vec::<String>::new(), "0% while suspended is neither calm nor a reading");
    assert_eq!(script.clock(), seconds(7), "the clock ran on");
    // Resumed: the interval in which that happened is not judged either, whatever it shows.
    script.world.process(PID).state = State::Running;
    assert_eq!(ticks(&mut script, 1), Vec::<String>::new());
    script.suspended = false;
    script.world.process(PID).cpu = Some(99.0);
    assert_eq!(ticks(&mut script, 5), ["2:terminate"], "at 10 s on the ladder's clock");
}

#[test]
fn a_step_due_during_a_suspension_waits_for_the_resume_and_a_whole_breached_interval() {
    let mut script = spinner();
    ticks(&mut script, 5);
    script.suspended = true;
    assert_eq!(ticks(&mut script, 30), Vec::<String>::new(), "long past 10 s, but suspended");
    script.suspended = false;
    script.world.process(PID).cpu = Some(1.0);
    assert_eq!(ticks(&mut script, 1), ["1:easing"], "after the resume it is calm: nothing is taken");
    script.world.process(PID).cpu = Some(99.0);
    assert_eq!(ticks(&mut script, 2), ["1:again", "2:terminate"], "after one whole interval in breach");
}
