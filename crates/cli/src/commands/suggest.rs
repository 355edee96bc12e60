//! `sophron suggest`: rules with limits from what is normal here, and how often each would have fired.

use std::time::Duration;

use serde_json::{Value, json};
use sophron_core::protect::Protections;
use sophron_core::rehearsal::Rehearsal;
use sophron_core::rules;
use sophron_core::suggest::{Advice, Figures, Longer, Suggestion, suggest};
use sophron_core::units::scaled_duration;

use crate::args::{self, TextOrJson};
use crate::exit::{Exit, Failure};
use crate::history;
use crate::recordings::Recordings;
use crate::ui::style::{Label, Styled};
use crate::ui::table;
use crate::ui::{self, paragraph, when};

pub fn run(args: &args::Suggest) -> Result<Exit, Failure> {
    let recordings = Recordings::played(&args.played, &args.state)?;
    let mut figures = Figures::default();
    let told = recordings.each(|snapshot, _, _| figures.take(snapshot, |_| true))?;
    if args.played.from.is_empty() {
        figures.longer = longer(args);
    }
    for note in &told.notes {
        ui::err(format_args!("sophron: {note}\n"));
    }
    let app = args.app.as_deref();
    if let Some(app) = app
        && !figures.apps.keys().any(|(_, name)| name == app)
    {
        let near = sophron_core::text::nearest(app, figures.apps.keys().map(|(_, name)| name.as_str()));
        let failure =
            Failure::new(Exit::Failed, format!("no app was called {}", sophron_core::text::clean(app.as_bytes())));
        return Err(match near {
            Some(near) => failure.hint(format!("the nearest is {near}")),
            None => failure.hint("`sophron list` shows how apps are called"),
        });
    }
    let advice = suggest(&figures, app).map_err(|error| {
        Failure::of(Exit::Failed, error)
            .hint("let `sophron watch` run for a working day, or `sophron record` one, and ask again")
    })?;
    let fired = fired(&advice, &recordings)?;
    match args.format {
        TextOrJson::Json => ui::out(format_args!("{}\n", to_json(&advice, &fired, &told.host))),
        TextOrJson::Text => ui::out(text(&advice, &fired, &figures, &told.host, recordings.suffix())),
    }
    Ok(Exit::Fine)
}

/// What the history of usage knows of the time before; none where it does not reach further.
fn longer(args: &args::Suggest) -> Option<Longer> {
    let now = jiff::Zoned::now();
    let since = now.timestamp().checked_sub(sophron_history::USUAL).ok()?;
    let history = history::of_this_machine(&args.state, now.time_zone().clone(), since, now.timestamp()).ok()?;
    Longer::of(&history, jiff::SignedDuration::from_hours(24))
}

/// What each suggestion would have done on the very samples that it was drawn from, by the judge itself.
fn fired(advice: &Advice, recordings: &Recordings) -> Result<Vec<Rehearsal>, Failure> {
    let begin = |suggestion: &Suggestion| {
        let text = format!("format = 1\n{}", suggestion.rule.toml());
        let rules = rules::load(text.as_bytes()).map_err(|rejected| {
            let why = rejected.errors.first().map(|error| error.title.clone()).unwrap_or_default();
            Failure::new(Exit::Failed, format!("the rule {} cannot be read back: {why}", suggestion.rule.name))
        })?;
        Ok(Rehearsal::new(&rules, recordings.every(), Protections::default(), None, recordings.zone().clone()))
    };
    let mut rehearsals = advice.suggestions.iter().map(begin).collect::<Result<Vec<_>, Failure>>()?;
    if !rehearsals.is_empty() {
        recordings.each(|snapshot, ours, _| {
            rehearsals.iter_mut().for_each(|rehearsal| rehearsal.take(snapshot, ours));
        })?;
    }
    Ok(rehearsals)
}

fn text(advice: &Advice, fired: &[Rehearsal], figures: &Figures, host: &str, suffix: &str) -> String {
    let width = table::terminal_width();
    let seen = scaled_duration(Duration::from_secs(figures.minutes() as u64 * 60));
    let head = [
        Styled(Label::Heading, host).to_string(),
        format!(
            "{seen} of samples, {}",
            if advice.apps == 1 { "1 app".to_owned() } else { format!("{} apps", advice.apps) }
        ),
        "nothing is installed".to_owned(),
    ];
    // Comments, so that the whole can be a rules file.
    let commented =
        |text: &str| text.lines().map(|line| format!("# {line}\n").replace("#  ", "# ")).collect::<String>();
    let mut text = commented(&table::flow(&head, width.map(|width| width.saturating_sub(2))));
    if advice.too_short > 0 {
        text.push_str(&format!("# not enough data: {} apps were seen for less than half an hour\n", advice.too_short));
    }
    for line in &advice.left_alone {
        text.push_str(&commented(&paragraph::under("", 0, &format!("left alone: {line}"), width)));
    }
    if advice.suggestions.is_empty() {
        text.push_str("# nothing to suggest: no program ran away for long enough\n");
        return text;
    }
    text.push_str(&format!(
        "# Next: keep it as suggested.toml, then sophron rehearse suggested.toml{suffix}\n\nformat = 1\n"
    ));
    for (suggestion, rehearsal) in advice.suggestions.iter().zip(fired) {
        text.push('\n');
        for because in &suggestion.because {
            text.push_str(&commented(&paragraph::under("", 0, because, width)));
        }
        text.push_str(&commented(&paragraph::under("", 0, &how_often(rehearsal), width)));
        text.push_str(&suggestion.rule.toml());
    }
    text
}

fn how_often(rehearsal: &Rehearsal) -> String {
    let cases = rehearsal.stories().count();
    let whom: Vec<String> = rehearsal
        .stories()
        .map(|story| {
            format!("{} at {}", story.label, when::clock_or_date(story.opened, story.opened, Some(rehearsal.zone())))
        })
        .collect();
    match cases {
        0 => "it would never have fired".to_owned(),
        1 => format!("it would have fired once: {}", whom[0]),
        more => format!("it would have fired {more} times: {}", whom.join(", ")),
    }
}

fn to_json(advice: &Advice, fired: &[Rehearsal], host: &str) -> Value {
    let rows: Vec<Value> = advice
        .suggestions
        .iter()
        .zip(fired)
        .map(|(suggestion, rehearsal)| {
            let cases: Vec<Value> = rehearsal
                .stories()
                .map(|story| json!({ "subject": story.label, "app": story.app, "opened": story.opened }))
                .collect();
            json!({
                "rule": suggestion.rule.name, "toml": suggestion.rule.toml(), "because": suggestion.because, "cases": cases,
            })
        })
        .collect();
    json!({ "host": host, "apps": advice.apps, "too_short": advice.too_short, "left_alone": advice.left_alone, "rows": rows })
}
