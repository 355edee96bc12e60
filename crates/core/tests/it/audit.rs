//! The trail: a chain in which no byte can change unseen, and the stories it tells.

use jiff::Timestamp;
use proptest::prelude::*;
use sophron_core::audit::{
    ActionRecord, Draft, Kind, Link, ResultRecord, Story, SubjectRecord, Who, cases, open_holds, tail, verify,
};
use sophron_core::effects::Originals;
use sophron_testkit::process;

fn draft(kind: Kind, case: Option<u64>, verb: &str, outcome: &str) -> Draft {
    Draft {
        at: Timestamp::from_second(1_795_505_400).unwrap(),
        host: "mossgate-desk-03".to_owned(),
        boot: "00000000000000000000000000000007".to_owned(),
        case,
        kind,
        who: Who { uid: 0, user: "root".to_owned(), login_uid: Some(1001) },
        rule: case.map(|_| "press-leak".to_owned()),
        subject: case.map(|_| SubjectRecord::from(&process(51907, "labelpress"))),
        evidence: None,
        action: (!verb.is_empty()).then(|| ActionRecord::word(verb)),
        result: Some(ResultRecord {
            outcome: outcome.to_owned(), seen: "größer — ✓".to_owned(), took: Some(0.25)
        }),
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
    assert_eq!((link.seq, repair.unwrap().keep), (5, verified.sound_bytes));
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
    let told: Vec<_> = cases(&records).into_iter().map(|case| (case.case, case.story, case.done.join(", "))).collect();
    assert_eq!(
        told,
        [(2, Story::Open, "terminate: refused".to_owned()), (1, Story::Calm, "lowered, restored".to_owned())]
    );
}

#[test]
fn what_is_still_in_force_is_known_from_the_intent_on() {
    let holds = |drafts: &[Draft]| open_holds(&verify(trail(drafts).concat().as_bytes()).records);
    let open = holds(&[lowering(Kind::Intent, 1)]);
    assert_eq!((open.len(), open[0].nice, open[0].originals.of(51908), open[0].originals.of(7)), (1, 15, 4, 2));
    assert!(holds(&[lowering(Kind::Intent, 1), draft(Kind::Restored, Some(1), "restore", "restored")]).is_empty());
    assert!(holds(&[lowering(Kind::Intent, 1), draft(Kind::Refused, Some(1), "lower", "refused")]).is_empty());
    assert!(holds(&[lowering(Kind::Intent, 1), draft(Kind::Ended, Some(1), "", "ended")]).is_empty());
    assert_eq!(holds(&[lowering(Kind::Intent, 1), draft(Kind::Refused, Some(1), "restore", "refused")]).len(), 1);
}
