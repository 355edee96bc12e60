//! What a process is known by: fields, units, its identity.

use proptest::prelude::*;
use sophron_core::model::{Boot, CheckedPid, Cost, Field, Needs, ProcessId, unit_of};

#[test]
fn the_outermost_unit_counts_and_below_a_user_it_is_a_claim() {
    let user = "/user.slice/user-1001.slice/user@1001.service";
    for (path, expected) in [
        ("/system.slice/cron.service".to_owned(), Some(("cron.service", "/system.slice/cron.service", false))),
        ("/system.slice/cron.service/inner".to_owned(), Some(("cron.service", "/system.slice/cron.service", false))),
        (
            "/system.slice/x.scope/system.slice/cron.service".to_owned(),
            Some(("x.scope", "/system.slice/x.scope", false)),
        ),
        (
            format!("{user}/app.slice/cron.service"),
            Some(("cron.service", &*format!("{user}/app.slice/cron.service"), true)),
        ),
        (
            format!("{user}/app.slice/a.scope/cron.service"),
            Some(("a.scope", &*format!("{user}/app.slice/a.scope"), true)),
        ),
        (format!("{user}/of-mine/cron.service"), Some(("user@1001.service", user, false))),
        (
            "/user.slice/user-1001.slice/session-3.scope".to_owned(),
            Some(("session-3.scope", "/user.slice/user-1001.slice/session-3.scope", false)),
        ),
        // Not where that user's manager stands, and not a manager at all.
        (
            "/user.slice/user-1002.slice/user@1001.service/cron.service".to_owned(),
            Some(("user@1001.service", "/user.slice/user-1002.slice/user@1001.service", false)),
        ),
        ("/payload/system.slice/cron.service".to_owned(), None),
        ("/../system.slice/cron.service".to_owned(), None),
        ("/".to_owned(), None),
    ] {
        let found = unit_of(&path);
        assert_eq!(found.map(|unit| (unit.name, unit.group, unit.is_a_claim())), expected, "{path}");
    }
}

#[test]
fn names_are_unique_and_found() {
    for field in Field::ALL {
        assert_eq!(Field::named(field.name()), Some(*field));
    }
}

#[test]
fn the_periodic_pass_reads_no_costly_file() {
    let reads = |cost| Needs::PERIODIC.has(cost);
    assert!(
        reads(Cost::Stat)
            && reads(Cost::Statm)
            && reads(Cost::Status)
            && reads(Cost::Io)
            && reads(Cost::Cgroup)
            && reads(Cost::Machine)
    );
    assert!(!reads(Cost::Rollup) && !reads(Cost::Files) && !reads(Cost::Disks));
}

#[test]
fn everything_says_what_is_usual() {
    assert!(Field::ALL.iter().all(|field| !field.help().usual.is_empty()));
    // A rate that is high asks for something.
    let rates = Field::ALL.iter().filter(|field| field.info().rate);
    assert!(rates.clone().count() > 10 && rates.into_iter().all(|field| !field.help().when_high.is_empty()));
}

#[test]
fn start_time_and_boot_are_part_of_it() {
    let id = ProcessId { pid: 51907, start: 88_120, boot: Boot(7) };
    let checked = id.checked();
    assert!(checked.fits(&id));
    assert!(!checked.fits(&ProcessId { start: 88_121, ..id }) || !checked.fits(&ProcessId { start: 88_122, ..id }));
    assert_eq!(checked.to_string().parse(), Ok(checked));
    assert!("51907".parse::<CheckedPid>().is_err());
    assert!("51907-abc".parse::<CheckedPid>().is_err());
}

proptest! {
    #[test]
    fn a_slip_of_the_hand_never_fits(pid in 1u32..=4_194_304, start: u64, place in 0usize..7, digit in 0u8..10) {
        let checked = ProcessId { pid, start, boot: Boot(1) }.checked().to_string();
        let (digits, letters) = checked.split_once('-').unwrap();
        let mut slipped = digits.as_bytes().to_vec();
        let place = place % slipped.len();
        slipped[place] = b'0' + digit;
        let mut swapped = digits.as_bytes().to_vec();
        swapped.swap(place, (place + 1) % digits.len().max(1));
        let neighbours = place + 1 < digits.len();
        for wrong in [Some(slipped), neighbours.then_some(swapped)].into_iter().flatten() {
            let wrong = String::from_utf8(wrong).unwrap();
            if wrong != digits {
                let parsed = format!("{wrong}-{letters}").parse::<CheckedPid>();
                prop_assert!(parsed.is_err());
            }
        }
    }
}
