//! `rehearse RULES --vary 'lasting=5s..60s'`: how cases and acts change with one setting.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde_json::{Value, json};
use sophron_core::rehearsal::{Rehearsal, Varied, vary};
use sophron_core::rules::RuleSet;

use super::text::acts;
use crate::args::{self, TextOrJson};
use crate::exit::{Exit, Failure};
use crate::recordings::Recordings;
use crate::ui::style::{Label, Styled};
use crate::ui::table::{self, Column};
use crate::ui::{self, when};

pub fn run(
    args: &args::Rehearse,
    rules: &RuleSet,
    setting: &str,
    begin: impl Fn(&RuleSet) -> Result<Rehearsal, Failure>,
    recordings: &Recordings,
) -> Result<Exit, Failure> {
    if rules.rules.len() != 1 {
        return Err(Failure::new(Exit::Usage, "a setting of one rule is varied, and the file has several")
            .hint("name the rule with --only RULE"));
    }
    let varied = vary(rules, 0, setting).map_err(|error| Failure::of(Exit::Usage, error))?;
    let mut rehearsals = varied.iter().map(|one| begin(&one.rules)).collect::<Result<Vec<_>, Failure>>()?;
    let replayed = super::replay(recordings, &mut rehearsals, &mut |_| {})?;
    let zone = recordings.zone();
    let key = setting.split('=').next().unwrap_or(setting).trim();
    match args.format {
        TextOrJson::Json => {
            let rows: Vec<Value> = varied.iter().zip(&rehearsals).map(|(one, rehearsal)| row(one, rehearsal)).collect();
            let rule = &rules.rules[0].name;
            ui::out(format_args!("{}\n", json!({ "host": replayed.host, "rule": rule, "varied": key, "rows": rows })));
        }
        TextOrJson::Text => {
            let mut head = vec![Styled(Label::Heading, &replayed.host).to_string(), rules.rules[0].name.to_string()];
            if let Some((from, to, samples)) = rehearsals.first().and_then(Rehearsal::span) {
                let zone = Some(zone);
                head.push(format!("{} to {}, {samples} samples", when::date_in(from, zone), when::date_in(to, zone)));
            }
            ui::out(table::flow(&head, table::terminal_width()));
            ui::out(table::render(&columns(key), &rows(&varied, &rehearsals, zone), table::terminal_width()));
        }
    }
    let worst = rehearsals.iter().map(super::exit).find(|exit| *exit == Exit::Found);
    Ok(worst.unwrap_or(Exit::Fine))
}

fn columns(key: &str) -> Vec<Column> {
    vec![
        Column::number(key.to_owned()),
        Column::text(""),
        Column::number("cases"),
        Column::number("told, times"),
        Column::text("would have done, processes"),
        Column::text("first told"),
        Column::text("first act"),
        Column::number("calm by itself"),
        Column::number("spared hit"),
    ]
}

fn rows(varied: &[Varied], rehearsals: &[Rehearsal], zone: &TimeZone) -> Vec<Vec<String>> {
    let clock = |at: Option<Timestamp>| {
        at.map_or("never".to_owned(), |at| at.to_zoned(zone.clone()).strftime("%H:%M:%S").to_string())
    };
    let row = |(one, rehearsal): (&Varied, &Rehearsal)| {
        let sum = &rehearsal.sums()[0];
        let (told, act) = rehearsal.firsts();
        vec![
            one.shown.clone(),
            if one.present { "as it is" } else { "" }.to_owned(),
            sum.cases.to_string(),
            sum.alerts.to_string(),
            acts(sum),
            clock(told),
            clock(act),
            sum.calmed.to_string(),
            rehearsal.hits().len().to_string(),
        ]
    };
    varied.iter().zip(rehearsals).map(row).collect()
}

fn row(one: &Varied, rehearsal: &Rehearsal) -> Value {
    let sum = &rehearsal.sums()[0];
    let (told, act) = rehearsal.firsts();
    json!({
        "value": one.shown,
        "present": one.present,
        "cases": sum.cases,
        "told": sum.alerts,
        "acts": sum.acts,
        "first_told": told,
        "first_act": act,
        "calmed": sum.calmed,
        "subjects": sum.subjects.len(),
        "hits": rehearsal.hits().len(),
    })
}
