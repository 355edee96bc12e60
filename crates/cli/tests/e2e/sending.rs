//! Messages that leave the machine: by a helper behind a fence, to servers that take them, refuse them or are silent.

use std::fmt::Write;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::sync::mpsc::Receiver;
use std::time::Duration;

use serde_json::Value;
use sophron_testkit::receiver::{self, AUTHORITY, status};
use sophron_testkit::{Output, Own, Stage, children, copy_program, eventually, is_root};

use crate::{rows, stage};

/// 24 bytes and more, in base64.
const SECRET: &str = "whsec_c2VjcmV0IG9mIHRoZSBncmVlbmhvdXNl";
const PASSWORD: &str = "the-orchid-blooms";

/// As whom root's helpers work on any machine.
const BEGIN: &str = "format = 1\nevery = '200ms'\n[deliver]\nas = 'nobody'\n";

const RULE: &str = "[[rule]]\nname = 'a'\nwhere = '{mine}'\nbreach = 'threads > 0'\nlasting = '200ms'\nseverity = 'critical'\n\
    ladder = [ { at = '0s', do = 'alert' }, { at = '1s', do = 'lower' } ]\n";

/// A file that only its owner can read.
fn secret(stage: &Stage, name: &str, text: &str) -> String {
    let path = stage.write(name, format!("{text}\n"));
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600)).unwrap();
    path.display().to_string()
}

/// A hook, a mail and a collector that work, and as many keys more of the hook.
struct Ways {
    rules: String,
    authority: String,
    key: String,
}

impl Ways {
    fn on(stage: &Stage) -> Ways {
        let authority = stage.write("ca.pem", AUTHORITY).display().to_string();
        Ways { rules: BEGIN.to_owned(), authority, key: secret(stage, "key", SECRET) }
    }

    fn add(&mut self, name: &str, to: &str, keys: &str) {
        writeln!(self.rules, "[[channel]]\nname = '{name}'\nto = '{to}'\n{keys}").unwrap();
    }

    fn hook(&mut self, name: &str, port: u16, path: &str, more: &str) {
        let (ca, key) = (&self.authority, &self.key);
        let keys = format!("url = 'https://localhost:{port}/{path}'\nsecret_file = '{key}'\nca_file = '{ca}'\n{more}");
        self.add(name, "hook", &keys);
    }

    fn mail(&mut self, name: &str, port: u16, to: &str, more: &str) {
        let ca = &self.authority;
        let keys = format!(
            "server = 'localhost:{port}'\nca_file = '{ca}'\nfrom = 'sophron@mossgate.example'\naddresses = ['{to}']\n{more}"
        );
        self.add(name, "mail", &keys);
    }

    /// The file, where these are told of everything.
    fn write(&self, stage: &Stage, by: &str) -> PathBuf {
        stage.write("rules.toml", format!("{}[[tell]]\nseverity = 'warning'\nby = [{by}]\n{RULE}", self.rules))
    }
}

fn attempt(stage: &Stage, name: &str) -> (Option<i32>, String) {
    let rules = stage.path("rules.toml").display().to_string();
    let Output { status, stdout, stderr } = stage.run(&["channels", "try", name, "--rules", &rules]);
    (status, stdout + &stderr)
}

