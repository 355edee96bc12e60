//! sophron-rules(5), from the tables that the loader goes by.

use roff::{Roff, bold, roman};
use sophron_core::model::{Field, Subject};
use sophron_core::rules::keys::{TABLES, plain};
use sophron_core::window::Function;

use crate::Outcome;
use crate::pages::MANUAL;

/// A rule, as the page shows one.
const EXAMPLE: &str = r#"format = 1
every  = "2s"

[[rule]]
name     = "press-leak"
note     = "The label press leaks until the desk freezes."
where    = 'app = "labelpress"'
breach   = 'memory.held > 750 MiB'
lasting  = "20s"
calm     = 'memory.held < 520 MiB'
armed    = true
ladder   = [
  { at = "0s", do = "alert" },
  { at = "1m", do = "suspend", for = "45s" },
  { at = "3m", do = "terminate", force_after = "10s" },
]"#;

const ABOUT: [&str; 4] = [
    "A rules file says which processes are watched (where), what is too much (breach), for how long it has to be so (lasting), what \
     is done about it and when (ladder), and when it is over (calm). It is written in TOML, and every size, rate and duration has \
     its unit.",
    "A rule that is not armed only says what it would do. sophron rules check FILE reports every error of a file with its place and a \
     mend; sophron rehearse FILE shows what the rules would have done to the last days of this machine; sophron rules explain FILE \
     says them back in plain sentences.",
    "The machine's rules are /etc/sophron/rules.toml and, in the order of their names, rules.d/*.toml beside it. Only root may be \
     able to write to them. A watcher that runs as a service reads them anew when they change, or by sophron rules reload; while \
     they are not sound it goes on with those that it has.",
    "What is known beforehand belongs into hours, as nights and market days. Whoever wants rules to keep their hands off for once \
     says so to the watcher: sophron stand-back.",
];

const CONDITIONS: [&str; 3] = [
    "value sign value, where a sign is < <= > >= = != or in words under, at most, over, at least, is, is not; field ~ \"pattern\" with * \
     and ?; field in (value, ...); not, and, or, parentheses. not binds closest, then and, then or.",
    "Sizes are written as 750 MiB or 1.5 GB, shares as 90%, durations as 90s or 1h30m, rates as 5 MiB/s, text in quotes.",
    "What cannot be read is unknown, which is neither true nor false: it does not cover, and never acts. In protect it protects.",
];

/// The page.
pub fn page() -> Outcome<Vec<u8>> {
    let mut roff = Roff::new();
    let source = concat!("sophron ", env!("CARGO_PKG_VERSION"));
    roff.control("TH", ["SOPHRON-RULES", "5", "", source, MANUAL]);
    roff.control("SH", ["NAME"]).text([roman("sophron-rules - rules files of sophron")]);
    roff.control("SH", ["DESCRIPTION"]);
    paragraphs(&mut roff, &ABOUT);
    roff.control("SH", ["EXAMPLE"]).control("nf", []);
    for line in EXAMPLE.lines() {
        roff.text([roman(line)]);
    }
    roff.control("fi", []);
    roff.control("SH", ["KEYS"]);
    for (heading, table) in TABLES {
        let heading = if heading == "the file" { "At the head of the file" } else { heading };
        roff.control("SS", [heading]);
        for key in table.keys {
            entry(&mut roff, key.name, &plain(key.about));
        }
    }
    roff.control("SH", ["CONDITIONS"]);
    paragraphs(&mut roff, &CONDITIONS);
    for (heading, of) in [("Fields of processes", false), ("Fields of the machine", true)] {
        roff.control("SS", [heading]);
        for field in Field::ALL.iter().filter(|field| (field.info().subject == Subject::Machine) == of) {
            entry(&mut roff, field.name(), &plain(field.info().meaning));
        }
    }
    roff.control("SS", ["Functions over time"]);
    for function in Function::ALL {
        entry(&mut roff, function.form(), &plain(function.definition()));
    }
    roff.control("SH", ["SEE ALSO"]);
    roff.text([roman(
        "sophron(1), sophron-watch(1), sophron-rules-check(1), sophron-rehearse(1), sophron-rules-fields(1)",
    )]);
    let mut page = Vec::new();
    roff.to_writer(&mut page)?;
    Ok(page)
}

fn entry(roff: &mut Roff, name: &str, about: &str) {
    roff.control("TP", []).text([bold(name)]).text([roman(about)]);
}

fn paragraphs(roff: &mut Roff, all: &[&str]) {
    for paragraph in all {
        roff.control("PP", []).text([roman(*paragraph)]);
    }
}
