//! What is handed out to be done: all that its record, its check and the one who does it need to know.

use sophron_core::act::{Act, Outcome, Verb};
use sophron_core::dispatch::{Commission, Input, Settings, children};
use sophron_core::happening::{Announced, What};
use sophron_core::protect::Protections;
use sophron_core::sorted::SortedSet;
use sophron_core::state::State;
use sophron_testkit::process;

use crate::script::{MIB, PID, load, rule, seconds};
use crate::watch::{Watch, lowered, settings, suspended};

const TREE: &str = "[[rule]]\nname = 'bakers'\njudge = 'tree'\nwhere = 'app = \"tilebaker\"'\nbreach = 'instances > 0'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'terminate' } ]\n";

fn announced(commission: &Commission) -> &Announced {
    match &commission.announced.what {
        What::Announced(_, announced) => announced,
        other => panic!("{other:?}"),
    }
}

/// A baker with two helpers, one of which has a helper; and somebody else.
fn bakery(rules: &str, settings: Settings, protections: Protections) -> Watch {
    let mut watch = Watch::with(&load(rules), settings, protections);
    let below = |pid: u32, parent: u32| {
        let mut process = process(pid, "kneader");
        process.parent = parent;
        process
    };
    watch.world.processes =
        vec![process(10, "tilebaker"), below(11, 10), below(12, 10), below(13, 11), process(14, "dash")];
    watch
}

/// The record before an act says by which step, on what grounds, and who its children are; the check what must still hold.
#[test]
fn an_act_is_announced_with_its_grounds() {
    let rules = TREE.replace("tree", "process").replace("terminate'", "suspend'");
    let mut watch = bakery(&rules, settings(), Protections::default());
    watch.world.process(12).state = State::Zombie;
    watch.ticks(1, 800);
    let commission = &watch.under_way[0];
    let announced = announced(commission);
    let own = watch.world.process(11).label();
    assert_eq!(
        (announced.step, announced.tree, &announced.children),
        (Some(0), false, &vec![own]),
        "who has ended is no child"
    );
    let grounds = announced.grounds.as_ref().unwrap();
    assert_eq!(grounds.measure.as_ref().map(|measure| measure.quantity.to_string()).as_deref(), Some("instances"));
    let check = commission.check.as_ref().unwrap();
    assert_eq!((&*check.rule.name, check.by_where, check.tick), ("bakers", true, Some(1)));
    assert_eq!((commission.case(), commission.order.whole.is_some()), (Some(1), false));
}

/// A tree is handed out whole: who is of it and below whom, and who is spared, each with the reason.
#[test]
fn a_tree_is_ended_without_whom_it_must_not_touch() {
    let mut protections = Protections::default();
    protections.terminal.insert(process(12, "kneader").id);
    let mut watch = bakery(TREE, settings(), protections);
    watch.beside.own = SortedSet::from([14]);
    watch.hand(13, Verb::Resume, None);
    watch.ticks(1, 100);
    let commission = &watch.under_way[0];
    assert!(announced(commission).tree && announced(commission).children.len() == 2);
    let whole = commission.order.whole.as_ref().unwrap();
    let members: Vec<_> = whole.members.iter().map(|(id, parent)| (id.pid, *parent)).collect();
    assert_eq!(members, [(10, 1), (11, 10), (12, 10), (13, 11)]);
    let spared: Vec<_> = whole.spared.iter().map(|(pid, why)| (*pid, why.as_str())).collect();
    assert_eq!(
        spared,
        [
            (12, "holds the terminal that Sophron was started from"),
            (13, "rules stand back from it"),
            (14, "Sophron itself"),
        ]
    );
    // Until its outcome is in nobody of it is acted upon for another rule either.
    let kept: Vec<u32> = {
        watch.ticks(1, 100);
        watch.kept.busy.iter().copied().collect()
    };
    assert_eq!(kept, [10, 11, 12, 13]);
    // Lowered it is one by one, and by where alone: a helper is covered as one of the tree.
    let mut watch = bakery(&TREE.replace("terminate", "lower"), settings(), Protections::default());
    watch.ticks(1, 100);
    let by_where: Vec<_> =
        watch.under_way.iter().map(|of| (of.order.targets[0].id.pid, of.check.as_ref().unwrap().by_where)).collect();
    assert_eq!(by_where, [(10, true), (11, false), (12, false), (13, false)]);
    assert!(watch.under_way.iter().all(|of| of.order.whole.is_none()));
}