/// Each step is said; what is wrong is said with the step at which it is.
#[test]
fn every_way_says_how_far_it_came() {
    let stage = stage();
    let mut ways = Ways::on(&stage);
    let (web, requests) = receiver::web(true, |path| status(path.trim_start_matches('/')));
    for code in ["202", "302", "404", "503"] {
        ways.hook(code, web, code, "");
    }
    ways.add("foreign", "hook", &format!("url = 'https://localhost:{web}/202'"));
    ways.add(
        "open",
        "hook",
        &format!("url = 'https://localhost:{web}/202'\nsecret_file = '{}'", stage.path("ca.pem").display()),
    );
    ways.add("nowhere", "hook", "url = 'http://127.0.0.1:9/in'");
    let (server, mails) = receiver::mail(&["STARTTLS", "AUTH PLAIN"], Some(PASSWORD));
    let (plain, _plain) = receiver::mail(&[], None);
    let (good, bad) = (secret(&stage, "good", PASSWORD), secret(&stage, "bad", "guessed"));
    let login = |file: &str| format!("user = 'sophron'\nsecret_file = '{file}'");
    ways.mail("mail", server, "desk@mossgate.example", &login(&good));
    ways.mail("guessed", server, "desk@mossgate.example", &login(&bad));
    ways.mail("refused", server, "550@mossgate.example", &login(&good));
    ways.mail("clear", plain, "desk@mossgate.example", "");
    let (collector, lines) = receiver::collector(true);
    let (counting, counted) = receiver::collector(false);
    let ca = ways.authority.clone();
    ways.add("tls", "collector", &format!("server = 'localhost:{collector}'\nca_file = '{ca}'\nenterprise = 32473"));
    ways.add("tcp", "collector", &format!("server = '127.0.0.1:{counting}'\nover = 'tcp'"));
    ways.add("unresolved", "collector", "server = 'logs.mossgate.invalid:6514'\nover = 'tcp'");
    ways.write(&stage, "'202'");
    let cases: [(&str, i32, &str); 14] = [
        ("202", 0, "connected to 127.0.0.1:"),
        ("302", 1, "it answers 302: it is elsewhere, and that is not followed"),
        ("404", 1, "it answers 404: nothing is at that URL"),
        ("503", 1, "it answers 503"),
        ("foreign", 1, "vouch for"),
        ("open", 1, "can be read by others; mend it with: chmod 600"),
        ("nowhere", 1, "nobody listens there"),
        ("mail", 0, "logged in as sophron\ntaken: 250 queued"),
        ("guessed", 1, "sophron cannot log in: it answers 535 who is that"),
        ("refused", 1, "550@mossgate.example is refused: it answers 550 not him"),
        ("clear", 1, "it offers no STARTTLS, and nothing is sent in the clear"),
        ("tls", 0, "TLS 1.3 with localhost: its certificate fits that name\nsent: a collector gives no receipt"),
        ("tcp", 0, "sent: a collector gives no receipt"),
        ("unresolved", 1, "logs.mossgate.invalid"),
    ];
    let mut all = String::new();
    for (name, exit, words) in cases {
        let (status, text) = attempt(&stage, name);
        assert!(status == Some(exit) && text.contains(words), "{name}: {status:?}\n{text}");
        all += &text;
    }
    assert!(![SECRET, PASSWORD, &SECRET[6..], "guessed\n"].iter().any(|secret| all.contains(secret)), "{all}");
    let asked: Vec<String> = requests.try_iter().collect();
    let signed = |asked: &String| asked.contains("webhook-signature: v1,") && asked.contains("\"specversion\":\"1.0\"");
    assert!(asked.len() == 4 && asked.iter().all(signed), "one each, and none where it is not believed: {asked:?}");
    let mail = mails.try_iter().collect::<Vec<_>>();
    assert!(mail.len() == 1 && mail[0].contains("Auto-Submitted: auto-generated\r\n"), "{mail:?}");
    let line = lines.recv_timeout(Duration::from_secs(20)).unwrap();
    assert!(line.starts_with("<29>1 20") && line.contains(" sophron - trial [sophron@32473 id=\"trial-"), "{line}");
    assert!(counted.recv_timeout(Duration::from_secs(20)).unwrap().contains(" sophron - trial - notice: trial: "));
}

/// A helper that waits for a server has no rights, holds no secret where others see it, and is ended when its time is over.
#[test]
fn a_helper_shows_nothing_and_may_do_nothing() {
    let stage = stage();
    let mut ways = Ways::on(&stage);
    let (silent, asked) = receiver::serve(|line, tell| {
        let mut line = line.encrypt();
        let mut bytes = [0; 4096];
        while matches!(std::io::Read::read(&mut line, &mut bytes), Ok(1..)) {
            let _ = tell.send(String::new());
        }
    });
    ways.hook("silent", silent, "in", "");
    let rules = ways.write(&stage, "'silent'").display().to_string();
    let mut command = stage.command(&["channels", "try", "silent", "--rules", &rules]);
    let trying = command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped()).spawn().unwrap();
    asked.recv_timeout(Duration::from_secs(30)).unwrap();
    let helper = eventually("a helper", || children(trying.id()).first().copied());
    let read = |file: &str| std::fs::read(format!("/proc/{helper}/{file}"));
    let status = String::from_utf8(read("status").unwrap()).unwrap();
    let value = |key: &str| status.lines().find_map(|line| line.strip_prefix(key)).map(|value| value.trim().to_owned());
    if is_root() {
        let ids = value("Uid:").unwrap();
        assert!(!ids.split('\t').any(|id| id == "0"), "{ids}");
        assert_eq!(value("Groups:").as_deref(), Some(""));
        let environment = read("environ").unwrap();
        assert!(environment.is_empty(), "{}", String::from_utf8_lossy(&environment));
    }
    assert_eq!((value("NoNewPrivs:").as_deref(), value("CapEff:").as_deref()), (Some("1"), Some("0000000000000000")));
    assert_eq!(String::from_utf8(read("cmdline").unwrap()).unwrap(), "/proc/self/exe\0deliver\0");
    let output = trying.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.code() == Some(1) && said.contains("it does not answer in time"), "{said}");
    eventually("nobody is left", || sophron_testkit::is_gone(helper).then_some(()));
}

