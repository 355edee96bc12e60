//! What people see at their desks: of which case, in which words, and how much of it.

use std::time::Duration;

use sophron_core::act::{Ending, Outcome};
use sophron_core::answer::Answer;
use sophron_core::audit::ToldWord;
use sophron_core::happening::What;
use sophron_core::rules::RuleSet;
use sophron_core::telling::{AND_MORE, AtDesk, Desks, Notice};
use sophron_testkit::process;

use crate::happening::scribe;
use crate::script::{load, seconds};
use crate::watch::{Watch, lowered, suspended};

const CHANNEL: &str = "[[channel]]\nname = 'owner'\nto = 'desk'\n[[tell]]\nby = ['owner']\n";

fn press(keys: &str) -> std::sync::Arc<RuleSet> {
    let rule = "[[rule]]\nname = 'press-leak'\nnote = 'It leaks.'\nwhere = 'app = \"labelpress\"'\nbreach = 'memory.held > 750 MiB'\nlasting = '0s'\n";
    load(&format!("{CHANNEL}{rule}{keys}"))
}

/// What is to be seen of all that was told since the last time, as it would be on a screen.
fn seen(watch: &mut Watch, desks: &mut Desks, rules: &RuleSet) -> Vec<String> {
    let now = watch.world.moment.monotonic;
    let mut all = Vec::new();
    for happening in std::mem::take(&mut watch.told) {
        if matches!(happening.what, What::Asks(..)) {
            let (uid, notice) = desks.asks(&happening, rules, &scribe()).expect("he is asked");
            all.push(format!("{uid} {}", words(&notice)));
        }
        all.extend(desks.happened(&happening, now, rules, &scribe()).into_iter().map(|one| match one {
            AtDesk::Show(uid, notice) => format!("{uid} {}", words(&notice)),
            AtDesk::TakeDown(uid, case) => format!("{uid} case {case} taken down"),
            AtDesk::Leave(uid, case) => format!("{uid} case {case} left"),
        }));
    }
    all
}

fn words(notice: &Notice) -> String {
    let Notice { case, title, body, answers, stays, .. } = notice;
    let answers: String = answers.iter().map(|(_, label)| format!(" [{label}]")).collect();
    format!("case {case}{}: {title} | {body}{answers}", if *stays { " stays" } else { "" })
}

