//! The judge on recordings from anywhere: what rules over all kinds of fields and subjects would have done is told, whatever the
//! figures are.

#![no_main]

use std::sync::OnceLock;
use std::time::Duration;

use libfuzzer_sys::fuzz_target;
use sophron_core::protect::Protections;
use sophron_core::recording::Replay;
use sophron_core::rehearsal::Rehearsal;
use sophron_core::rules::RuleSet;

const HEAD: &[u8] = br#"{"sophron":"recording","format":1,"host":"mossgate-desk-03","boot":"0000000000000000000000006d6f7373","every":1.0,"begun":"2026-11-23T07:30:00Z","uid":0}"#;

const LADDER: &str = "ladder = [ { at = '0s', do = 'alert' }, { at = '1s', do = 'lower' }, { at = '2s', do = 'suspend', for = '1s' }, { at = '5s', do = 'terminate' } ]";

fn rules() -> &'static RuleSet {
    static RULES: OnceLock<RuleSet> = OnceLock::new();
    RULES.get_or_init(|| {
        let mut text = "format = 1\nevery = '1s'\n".to_owned();
        let judged = [
            ("process", "memory.held > 1 MiB or cpu > 5% or disk > 1 kB/s or threads > 9"),
            ("process", "avg(cpu, 10s) > 5% or climb(memory, 10s) > 1 MiB or slope(memory.held, 10s) > 1 MiB/h"),
            ("app", "cpu > 5% or memory > 1 MiB or instances > 2"),
            ("tree", "cpu > 5% or growth(memory.held, 10s) > 1 kB or age > 1s"),
            ("owner", "cpu > 5% or memory.virtual > 1 MiB or disk.read > 1 kB/s"),
            ("unit", "cpu.time > 1s or threads > 2 or faults > 2"),
            ("machine", "machine.cpu > 1% or machine.memory.available < 9 GiB or until(machine.memory.available, 1 MiB, 10s) < 1h"),
        ];
        for (at, (judge, breach)) in judged.iter().enumerate() {
            let pick = if *judge == "machine" { "pick = 'most memory'\n" } else { "" };
            text += &format!(
                "[[rule]]\nname = 'r{at}'\njudge = '{judge}'\nwhere = 'not kernel'\nbreach = '{breach}'\nlasting = '0s'\narmed = true\n{pick}{LADDER}\n"
            );
        }
        sophron_core::rules::load(text.as_bytes()).unwrap_or_else(|rejected| panic!("{:?}", rejected.errors))
    })
}

fuzz_target!(|bytes: &[u8]| {
    let Ok(mut replay) = Replay::begin(HEAD) else { return };
    let zone = jiff::tz::TimeZone::UTC;
    let mut rehearsal = Rehearsal::new(rules(), Duration::from_secs(1), Protections::default(), None, zone.clone());
    for line in bytes.split(|byte| *byte == b'\n').take(40) {
        if replay.next(line).is_err() {
            break;
        }
        rehearsal.take(replay.snapshot(), replay.ours());
    }
});
