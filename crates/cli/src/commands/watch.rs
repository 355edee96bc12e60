//! `sophron watch`: the rules, run until interrupted.

use jiff::tz::TimeZone;

use crate::args::{self, TextOrLines};
use crate::exit::{Exit, Failure};
use crate::places;
use crate::ui::{self, events, table};
use crate::watcher::{self, Plan, rules_file};

pub fn run(args: &args::Watch) -> Result<Exit, Failure> {
    let loaded = rules_file::load(&places::rules(args.rules.as_deref())?)?;
    let plan = Plan {
        protections: loaded.protections()?,
        origin: loaded.origin(),
        rules: loaded.rules,
        owner: rules_file::owner(&loaded.path),
        rules_file: Some(loaded.path),
        service: args.service,
        state: places::state(args.state.folder.as_deref())?,
        control: args.state.folder.clone(),
        record: args.record.clone(),
        shadow: args.shadow,
        length: args.length,
        only: None,
        service_manager: args.service_manager.clone(),
        system_log: args.system_log.clone(),
        own_state: args.state.folder.is_none(),
        asks_here: false,
        enough: std::sync::Arc::default(),
    };
    let (width, zone, format) = (table::terminal_width(), TimeZone::system(), args.format);
    let lost = watcher::run(plan, move |happening| match format {
        TextOrLines::Text => match happening.line(&zone) {
            Some(line) => ui::say(format_args!("{}\n", events::render(&line, width))),
            None => true,
        },
        TextOrLines::Jsonl => ui::say(format_args!("{}\n", happening.json(&zone))),
    })?;
    if lost > 0 {
        let lines = if lost == 1 { "1 line was".to_owned() } else { format!("{lost} lines were") };
        ui::err(format_args!("sophron: {lines} lost: nobody took them; all that matters is in the record\n"));
    }
    Ok(Exit::Fine)
}