fn bodies(requests: &Receiver<String>) -> Vec<Value> {
    let body = |request: String| serde_json::from_str(request.split_once("\r\n\r\n").unwrap().1).unwrap();
    requests.try_iter().map(body).collect()
}

/// What is not taken comes again under the same ID; names that would write lines, headers or markup of their own write none; and what it
/// takes to send stands nowhere.
#[test]
fn hostile_names_are_one_message_by_every_way() {
    let stage = stage();
    let mut ways = Ways::on(&stage);
    let busy = std::sync::atomic::AtomicBool::new(true);
    let (web, requests) = receiver::web(true, move |_| {
        let was = busy.swap(false, std::sync::atomic::Ordering::SeqCst);
        if was { "HTTP/1.1 503 x\r\nretry-after: 1\r\ncontent-length: 0\r\n\r\n".to_owned() } else { status("202") }
    });
    let (chat, shaped) = receiver::web(false, |_| status("200"));
    let (server, mails) = receiver::mail(&[], None);
    let (counting, lines) = receiver::collector(false);
    ways.hook("hook", web, "in", "");
    let key = ways.key.clone();
    let shape = "shape = { text = '{severity}: {app}', \"{app}\" = 1 }";
    ways.add("chat", "hook", &format!("url = 'http://localhost:{chat}/{{secret}}'\nsecret_file = '{key}'\n{shape}"));
    ways.mail("mail", server, "desk@mossgate.example", "secure = 'none'\nat_most = 1000");
    ways.add("logs", "collector", &format!("server = 'localhost:{counting}'\nover = 'tcp'\nenterprise = 32473"));
    let rules = ways.write(&stage, "'hook', 'chat', 'mail', 'logs'");
    let name = std::ffi::OsStr::from_bytes(b"a\r\nBcc: x\"}]<b>\\\xe2\x80\xae\xff");
    let mut watcher = stage.watch(&rules, &[]);
    let program = stage.path("").join(name);
    copy_program(env!("CARGO_BIN_EXE_sophron"), &program);
    let offender = Own(std::process::Command::new(&program).args(["misbehave", "--for", "60s"]).spawn().unwrap());
    watcher.line_with("alert");
    drop(offender);
    watcher.line_with("ended");
    let (mut events, mut chats, mut logs, mut mail) = (Vec::new(), Vec::new(), Vec::new(), String::new());
    eventually("all has arrived", || {
        events.extend(bodies(&requests));
        chats.extend(shaped.try_iter());
        logs.extend(lines.try_iter());
        mails.try_iter().for_each(|one| mail += &one);
        let done = |text: &str| text.contains("case 1 ended: ");
        let of_all = [
            events.iter().any(|event: &Value| done(&event.to_string())),
            logs.iter().any(|line: &String| done(line)),
            done(&mail),
            chats.len() + 1 == events.len(),
        ];
        of_all.iter().all(|one| *one).then_some(())
    });
    let (lines_of_watch, _) = watcher.interrupt();
    // The first was refused once, and came again as it was.
    assert_eq!(events[0], events[1]);
    let opened = &events[0]["data"];
    assert_eq!((&opened["severity"], &opened["what"]), (&"critical".into(), &"opened".into()));
    let clean = "a\\x0d\\x0aBcc: x\"}]<b>\\\\u{202e}\\xff";
    assert_eq!(opened["app"], clean, "{opened}");
    let first: Value = serde_json::from_str(chats[0].split_once("\r\n\r\n").unwrap().1).unwrap();
    assert_eq!(first, serde_json::json!({ "text": format!("critical: {clean}"), "{app}": 1 }));
    assert!(chats[0].starts_with(&format!("post /{} http/1.1\r\n", SECRET.to_lowercase())), "{}", chats[0]);
    assert!(!mail.lines().any(|line| line.starts_with("Bcc") || line.starts_with('<')), "{mail}");
    assert!(logs.iter().all(|line| line.starts_with('<') && !line.contains('\n')), "{logs:?}");
    assert!(logs[0].contains(" app=\"a\\\\x0d\\\\x0aBcc: x\\\"}\\]<b>"), "{}", logs[0]);
    // Not in the trail, nor in what is shown of it.
    let (rules, state) = (rules.display().to_string(), stage.state().display().to_string());
    let ours = stage.json(&["channels", "--rules", &rules, "--state", &state, "--format", "json"]);
    assert!(rows(&ours).iter().all(|row| row["state"] == "up" && row["waiting"] == 0), "{ours}");
    let explained = stage.run(&["audit", "explain", "1", "--state", &state]).stdout;
    assert!(explained.contains("by channel hook at ") && explained.contains("by channel logs at "), "{explained}");
    assert!(explained.contains("; sent"), "{explained}");
    let trail = std::fs::read_to_string(stage.state().join("audit/000001.jsonl")).unwrap();
    for text in [trail, ours.to_string(), explained, lines_of_watch] {
        assert!(!text.contains(&SECRET[6..]), "{text}");
    }
}

