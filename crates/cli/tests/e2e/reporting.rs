//! The report: the demo day as it is told, and the page in a browser.

use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::Command;

use sophron_testkit::Stage;

use crate::stage;

/// The office's rules.
fn rules(stage: &Stage) -> String {
    let rules = concat!(env!("CARGO_MANIFEST_DIR"), "/../../examples/mossgate.toml");
    stage.write("mossgate.toml", std::fs::read(rules).unwrap()).display().to_string()
}

fn report(stage: &Stage, options: &[&str]) -> String {
    let output = stage.run(&[&["report", "--from", "demo"], options].concat());
    assert_eq!(output.status, Some(3), "something was found: {}", output.stderr);
    output.stdout.replace(&stage.path("").display().to_string(), "")
}

/// Every sentence, every figure, every drawing.
#[test]
fn the_demo_day_is_told_whole() {
    let stage = stage();
    insta::assert_snapshot!("the_day", report(&stage, &["--rules", &rules(&stage)]));
    insta::assert_snapshot!(
        "the_day_for_the_customer",
        report(&stage, &["--to", "customer", "--suggest", "Save your labels."])
    );
    let hours = stage.write("office.toml", "format = 1\n[hours]\nnoon = ['daily 12:00-14:00']\n").display().to_string();
    let told = report(&stage, &["--rules", &hours, "--hours", "noon"]);
    assert!(told.contains("In all of the 1 h 30 m that were seen within the hours noon"), "{told}");
    let wrong = stage.run(&["report", "--from", "demo", "--rules", &hours, "--hours", "night"]);
    assert!(wrong.status == Some(2) && wrong.stderr.contains("the rules file has noon"), "{}", wrong.stderr);
}

#[test]
fn the_day_for_programs() {
    let stage = stage();
    let told: serde_json::Value = serde_json::from_str(&report(&stage, &["--format", "json"])).unwrap();
    let entries = told["entries"].as_array().unwrap();
    assert_eq!(entries[0]["lines"][0], "Short of memory for 20 m in the afternoon; labelpress grows until it ends");
    let critical = entries.iter().find(|entry| entry["tone"] == "critical").unwrap();
    assert_eq!(critical["lines"][0]["title"], "short of memory because of herbarium (tomas)");
    let table = entries.iter().filter(|entry| entry["word"] == "table").nth(1).unwrap();
    let row = &table["lines"][0]["rows"][0];
    assert!(
        row["name"] == "plantledger" && row["cells"][0].as_f64().is_some_and(|seconds| seconds > 11_000.0),
        "{row}"
    );
}

/// A file of its own, which only whoever asked may read, and which takes nobody's place.
#[test]
fn it_is_saved_once() {
    let stage = stage();
    let file = stage.path("day.html");
    let name = file.display().to_string();
    report(&stage, &["--save", &name]);
    assert_eq!(file.metadata().unwrap().permissions().mode() & 0o777, 0o600);
    let page = std::fs::read_to_string(&file).unwrap();
    assert!(page.len() < 120_000, "{}", page.len());
    for forbidden in ["<script", "http:", "https:", "@import", "url(h", "<link", "<iframe", "javascript:"] {
        assert!(!page.contains(forbidden), "{forbidden}");
    }
    assert!(page.contains("content=\"default-src 'none'; style-src 'unsafe-inline'\""));
    let again = stage.run(&["report", "--from", "demo", "--save", &name]);
    assert!(again.status == Some(2) && again.stderr.contains("nothing is overwritten"), "{}", again.stderr);
    assert_eq!(std::fs::read_to_string(&file).unwrap(), page);
    let nowhere = stage.run(&["report", "--from", "demo", "--save", "/no/such/folder/day.html"]);
    assert!(nowhere.status == Some(1) && nowhere.stderr.contains("cannot be written"), "{}", nowhere.stderr);
    assert_eq!(std::fs::read_dir(file.parent().unwrap()).unwrap().count(), 1, "nothing else is left there");
}

