//! A machine that loses its power: what was not synced is forgotten, bytes and names alike. What a writer was told is in
//! the trail stays there, and the chain goes on.

use std::collections::BTreeMap;
use std::io;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use jiff::tz::TimeZone;
use sophron_core::audit::{
    Draft, InForce, Kind, Record, ToldBy, ToldRecord, ToldWord, Verified, Who, stamps, verify_files,
};
use sophron_core::rules::RuleSet;
use sophron_linux::here;
use sophron_linux::trail::{Append, Folder, Keeping, Seen, Sheet, Writer, number};

/// One file: what is in memory, and what a crash leaves of it.
#[derive(Debug, Clone, Default)]
struct Content {
    inode: u64,
    bytes: Vec<u8>,
    lasting: Vec<u8>,
}

#[derive(Debug, Default)]
struct State {
    files: BTreeMap<u64, Content>,
    names: BTreeMap<String, u64>,
    lasting_names: BTreeMap<String, u64>,
    next: u64,
    /// So many more calls are answered; then the power is off.
    left: usize,
    random: u64,
}

impl State {
    fn call(&mut self) -> io::Result<()> {
        self.left = self.left.checked_sub(1).ok_or_else(|| io::Error::other("no power"))?;
        Ok(())
    }

    fn random(&mut self, most: usize) -> usize {
        self.random ^= self.random << 13;
        self.random ^= self.random >> 7;
        self.random ^= self.random << 17;
        (self.random % (most as u64 + 1)) as usize
    }

    /// What is found when the power is back: of what was not synced a part, or nothing.
    fn crash(&mut self) {
        let inodes: Vec<u64> = self.files.keys().copied().collect();
        for inode in inodes {
            let mut content = self.files[&inode].clone();
            let kept = content.lasting.len();
            if content.bytes.len() > kept && content.bytes[..kept] == content.lasting[..] {
                let more = self.random(content.bytes.len() - kept);
                content.lasting = content.bytes[..kept + more].to_vec();
            }
            content.bytes = content.lasting.clone();
            self.files.insert(inode, content);
        }
        self.names = self.lasting_names.clone();
    }
}

#[derive(Debug, Clone)]
struct Forgetful(Arc<Mutex<State>>);

#[derive(Debug)]
struct ForgetfulSheet(Arc<Mutex<State>>, u64);

impl Folder for Forgetful {
    type Sheet = ForgetfulSheet;

    fn names(&self) -> io::Result<Vec<String>> {
        let mut state = self.0.lock().unwrap();
        state.call()?;
        Ok(state.names.keys().cloned().collect())
    }

    fn seen(&self, name: &str) -> io::Result<Option<Seen>> {
        let mut state = self.0.lock().unwrap();
        state.call()?;
        Ok(state.names.get(name).map(|inode| Seen { inode: *inode, size: state.files[inode].bytes.len() as u64 }))
    }

    fn open(&self, name: &str, _shared: bool) -> io::Result<ForgetfulSheet> {
        let mut state = self.0.lock().unwrap();
        state.call()?;
        let inode = match state.names.get(name) {
            Some(inode) => *inode,
            None => {
                state.next += 1;
                let inode = state.next;
                state.files.insert(inode, Content { inode, ..Content::default() });
                state.names.insert(name.to_owned(), inode);
                inode
            }
        };
        Ok(ForgetfulSheet(Arc::clone(&self.0), inode))
    }

    fn remove(&self, name: &str) -> io::Result<()> {
        let mut state = self.0.lock().unwrap();
        state.call()?;
        state.names.remove(name);
        Ok(())
    }

    fn rename(&self, from: &str, to: &str) -> io::Result<()> {
        let mut state = self.0.lock().unwrap();
        state.call()?;
        let inode = state.names.remove(from).unwrap();
        state.names.insert(to.to_owned(), inode);
        Ok(())
    }

    fn sync(&self) -> io::Result<()> {
        let mut state = self.0.lock().unwrap();
        state.call()?;
        state.lasting_names = state.names.clone();
        Ok(())
    }

    fn lock(&self, _wait: Duration) -> io::Result<bool> {
        Ok(true)
    }

    fn unlock(&self) {}
}

