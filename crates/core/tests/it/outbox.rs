//! What waits for a channel, is tried again, held back, left out and given up; and what another channel owes for it.

use std::time::Duration;

use jiff::tz::TimeZone;
use sophron_core::act::Came;
use sophron_core::audit::{Kind, Record, ToldRecord, ToldWord};
use sophron_core::model::Moment;
use sophron_core::rules::{self, RuleSet};
use sophron_core::severity::Severity;
use sophron_core::telling::{Message, Outbox, StandIn, Trouble};

use crate::telling::{at, record};

const RULES: &str = "format = 1\n[hours]\nnight = ['daily 22:00-06:00']\n\
    [[channel]]\nname = 'machine-log'\nto = 'log'\n\
    [[channel]]\nname = 'desk-mail'\nto = 'mail'\nserver = 'mail.mossgate.example:587'\nfrom = 'a@b'\naddresses = ['c@d']\n\
    gather = '15m'\nat_most = 2\nquiet = 'night'\notherwise = 'machine-log'\n\
    [[tell]]\nby = ['desk-mail']\n";

fn rules() -> RuleSet {
    rules::load(RULES.as_bytes()).unwrap()
}

fn outbox(channel: &str) -> Outbox {
    Outbox::new(rules().telling.channel(channel).unwrap(), false, TimeZone::UTC)
}

/// So many seconds after half past seven.
fn moment(second: u64) -> Moment {
    let monotonic = Duration::from_secs(second);
    Moment { wall: at(i64::try_from(second).unwrap()), monotonic, boottime: monotonic }
}

fn waiting(seq: u64, second: i64) -> Message {
    Message { seq, ..Message::trial(&at(second).to_zoned(TimeZone::UTC), "mossgate-desk-03", "x") }
}

fn critical(seq: u64, second: i64) -> Message {
    Message { severity: Severity::Critical, ..waiting(seq, second) }
}

fn words(told: impl IntoIterator<Item = ToldRecord>) -> Vec<String> {
    told.into_iter().map(|told| format!("{} {:?} {}", told.outcome, told.records, told.seen)).collect()
}

fn later(why: &str) -> Option<Trouble> {
    Some(Trouble::Later(why.to_owned(), None))
}

/// Tried again, later each time, until it counts as down; then it comes back.
#[test]
fn what_is_not_taken_is_tried_again() {
    let mut outbox = outbox("machine-log");
    (1..=3).for_each(|seq| outbox.put(waiting(seq, 0)));
    let (mut now, mut waits, mut said) = (0, Vec::new(), Vec::new());
    assert_eq!(
        words(outbox.came(moment(now), 0, Duration::ZERO, later("nobody listens"))),
        ["failing [] nobody listens"]
    );
    now = 12;
    while said.is_empty() {
        assert_eq!(outbox.due(moment(now)).len(), 3);
        said = outbox.came(moment(now), 0, Duration::ZERO, later("nobody listens"));
        let rest = outbox.rest(moment(now)).unwrap().as_secs();
        assert!(rest == 0 || outbox.due(moment(now + rest / 2)).is_empty());
        waits.push(rest);
        now += rest + 1;
    }
    assert_eq!(words(said), ["down [] nobody listens"]);
    assert!(waits[0] >= 15 && waits[0] <= 24, "{waits:?}");
    assert!(waits.iter().all(|wait| *wait <= 18 * 60) && waits.len() < 12, "{waits:?}");
    let down_at = now - 1 - waits.last().unwrap();
    assert!((600..=610).contains(&down_at), "{down_at}");
    // Two are taken, the third not yet.
    let said = outbox.came(moment(now), 2, Duration::from_millis(20), later("full"));
    assert_eq!(words(said), ["taken [1, 2] ", "back [] it takes messages again", "failing [] full"]);
    assert_eq!(outbox.rest(moment(now)).map(|rest| rest.as_secs() <= 12), Some(true), "the waits begin anew");
    assert_eq!(words(outbox.expire(moment(90_000))), ["given up [3] 1 message older than a day"]);
    assert_eq!(outbox.rest(moment(90_000)), None);
}

/// What is refused for good goes, and the next is tried at once; five in a row, and the channel is down.
#[test]
fn what_is_refused_for_good_is_given_up() {
    let mut outbox = outbox("machine-log");
    (1..=7).for_each(|seq| outbox.put(waiting(seq, 0)));
    let refuse =
        |outbox: &mut Outbox| outbox.came(moment(1), 0, Duration::ZERO, Some(Trouble::ForGood("too long".to_owned())));
    for seq in 1..=4 {
        assert_eq!(words(refuse(&mut outbox)), [format!("given up [{seq}] too long")]);
        assert_eq!(outbox.due(moment(1)).len(), 7 - seq);
    }
    let said = words(refuse(&mut outbox));
    assert_eq!(said, ["given up [5] too long", "down [] it has refused 5 messages in a row: too long"]);
    assert!(outbox.due(moment(1)).is_empty(), "not at once any more");
    // What stands in no trail goes first, and is told of nowhere.
    let at = at(2).to_zoned(TimeZone::UTC);
    outbox.put_first(Message::beside_the_trail(&at, "mossgate-desk-03", "disarmed", "no space left"));
    assert_eq!(outbox.due(moment(60)).iter().map(|message| message.seq).collect::<Vec<_>>(), [0, 6, 7]);
    assert_eq!(words(outbox.came(moment(60), 1, Duration::ZERO, None)), ["back [] it takes messages again"]);
}

