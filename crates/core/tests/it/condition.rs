//! The condition language: what it means, what it refuses, and how it says so.

use proptest::prelude::*;
use sophron_core::condition::{Condition, Place, Truth, glob};
use sophron_core::facts::Facts;
use sophron_core::model::Field;
use sophron_core::state::State;
use sophron_core::units::{Kind, Value};
use sophron_testkit::{World, process};

fn truth(text: &str) -> Truth {
    let mut world = World::new(vec![process(7, "labelpress")]);
    let labelpress = world.process(7);
    labelpress.cpu = Some(92.5);
    labelpress.names_mut().path = None;
    labelpress.nice = -5;
    let condition = Condition::parse(text, Place::Any).unwrap_or_else(|errors| panic!("{text}: {errors:?}"));
    let snapshot = world.snapshot();
    condition.evaluate(&Facts::new(&snapshot.processes[0], &snapshot.machine))
}

#[test]
fn conditions_mean_what_they_say() {
    let held = [
        "memory > 39 MiB and owner != root",
        "memory at most 40 MiB",
        "750 MiB > memory",
        "cpu over 90% and not (state = suspended)",
        "not state is suspended",
        "app in (labelpress, \"sheetlamp\")",
        "app ~ \"label*\" and owner ~ 'i?es'",
        "memory.held < machine.memory.available",
        "age at least 9m59s and age under 1h30m",
        "app not in (postbox, herbarium) and app not ~ \"post*\" and age > 5 minutes",
        "nice < 0 and nice = -5 and threads = 1",
        "not kernel and kernel is no",
        "cpu.part > 23% # a quarter of four cores",
        // `and` binds closer than `or`.
        "cpu > 1% or cpu > 1% and cpu < 1%",
        "memory.part under 1% and machine.memory.used = 5 GiB",
    ];
    for text in held {
        assert_eq!(truth(text), Truth::True, "{text}");
    }
    for text in ["cpu > 1% and cpu < 1%", "app = sheetlamp", "memory = 40 MB", "not (cpu > 90%)"] {
        assert_eq!(truth(text), Truth::False, "{text}");
    }
}

#[test]
fn unknown_is_not_false() {
    // `path` cannot be read.
    for (text, expected) in [
        ("path ~ \"/opt/*\"", Truth::Unknown),
        ("not (path ~ \"/opt/*\")", Truth::Unknown),
        ("path = \"/x\" or cpu > 1%", Truth::True),
        ("path = \"/x\" and cpu > 1%", Truth::Unknown),
        ("path = \"/x\" and cpu > 95%", Truth::False),
        ("path in (\"/x\")", Truth::Unknown),
    ] {
        assert_eq!(truth(text), expected, "{text}");
    }
}

/// Each error as `place: title | label | help`.
fn errors(text: &str, place: Place) -> String {
    let errors = Condition::parse(text, place).expect_err(text);
    let lines = errors.iter().map(|error| {
        let span = error.span.clone().unwrap_or_default();
        let words = text.get(span.clone()).unwrap_or_default();
        format!("{text}\n  `{words}`: {} | {} | {}", error.title, error.label, error.helps.join("; "))
    });
    lines.collect::<Vec<_>>().join("\n")
}

