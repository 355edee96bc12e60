//! The trail: a chain in which no byte can change unseen, and the stories it tells.

use jiff::Timestamp;
use proptest::prelude::*;
use sophron_core::act::Originals;
use sophron_core::audit::{
    ActionRecord, By, Draft, InForce, Kind, Link, OpenHold, Record, ResultRecord, Retired, Story, SubjectRecord,
    ToldRecord, Who, cases, check, check_files, find_time, hands, stamps, tail, verify, verify_files,
};
use sophron_testkit::process;

fn draft(kind: Kind, case: Option<u64>, verb: &str, outcome: &str) -> Draft {
    let who = Who { uid: 0, user: "root".to_owned(), login_uid: Some(1001), by: None };
    let at = Timestamp::from_second(1_795_505_400).unwrap();
    Draft {
        case,
        rule: case.map(|_| "press-leak".to_owned()),
        subject: case.map(|_| SubjectRecord::from(&process(51907, "labelpress"))),
        action: (!verb.is_empty()).then(|| ActionRecord::word(verb.into())),
        result: Some(ResultRecord { outcome: outcome.into(), seen: "größer — ✓".to_owned(), took: Some(0.25) }),
        ..Draft::new(at, kind, "mossgate-desk-03", "00000000000000000000000000000007", who)
    }
}

fn lowering(kind: Kind, case: u64) -> Draft {
    let mut draft = draft(kind, Some(case), "lower", "");
    draft.action.as_mut().unwrap().nice = Some(15);
    draft.action.as_mut().unwrap().originals =
        Some(Originals { was: 2, others: vec![(51908, 4)], ..Originals::default() });
    draft
}

fn trail(drafts: &[Draft]) -> Vec<String> {
    let mut link = Link::default();
    drafts.iter().map(|draft| link.seal(draft).unwrap()).collect()
}

fn story() -> Vec<String> {
    trail(&[
        draft(Kind::WatcherStarted, None, "", "started"),
        draft(Kind::Breach, Some(1), "", "opened"),
        lowering(Kind::Intent, 1),
        draft(Kind::Outcome, Some(1), "lower", "lowered"),
        draft(Kind::Calm, Some(1), "", "calm"),
        draft(Kind::Restored, Some(1), "restore", "restored"),
    ])
}

#[test]
fn a_record_looks_like_this() {
    insta::assert_snapshot!(story()[2]);
}

#[test]
fn an_untouched_trail_is_sound() {
    let verified = verify(story().concat().as_bytes());
    assert_eq!((verified.records.len(), verified.fault, verified.link.seq), (6, None, 6));
    assert_eq!(verify(b"").fault, None);
}

#[test]
fn records_that_are_removed_doubled_or_swapped_are_named() {
    let lines = story();
    for place in 0..5 {
        let mut removed = lines.clone();
        removed.remove(place);
        let mut doubled = lines.clone();
        doubled.insert(place, lines[place].clone());
        let mut swapped = lines.clone();
        swapped.swap(place, place + 1);
        for (changed, first_wrong) in [(removed, place), (doubled, place + 1), (swapped, place)] {
            let fault = verify(changed.concat().as_bytes()).fault.unwrap();
            assert_eq!(check(changed.concat().as_bytes()).as_ref(), Some(&fault));
            assert_eq!((fault.line, fault.seq), (first_wrong + 1, first_wrong as u64 + 1), "{}", fault.what);
        }
    }
}

#[test]
fn a_torn_end_is_told_from_a_change_and_only_it_can_be_repaired() {
    let whole = story().concat();
    let torn = &whole.as_bytes()[..whole.len() - 40];
    let verified = verify(torn);
    assert!(verified.torn && verified.fault.as_ref().unwrap().seq == 6);
    let (link, repair) = tail(torn).unwrap();
    assert_eq!((link.unwrap().seq, repair.unwrap().keep), (5, verified.sound_bytes));
    let mut changed = whole.into_bytes();
    let last = changed.len() - 100;
    changed[last] ^= 1;
    assert!(tail(&changed).is_err(), "nothing is appended to a record that was changed");
}