/// From how much to how much, what comes next, and what he can decide.
#[test]
fn a_story_as_a_person_sees_it() {
    let rules = press(
        "armed = true\nagain = { risen = '100 MiB' }\nkeep = { for = '30m', times = 1 }\nladder = [ { at = '0s', do = 'alert' }, { at = '10s', do = 'lower' }, \
         { at = '20s', do = 'suspend', for = '5s' }, { at = '40s', do = 'terminate', ask = '60s' } ]",
    );
    let (mut watch, mut desks) = (Watch::new(&rules), Desks::new("owner", false));
    let mut story = Vec::new();
    watch.ticks(1, 812);
    watch.ticks(2, 944);
    story.extend(seen(&mut watch, &mut desks, &rules));
    watch.ticks(9, 944);
    watch.came(lowered(10));
    watch.ticks(12, 944);
    let now = watch.world.moment;
    watch.came(suspended(now, seconds(5)));
    story.extend(seen(&mut watch, &mut desks, &rules));
    watch.world.processes[0].state = sophron_core::state::State::Suspended;
    watch.ticks(6, 944);
    watch.came(Outcome::Resumed(Some(Duration::ZERO)));
    watch.world.processes[0].state = sophron_core::state::State::Running;
    while watch.asks.is_empty() {
        watch.ticks(1, 1100);
    }
    story.extend(seen(&mut watch, &mut desks, &rules));
    watch.shown(Ok("at the desk"));
    watch.answer(Answer::LetRun).unwrap();
    watch.ticks(60, 100);
    while !watch.under_way.is_empty() {
        watch.came(Outcome::Restored(sophron_core::act::Restoring::default()));
    }
    story.extend(seen(&mut watch, &mut desks, &rules));
    assert!(!desks.is_watched(1001), "nothing is open when it is over");
    insta::assert_snapshot!(story.join("\n"), @r"
    1001 case 1: labelpress uses a lot of memory | 812 MiB; the limit is 750 MiB. Save your work there. Next: it gives way to your other programs at 07:30. It leaks.
    1001 case 1: labelpress still uses a lot of memory | From 812 MiB to 944 MiB since 07:30. Next: it gives way to your other programs at 07:30.
    1001 case 1: labelpress gives way now | To your other programs. It was at 944 MiB; the limit is 750 MiB. Next: it stands still for a while from 07:30.
    1001 case 1: labelpress stands still until 07:30 | It goes on by itself.
    1001 case 1: labelpress goes on | Next: at 07:30 you are asked before it is ended.
    1001 case 1: labelpress still uses a lot of memory | From 944 MiB to 1.07 GiB since 07:30. Next: at 07:30 you are asked before it is ended.
    1001 case 1 stays: labelpress will be ended | At 07:31:41. 1.07 GiB; the limit is 750 MiB. Save now. [Let it run 30 min] [Suspend 5 min] [End now]
    1001 case 1: labelpress runs on until 08:00 | As was answered.
    1001 case 1: labelpress behaves again | 100 MiB, after 42 seconds; at most 1.07 GiB.
    1001 case 1 left
    ");
}

#[test]
fn whoever_is_ended_was_asked_and_is_told() {
    let rules = press("armed = true\nladder = [ { at = '1s', do = 'terminate', ask = '5s' } ]");
    let (mut watch, mut desks) = (Watch::new(&rules), Desks::new("owner", false));
    watch.ticks(2, 812);
    watch.shown(Ok("at the desk"));
    watch.ticks(6, 812);
    watch.came(Outcome::Ended(Ending::default()));
    watch.world.processes.clear();
    watch.sample();
    insta::assert_snapshot!(seen(&mut watch, &mut desks, &rules).join("\n"), @r"
    1001 case 1: labelpress uses a lot of memory | 812 MiB; the limit is 750 MiB. Save your work there. Next: at 07:30 you are asked before it is ended. It leaks.
    1001 case 1 stays: labelpress will be ended | At 07:30:07. 812 MiB; the limit is 750 MiB. Save now. [Suspend 5 min] [End now]
    1001 case 1: labelpress is ended now | Nobody has answered.
    1001 case 1: labelpress was ended | It was at 812 MiB; the limit is 750 MiB. You can start it again.
    1001 case 1 left
    ");
}

/// Owners hear of armed rules only, of what a tell has told there, and of nobody else's programs.
#[test]
fn who_is_not_told_at_his_desk() {
    let armed = "ladder = [ { at = '0s', do = 'alert' } ]\narmed = true\n";
    let told = |rules: &std::sync::Arc<RuleSet>, shadow: bool, uid: u32| {
        let (mut watch, mut desks) = (Watch::new(rules), Desks::new("owner", shadow));
        watch.world.processes[0].uid = uid;
        watch.world.processes[0].names_mut().person = None;
        watch.ticks(3, 812);
        seen(&mut watch, &mut desks, rules).len()
    };
    assert_eq!(told(&press(armed), false, 1001), 1);
    assert_eq!(told(&press(armed), true, 1001), 0, "all in shadow");
    assert_eq!(told(&press(&armed.replace("true", "false")), false, 1001), 0, "in shadow");
    assert_eq!(told(&press(armed), false, 0), 0, "nobody sits at a desk as root");
    let by = |tell: &str| {
        let rule = "[[rule]]\nname = 'a'\nbreach = 'memory.held > 750 MiB'\nlasting = '0s'\narmed = true\n";
        load(&format!("{CHANNEL}{tell}\n{rule}"))
    };
    assert_eq!(told(&by("severity = 'critical'"), false, 1001), 0);
    assert_eq!(told(&by("where = 'owner = tomas'"), false, 1001), 0);
}

/// At most six open and twelve new an hour; what is beyond that is counted in one.
#[test]
fn a_desk_is_not_flooded() {
    let rules = load(&format!(
        "[cap]\nacts = 0\n{CHANNEL}[[rule]]\nname = 'a'\nbreach = 'memory.held > 750 MiB'\nlasting = '0s'\narmed = true\nladder = [ {{ at = '0s', do = 'alert' }} ]\n"
    ));
    let (mut watch, mut desks) = (Watch::new(&rules), Desks::new("owner", false));
    watch.world.processes = (10..20).map(|pid| process(pid, "tilebaker")).collect();
    watch.ticks(1, 800);
    let all = seen(&mut watch, &mut desks, &rules);
    assert_eq!(all.len(), 10);
    assert!(
        all[6].contains("And 1 more program of yours") && all[9].contains("And 4 more programs of yours"),
        "{all:?}"
    );
    assert_eq!(all.iter().filter(|one| one.contains(&format!("case {AND_MORE}:"))).count(), 4);
    // They are over, and as many come again: six more in this hour, and the rest is counted.
    watch.ticks(3, 100);
    let all = seen(&mut watch, &mut desks, &rules);
    assert_eq!(all.iter().filter(|one| one.contains("behaves again")).count(), 6, "{all:?}");
    assert!(all.iter().any(|one| one.contains("case 0 taken down")));
    for _ in 0..2 {
        watch.ticks(1, 800);
        watch.ticks(3, 100);
    }
    let all = seen(&mut watch, &mut desks, &rules);
    assert_eq!(all.iter().filter(|one| one.contains("uses a lot of memory")).count(), 6, "{all:?}");
}

/// What became of a notice is recorded once, and again when it is another thing.
#[test]
fn what_became_of_a_notice_is_recorded_once() {
    let rules = press("armed = true");
    let (mut watch, mut desks) = (Watch::new(&rules), Desks::new("owner", false));
    watch.ticks(1, 812);
    seen(&mut watch, &mut desks, &rules);
    let locked = || Err("the screen is locked".to_owned());
    let came: Vec<_> =
        [locked(), locked(), Ok(()), Ok(()), locked()].map(|came| desks.came(1, came)).into_iter().collect();
    let words: Vec<_> = came.into_iter().map(|came| came.map(|(_, told)| told.outcome)).collect();
    assert_eq!(words, [Some(ToldWord::NotShown), None, Some(ToldWord::Shown), None, Some(ToldWord::NotShown)]);
    assert_eq!(desks.came(7, Ok(())), None, "of no case that he is told of");
}