/// As long as the other side asks for, within an hour; and what nobody can mend but a person is down at once.
#[test]
fn the_other_side_may_ask_for_time() {
    let mut outbox = outbox("machine-log");
    outbox.put(waiting(1, 0));
    for (asked, waits) in [(30, 30), (0, 1), (90_000, 3600)] {
        let asked = Some(Duration::from_secs(asked));
        outbox.came(moment(0), 0, Duration::ZERO, Some(Trouble::Later("it answers 429".to_owned(), asked)));
        assert_eq!(outbox.rest(moment(0)), Some(Duration::from_secs(waits)));
    }
    let off = Some(Trouble::Off("there is no user sophron".to_owned()));
    assert_eq!(words(outbox.came(moment(5000), 0, Duration::ZERO, off)), ["down [] there is no user sophron"]);
    assert_eq!(outbox.rest(moment(5000)), Some(Duration::from_secs(900)));
}

/// What is less than critical waits for more; what is critical takes all of it along. Beyond the limit nothing goes, and what there is no
/// room for is counted.
#[test]
fn nobody_is_disturbed_too_often() {
    let mut outbox = outbox("desk-mail");
    let seqs = |outbox: &Outbox, second| outbox.due(moment(second)).iter().map(|one| one.seq).collect::<Vec<_>>();
    outbox.put(waiting(1, 0));
    assert_eq!((seqs(&outbox, 899), outbox.rest(moment(600))), (vec![], Some(Duration::from_secs(300))));
    assert_eq!(seqs(&outbox, 900), [1]);
    outbox.put(critical(2, 30));
    assert_eq!(seqs(&outbox, 30), [1, 2], "in order, and at once");
    outbox.came(moment(30), 2, Duration::ZERO, None);
    outbox.put(critical(3, 40));
    outbox.came(moment(40), 1, Duration::ZERO, None);
    // Two in this hour: the next may go when the first is an hour ago.
    (4..=67).for_each(|seq| outbox.put(critical(seq, 50)));
    assert_eq!((seqs(&outbox, 50), outbox.rest(moment(50))), (vec![], Some(Duration::from_secs(3580))));
    let said = words(outbox.make_room(moment(50)));
    let left_out: Vec<u64> = (4..=35).collect();
    assert_eq!(said, [format!("given up {left_out:?} beyond its `at_most`: the next message counts them")]);
    assert_eq!(outbox.room(), 32);
    let due = outbox.due(moment(3631));
    assert_eq!((due.len(), due[0].seq), (33, 36));
    assert!(
        due[32].line.starts_with("32 messages not sent, the last of 2026-11-24 07:30:50 UTC: "),
        "{}",
        due[32].line
    );
    let said = outbox.came(moment(3631), 33, Duration::ZERO, None);
    assert_eq!((said.len(), said[0].records.len()), (1, 32), "what is only counted stands in the record already");
    // At night only what is critical; by then it is an hour ago.
    outbox.put(waiting(70, 52_300));
    assert!(seqs(&outbox, 60_000).is_empty());
    assert_eq!(seqs(&outbox, 81_000), [70], "in the morning");
    outbox.put(critical(71, 60_000));
    assert_eq!(seqs(&outbox, 60_000), [70, 71]);
}

fn told(outcome: ToldWord, channel: &str, records: &[u64]) -> impl Fn(u64) -> Record {
    let told = ToldRecord { records: records.to_vec(), ..ToldRecord::of(channel, outcome) };
    move |seq| {
        let mut record = record(Kind::Told, "", Came::Opened, "ines", |draft| {
            (draft.rule, draft.subject, draft.told) = (None, None, Some(told.clone()));
        });
        record.seq = seq;
        record
    }
}

fn spent(seq: u64) -> Record {
    let mut record = record(Kind::BudgetSpent, "press-leak", Came::BudgetSpent, "ines", |_| ());
    record.seq = seq;
    record
}

/// What is critical goes by the other channel while the one is down, and is never owed twice: by the trail alone, at every start.
#[test]
fn another_channel_stands_in() {
    let rules = rules();
    let (mail, log) = ("desk-mail", "machine-log");
    let trail = [
        spent(1),
        told(ToldWord::Taken, mail, &[1])(2),
        spent(3),
        spent(4),
        told(ToldWord::GivenUp, mail, &[4])(5),
        told(ToldWord::Down, mail, &[])(6),
        spent(7),
        told(ToldWord::Sent, log, &[4, 3])(8),
        told(ToldWord::Back, mail, &[])(9),
        spent(10),
    ];
    let seqs = |owed: Vec<Message>| owed.iter().map(|message| message.seq).collect::<Vec<_>>();
    let note = |stand_in: &mut StandIn, record| seqs(stand_in.note(record, &rules, &TimeZone::UTC));
    let mut stand_in = StandIn::new(&rules.telling, log);
    let owed: Vec<(u64, Vec<u64>)> = trail
        .iter()
        .map(|record| (record.seq, note(&mut stand_in, record)))
        .filter(|(_, owed)| !owed.is_empty())
        .collect();
    assert_eq!(owed, [(5, vec![4]), (6, vec![3]), (7, vec![7])], "refused for good, not taken yet, and from then on");
    // Begun anew while it was down, the log having told up to the sixth record: of what it has told since, nothing.
    let mut stand_in = StandIn::new(&rules.telling, log);
    assert_eq!(seqs(stand_in.prime(&trail[..8], 6, &rules, &TimeZone::UTC)), [0; 0]);
    assert_eq!(note(&mut stand_in, &trail[6]), [7]);
    let mut stand_in = StandIn::new(&rules.telling, log);
    assert_eq!(
        seqs(stand_in.prime(&trail[..7], u64::MAX, &rules, &TimeZone::UTC)),
        [4, 3, 7],
        "who begins has told nothing"
    );
    assert_eq!(StandIn::new(&rules.telling, mail).others().count(), 0);
}