proptest! {
    #[test]
    fn any_one_byte_changed_is_found_and_named(place in any::<prop::sample::Index>(), byte: u8) {
        let lines = story();
        let mut bytes = lines.concat().into_bytes();
        let place = place.index(bytes.len());
        prop_assume!(bytes[place] != byte);
        bytes[place] = byte;
        let mut end = 0;
        let line = lines.iter().position(|line| { end += line.len(); place < end }).unwrap();
        let fault = verify(&bytes).fault.expect("found");
        prop_assert_eq!((fault.line, fault.seq), (line + 1, line as u64 + 1));
        // The check that reads next to nothing finds the same.
        prop_assert_eq!(check(&bytes), Some(fault));
    }
}

#[test]
fn cases_are_told_worst_first() {
    let lines = trail(&[
        draft(Kind::Breach, Some(1), "", "opened"),
        draft(Kind::Outcome, Some(1), "lower", "lowered"),
        draft(Kind::Calm, Some(1), "", "calm"),
        draft(Kind::Restored, Some(1), "restore", "restored"),
        draft(Kind::Breach, Some(2), "", "opened"),
        draft(Kind::Refused, Some(2), "terminate", "refused"),
    ]);
    let records = verify(lines.concat().as_bytes()).records;
    let told: Vec<_> = cases(&records)
        .into_iter()
        .map(|case| (case.case, case.story, case.done.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")))
        .collect();
    assert_eq!(
        told,
        [(2, Story::Open, "terminate: refused".to_owned()), (1, Story::Calm, "lowered, restored".to_owned())]
    );
}

#[test]
fn what_is_still_in_force_is_known_from_the_intent_on() {
    let holds = |drafts: &[Draft]| -> Vec<OpenHold> {
        InForce::of(&verify(trail(drafts).concat().as_bytes()).records).holds().cloned().collect()
    };
    let open = holds(&[lowering(Kind::Intent, 1)]);
    assert_eq!((open.len(), open[0].nice, open[0].originals.of(51908), open[0].originals.of(7)), (1, 15, 4, 2));
    assert!(holds(&[lowering(Kind::Intent, 1), draft(Kind::Restored, Some(1), "restore", "restored")]).is_empty());
    assert!(holds(&[lowering(Kind::Intent, 1), draft(Kind::Refused, Some(1), "lower", "refused")]).is_empty());
    assert!(holds(&[lowering(Kind::Intent, 1), draft(Kind::Ended, Some(1), "", "ended")]).is_empty());
    assert_eq!(holds(&[lowering(Kind::Intent, 1), draft(Kind::Refused, Some(1), "restore", "refused")]).len(), 1);
}

#[test]
fn an_act_without_an_outcome_is_known() {
    let drafts = [
        lowering(Kind::Intent, 1),
        draft(Kind::Outcome, Some(1), "lower", "lowered"),
        draft(Kind::Intent, Some(1), "suspend", ""),
    ];
    let records = verify(trail(&drafts).concat().as_bytes()).records;
    assert_eq!(InForce::of(&records).announced().iter().map(|record| record.seq).collect::<Vec<_>>(), [3]);
}

/// A trail of two files, and the same after the first was removed: only with a record that tells of it.
#[test]
fn the_chain_goes_from_file_to_file_and_a_removed_one_is_told() {
    let lines = story();
    let (first, second) = (lines[..2].concat(), lines[2..].concat());
    let of = |files: &[&str]| {
        let bytes: Vec<&[u8]> = files.iter().map(|file| file.as_bytes()).collect();
        let verified = verify_files(bytes.iter().copied());
        assert_eq!(check_files(&bytes).fault, verified.fault);
        verified
    };
    assert_eq!((of(&[&first, &second]).fault, of(&[&first, &second]).records.len()), (None, 6));
    let fault = of(&[&second]).fault.unwrap();
    assert!(fault.seq == 1 && fault.what.starts_with("records 1 to 2 are missing"), "{}", fault.what);
    assert_eq!(of(&[&second, &first]).fault.map(|fault| (fault.file, fault.line)), Some((0, 1)));
    let last = verify(first.as_bytes()).link;
    let mut link = verify(lines.concat().as_bytes()).link;
    let told = |hash: &str| Draft {
        retired: Some(Retired { file: "000001.jsonl".to_owned(), records: [1, 2], hash: hash.to_owned() }),
        ..draft(Kind::Retired, None, "", "removed")
    };
    let honest = link.clone().seal(&told(&last.hash)).unwrap();
    assert_eq!(of(&[&second, &honest]).fault, None);
    let other = link.seal(&told(&"0".repeat(64))).unwrap();
    assert!(of(&[&second, &other]).fault.is_some());
}

/// A time is found by halving, also where the clock went back.
#[test]
fn a_time_is_found_where_it_is_first_reached() {
    let at = |second: i64| Timestamp::from_second(1_795_505_400 + second).unwrap();
    let seconds = [0, 10, 20, 5, 6, 30, 40];
    let drafts = seconds.map(|second| Draft { at: at(second), ..draft(Kind::Alert, None, "", "") });
    let lines = trail(&drafts);
    let bytes = lines.concat().into_bytes();
    let start = |line: usize| lines[..line].iter().map(String::len).sum::<usize>();
    // 5 and 6 come after 20 was reached.
    for (since, line) in [(-5, 0), (0, 0), (1, 1), (20, 2), (21, 5), (40, 6), (41, 7)] {
        assert_eq!(find_time(&bytes, at(since)), start(line), "since {since}");
    }
}

/// Three stamps over six records, and the keys they were made with.
fn stamped(change: impl Fn(usize, &mut Draft)) -> (Vec<String>, Vec<stamps::Key>) {
    let keys: Vec<stamps::Key> = (0..4).map(|number| stamps::Key::new([number; stamps::SEED])).collect();
    let mut link = Link::default();
    let begun = Draft { stamp: Some(stamps::begun(&keys[0])), ..draft(Kind::KeyBegun, None, "", "begun") };
    let mut lines = vec![link.seal(&begun).unwrap()];
    for number in 1..4_usize {
        for place in 0..2 {
            let mut record = draft(Kind::Alert, Some(number as u64), "", "shown");
            change(2 * number + place, &mut record);
            lines.push(link.seal(&record).unwrap());
        }
        let stamp = keys[number - 1].stamp(number as u64, &link, &keys[number]);
        lines.push(link.seal(&Draft { stamp: Some(stamp), ..draft(Kind::Stamp, None, "", "stamped") }).unwrap());
    }
    (lines, keys)
}

#[test]
fn who_computes_the_chain_anew_has_no_key_for_the_past() {
    let (lines, keys) = stamped(|_, _| {});
    let records = |lines: &[String]| verify(lines.concat().as_bytes()).records;
    let first = keys[0].public();
    let honest = records(&lines);
    let seen = stamps::check(&honest, Some(&first), None).unwrap();
    let last = seen.last.clone().unwrap();
    assert_eq!((seen.count, last.0), (3, 10));
    assert!(stamps::check(&honest, Some(&first), Some(&last.1)).is_ok());
    // The attacker changes a record, computes the chain anew and copies the stamps: their signatures do not fit.
    let (original, mut link) = (honest.clone(), Link::default());
    let mut forged = Vec::new();
    for (place, record) in original.iter().enumerate() {
        let mut copy = draft(record.kind.clone(), record.case, "", "shown");
        copy.stamp.clone_from(&record.stamp);
        copy.result.clone_from(&record.result);
        if place == 4 {
            copy.rule = Some("another".to_owned());
        }
        forged.push(link.seal(&copy).unwrap());
    }
    let forged = records(&forged);
    assert_eq!(forged.len(), 10, "the chain itself is whole");
    let fault = stamps::check(&forged, Some(&first), None).unwrap_err();
    assert_eq!(fault.seq, 7, "the first stamp after the change: {}", fault.what);
    // With a line of keys of his own it is another trail.
    let (own, _) = stamped(|place, record| {
        if place == 4 {
            record.rule = Some("another".to_owned());
        }
    });
    let own = records(&own);
    assert!(stamps::check(&own, None, None).is_ok() && stamps::check(&own, Some(&first), Some(&last.1)).is_err());
    assert!(stamps::check(&own, Some(&keys[3].public()), None).is_ok());
    assert!(stamps::check(&own, Some(&stamps::Key::new([9; stamps::SEED]).public()), None).is_err());
    // Cut off behind the second stamp: the chain is whole, and the third is missed.
    let cut = records(&lines[..7]);
    assert!(
        stamps::check(&cut, Some(&first), None).is_ok() && stamps::check(&cut, Some(&first), Some(&last.1)).is_err()
    );
}

/// A forged record that tells of a removal, behind the last stamp: with a key it is no excuse for what is missing.
#[test]
fn a_removal_that_no_stamp_vouches_for_is_no_excuse() {
    let (lines, keys) = stamped(|_, _| {});
    let records = verify(lines.concat().as_bytes()).records;
    let mut link = Link::after(records.last().unwrap());
    let retired = Retired { file: "000001.jsonl".to_owned(), records: [1, 4], hash: records[3].hash.clone() };
    let forged = Draft { retired: Some(retired), ..draft(Kind::Retired, None, "", "removed") };
    let rest = lines[4..].concat() + &link.seal(&forged).unwrap();
    let left = verify(rest.as_bytes());
    assert_eq!(left.fault, None, "the chain alone is satisfied");
    let later = keys[1].public();
    assert!(stamps::check(&left.records, Some(&later), None).unwrap_err().what.contains("no stamp vouches for that"));
    assert_eq!(stamps::check(&left.records, None, None).unwrap().unsigned_removal, Some(11));
    let stamp = keys[3].stamp(4, &link, &stamps::Key::new([7; stamps::SEED]));
    let signed = rest + &link.seal(&Draft { stamp: Some(stamp), ..draft(Kind::Stamp, None, "", "stamped") }).unwrap();
    assert!(stamps::check(&verify(signed.as_bytes()).records, Some(&later), None).is_ok());
}

/// What a watcher takes back is no hand at work, in old trails either.
#[test]
fn a_hand_is_a_person() {
    let told = |by: Option<By>, rule: bool, case: bool| {
        let mut told = draft(Kind::Restored, Some(1), "restore", "restored");
        told.who.by = by;
        told.rule = told.rule.filter(|_| rule);
        told.case = told.case.filter(|_| case);
        hands(&verify(trail(&[told]).concat().as_bytes()).records).len()
    };
    assert_eq!((told(Some(By::Hand), false, true), told(Some(By::Watcher), false, false)), (1, 0));
    // Older ones: a hand names neither rule nor case, and the undo of a closed case its case.
    assert_eq!((told(None, false, false), told(None, false, true), told(None, true, true)), (1, 0, 0));
}

/// A few records of what comes in any order.
fn any_records() -> impl Strategy<Value = Vec<Draft>> {
    let kinds = [
        (Kind::Intent, "lower", ""),
        (Kind::Outcome, "lower", "lowered"),
        (Kind::Refused, "lower", "refused"),
        (Kind::Restored, "restore", "restored"),
        (Kind::Intent, "suspend", ""),
        (Kind::Outcome, "suspend", "suspended"),
        (Kind::Restored, "resume", "resumed"),
        (Kind::Intent, "terminate", ""),
        (Kind::Outcome, "terminate", "ended"),
        (Kind::Ended, "", "ended"),
        (Kind::StoodBack, "resume", "stood back"),
        (Kind::TrailLost, "", "lost"),
        (Kind::LossAccepted, "", "accepted"),
        (Kind::Told, "", "begun"),
        (Kind::Told, "", "taken"),
        (Kind::Told, "", "given up"),
        (Kind::Told, "", "down"),
        (Kind::Told, "", "back"),
    ];
    let one = (0..kinds.len(), 0..3_u32, 1..3_u64, any::<bool>()).prop_map(move |(kind, pid, case, by_hand)| {
        let (kind, verb, outcome) = kinds[kind].clone();
        let mut draft = draft(kind, Some(case), verb, outcome);
        draft.subject = Some(SubjectRecord::from(&process(51_900 + pid, "labelpress")));
        (draft.boot, draft.who.by) = (
            sophron_testkit::World::new(Vec::new()).machine.boot.to_string(),
            Some(if by_hand { By::Hand } else { By::Watcher }),
        );
        if by_hand {
            (draft.rule, draft.case) = (None, None);
        }
        if draft.kind == Kind::Told {
            let records = if matches!(outcome, "taken" | "given up") { vec![case, case + 5] } else { Vec::new() };
            let (channel, seen) = (format!("channel-{pid}"), String::new());
            draft.told = Some(ToldRecord { channel, records, outcome: outcome.into(), seen, took: None });
        }
        if let Some(action) = draft.action.as_mut().filter(|action| action.verb == sophron_core::audit::Verb::Lower) {
            (action.nice, action.step) = (Some(5 + pid.cast_signed()), Some(1));
            action.originals = Some(Originals { was: i32::try_from(case).unwrap(), ..Originals::default() });
        }
        draft
    });
    proptest::collection::vec(one, 0..40)
}

/// Everything that a start goes by.
fn in_force(all: &InForce) -> String {
    let announced: Vec<u64> = all.announced().iter().map(|record| record.seq).collect();
    let suspended: Vec<u64> = all.suspended().map(|record| record.seq).collect();
    let acts: Vec<u64> = all.acts().map(|record| record.seq).collect();
    let (holds, hands) = (all.holds().collect::<Vec<_>>(), all.hands().collect::<Vec<_>>());
    let loss = all.loss().map(|record| record.seq);
    let told = ["channel-0", "channel-1", "channel-2"].map(|channel| {
        all.told_by(channel)
            .map(|told| (told.cursor(), told.last_taken(), told.down_since(), told.last_trouble().is_some()))
    });
    format!("{} {holds:?} {suspended:?} {announced:?} {acts:?} {hands:?} {loss:?} {told:?}", all.highest_case)
}

proptest! {
    /// A file that begins with what the one before it carries over tells the same as both.
    #[test]
    fn what_is_carried_over_tells_the_same_as_all(before in any_records(), after in any_records()) {
        let boot = sophron_testkit::World::new(Vec::new()).machine.boot;
        let records: Vec<Record> = verify(trail(&before).concat().as_bytes()).records;
        let whole = InForce::of(&records);
        let mut head = draft(Kind::TrailOpened, Some(whole.highest_case), "", "opened");
        (head.carried, head.subject) = (whole.carried(boot), None);
        // Over two files.
        for _ in 0..2 {
            let mut link = Link::default();
            let line = link.seal(&head).unwrap();
            let begun = InForce::of(&verify(line.as_bytes()).records);
            prop_assert_eq!(in_force(&begun), in_force(&whole));
            head.carried = begun.carried(boot);
        }
        let mut link = records.last().map_or_else(Link::default, Link::after);
        let lines: String = std::iter::once(&head).chain(&after).map(|draft| link.seal(draft).unwrap()).collect();
        let second = verify(lines.as_bytes());
        let third: Vec<Record> = serde_json::Deserializer::from_str(&lines).into_iter::<Record>().map(Result::unwrap).collect();
        prop_assert!(second.records.is_empty() || second.records.len() == third.len());
        prop_assert_eq!(in_force(&InForce::of(&third)), in_force(&InForce::of(records.iter().chain(&third[1..]))));
    }
}
