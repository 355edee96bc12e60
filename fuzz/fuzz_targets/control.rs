//! The control socket: a line from anybody is a question that can be answered, or none.

#![no_main]

use libfuzzer_sys::fuzz_target;
use sophron_core::dispatch::{Beside, Dispatcher, Input, Question, Settings, Wanted};
use sophron_core::model::{Boot, Process, ProcessId, Snapshot};
use sophron_core::protect::Protections;

const RULES: &str = "format = 1\n[[rule]]\nname = 'a'\nbreach = 'memory.held > 1 MiB'\nlasting = '0s'\n[[rule]]\nname = 'b'\njudge = 'owner'\nwhere = 'not kernel'\nbreach = 'cpu > 5%'\n";

fuzz_target!(|bytes: &[u8]| {
    let Ok(wanted) = Wanted::read(bytes) else { return };
    let Ok(rules) = sophron_core::rules::load(RULES.as_bytes()) else { return };
    let zone = jiff::tz::TimeZone::UTC;
    let settings = Settings { shadow: false, assumed: false, own: None, only: None, zone };
    let mut dispatcher = Dispatcher::new(settings, rules.into(), Protections::default(), 1);
    let process = Process::unread(ProcessId { pid: wanted.pid, start: wanted.start, boot: Boot(7) });
    let snapshot = Snapshot { processes: vec![process.clone()], ..Snapshot::default() };
    let _ = dispatcher.step(snapshot.moment, Input::Sample(&snapshot, &Beside::default()));
    let machine = snapshot.machine.clone();
    let question = Question { ticket: 1, rule: wanted.rule.as_str().into(), process, machine };
    let _ = dispatcher.step(snapshot.moment, Input::Question(Box::new(question)));
});
