//! Figures for others' monitoring: what is counted, and that the text is what the standard says.

use std::time::Duration;

use sophron_core::act::Came;
use sophron_core::audit::{ActionRecord, Kind, ToldRecord, ToldWord, Verb};
use sophron_core::figures::{Figures, Pulse};
use sophron_core::rules;
use sophron_core::sorted::SortedSet;

use crate::telling::{at, record};

/// A line of OpenMetrics text 1.0, as far as this version writes it.
fn is_sound(text: &str) {
    let (mut family, mut seen) = (String::new(), SortedSet::new());
    let lines: Vec<&str> = text.strip_suffix("# EOF\n").expect("an end").lines().collect();
    for line in lines {
        if let Some(rest) = line.strip_prefix("# ") {
            let [word, name, told] = rest.splitn(3, ' ').collect::<Vec<_>>()[..] else { panic!("{line}") };
            match word {
                "TYPE" => {
                    assert!(["counter", "gauge", "info"].contains(&told), "{line}");
                    assert!(seen.insert(name.to_owned()), "{name} comes twice");
                    family = name.to_owned();
                }
                "UNIT" => assert!(name == family && name.ends_with(&format!("_{told}")), "{line}"),
                "HELP" => assert!(name == family && told.ends_with('.'), "{line}"),
                _ => panic!("{line}"),
            }
            continue;
        }
        let (name, value) = line.rsplit_once(' ').expect(line);
        assert!(value.parse::<f64>().is_ok_and(f64::is_finite), "{line}");
        let (name, labels) =
            name.split_once('{').map_or((name, None), |(name, labels)| (name, labels.strip_suffix('}')));
        assert!(["", "_total", "_info"].iter().any(|end| name == format!("{family}{end}")), "{line} is of {family}");
        let unescaped = labels.unwrap_or_default().replace("\\\\", "").replace("\\\"", "");
        assert_eq!(unescaped.matches('"').count() % 2, 0, "{line}");
    }
}

#[test]
fn what_stands_in_the_trail_is_counted() {
    let rule = |name: &str| format!("[[rule]]\nname = '{name}'\nbreach = 'cpu > 90%'\nlasting = '3m'\n");
    let many: String = (0..120).map(|number| rule(&format!("r{number:03}"))).collect();
    let channel = "[[channel]]\nname = 'machine-log'\nto = 'log'\n";
    let text = format!("format = 1\n{channel}{}{many}", rule("press-leak"));
    let rules = rules::load(text.as_bytes()).unwrap();
    let mut figures = Figures::new(&rules, &["machine-log".to_owned()].into());
    let pulse = Pulse {
        began: at(0),
        sampled: Some(at(40)),
        samples: 20,
        spent: Duration::from_millis(250),
        cpu: Duration::from_millis(300),
        memory: 12 << 20,
        can_act: true,
    };
    is_sound(&figures.text(&pulse));
    let of = |kind, rule: &str, came, case| record(kind, rule, came, "ines", |draft| draft.case = Some(case));
    let ended = record(Kind::Outcome, "press-leak", Came::Ended, "ines", |draft| {
        draft.action = Some(ActionRecord::word(Verb::Terminate));
    });
    let taken = record(Kind::Told, "", Came::Opened, "ines", |draft| {
        let told = ToldRecord { records: vec![1, 2], ..ToldRecord::of("machine-log", ToldWord::Taken) };
        (draft.rule, draft.told) = (None, Some(told));
    });
    let back = record(Kind::Told, "", Came::Opened, "ines", |draft| {
        (draft.rule, draft.told) = (None, Some(ToldRecord::of("machine-log", ToldWord::Back)));
    });
    let all = [
        of(Kind::Breach, "press-leak", Came::Opened, 1),
        of(Kind::Breach, "press-leak", Came::Opened, 2),
        of(Kind::Breach, "press-leak", Came::Opened, 2),
        of(Kind::Calm, "press-leak", Came::Calm, 1),
        of(Kind::Breach, "r110", Came::Opened, 3),
        ended,
        taken,
        back,
    ];
    all.iter().for_each(|record| figures.note(record));
    let text = figures.text(&pulse);
    is_sound(&text);
    for line in [
        "sophron_cases_total{rule=\"press-leak\",severity=\"warning\"} 2",
        "sophron_open_cases{rule=\"press-leak\",severity=\"warning\"} 1",
        "sophron_cases_total{rule=\"r000\",severity=\"warning\"} 0",
        "sophron_cases_total{rule=\"other\",severity=\"other\"} 1",
        "sophron_acts_total{rule=\"press-leak\",act=\"terminate\",outcome=\"ended\"} 1",
        "sophron_told_total{channel=\"machine-log\",outcome=\"taken\"} 2",
        "sophron_channel_up{channel=\"machine-log\"} 1",
        "sophron_own_memory_bytes 12582912",
        "sophron_can_act 1",
    ] {
        assert!(text.lines().any(|one| one == line), "{line}\n{text}");
    }
    assert_eq!(text.matches("sophron_cases_total").count(), 101);
}