/// Of this machine the cases are those of the record: what was measured, and what was done.
#[test]
fn the_cases_of_the_record_are_told() {
    let stage = stage();
    let press = stage.offender("labelpress", &["--grow", "400MiB/s", "--up-to", "64MiB"]);
    let rules = "format = 1\nevery = '300ms'\n[lookback]\nevery = '1s'\n[[rule]]\nname = 'press-leak'\nwhere = '{mine}'\n\
        lasting = '300ms'\nbreach = 'memory.held > 40 MiB'\narmed = true\nseverity = 'critical'\n\
        ladder = [ { at = '0s', do = 'alert' }, { at = '300ms', do = 'suspend', for = '1s' }, { at = '2s', do = 'terminate' } ]\n";
    let (rules, state) = (stage.write("rules.toml", rules).display().to_string(), stage.state().display().to_string());
    let output = stage.run(&["watch", "--rules", &rules, "--state", &state, "--for", "6s"]);
    assert_eq!(output.status, Some(0), "{output:?}");
    let told = stage.run(&["report", "--state", &state]).stdout;
    let whom = format!("labelpress {}-", press.pid());
    let case = told
        .lines()
        .skip_while(|line| !(line.starts_with("case 1") && line.contains(&whom)))
        .take(7)
        .collect::<Vec<_>>();
    let words = case.get(1).unwrap_or_else(|| panic!("{told}"));
    assert!(
        words.contains("press-leak: memory.held 6") && words.contains("MiB at its opening, limit 40.0 MiB."),
        "{words}"
    );
    let steps = case.iter().find(|line| line.trim_start().starts_with("told ")).unwrap_or_else(|| panic!("{told}"));
    let order: Vec<usize> =
        ["told ", ", suspended", ", resumed", ", ended"].iter().map(|step| steps.find(step).unwrap()).collect();
    assert!(order.is_sorted(), "{steps}");
    let customer = stage.run(&["report", "--state", &state, "--to", "customer"]).stdout;
    assert!(customer.contains("labelpress was ended."), "{customer}");
    // Without a history of usage the lookback tells what it has.
    std::fs::remove_dir_all(stage.state().join("usage")).unwrap();
    let longer = stage.run(&["report", "--state", &state, "--since", "9d ago"]);
    assert!(longer.stdout.contains("case 1") && longer.stderr.contains("nothing was kept of "), "{longer:?}");
}

/// What a browser makes of a page at a width: how wide it becomes, its ground, and its title.
fn in_a_browser(stage: &Stage, page: &Path, width: u32, dark: bool) -> Option<(u32, String, String)> {
    let browser = ["chromium", "chromium-browser"]
        .into_iter()
        .find(|name| Command::new(name).arg("--version").output().is_ok_and(|output| output.status.success()));
    let Some(browser) = browser else {
        println!("skipped: there is no Chromium here");
        return None;
    };
    // The page runs nothing itself: what measures it stands around it.
    let around = format!(
        "<iframe id=page src='{}' style='width:{width}px;height:2000px;border:0'></iframe><p id=told></p><script>\
         onload = () => {{ const of = page.contentDocument; told.textContent = 'TOLD ' + of.documentElement.scrollWidth + '|' + \
         getComputedStyle(of.body).backgroundColor + '|' + of.title + '|' + of.scripts.length }}</script>",
        page.file_name()?.display()
    );
    let file = stage.write(&format!("around-{width}-{dark}.html"), around);
    let profile = stage.path("profile").display().to_string();
    let mut command = Command::new(browser);
    command.args([
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--allow-file-access-from-files",
        "--hide-scrollbars",
    ]);
    command.args(["--virtual-time-budget=3000", "--dump-dom", &format!("--user-data-dir={profile}")]);
    let scheme = format!("--blink-settings=preferredColorScheme={}", u8::from(!dark));
    command.args([format!("--window-size={},2100", width + 40), scheme]);
    let output = command.arg(format!("file://{}", file.display())).output().expect("it was there a moment ago");
    let dom = String::from_utf8_lossy(&output.stdout).into_owned();
    let told = dom.split("TOLD ").nth(2).or(dom.split("TOLD ").nth(1)).unwrap_or_else(|| panic!("{output:?}"));
    let mut parts = told.split('<').next()?.split('|').map(str::to_owned);
    let (wide, ground, title) = (parts.next()?.parse().ok()?, parts.next()?, parts.next()?);
    assert_eq!(parts.next().as_deref(), Some("0"), "no scripts");
    Some((wide, ground, title))
}