/// A channel that cannot be used says why and is down at once; what is critical goes by the other.
#[test]
fn what_is_critical_goes_by_another_channel() {
    let stage = stage();
    let mut ways = Ways::on(&stage);
    let (web, requests) = receiver::web(true, |_| status("202"));
    ways.hook("hook", web, "in", "");
    let missing = stage.path("missing").display().to_string();
    ways.mail(
        "mail",
        9,
        "desk@mossgate.example",
        &format!("user = 'ines'\nsecret_file = '{missing}'\notherwise = 'hook'"),
    );
    let rules = ways.write(&stage, "'mail'");
    let check = stage.run(&["rules", "check", &rules.display().to_string()]);
    assert!(check.stdout.contains(&format!("the channel mail cannot tell anybody: {missing}")), "{check:?}");
    let _offender = stage.offender("labelpress", &[]);
    let mut watcher = stage.watch(&rules, &[]);
    let line = watcher.line_with("down");
    assert!(line.contains("channel mail cannot be used") && line.contains(&missing), "{line}");
    let event = eventually("it goes by the hook", || bodies(&requests).into_iter().next());
    assert_eq!(event["data"]["what"], "opened");
    let (rules, state) = (rules.display().to_string(), stage.state().display().to_string());
    let listed = stage.run(&["channels", "--rules", &rules, "--state", &state]);
    assert!(listed.status == Some(3) && listed.stdout.contains("1 channel down"), "{listed:?}");
}