/// What joins an act of another case is told as its own: the step, and whether it is only assumed.
#[test]
fn what_joins_is_told_with_its_step() {
    let keys = "lasting = '0s'\nladder = [ { at = '0s', do = 'alert' }, { at = '1s', do = 'lower', nice = 5 }, { at = '3s', do = 'lower', nice = 5 } ]";
    for assumed in [false, true] {
        let mut watch = Watch::with(&rule(keys), Settings { assumed, ..settings() }, Protections::default());
        watch.ticks(2, 800);
        watch.came(lowered(5));
        watch.ticks(2, 800);
        let joined = watch.told.iter().rev().find_map(|happening| match &happening.what {
            What::Came(out) if matches!(out.outcome, Outcome::Joined { nice: 5 }) => Some(out.clone()),
            _ => None,
        });
        let joined = joined.unwrap_or_else(|| panic!("{:?}", watch.words()));
        assert_eq!((joined.step, joined.assumed, joined.tree), (Some(2), assumed, false));
        assert!(joined.measure.is_some() && matches!(joined.act.as_deref(), Some(Act::Lower { nice: 5, .. })));
    }
}

/// A program is told by which step it is run, and on what grounds.
#[test]
fn a_call_knows_its_step() {
    let rules = "[[rule]]\nname = 'a'\nbreach = 'memory.held > 750 MiB'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'alert' }, { at = '2s', do = 'run', run = ['/opt/mossgate/tell-desk', 'now'] } ]\n";
    let mut watch = Watch::new(&load(rules));
    watch.ticks(3, 800);
    let call = &watch.calls[0];
    assert_eq!((call.step, &*call.rule, call.case), (1, "a", 1));
    assert_eq!(call.command.join(" "), "/opt/mossgate/tell-desk now");
    let What::Calls(announced) = &call.announced.what else { panic!("{call:?}") };
    assert!(announced.step == Some(1) && announced.grounds.is_some());
    let call = watch.calls.remove(0);
    watch.step(Input::Ran(Box::new(call), Outcome::Ran("it ended with status 0".to_owned())));
    let What::Came(out) = &watch.told.last().unwrap().what else { panic!("{:?}", watch.words()) };
    assert!(out.act.is_none() && out.step == Some(1) && out.measure.is_some());
}

/// Only those that live, not the process itself, and at most 32.
#[test]
fn the_children_of_a_record() {
    let mut watch = Watch::new(&rule("lasting = '0s'"));
    let child = |pid: u32| {
        let mut process = process(pid, "kneader");
        process.parent = 10;
        process
    };
    watch.world.processes = (11..61).map(child).collect();
    let mut own = process(10, "tilebaker");
    own.parent = 10;
    watch.world.processes.insert(0, own);
    watch.world.process(11).state = State::Zombie;
    watch.world.process(12).parent = 11;
    let named = children(&watch.world.snapshot(), 10);
    assert_eq!((named.len(), named[0].clone()), (32, watch.world.process(13).label()));
    assert_eq!(children(&watch.world.snapshot(), PID), Vec::<String>::new());
}

/// While another rule's suspension of one of its processes stands in the way of judging, what is under way still goes by the sample: a
/// breach that it does not show lets no signal go.
#[test]
fn a_breach_that_is_over_lets_no_signal_go_beside_a_suspension() {
    let rules = load(
        "[[rule]]\nname = 'press'\nwhere = 'app = labelpress'\nbreach = 'memory.held > 750 MiB'\nlasting = '0s'\narmed = true\nladder = [ { at = '0s', do = 'suspend', for = '60s' } ]\n\
         [[rule]]\nname = 'room'\njudge = 'machine'\nwhere = 'not kernel'\nbreach = 'machine.memory.available < 500 MiB'\nlasting = '0s'\npick = 'newest'\narmed = true\nladder = [ { at = '0s', do = 'terminate' } ]\n",
    );
    for (free, goes) in [(400, true), (900, false)] {
        let mut watch = Watch::new(&rules);
        watch.world.processes.push(process(PID + 1, "tilebaker"));
        watch.world.process(PID + 1).age = seconds(5);
        watch.world.machine.memory_available = Some(400 * MIB);
        watch.ticks(1, 800);
        assert_eq!(watch.under_way.iter().map(|act| act.target().unwrap().id.pid).collect::<Vec<_>>(), [PID, PID + 1]);
        watch.came(suspended(watch.world.moment, seconds(60)));
        watch.world.process(PID).state = State::Suspended;
        watch.world.machine.memory_available = Some(free * MIB);
        watch.ticks(1, 800);
        let (act, leave) = (&watch.under_way[0], watch.dispatcher.leave_now());
        let told = act.check.as_ref().unwrap().goes_on(act.case().unwrap(), act.target().unwrap(), &leave);
        assert_eq!(told.is_ok(), goes, "{free} MiB free: {told:?}");
    }
}