impl ForgetfulSheet {
    fn with<T>(&self, work: impl FnOnce(&mut Content) -> T) -> io::Result<T> {
        let mut state = self.0.lock().unwrap();
        state.call()?;
        Ok(work(state.files.get_mut(&self.1).unwrap()))
    }
}

impl Sheet for ForgetfulSheet {
    fn seen(&self) -> io::Result<Seen> {
        self.with(|content| Seen { inode: content.inode, size: content.bytes.len() as u64 })
    }

    fn append(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.with(|content| content.bytes.extend_from_slice(bytes))
    }

    fn sync(&self) -> io::Result<()> {
        self.with(|content| content.lasting = content.bytes.clone())
    }

    fn cut(&self, length: u64) -> io::Result<()> {
        self.with(|content| content.bytes.truncate(length as usize))
    }

    fn read_at(&self, bytes: &mut [u8], offset: u64) -> io::Result<()> {
        let from = offset as usize;
        let length = bytes.len();
        self.with(|content| bytes.copy_from_slice(&content.bytes[from..from + length]))
    }

    fn blank(&self) -> io::Result<()> {
        self.with(|content| {
            content.bytes.fill(0);
            content.lasting = content.bytes.clone();
        })
    }

    fn reserve(&self, _from: u64, _length: u64) {}

    fn give_back(&self, _size: u64) {}
}

fn draft(kind: Kind) -> Draft {
    let who = Who { uid: 0, user: "root".to_owned(), login_uid: None, by: None };
    Draft::new(here::now().wall, kind, "mossgate-desk-03", "00000000000000000000000000000007", who)
}

fn writer(folder: &Forgetful) -> Writer<Forgetful> {
    // A new file every few records, and only a few of them stay.
    let keeping = Keeping { piece: 3000, most: 12_000, ..Keeping::default() };
    Writer::new(folder.clone(), "audit".into(), draft(Kind::TrailOpened), keeping)
}

fn verified(folder: &Forgetful) -> Verified {
    let state = folder.0.lock().unwrap();
    let mut files: Vec<(u64, Vec<u8>)> = state
        .names
        .iter()
        .filter_map(|(name, inode)| Some((number(name)?, state.files[inode].bytes.clone())))
        .collect();
    files.sort();
    verify_files(files.iter().map(|(_, bytes)| bytes.as_slice()))
}

/// Writes until the power is off; how far it was told that records are safe: their cases.
fn work(folder: &Forgetful, from: u64) -> u64 {
    let mut writer = writer(folder);
    let mut safe = from;
    for case in from + 1..from + 400 {
        let mut one = draft(Kind::Alert);
        one.case = Some(case);
        if writer.append(&[one]).is_err() {
            return safe;
        }
        safe = case;
        if case.is_multiple_of(7) && writer.stamp().is_err() {
            return safe;
        }
    }
    safe
}

#[test]
fn no_synced_record_is_lost_wherever_the_power_fails() {
    // So many calls of a first life, then of a second one that has to mend what the first left.
    let points = 500;
    for point in 0..points {
        let folder = Forgetful(Arc::default());
        let mut safe = 0;
        for life in 0..2 {
            {
                let mut state = folder.0.lock().unwrap();
                state.left = if life == 0 { 1 + point * 2 } else { 1 + point % 97 };
                state.random = 88_172_645_463_325_252 + point as u64;
            }
            safe = work(&folder, safe);
            folder.0.lock().unwrap().crash();
        }
        // The power is back for good: the trail takes records, is whole, and nothing that was safe is missing.
        folder.0.lock().unwrap().left = usize::MAX;
        let mut last = draft(Kind::Alert);
        last.case = Some(u64::MAX);
        let mut writer = writer(&folder);
        writer.append(&[last]).unwrap_or_else(|error| panic!("point {point}: {error}"));
        writer.stamp().unwrap();
        let verified = verified(&folder);
        assert_eq!(verified.fault, None, "point {point}");
        let alerts = verified.records.iter().filter(|record| record.kind == Kind::Alert);
        let cases: Vec<u64> = alerts.filter_map(|record| record.case).filter(|case| *case < u64::MAX).collect();
        // Retired files are gone as told; of what is left none is missing.
        let first = cases.first().copied().unwrap_or(1);
        let all = (first..=safe).all(|case| cases.contains(&case));
        assert!(
            all && (first == 1 || verified.records[0].seq > 1),
            "point {point}: safe up to {safe}, found {cases:?}"
        );
        let stamps = stamps::check(&verified.records, None, None);
        assert!(stamps.is_ok(), "point {point}: {stamps:?}");
    }
}

