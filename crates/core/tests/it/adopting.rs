//! Rules read anew: who is the same goes on with his story, by his name and his meaning, not by his place or his spelling.

use sophron_core::act::{Act, Outcome, Restoring};
use sophron_core::condition::{Condition, Place};
use sophron_core::dispatch::Input;
use sophron_core::happening::{Over, What};
use sophron_core::protect::Protections;

use crate::script::{load, seconds};
use crate::watch::{Watch, lowered, suspended};

fn leak(keys: &str) -> String {
    format!(
        "[[rule]]\nname = 'leak'\nwhere = 'app = \"labelpress\"'\nbreach = 'memory.held > 750 MiB'\narmed = true\n{keys}\n"
    )
}

const KEYS: &str = "lasting = '2s'\nladder = [ { at = '0s', do = 'lower' }, { at = '6s', do = 'terminate' } ]";
const OTHER: &str = "[[rule]]\nname = 'other'\nbreach = 'cpu > 90%'\nlasting = '1s'\n";

impl Watch {
    fn adopts(&mut self, text: &str) {
        self.step(Input::Rules(load(text), Protections::default()));
    }

    fn closed(&self) -> Vec<Over> {
        let over = |what: &What| match what {
            What::Closed { why, .. } => Some(*why),
            _ => None,
        };
        self.told.iter().filter_map(|happening| over(&happening.what)).collect()
    }
}

fn under_way() -> Watch {
    let mut watch = Watch::new(&load(&leak(KEYS)));
    watch.ticks(3, 800);
    watch.came(lowered(10));
    watch.told.clear();
    watch
}

/// Whatever is only said otherwise, moved, or measured alike leaves the case, its clock and what it holds as they are.
#[test]
fn what_means_the_same_goes_on() {
    let spelled = [
        leak("lasting = \"2000ms\"\nladder = [ { do = 'lower', at = '0m' }, { do = 'terminate', at = '6s' } ]"),
        leak(&format!("note = 'It leaks.'\n{KEYS}")),
        format!("{OTHER}{}", leak(KEYS)),
        format!("# A comment.\n{}{OTHER}", leak(KEYS)).replace("memory.held > 750 MiB", "memory.held>750MiB"),
    ];
    for text in spelled {
        let mut watch = under_way();
        watch.adopts(&text);
        watch.ticks(5, 800);
        assert_eq!((watch.closed(), watch.acts()), (vec![], vec![]), "{text}");
        watch.ticks(1, 800);
        assert_eq!(watch.acts(), ["terminate"], "at six seconds on the clock it had: {text}");
    }
}

/// Whatever means something else closes the case with a record, and takes back what it holds.
#[test]
fn what_means_something_else_ends() {
    let changed = [
        leak(&KEYS.replace("2s", "3s")),
        leak(&KEYS.replace("'6s'", "'7s'")),
        leak(KEYS).replace("750 MiB", "760 MiB"),
        leak(KEYS).replace("labelpress", "tilebaker"),
        leak(KEYS).replace("armed = true\n", ""),
        leak(KEYS).replace("name = 'leak'", "name = 'press'"),
        OTHER.to_owned(),
    ];
    for text in changed {
        let mut watch = under_way();
        watch.adopts(&text);
        assert_eq!((watch.closed(), watch.acts()), (vec![Over::RuleGone], vec!["restore".to_owned()]), "{text}");
        let undone = watch.came(Outcome::Restored(Restoring::default()));
        assert!(matches!(undone, Act::Restore { .. }) && watch.dispatcher.is_settled());
    }
}

/// A breach that is only building up, and the readings of windows, are of the rule as well.
#[test]
fn windows_go_on_with_their_rule() {
    let text = "[[rule]]\nname = 'mean'\nbreach = 'avg(memory.held, 10s) > 700 MiB'\nlasting = '1s'\n";
    let mut watch = Watch::new(&load(text));
    watch.ticks(8, 800);
    watch.adopts(&format!("{OTHER}{text}"));
    watch.ticks(4, 800);
    assert_eq!(watch.words(), ["alert"], "the ten seconds are full at the eleventh sample");
    let mut fresh = Watch::new(&load(text));
    fresh.ticks(8, 800);
    fresh.adopts(&text.replace("700", "710"));
    fresh.ticks(4, 800);
    assert_eq!(fresh.words(), Vec::<String>::new(), "another rule begins with nothing");
}

/// What an act that is under way comes to is still told, and taken back where its rule is gone.
#[test]
fn an_act_outlives_its_rule() {
    let mut watch = Watch::new(&load(&leak("lasting = '0s'\nladder = [ { at = '0s', do = 'suspend', for = '1m' } ]")));
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["suspend for 1m"]);
    watch.adopts(OTHER);
    watch.ticks(2, 800);
    assert_eq!(watch.acts(), ["suspend for 1m"], "nothing else is done meanwhile");
    watch.came(suspended(watch.world.moment, seconds(60)));
    watch.ticks(1, 800);
    assert_eq!(watch.acts(), ["resume"]);
    watch.came(Outcome::Resumed(None));
    assert!(watch.dispatcher.is_settled());
}

/// A budget that is spent stays spent, and so does what rules stand back from.
#[test]
fn no_new_file_gives_a_new_budget() {
    let text = leak("lasting = '0s'\nbudget = { cases = 1, per = '1h' }\nladder = [ { at = '0s', do = 'terminate' } ]");
    let mut watch = Watch::new(&load(&text));
    watch.ticks(1, 800);
    watch.came(Outcome::Refused("a test".to_owned()));
    watch.ticks(3, 100);
    watch.adopts(&format!("{OTHER}{text}"));
    watch.ticks(2, 800);
    assert_eq!(watch.acts(), Vec::<String>::new());
    assert!(watch.words().contains(&"budget".to_owned()));
}

/// Who is protected from now on is left alone from now on.
#[test]
fn protections_bind_at_once() {
    let mut watch = under_way();
    let condition = Condition::parse("app = labelpress and owner = ines", Place::Look).unwrap();
    let protections = Protections { conditions: vec![(condition, "rules.toml".to_owned())], ..Protections::default() };
    watch.step(Input::Rules(load(&leak(KEYS)), protections));
    watch.ticks(8, 800);
    assert_eq!((watch.acts(), watch.words()), (vec![], vec!["effect".to_owned(), "spared".to_owned()]));
}