/// Figures: in a file, and by HTTP; sound by others' judgement.
#[test]
fn figures_are_there_for_whoever_reads_them() {
    const PARSE: &str = "import sys\n\
        try:\n    from prometheus_client.openmetrics.parser import text_string_to_metric_families as parse\n\
        except ImportError:\n    print('missing'); sys.exit()\n\
        print(len(list(parse(sys.stdin.read()))))\n";
    let stage = stage();
    let file = stage.path("figures.txt");
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let figures = format!("[figures]\nfile = '{}'\nserve = '127.0.0.1:{port}'\nevery = '1s'\n", file.display());
    let rules = stage.write("rules.toml", format!("{BEGIN}{figures}{RULE}"));
    let watcher = stage.watch(&rules, &[]);
    let _offender = stage.offender("labelpress", &[]);
    let counted = |text: &str| text.contains("sophron_open_cases{rule=\"a\",severity=\"critical\"} 1\n");
    let written = eventually("a case is counted", || std::fs::read_to_string(&file).ok().filter(|text| counted(text)));
    let ask = |question: &str| -> Option<String> {
        use std::io::{Read, Write};
        let mut line = std::net::TcpStream::connect(("127.0.0.1", port)).ok()?;
        line.write_all(question.as_bytes()).ok()?;
        let mut answer = String::new();
        line.read_to_string(&mut answer).ok()?;
        Some(answer)
    };
    let served = eventually("it is served", || ask("GET / HTTP/1.1\r\n\r\n").filter(|text| counted(text)));
    assert!(served.starts_with("HTTP/1.1 200 OK\r\ncontent-type: application/openmetrics-text;"), "{served}");
    assert!(ask("POST / HTTP/1.1\r\n\r\n").unwrap().starts_with("HTTP/1.1 405 "));
    assert!(ask(&"x".repeat(5000)).is_none_or(|text| text.starts_with("HTTP/1.1 400 ")));
    let parsed = stage_parse(PARSE, &written);
    match parsed.as_deref() {
        Some("missing") | None => println!("skipped: no independent parser: pip install prometheus-client"),
        Some(families) => assert_eq!(families, "13", "{written}"),
    }
    watcher.interrupt();
    assert!(!file.exists(), "nobody reads figures of a watcher that is no more");
}

/// What a program of Python's prints of that; none where there is no Python.
fn stage_parse(program: &str, text: &str) -> Option<String> {
    use std::io::Write;
    use std::process::{Command, Stdio};
    let mut python =
        Command::new("python3").args(["-c", program]).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().ok()?;
    python.stdin.take()?.write_all(text.as_bytes()).ok()?;
    let output = python.wait_with_output().ok()?;
    Some(String::from_utf8_lossy(&output.stdout).trim().to_owned())
}

/// A watcher that ends does not wait for a mail server that drips, and leaves no helper behind.
#[test]
fn nobody_keeps_a_watcher_from_ending() {
    let stage = stage();
    let mut ways = Ways::on(&stage);
    let (drips, asked) = receiver::serve(|mut line, tell| {
        let _ = tell.send(String::new());
        while std::io::Write::write_all(&mut line, b"2").is_ok() {
            std::thread::sleep(Duration::from_millis(100));
        }
    });
    ways.mail("mail", drips, "desk@mossgate.example", "secure = 'none'");
    let rules = ways.write(&stage, "'mail'");
    let _offender = stage.offender("labelpress", &[]);
    let watcher = stage.watch(&rules, &[]);
    asked.recv_timeout(Duration::from_secs(30)).unwrap();
    let helpers = children(watcher.pid());
    // A delivery may take 90 s, and nothing in a test waits longer than a minute.
    let (_, status) = watcher.interrupt();
    assert_eq!((status, helpers.len()), (Some(0), 1));
    eventually("its helper is gone", || sophron_testkit::is_gone(helpers[0]).then_some(()));
}

/// Before anybody is flooded: how many messages there would have been, and in how many mails.
#[test]
fn a_rehearsal_counts_mails() {
    let stage = stage();
    let mail = |name: &str, gather: &str| {
        format!(
            "[[channel]]\nname = '{name}'\nto = 'mail'\nserver = 'mail.mossgate.example:587'\nfrom = 'sophron@mossgate.example'\n\
             addresses = ['desk@mossgate.example']\ngather = '{gather}'\n[[tell]]\nby = ['{name}']\n"
        )
    };
    let rule = "[[rule]]\nname = 'press-leak'\nwhere = 'app = \"labelpress\"'\nbreach = 'memory.held > 400 MiB'\nlasting = '20s'\n\
        ladder = [ { at = '0s', do = 'alert' }, { at = '1m', do = 'suspend' }, { at = '3m', do = 'terminate' } ]\n";
    let text = format!("format = 1\n{}{}{rule}", mail("at-once", "0s"), mail("gathered", "1h"));
    let rules = stage.write("rules.toml", text).display().to_string();
    let json = stage.json(&["rehearse", &rules, "--from", "demo", "--format", "json"]);
    let of = |place: usize, key: &str| json["channels"][place][key].as_u64().unwrap();
    let (messages, mails) = (of(0, "messages"), of(1, "mails"));
    assert!(
        messages > 3 && of(1, "messages") == messages && of(0, "mails") > mails && mails >= 1,
        "{}",
        json["channels"]
    );
}