/// A recording of somebody who calls his program and himself whatever he likes.
fn hostile(stage: &Stage) -> String {
    let head = r#"{"sophron":"recording","format":1,"host":"</title><b>desk","boot":"0000000000000000000000006d6f7373","every":10.0,"begun":"2026-10-12T07:30:00Z","uid":0,"zone":"Europe/London"}"#;
    let name = r"<script>document.title=`mine`</script>\u202egpj.exe<img src=x onerror=alert(1)>";
    let mut lines = vec![head.to_owned()];
    for at in 0..400 {
        let held = (100 + 3 * at) << 20;
        let who =
            format!(r#""app":"{name}{}","owner":"{name}","name":"x","path":"{name}","uid":1001,"#, "w".repeat(200));
        let figures = format!(r#""cpu":99.0,"memory.held":{held},"threads":1"#);
        let process = match at {
            0 => format!(r#""n":[{{"pid":20,"start":200,{who}{figures}}}]"#),
            _ => format!(r#""c":[[20,{{{figures}}}]]"#),
        };
        let machine = r#""machine.cores":4,"machine.cpu":60.0,"machine.core.fullest":100.0,"machine.memory.total":8589934592,"machine.stall.memory":30.0"#;
        let available = (8_u64 << 30) - held;
        lines.push(format!(
            r#"{{"t":{},"m":{{{machine},"machine.memory.available":{available}}},{process}}}"#,
            at * 10_000
        ));
    }
    stage.write("hostile.jsonl", lines.join("\n") + "\n").display().to_string()
}

/// On a screen, on a telephone, in the dark and on paper: no wider than it may be, and what a name says is only shown.
#[test]
fn the_page_in_a_browser() {
    let stage = stage();
    let day = stage.path("day.html");
    report(&stage, &["--rules", &rules(&stage), "--save", &day.display().to_string()]);
    let evil = stage.path("evil.html");
    let output = stage.run(&["report", "--from", &hostile(&stage), "--save", &evil.display().to_string()]);
    assert_eq!(output.status, Some(3), "{}", output.stderr);
    for (page, title) in [(&day, "mossgate-desk-03, Monday 12 October 2026, 07:10 to 18:20 BST"), (&evil, "</title>")] {
        for (width, dark, ground) in
            [(1280, false, "251, 250, 246"), (500, false, "251, 250, 246"), (500, true, "20, 24, 28")]
        {
            let Some((wide, found, named)) = in_a_browser(&stage, page, width, dark) else { return };
            assert!(wide <= width, "{}: {wide} of {width}", page.display());
            assert!(found.contains(ground), "{found}");
            assert!(
                named.starts_with(&title.replace('<', "&lt;").replace('>', "&gt;")) || named.starts_with(title),
                "{named}"
            );
        }
    }
    let paper = stage.path("day.pdf");
    let profile = stage.path("profile").display().to_string();
    let mut command = Command::new("chromium");
    command.args(["--headless", "--no-sandbox", "--disable-gpu", &format!("--user-data-dir={profile}")]);
    command.args([&format!("--print-to-pdf={}", paper.display()), &format!("file://{}", day.display())]);
    command.output().unwrap();
    assert!(paper.metadata().unwrap().len() > 20_000);
}