#[test]
fn every_error_names_the_words_and_the_mend() {
    let wrong = [
        "memry > 750 MiB",
        "memory > 750",
        "memory > 2m and cpu > 5 and age < 3",
        "memory > 750 megs",
        "mean(cpu, 2m) over 90%",
        "avg(cpu) over 90%",
        "avg(app, 2m) = x",
        "slope(cpu, 5m) > 5 MiB/s",
        "avg(cpu, 2) > 90%",
        "until(memory, 5%, 10m) < 1h",
        "avg(cpu, 2m) > 90 MiB",
        "peak(memory, 100d) > 1 GiB",
        "disk.read < 1 MiB",
        "cpu > 90% && memory == 5 MiB",
        "app > \"x\"",
        "state = stoped",
        "memory",
        "(memory > 1 MiB and (cpu > 1%)",
        "memory > 1 MiB)",
        "memory > ",
        "app = \"labelpress",
        "5 MiB < 6 MiB",
        "memory > 99999999999 GiB",
        "cpu > -5%",
        "memory > 5 MiB cpu > 1%",
        "app in labelpress",
        "path ~ /usr/bin/*",
        "app ~ label* and user = ines",
        "ram > 1 GiB or zzqq = x",
        "cpu > 2 cores",
        "",
    ];
    let shown: Vec<String> = wrong.iter().map(|text| errors(text, Place::Any)).collect();
    insta::assert_snapshot!(shown.join("\n"));
    for (place, why) in [(Place::Protect, "protection takes none"), (Place::Look, "this is one look")] {
        assert!(errors("avg(memory, 2m) > 5 MiB", place).contains(why), "a function over time");
    }
    insta::assert_snapshot!(errors("cpu > 5% and app = fernpanel", Place::Protect), @r"
    cpu > 5% and app = fernpanel
      `cpu`: `cpu` is a rate, and protection takes none | needs two samples | protect by app, owner, path or another lasting trait
    ");
}

#[test]
fn deep_nesting_is_an_error_and_no_crash() {
    for deep in ["(".repeat(20_000), "not ".repeat(12_000), format!("{}cpu > 1%", "(".repeat(65))] {
        let errors = Condition::parse(&deep, Place::Any).expect_err("too deep");
        assert!(errors[0].title.contains("deeper than 64"), "{errors:?}");
    }
    assert!(Condition::parse(&format!("{}cpu > 1%{}", "(".repeat(64), ")".repeat(64)), Place::Any).is_ok());
}

fn literal(kind: Kind) -> BoxedStrategy<Value> {
    match kind {
        Kind::Size => (0u64..1 << 45).prop_map(Value::Size).boxed(),
        Kind::Rate => (0.0..1e12f64).prop_map(Value::Rate).boxed(),
        Kind::Percent => (0.0..1e5f64).prop_map(Value::Percent).boxed(),
        Kind::Duration => (0u64..1 << 37).prop_map(|ms| Value::Duration(std::time::Duration::from_millis(ms))).boxed(),
        Kind::Count => (-1_000_000i64..1_000_000).prop_map(|count| Value::Count(count as f64)).boxed(),
        Kind::Text => "[a-zA-Z0-9 \"\\\\#()é*?-]{0,12}".prop_map(Value::Text).boxed(),
        Kind::State => proptest::sample::select(State::ALL.to_vec()).prop_map(Value::State).boxed(),
        Kind::Flag => any::<bool>().prop_map(Value::Flag).boxed(),
    }
}

fn comparison() -> BoxedStrategy<String> {
    let field = proptest::sample::select(Field::ALL.to_vec());
    let one = field.prop_flat_map(|field| {
        let signs = if field.kind().is_ordered() { vec!["<", "<=", ">", ">=", "=", "!="] } else { vec!["=", "!="] };
        (proptest::sample::select(signs), literal(field.kind()))
            .prop_map(move |(sign, value)| format!("{field} {sign} {value}"))
    });
    prop_oneof![
        4 => one,
        1 => literal(Kind::Text).prop_map(|value| format!("app ~ {value}")),
        1 => proptest::collection::vec(literal(Kind::Text), 1..4)
            .prop_map(|values| format!("owner in ({})", values.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "))),
        1 => Just("kernel".to_owned()),
        2 => series(),
    ]
    .boxed()
}

/// A function over time, compared.
fn series() -> BoxedStrategy<String> {
    let ordered: Vec<Field> = Field::ALL.iter().copied().filter(|field| field.kind().is_ordered()).collect();
    let window = prop::sample::select(vec!["30s", "2m", "1h30m", "7d"]);
    (prop::sample::select(ordered), window, 0..5usize)
        .prop_flat_map(|(field, window, function)| {
            literal(field.kind()).prop_map(move |value| match (function, field.kind()) {
                (0, _) => format!("avg({field}, {window}) over {value}"),
                (1, _) => format!("{value} < peak({field}, {window})"),
                (2, _) => format!("growth({field}) > low({field}, {window})"),
                (3, Kind::Size) => format!("slope({field}, {window}) >= 5 MiB/h"),
                (3, _) => format!("climb({field}, {window}) = {value}"),
                _ => format!("until({field}, {value}, {window}) under 15m"),
            })
        })
        .boxed()
}

fn condition() -> BoxedStrategy<String> {
    comparison()
        .prop_recursive(4, 24, 4, |inner| {
            prop_oneof![
                proptest::collection::vec(inner.clone(), 2..4).prop_map(|parts| format!("({})", parts.join(" and "))),
                proptest::collection::vec(inner.clone(), 2..4).prop_map(|parts| format!("({})", parts.join(" or "))),
                inner.prop_map(|inner| format!("not ({inner})")),
            ]
        })
        .boxed()
}

proptest! {
    #[test]
    fn printing_reads_back_as_the_same(text in condition()) {
        let parsed = Condition::parse(&text, Place::Any).map_err(|errors| TestCaseError::fail(format!("{text}: {errors:?}")))?;
        let printed = parsed.to_string();
        prop_assert_eq!(Condition::parse(&printed, Place::Any), Ok(parsed), "{}", printed);
    }

    /// Whatever is known of the parts: `not` twice is nothing, `and` and `or` are each other's mirror, order does not
    /// matter, and what is decided stays decided when more becomes known.
    #[test]
    fn the_laws_of_three_values_hold(first in condition(), second in condition(), blind in prop::bool::ANY) {
        let of = |text: &str, blind: bool| {
            let mut world = World::new(vec![process(7, "labelpress")]);
            if blind {
                let labelpress = world.process(7);
                (labelpress.cpu, labelpress.memory, labelpress.memory_held, labelpress.disk_read) = (None, None, None, None);
                labelpress.names_mut().path = None;
                world.machine.memory_available = None;
            }
            let snapshot = world.snapshot();
            Condition::parse(text, Place::Any).unwrap().evaluate(&Facts::new(&snapshot.processes[0], &snapshot.machine))
        };
        let (a, b) = (format!("({first})"), format!("({second})"));
        let same = [
            (format!("not (not {a})"), a.clone()),
            (format!("not ({a} and {b})"), format!("not {a} or not {b}")),
            (format!("not ({a} or {b})"), format!("not {a} and not {b}")),
            (format!("{a} and {b}"), format!("{b} and {a}")),
            (format!("{a} or {b}"), format!("{b} or {a}")),
            (format!("{a} or {a}"), a.clone()),
        ];
        for (left, right) in same {
            prop_assert_eq!(of(&left, blind), of(&right, blind), "{} / {}", left, right);
        }
        for text in [format!("{a} and {b}"), format!("{a} or not {b}")] {
            let (blind, seeing) = (of(&text, true), of(&text, false));
            prop_assert!(blind == Truth::Unknown || blind == seeing, "{}: {:?}, then {:?}", text, blind, seeing);
        }
    }

    #[test]
    fn no_text_crashes_the_reader(text in "\\PC{0,60}", cut in "[a-z(<>=!&|~'\" 0-9.%/]{0,60}") {
        for text in [text, cut] {
            if let Err(errors) = Condition::parse(&text, Place::Any) {
                prop_assert!(!errors.is_empty());
                for span in errors.iter().filter_map(|error| error.span.clone()) {
                    prop_assert!(text.get(span.clone()).is_some(), "{:?} in {:?}", span, text);
                }
            }
        }
    }
}

#[test]
fn globs() {
    for (pattern, text, expected) in [
        ("/opt/*", "/opt/press/labelpress", true),
        ("*press", "labelpress", true),
        ("l?bel*s", "labelpress", true),
        ("label", "labelpress", false),
        ("*a*b*c", "xxaxxbxx", false),
        ("", "", true),
    ] {
        assert_eq!(glob(pattern, text), expected, "{pattern} on {text}");
    }
}
