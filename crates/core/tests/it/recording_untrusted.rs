//! A recording comes from anywhere: what it says is made harmless, checked and bounded, however it is spelled.

use std::time::Duration;

use sophron_core::judge::Tick;
use sophron_core::model::{Origin, Process, Snapshot};
use sophron_core::recording::{LONGEST_LINE, ReadError, Replay};
use sophron_core::sorted::SortedSet;
use sophron_core::stand_back::StandsBack;
use sophron_core::state::State;

const HEAD: &str = r#"{"sophron":"recording","format":1,"host":"mossgate-desk-03","boot":"0000000000000000000000006d6f7373","every":2.0,"begun":"2026-11-23T07:30:00Z","uid":0}"#;

fn begun() -> Replay {
    Replay::begin(HEAD.as_bytes()).unwrap()
}

fn one(line: &str) -> Result<Snapshot, String> {
    begun().next(line.as_bytes()).cloned().map_err(|error| error.to_string())
}

/// A process of that recording, with what is said of it.
fn press(says: &str) -> Process {
    let line = format!(r#"{{"t":0,"n":[{{"pid":20,"start":200{says}}}]}}"#);
    one(&line).unwrap_or_else(|why| panic!("{line}: {why}")).processes.remove(0)
}

#[test]
fn names_are_made_harmless() {
    let escape = "\\u001b]0;mossgate\\u0007";
    let shown = "\\x1b]0;mossgate\\x07";
    let all = ["name", "app", "path", "command", "owner", "tty", "group", "unit"];
    let says: String = all.iter().map(|key| format!(r#","{key}":"{escape}""#)).collect();
    let found = press(&says);
    assert_eq!([&found.name, &found.app, &found.owner, &found.tty], [shown; 4]);
    let texts = [&found.path, &found.command, &found.group, &found.unit];
    assert_eq!(texts.map(|text| text.as_deref()), [Some(shown); 4]);
    let host = Replay::begin(HEAD.replace("mossgate-desk-03", escape).as_bytes()).unwrap();
    assert_eq!([&host.snapshot().machine.host, &host.header().host], [shown; 2]);
    let outcome = r#"{"at":"2026-11-23T07:30:00Z","pid":20,"start":200,"app":"\u001bx","owner":"\u001bx","do":"\u001bx","outcome":"\u001bx"}"#;
    let mut replay = begun();
    replay.next(format!(r#"{{"t":0,"o":{{"outcomes":[{outcome}]}}}}"#).as_bytes()).unwrap();
    let kept = &replay.ours().outcomes[0];
    assert_eq!([&kept.app, &kept.owner, &kept.verb, &kept.outcome], ["\\x1bx"; 4]);
    let many = vec![outcome; 3000].join(",");
    replay.next(format!(r#"{{"t":1,"o":{{"outcomes":[{many}]}}}}"#).as_bytes()).unwrap();
    assert_eq!(replay.ours().outcomes.len(), 1024, "bounded");
}

/// A number that cannot be is unknown where unknown is possible, and else the nearest harmless one.
#[test]
fn numbers_are_checked() {
    let found = press(
        r#","nice":999,"threads":-1,"uid":99999999999,"session":1e99,"parent":"one","memory":-5,"memory.held":1.5,"disk.read":-1,"disk.write":"much","faults":-0.1,"cpu.time":1e300,"age":1e300,"kernel":"yes","ancestor":0"#,
    );
    assert_eq!((found.nice, found.threads, found.uid, found.session, found.parent), (19, 0, u32::MAX, 0, 0));
    assert_eq!((found.memory, found.memory_held), (None, None));
    assert_eq!((found.disk_read, found.disk_write, found.faults), (None, None, None));
    assert_eq!(
        (found.cpu_time, found.age, found.kernel, found.ancestor),
        (Duration::ZERO, Duration::ZERO, false, None)
    );
    assert_eq!(press(r#","nice":-999"#).nice, -20);
    assert_eq!(press(r#","age":1e15"#).age, Duration::from_secs(1 << 33), "at most some centuries");
    assert_eq!(press(r#","cpu.time":3155760001"#).cpu_time, Duration::ZERO, "more than a century");
    let machine = |says: &str| one(&format!(r#"{{"t":0,"m":{{{says}}}}}"#)).unwrap().machine;
    let found = machine(
        r#""machine.cores":0,"machine.load1":"x","split":[1,2,3,4,500],"disks":[["mossdisk",50,0.01],["toofull",101,0],["noname"],["unasked",5,null]]"#,
    );
    assert_eq!((found.cores, found.load, found.split), (1, None, None));
    let disks: Vec<_> = found.disks.iter().map(|disk| (disk.name.as_str(), disk.busy, disk.answer)).collect();
    assert_eq!(disks, [("mossdisk", 50.0, Some(Duration::from_millis(10))), ("unasked", 5.0, None)]);
    let split = machine(r#""split":[1,2,3,4,5],"machine.load5":2,"machine.memory.total":8"#);
    assert_eq!(split.split.map(|split| split.stolen), Some(5.0));
    assert_eq!((split.load, split.memory_total), (Some([0.0, 2.0, 0.0]), 8));
    let many: Vec<&str> = vec![r#"["d",1,0]"#; 2000];
    assert_eq!(machine(&format!(r#""disks":[{}]"#, many.join(","))).disks.len(), 1024, "bounded");
}

/// However it is made, it costs no more than a recording of a large machine: neither time nor memory.
#[test]
fn a_small_file_cannot_cost_much() {
    // PIDs in falling order were once put into their places one by one: over a minute.
    let rows: Vec<String> = (1..=60_000).rev().map(|pid| format!(r#"{{"pid":{pid},"start":1}}"#)).collect();
    let all = one(&format!(r#"{{"t":0,"n":[{}]}}"#, rows.join(","))).unwrap().processes;
    assert!(all.len() == 60_000 && all.windows(2).all(|pair| pair[0].id.pid < pair[1].id.pid));
    let twice = one(r#"{"t":0,"n":[{"pid":7,"start":1},{"pid":7,"start":2}]}"#).unwrap_err();
    assert!(twice.contains("process 7 is there already"), "{twice}");
    let many = one(&format!(r#"{{"t":0,"m":{{"disks":[{}0]}}}}"#, "0,".repeat(4_100_000))).unwrap_err();
    assert!(many.contains("more than 4000000 values"), "{many}");
    assert_eq!(press(&format!(r#","command":"{}""#, "x".repeat(100_000))).command.as_ref().unwrap().len(), 16 << 10);
    let names = "x".repeat(16 << 10);
    let mut replay = begun();
    let found = (0..8_u32).find_map(|piece| {
        let rows: Vec<String> =
            (1..900).map(|at| format!(r#"{{"pid":{},"start":1,"command":"{names}"}}"#, piece * 1000 + at)).collect();
        replay.next(format!(r#"{{"t":{piece},"n":[{}]}}"#, rows.join(",")).as_bytes()).err()
    });
    assert!(found.unwrap().to_string().contains("more than 64 MiB of names"));
}

/// No figure breaks a judgement that rests on it.
#[test]
fn no_figure_is_too_large_to_be_judged() {
    let judged = ["tree", "owner", "app", "tree", "owner"];
    let rules =
        ["cpu > 5%", "avg(cpu, 10s) > 5%", "growth(cpu.time) > 1s", "disk > 1 MiB/s", "memory > 5 GiB and threads > 5"];
    let rule = |(at, breach): (usize, &&str)| {
        let judge = judged[at];
        format!(
            "[[rule]]\nname = 'rule-{at}'\njudge = '{judge}'\nwhere = 'not kernel'\nlasting = '0s'\nbreach = '{breach}'\n"
        )
    };
    let rules: String = rules.iter().enumerate().map(rule).collect();
    let rules = crate::script::load(&rules);
    for figure in ["1e308", "1e15", "3e38", "-1e308", "18446744073709551615"] {
        let mut replay = begun();
        let mut judge = sophron_core::judge::Judge::new(&rules, 1);
        for t in 0..30 {
            let says =
                ["waited", "faults", "disk.read", "disk.write", "cpu.time", "memory", "memory.held", "age", "threads"];
            let says: String = says.iter().map(|key| format!(r#","{key}":{figure}"#)).collect();
            let row = format!(r#"{{"pid":{},"start":200,"parent":1,"born":true{says}}}"#, 20 + t);
            let line = format!(
                r#"{{"t":{},"n":[{row}],"m":{{"machine.cpu":{figure},"machine.memory.total":{figure}}}}}"#,
                t * 1000
            );
            let snapshot = replay.next(line.as_bytes()).unwrap().clone();
            let none = SortedSet::new();
            let zone = jiff::tz::TimeZone::UTC;
            let tick = Tick {
                suspended: &none,
                busy: &none,
                helpers: &SortedSet::new(),
                only: None,
                back: &StandsBack::default(),
                zone: &zone,
            };
            let _ = judge.tick(&snapshot, &tick);
        }
    }
}

/// Words that this version does not know say nothing; what rests on them is not made up.
#[test]
fn unknown_words_say_nothing() {
    let found = press(r#","state":"dancing","origin":"the moon","dances":true"#);
    assert_eq!((found.state, found.origin), (State::Sleeping, None));
    let found = press(r#","state":"suspended","origin":"service""#);
    assert_eq!((found.state, found.origin), (State::Suspended, Some(Origin::Service)));
}

/// Whether a name is proven is said by two bits, and nothing of an app that was never read is proven.
#[test]
fn what_a_name_rests_on() {
    let rests = |says: &str| {
        let found = press(says);
        (found.app_unread(), found.app_proven(), found.path_proven())
    };
    assert_eq!(rests(r#","proven":0"#), (false, false, false));
    assert_eq!(rests(r#","proven":1"#), (false, false, true));
    assert_eq!(rests(r#","proven":2"#), (false, true, false));
    assert_eq!(rests(r#","proven":3"#), (false, true, true));
    assert_eq!(rests(r#","proven":3,"unread":true"#), (true, false, true));
    assert_eq!(rests(r#","unread":true,"proven":3"#), (true, false, true), "in whatever order");
    assert_eq!(rests(r#","unread":false,"proven":2"#), (false, true, false));
    // It becomes known, in one line.
    let mut replay = begun();
    replay.next(br#"{"t":0,"n":[{"pid":20,"start":200,"unread":true}]}"#).unwrap();
    let known = replay.next(br#"{"t":2,"c":[[20,{"proven":3,"unread":false,"app":"labelpress"}]]}"#).unwrap();
    let press = &known.processes[0];
    assert_eq!((press.app_unread(), press.app_proven(), press.app.as_str()), (false, true, "labelpress"));
}

/// The same row in other words: whatever order, keys said twice, keys with escapes.
#[test]
fn a_row_is_read_however_it_is_spelled() {
    for says in [
        r#","app":"labelpress","nice":5,"memory":1024"#,
        r#","memory":1024,"nice":5,"app":"labelpress""#,
        r#","nice":9,"app":"other","memory":1024,"nice":5,"app":"labelpress""#,
        r#","\u0061pp":"label\u0070ress","ni\u0063e":5,"mem\u006fry":1024"#,
        r#","zeal":{"of":["a",1]},"app":"labelpress","nice":5,"memory":1024,"":null"#,
    ] {
        let found = press(says);
        assert_eq!((found.app.as_str(), found.nice, found.memory), ("labelpress", 5, Some(1024)), "{says}");
    }
}

/// Nothing after a line that makes no sense can be trusted, since every line builds on those before: it is named.
#[test]
fn what_makes_no_sense_is_damage() {
    let longest = format!(r#"{{"t":0,"w":{}1}}"#, " ".repeat(LONGEST_LINE));
    let there = r#"{"t":0,"n":[{"pid":20,"start":1},{"pid":20,"start":2}]}"#;
    for (line, what) in [
        (r#"{"t":-1}"#, "its time is out of range"),
        (r#"{"t":1e300}"#, "its time is out of range"),
        (r#"{"t":0,"b":99999999999999}"#, "its time is out of range"),
        (r#"{"t":0,"w":9223372036854775807}"#, "its time is out of range"),
        (r#"{"t":0,"n":[{"start":1}]}"#, "a process without `pid`"),
        (r#"{"t":0,"n":[{"pid":20}]}"#, "a process without `start`"),
        (r#"{"t":0,"n":[{"pid":-20,"start":1}]}"#, "a process without `pid`"),
        (r#"{"t":0,"n":[{"pid":99999999999,"start":1}]}"#, "a PID is out of range"),
        (there, "process 20 is there already"),
        (r#"{"t":0,"c":[[20,{"nice":1}]]}"#, "process 20 changes before it is there"),
        (&longest, "longer than 16777216 bytes"),
    ] {
        let shown: String = line.chars().take(60).collect();
        assert_eq!(one(line), Err(format!("line 2 is damaged: {what}")), "{shown}");
    }
    for line in ["", "{", "[]", r#"{"t":0,"m":[]}"#, r#"{"t":0,"c":[[20]]}"#, r#"{"t":0,"n":{}}"#, r#"{"b":1}"#] {
        assert!(one(line).is_err_and(|why| why.starts_with("line 2 is damaged: ")), "{line}");
    }
    let mut replay = begun();
    replay.next(br#"{"t":5000}"#).unwrap();
    let back = replay.next(br#"{"t":4999}"#).map(|_| ()).unwrap_err().to_string();
    assert_eq!(back, "line 3 is damaged: its time goes back");
}

/// What a first line must say, and what no other version's can be read.
#[test]
fn the_first_line_is_checked() {
    let with = |from: &str, to: &str| Replay::begin(HEAD.replace(from, to).as_bytes()).map(|_| ());
    assert!(matches!(with("\"format\":1", "\"format\":7"), Err(ReadError::Newer(7))));
    assert!(matches!(with("\"format\":1", "\"format\":99999999999"), Err(ReadError::Newer(u32::MAX))));
    for (from, to) in [("\"format\":1", "\"format\":0"), ("\"format\":1", "\"format\":\"1\""), ("recording", "trail")] {
        assert!(matches!(with(from, to), Err(ReadError::Foreign)), "{to}");
    }
    for (from, to, what) in [("6d6f7373", "mossgate", "no boot ID"), ("\"every\":2.0,", "", "missing field `every`")] {
        let error = with(from, to).unwrap_err().to_string();
        assert!(error.starts_with(&format!("line 1 is damaged: {what}")), "{error}");
    }
}

/// The clocks of one recording go on where those of another ended, by as much as the wall clocks are apart.
#[test]
fn one_recording_follows_another() {
    let mut first = begun();
    let last = first.next(br#"{"t":5000,"b":8000}"#).unwrap().moment;
    let mut second = Replay::begin(HEAD.replace("07:30:00", "07:31:00").as_bytes()).unwrap();
    second.follow(&last);
    let next = second.next(br#"{"t":0}"#).unwrap().moment;
    // 52 s after the last sample by the wall clock, which the boot clock is taken for.
    let apart = Duration::from_secs(52);
    assert_eq!((next.monotonic, next.boottime), (last.boottime + apart, last.boottime + apart));
    assert_eq!(next.wall.duration_since(last.wall).as_secs(), 52);
    let next = second.next(br#"{"t":2000,"b":2500,"w":9000}"#).unwrap();
    assert_eq!(next.interval, Some(Duration::from_secs(2)));
    let passed = (next.moment.boottime - last.boottime, next.moment.wall.duration_since(last.wall).as_secs());
    assert_eq!(passed, (apart + Duration::from_millis(2500), 61), "each clock goes by itself");
}