/// A channel, as a watcher has one: it tells what stands in the trail once that is on disk, and writes there what was taken.
struct Channel<'r> {
    rules: &'r RuleSet,
    /// What has arrived, by ID.
    arrived: Vec<String>,
}

impl Channel<'_> {
    fn due(&self, record: &Record) -> Option<String> {
        Some(self.rules.telling.message(record, "machine-log", self.rules, &TimeZone::UTC)?.id)
    }

    /// Tells a part of what is due; what was taken, for the trail.
    fn tell(&mut self, folder: &Forgetful, most: usize) -> Option<Draft> {
        let records = verified(folder).records;
        let cursor = InForce::of(&records).told_by("machine-log").map_or(0, ToldBy::cursor);
        {
            // What is given is synced first, as `Tail::durable` does it.
            let mut state = folder.0.lock().unwrap();
            state.call().ok()?;
            let newest = *state.files.keys().next_back()?;
            let content = state.files.get_mut(&newest)?;
            content.lasting = content.bytes.clone();
            state.lasting_names = state.names.clone();
        }
        let due = records
            .iter()
            .filter(|record| record.seq > cursor)
            .filter_map(|record| Some((record.seq, self.due(record)?)));
        let (taken, ids): (Vec<u64>, Vec<String>) = due.take(most).unzip();
        self.arrived.extend(ids);
        let told = ToldRecord { records: taken, ..ToldRecord::of("machine-log", ToldWord::Taken) };
        (!told.records.is_empty()).then(|| Draft { told: Some(told), ..draft(Kind::Told) })
    }
}

/// Whenever the power fails, between a record and its message, or a message and its record: nothing that stands in the trail afterwards
/// was not told, and without what came twice it was told in order.
#[test]
fn nothing_due_is_lost_over_power_failures() {
    let rules = "format = 1\n[[channel]]\nname = 'machine-log'\nto = 'log'\n[[tell]]\nby = ['machine-log']\n\
        [[rule]]\nname = 'a'\nbreach = 'cpu > 90%'\nlasting = '1s'\n";
    let rules = sophron_core::rules::load(rules.as_bytes()).unwrap();
    let folder = Forgetful(Arc::default());
    let mut channel = Channel { rules: &rules, arrived: Vec::new() };
    let keeping = Keeping { piece: 1 << 20, ..Keeping::default() };
    let open = || Writer::new(folder.clone(), "audit".into(), draft(Kind::TrailOpened), keeping);
    for life in 0..90 {
        {
            let mut state = folder.0.lock().unwrap();
            (state.left, state.random) = (3 + (life * 7) % 83, 88_172_645_463_325_252 + life as u64);
        }
        let mut writer = open();
        for case in 1..20 {
            let breach = Draft { case: Some(case), rule: Some("a".to_owned()), ..draft(Kind::Breach) };
            let written = writer.append(&[breach]).is_ok();
            // What may not be on disk yet is there to be read all the same.
            let told = channel.tell(&folder, 1 + (life + case as usize) % 4);
            if !written || told.is_some_and(|told| writer.append(&[told]).is_err()) {
                break;
            }
        }
        folder.0.lock().unwrap().crash();
    }
    folder.0.lock().unwrap().left = usize::MAX;
    let mut writer = open();
    while let Some(told) = channel.tell(&folder, 64) {
        writer.append(&[told]).unwrap();
    }
    let verified = verified(&folder);
    assert_eq!(verified.fault, None);
    let due: Vec<String> = verified.records.iter().filter_map(|record| channel.due(record)).collect();
    let mut seen = std::collections::BTreeSet::new();
    let once: Vec<&String> = channel.arrived.iter().filter(|id| seen.insert((*id).clone())).collect();
    assert!(due.len() > 100, "{}", due.len());
    assert_eq!(once, due.iter().collect::<Vec<_>>(), "in order, and nothing else");
    assert!(channel.arrived.len() > due.len(), "some came twice");
}
