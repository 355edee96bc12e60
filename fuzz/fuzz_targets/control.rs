//! The control socket: a line from anybody is a question that can be answered, or none.

#![no_main]

use libfuzzer_sys::fuzz_target;
use sophron_core::audit::Who;
use sophron_core::dispatch::{Beside, Dispatcher, Input, Inquiry, Request, Settings, Word};
use sophron_core::model::{Boot, Process, ProcessId, Snapshot};
use sophron_core::protect::Protections;
use sophron_core::stand_back::Whom;

const RULES: &str = "format = 1\n[[rule]]\nname = 'a'\nbreach = 'memory.held > 1 MiB'\nlasting = '0s'\n[[rule]]\nname = 'b'\njudge = 'owner'\nwhere = 'not kernel'\nbreach = 'cpu > 5%'\n";

fuzz_target!(|bytes: &[u8]| {
    let Ok(request) = Request::read(bytes) else { return };
    let Ok(rules) = sophron_core::rules::load(RULES.as_bytes()) else { return };
    let zone = jiff::tz::TimeZone::UTC;
    let settings = Settings { shadow: false, assumed: false, own: None, only: None, zone };
    let mut dispatcher = Dispatcher::new(settings, rules.into(), Protections::default(), 1);
    let process = Process::unread(ProcessId { pid: 7, start: 7, boot: Boot(7) });
    let snapshot = Snapshot { processes: vec![process.clone()], ..Snapshot::default() };
    let _ = dispatcher.step(snapshot.moment, Input::Sample(&snapshot, &Beside::default()));
    let machine = snapshot.machine.clone();
    let input = match request {
        Request::Why(wanted) => {
            Input::Inquiry(Box::new(Inquiry { ticket: 1, rule: wanted.rule.as_str().into(), process, machine }))
        }
        Request::StandBack(back) | Request::ActAgain(back) if back.check().is_ok() => {
            let by = Who { uid: 0, user: "root".to_owned(), login_uid: None, by: None };
            let whom = back.rules.iter().cloned().map(Whom::Rule).collect();
            let length = Some(std::time::Duration::from_secs(back.seconds));
            Input::Word(Box::new(Word { ticket: 1, whom, length, by, because: back.because }))
        }
        _ => return,
    };
    let _ = dispatcher.step(snapshot.moment, input);
    let _ = dispatcher.status(snapshot.moment, &snapshot);
});
