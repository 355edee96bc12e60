//! `rehearse NEW --against OLD`: what other rules would have done on the same recording.

use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use sophron_core::rehearsal::{Change, Difference, Rehearsal, compare};
use sophron_core::units::scaled_duration;

use super::Replayed;
use crate::ui::style::{Label, Styled};
use crate::ui::table::{self, Column};
use crate::ui::when;

pub fn text(old: &Rehearsal, new: &Rehearsal, replayed: &Replayed) -> String {
    let differences = compare(old, new);
    let width = table::terminal_width();
    let mut head = vec![Styled(Label::Heading, &replayed.host).to_string()];
    if let Some((from, to, samples)) = new.span() {
        let zone = Some(&replayed.zone);
        head.push(format!("{} to {}, {samples} samples", when::date_in(from, zone), when::date_in(to, zone)));
    }
    let of = |change: fn(&Change) -> bool| differences.iter().filter(|difference| change(&difference.change)).count();
    head.push(format!(
        "cases: {} new, {} gone, {} moved, {} the same",
        of(|change| *change == Change::New),
        of(|change| *change == Change::Gone),
        of(|change| matches!(change, Change::Moved { .. })),
        of(|change| *change == Change::Same)
    ));
    let columns = [
        Column::text("opens"),
        Column::text("rule"),
        Column::text("subject").gives_way(),
        Column::text("case"),
        Column::text("first act, old"),
        Column::text("first act, new"),
    ];
    let clock = |at: Timestamp| at.to_zoned(replayed.zone.clone()).strftime("%d %b %H:%M:%S").to_string();
    let act = |at: Option<Timestamp>| {
        at.map_or("none".to_owned(), |at| at.to_zoned(replayed.zone.clone()).strftime("%H:%M:%S").to_string())
    };
    let row = |difference: &Difference| {
        vec![
            clock(difference.opened),
            difference.rule.clone(),
            difference.label.clone(),
            words(&difference.change),
            act(difference.old_act),
            act(difference.new_act),
        ]
    };
    let rows: Vec<Vec<String>> = differences.iter().map(row).collect();
    format!("{}\n{}", table::flow(&head, width), table::render(&columns, &rows, width))
}

fn words(change: &Change) -> String {
    match change {
        Change::New => "new".to_owned(),
        Change::Gone => "gone".to_owned(),
        Change::Same => "the same".to_owned(),
        Change::Moved { opens, acts } => {
            let opens = moved("opens", Some(*opens));
            let acts = moved("acts", *acts);
            match (opens, acts) {
                (None, None) => "other steps".to_owned(),
                (opens, acts) => opens.into_iter().chain(acts).collect::<Vec<_>>().join(", "),
            }
        }
    }
}

fn moved(what: &str, by: Option<SignedDuration>) -> Option<String> {
    let by = by.filter(|by| !by.is_zero())?;
    let side = if by.is_negative() { "earlier" } else { "later" };
    Some(format!("{what} {} {side}", scaled_duration(by.unsigned_abs())))
}

pub fn json(old: &Rehearsal, new: &Rehearsal, replayed: &Replayed) -> String {
    let row = |difference: &Difference| -> Value {
        let (change, opens, acts) = match &difference.change {
            Change::New => ("new", None, None),
            Change::Gone => ("gone", None, None),
            Change::Same => ("same", None, None),
            Change::Moved { opens, acts } => ("moved", Some(opens.as_secs_f64()), acts.map(|acts| acts.as_secs_f64())),
        };
        json!({
            "rule": difference.rule,
            "subject": difference.label,
            "opened": difference.opened,
            "change": change,
            "opens_later": opens,
            "acts_later": acts,
            "old_act": difference.old_act,
            "new_act": difference.new_act,
        })
    };
    let rows: Vec<Value> = compare(old, new).iter().map(row).collect();
    format!("{}\n", json!({ "host": replayed.host, "rows": rows }))
}
