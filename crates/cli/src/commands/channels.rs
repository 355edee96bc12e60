//! `sophron channels`: the ways to people, how each stands by the trail; and one tried.

use std::path::Path;

use jiff::Timestamp;
use serde_json::{Map, Value, json};
use sophron_core::audit::{Record, ToldBy};
use sophron_core::order::InOrder;
use sophron_core::rules::RuleSet;
use sophron_core::telling::{Channel, Message, TOO_OLD, To};
use sophron_core::text::{clean, counted, nearest};
use sophron_linux::trail::{self, Tail};
use sophron_linux::{here, system_log};

use crate::args::{Channels, ChannelsCommand, Format};
use crate::exit::{Exit, Failure};
use crate::places;
use crate::ui::style::{Label, Styled};
use crate::ui::table::{self, Column};
use crate::ui::{self, machine, paragraph, when};
use crate::watcher::helpers::Helpers;
use crate::watcher::{post, rules_file};

const KEYS: [&str; 8] = ["channel", "to", "state", "since", "waiting", "taken", "trouble", "why"];

/// A channel as it stands.
pub struct Standing<'r> {
    pub channel: &'r Channel,
    told: Option<ToldBy>,
    pub waiting: usize,
}

pub fn run(args: &Channels) -> Result<Exit, Failure> {
    let loaded = rules_file::load(&places::rules(args.rules.as_deref())?)?;
    match &args.command {
        Some(ChannelsCommand::Try { name, system_log }) => try_one(&loaded.rules, name, system_log.as_deref()),
        None => list(args, &loaded.rules, &loaded.origin()),
    }
}

fn list(args: &Channels, rules: &RuleSet, origin: &str) -> Result<Exit, Failure> {
    let state = places::state(args.state.folder.as_deref())?;
    let mut all = standing(rules, &state)?;
    // The worst first.
    all.order_by_key(|one| (!one.is_down(), one.state() != "failing", std::cmp::Reverse(one.waiting)));
    let now = here::now().wall;
    match args.format {
        Format::Text => ui::out(text(&all, origin, now)),
        Format::Json => {
            let rows: Vec<Map<String, Value>> = all.iter().map(Standing::row).collect();
            ui::out(format_args!("{}\n", json!({ "host": here::host(), "at": now, "rows": rows })));
        }
        Format::Jsonl => ui::out(machine::lines(all.iter().map(Standing::row).collect())),
        Format::Csv => ui::out(machine::csv(&KEYS, &all.iter().map(Standing::row).collect::<Vec<_>>(), true)),
    }
    Ok(if all.iter().any(Standing::is_down) { Exit::Found } else { Exit::Fine })
}

pub fn standing<'r>(rules: &'r RuleSet, state: &Path) -> Result<Vec<Standing<'r>>, Failure> {
    let latest = trail::latest(state, |_| {}).map_err(|error| Failure::of(Exit::Failed, error))?.unwrap_or_default();
    let oldest = here::now().wall - TOO_OLD;
    let one = |channel: &'r Channel| {
        let told = latest.in_force.told_by(&channel.name).cloned();
        let waits = |told: &ToldBy| {
            // At a desk nobody is told later of what was.
            if matches!(channel.to, To::Desk(_)) {
                return 0;
            }
            let due = |record: &&Record| {
                record.seq > told.cursor()
                    && record.at >= oldest
                    && rules.telling.due(record, &channel.name, rules).is_some()
            };
            Tail::from(state, told.cursor(), oldest).more(usize::MAX).iter().filter(due).count()
        };
        Standing { channel, waiting: told.as_ref().map_or(0, waits), told }
    };
    Ok(rules.telling.channels.iter().map(one).collect())
}

impl Standing<'_> {
    pub fn is_down(&self) -> bool {
        self.told.as_ref().and_then(ToldBy::down_since).is_some()
    }

    /// Since when it is down, or fails.
    pub fn since(&self) -> Option<Timestamp> {
        self.told.as_ref().and_then(|told| told.down_since().or(told.failing_since()))
    }

    pub fn state(&self) -> &'static str {
        match &self.told {
            None => "not begun",
            Some(_) if self.is_down() => "down",
            Some(told) if told.failing_since().is_some() => "failing",
            Some(_) => "up",
        }
    }

    pub fn row(&self) -> Map<String, Value> {
        let told = self.told.as_ref();
        let trouble = told.and_then(ToldBy::last_trouble);
        let row = json!({
            "channel": self.channel.name,
            "to": self.channel.to.word(),
            "state": self.state(),
            "since": self.since(),
            "waiting": self.waiting,
            "taken": told.and_then(ToldBy::last_taken),
            "trouble": trouble.map(|(at, _)| at),
            "why": trouble.map(|(_, why)| why),
        });
        row.as_object().cloned().unwrap_or_default()
    }
}

