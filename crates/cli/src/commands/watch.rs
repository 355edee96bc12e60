//! `sophron watch`: the rules, run until interrupted.

use crate::args;
use crate::exit::{Exit, Failure};
use crate::places;
use crate::ui::{self, table};
use crate::watcher::{self, Plan, rules_file};

pub fn run(args: &args::Watch) -> Result<Exit, Failure> {
    let loaded = rules_file::load(&places::rules(args.rules.as_deref())?)?;
    let plan = Plan {
        protections: loaded.protections()?,
        origin: loaded.origin(),
        rules: loaded.rules,
        state: places::state(args.state.folder.as_deref())?,
        control: args.state.folder.clone(),
        record: args.record.clone(),
        shadow: args.shadow,
        length: args.length,
        only: None,
        service_manager: args.service_manager.clone(),
        system_log: args.system_log.clone(),
        own_state: args.state.folder.is_none(),
    };
    let width = table::terminal_width();
    watcher::run(plan, &mut |line| ui::out(format_args!("{}\n", line.render(width))))?;
    Ok(Exit::Fine)
}