fn text(all: &[Standing<'_>], origin: &str, now: Timestamp) -> String {
    let down = all.iter().filter(|one| one.is_down()).count();
    let waiting: usize = all.iter().map(|one| one.waiting).sum();
    let head = [
        Styled(Label::Heading, &here::host()).to_string(),
        when::date(now),
        format!("rules: {origin}"),
        match (all.len(), down) {
            (0, _) => "no channel: alerts are seen in the lines of `sophron watch` and in the record alone".to_owned(),
            (_, 0) => format!("no channel is down, {} waiting", counted(waiting, "message")),
            (_, down) => format!("{} down, {} waiting", counted(down, "channel"), counted(waiting, "message")),
        },
    ];
    let mut text = table::flow(&head, table::terminal_width());
    if all.is_empty() {
        return text;
    }
    let columns = [
        Column::text("channel"),
        Column::text("to"),
        Column::text("state"),
        Column::number("waiting, messages"),
        Column::text("last taken"),
        Column::text("last trouble"),
    ];
    let at = |at: Option<Timestamp>| at.map_or_else(|| "never".to_owned(), when::date);
    let row = |one: &Standing<'_>| {
        let told = one.told.as_ref();
        let since = one.since().map(|since| format!(" since {}", when::clock(since))).unwrap_or_default();
        let state = format!("{}{since}", one.state());
        vec![
            one.channel.name.clone(),
            one.channel.to.word().to_owned(),
            state,
            one.waiting.to_string(),
            at(told.and_then(ToldBy::last_taken)),
            at(told.and_then(ToldBy::last_trouble).map(|(at, _)| at)),
        ]
    };
    let rows: Vec<Vec<String>> = all.iter().map(row).collect();
    let width = table::terminal_width();
    text.push_str(&table::render(&columns, &rows, width));
    for (one, why) in all.iter().filter_map(|one| Some((one, one.told.as_ref()?.last_trouble()?.1))) {
        let name = &one.channel.name;
        let said = match one.state() {
            "up" => paragraph::under("trouble", 9, &format!("{name}: {why}"), width),
            _ => {
                let said = format!("{name}: {why}; see `sophron channels try {name}`");
                paragraph::styled("trouble", 9, &said, width, Label::Warning)
            }
        };
        text.push_str(&said);
    }
    if all.iter().any(|one| one.told.is_none()) {
        text.push_str("not begun: no watcher has run with it; `sophron channels try NAME` sends a message by it now\n");
    }
    text
}

fn try_one(rules: &RuleSet, name: &str, socket: Option<&Path>) -> Result<Exit, Failure> {
    let Some(channel) = rules.telling.channel(name) else {
        let failure = Failure::new(Exit::Failed, format!("no channel is called {}", clean(name.as_bytes())));
        let near = nearest(name, rules.telling.channels.iter().map(|channel| channel.name.as_str()));
        return Err(match near {
            Some(near) => failure.hint(format!("the nearest is {near}")),
            None => failure.hint("`sophron channels` shows all"),
        });
    };
    let mut way = post::way(
        channel,
        &rules.telling.as_user,
        socket.unwrap_or(Path::new(system_log::SOCKET)),
        &Helpers::default(),
    );
    let user = here::who(&mut here::Users::default(), sophron_core::audit::By::Hand).user;
    let message =
        Message::trial(&jiff::Zoned::now(), &here::host(), &format!("{user} tries the channel {}", channel.name));
    let mut say = |step: &str| ui::out(format_args!("{step}\n"));
    match way.try_out(&message, &mut say) {
        Ok(()) => Ok(Exit::Fine),
        Err(why) => Err(Failure::new(Exit::Failed, format!("{}: {why}", channel.name))),
    }
}
