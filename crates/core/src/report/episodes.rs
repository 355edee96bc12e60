//! From windows to episodes: what lasted, from when to when, how bad, and because of whom.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};

use super::collect::{Run, Stretch, WINDOW};
use super::growth::Grew;
use crate::checkup::{Finding, FindingKind, Watched};
use crate::model::{ProcessId, is_at_work};
use crate::moment::shifted;
use crate::order::InOrder;
use crate::severity::Severity;
use crate::usage::{App, AppHour};

/// A pause of up to that long does not end an episode.
const PAUSE: SignedDuration = SignedDuration::from_mins(10);

/// What somebody held before it is the least of so long.
const BEFORE: SignedDuration = SignedDuration::from_mins(30);

/// Memory that ends within that time, a working day, at the rate at which somebody takes it, is a warning.
const DAY: f64 = 8.0 * 60.0;

/// Most that are named.
const MOST: usize = 3;

/// Somebody behind an episode.
#[derive(Debug, Clone, PartialEq)]
pub struct Culprit {
    /// His app.
    pub app: String,
    /// His owner.
    pub owner: String,
    /// The process that stood for it at first.
    pub id: Option<ProcessId>,
    /// What he did meanwhile.
    pub did: AppHour,
    /// What he held just before, bytes.
    pub held_before: f64,
}

/// Something that lasted.
#[derive(Debug, Clone, PartialEq)]
pub struct Episode {
    /// What it was about.
    pub kind: FindingKind,
    /// How serious it was at worst.
    pub severity: Severity,
    /// From when to when; of what came again each time.
    pub spans: Vec<Run>,
    /// In a few words, as the checkup said it at its worst.
    pub said: String,
    /// The file system or control group that it is about.
    pub of: Option<String>,
    /// Because of whom, the heaviest first.
    pub culprits: Vec<Culprit>,
    /// Whose memory grew, each time.
    pub grew: Vec<Grew>,
    /// Signs of honest work: bytes that it read and wrote as it computed.
    pub at_work: Option<f64>,
    /// Whether most of it was used by children too short-lived to be seen.
    pub by_children: bool,
    /// Whether it kept a disk busy by a shortage of memory.
    pub with_disk: bool,
}

impl Episode {
    /// When it began first.
    pub fn from(&self) -> Timestamp {
        self.spans.first().map_or(Timestamp::UNIX_EPOCH, |span| span.0)
    }

    /// When it was over at last.
    pub fn until(&self) -> Timestamp {
        self.spans.last().map_or(Timestamp::UNIX_EPOCH, |span| span.1)
    }

    /// For how long, all times together.
    pub fn length(&self) -> SignedDuration {
        self.spans.iter().map(|(from, until)| until.duration_since(*from)).sum()
    }

    /// Whether it is no trouble: it works as it computes, and nobody waited for a core.
    pub fn is_honest(&self) -> bool {
        self.kind == FindingKind::Core && self.at_work.is_some()
    }

    /// Who is named first.
    pub fn first(&self) -> Option<&Culprit> {
        self.culprits.first()
    }
}

/// What makes two findings of different windows one.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Key(FindingKind, Option<String>, Option<(String, String)>);

impl Key {
    fn of(finding: &Finding) -> Key {
        let first = finding.suspects.first().map(|suspect| (suspect.app.clone(), suspect.owner.clone()));
        let who = if finding.kind == FindingKind::Core { first } else { None };
        Key(finding.kind, finding.of.clone(), who)
    }
}

/// Every episode, the worst first.
pub fn episodes(stretch: &Stretch) -> Vec<Episode> {
    let mut runs: BTreeMap<Key, Vec<Vec<(usize, &Finding)>>> = BTreeMap::new();
    for (place, window) in stretch.windows.iter().enumerate() {
        let memory = window.findings.iter().any(|finding| finding.kind == FindingKind::Memory);
        for finding in &window.findings {
            // A disk that is busy with a shortage of memory is told with it.
            if memory && finding.kind == FindingKind::Disk {
                continue;
            }
            let of = runs.entry(Key::of(finding)).or_default();
            let goes_on = of.last().and_then(|run| run.last()).is_some_and(|(last, _)| {
                stretch.windows[place].start.duration_since(stretch.windows[*last].until) <= PAUSE
            });
            match of.last_mut().filter(|_| goes_on) {
                Some(run) => run.push((place, finding)),
                None => of.push(vec![(place, finding)]),
            }
        }
    }
    let mut episodes: Vec<Episode> =
        runs.values().flatten().filter_map(|run| Some(episode(stretch, run.first()?.1.kind, run))).collect();
    explained(&mut episodes);
    together(&mut episodes);
    episodes.extend(growing(stretch));
    let shortage = |episode: &Episode| !episode.kind.is_shortage();
    episodes.order_by_key(|episode| {
        (std::cmp::Reverse(episode.severity), shortage(episode), std::cmp::Reverse(episode.length()), episode.from())
    });
    episodes
}

fn episode(stretch: &Stretch, kind: FindingKind, run: &[(usize, &Finding)]) -> Episode {
    let windows = |place: usize| &stretch.windows[place];
    let (first, last) = (run.first().map_or(0, |(place, _)| *place), run.last().map_or(0, |(place, _)| *place));
    let (from, until) = edges(stretch, kind, windows(first).start, windows(last).until);
    let worst = run.iter().max_by_key(|(place, finding)| (finding.severity, std::cmp::Reverse(*place)));
    let with_disk = kind == FindingKind::Memory
        && run.iter().any(|(place, _)| windows(*place).findings.iter().any(|also| also.kind == FindingKind::Disk));
    let culprits = culprits(stretch, kind, run, from, until);
    let did = culprits.first().map(|first| first.did).unwrap_or_default();
    let moved = did.read + did.written;
    let seconds = until.duration_since(from).as_secs_f64().max(1.0);
    let works = matches!(kind, FindingKind::Core | FindingKind::Cpu) && is_at_work(moved / seconds);
    Episode {
        kind,
        severity: worst.map_or(Severity::Notice, |(_, finding)| finding.severity),
        spans: vec![(from, until)],
        said: worst.map(|(_, finding)| finding.headline.clone()).unwrap_or_default(),
        of: run.first().and_then(|(_, finding)| finding.of.clone()),
        at_work: works.then_some(moved),
        by_children: kind == FindingKind::Core && did.through > did.cpu,
        culprits,
        grew: Vec::new(),
        with_disk,
    }
}

/// Windows are five minutes long: the samples before and in them say when it really began and ended.
fn edges(stretch: &Stretch, kind: FindingKind, from: Timestamp, until: Timestamp) -> Run {
    let watched: &[Watched] = match kind {
        FindingKind::Memory => &[Watched::StallMemory, Watched::MemoryAvailable, Watched::SwapTraffic],
        FindingKind::Cpu => &[Watched::StallCpu, Watched::Cpu],
        FindingKind::Disk => &[Watched::StallIo, Watched::Iowait, Watched::DiskBusy],
        FindingKind::Core => &[Watched::CoreFullest],
        FindingKind::Load => &[Watched::LoadCore],
        _ => &[],
    };
    let window = SignedDuration::from_mins(WINDOW);
    let (earliest, latest) = (shifted(from, -window), shifted(until, window));
    let runs = watched.iter().flat_map(|watched| &stretch.runs[*watched as usize]);
    let within =
        runs.filter(|(began, ended)| *began < until && *ended > from && *ended >= earliest && *began <= latest);
    let (began, ended) = within.fold((None, None), |(began, ended): (Option<Timestamp>, Option<Timestamp>), run| {
        (Some(began.map_or(run.0, |known| known.min(run.0))), Some(ended.map_or(run.1, |known| known.max(run.1))))
    });
    let (began, ended) = (began.map_or(from, |at| at.max(earliest)), ended.map_or(until, |at| at.min(latest)));
    let (began, ended) = (began.max(stretch.from), ended.min(stretch.until));
    if ended > began { (began, ended) } else { (from, until) }
}

/// Those whom the windows named, by what they did over the whole of it.
fn culprits(
    stretch: &Stretch,
    kind: FindingKind,
    run: &[(usize, &Finding)],
    from: Timestamp,
    until: Timestamp,
) -> Vec<Culprit> {
    let mut named: Vec<(Culprit, usize)> = Vec::new();
    for suspect in run.iter().flat_map(|(_, finding)| &finding.suspects) {
        match named.iter_mut().find(|(known, _)| known.app == suspect.app && known.owner == suspect.owner) {
            Some((_, times)) => *times += 1,
            None => named.push((
                Culprit {
                    app: suspect.app.clone(),
                    owner: suspect.owner.clone(),
                    id: Some(suspect.id),
                    did: AppHour::default(),
                    held_before: 0.0,
                },
                1,
            )),
        }
    }
    let is = |app: &App, culprit: &Culprit| app.app == culprit.app && app.owner == culprit.owner;
    // It may have begun to take more before anybody was short of it.
    let before = shifted(from, -BEFORE);
    for (culprit, _) in &mut named {
        let hours = stretch.rows_of(from, until).flat_map(|row| row.apps.iter());
        let did = hours.filter(|(app, _)| is(app, culprit)).fold(AppHour::default(), |did, (_, hour)| did.and(hour));
        culprit.did = did;
        let held = stretch.rows_of(before, shifted(from, -SignedDuration::from_mins(WINDOW)));
        let held = held.flat_map(|row| row.apps.iter()).filter(|(app, _)| is(app, culprit)).map(|(_, hour)| hour.held);
        culprit.held_before = held.reduce(f64::min).unwrap_or(0.0);
    }
    let rise = |culprit: &Culprit| culprit.did.held_high - culprit.held_before;
    // Where somebody took much more than he had, that is it; else whoever holds most.
    let rose =
        named.iter().any(|(culprit, _)| rise(culprit) > culprit.did.held_high / 4.0 && rise(culprit) > 268_435_456.0);
    let weight = |(culprit, times): &(Culprit, usize)| match kind {
        FindingKind::Memory if rose && culprit.held_before > 0.0 => rise(culprit),
        FindingKind::Memory => culprit.did.held_high,
        FindingKind::Disk => culprit.did.read + culprit.did.written,
        FindingKind::Cpu | FindingKind::Core => culprit.did.accounted(),
        _ => *times as f64,
    };
    named.order_by(|a, b| weight(b).total_cmp(&weight(a)));
    let most = named.first().map_or(0.0, weight);
    named.retain(|culprit| weight(culprit) >= most / 8.0);
    if kind == FindingKind::Core {
        // It is one of them that it is about.
        let first = run.first().and_then(|(_, finding)| finding.suspects.first());
        named
            .retain(|(culprit, _)| first.is_some_and(|first| first.app == culprit.app && first.owner == culprit.owner));
    }
    named.truncate(MOST);
    named.into_iter().map(|(culprit, _)| culprit).collect()
}

/// A high load, and CPU that nobody is seen to use, within something that explains it is not told by itself; nor is a single
/// program that keeps a core within a shortage of CPU.
fn explained(episodes: &mut Vec<Episode>) {
    let spans: Vec<(FindingKind, Run)> =
        episodes.iter().flat_map(|episode| episode.spans.iter().map(|span| (episode.kind, *span))).collect();
    let by = |kind: FindingKind| -> &[FindingKind] {
        match kind {
            FindingKind::Load => &[FindingKind::Cpu, FindingKind::Disk, FindingKind::Memory],
            FindingKind::Unseen => &[FindingKind::Cpu, FindingKind::Core, FindingKind::Memory],
            FindingKind::Core => &[FindingKind::Cpu],
            FindingKind::Disk => &[FindingKind::Memory],
            _ => &[],
        }
    };
    episodes.retain(|episode| {
        let (from, until) = (episode.from(), episode.until());
        let length = until.duration_since(from).as_secs_f64().max(1.0);
        let overlap = |(_, (began, ended)): &(FindingKind, Run)| {
            (*ended).min(until).duration_since((*began).max(from)).as_secs_f64().max(0.0)
        };
        let explained: f64 = spans.iter().filter(|(kind, _)| by(episode.kind).contains(kind)).map(overlap).sum();
        explained < length / 2.0
    });
}

/// What came again because of the same one is one episode with several spans.
fn together(episodes: &mut Vec<Episode>) {
    episodes.order_by_key(Episode::from);
    let mut kept: Vec<Episode> = Vec::new();
    for episode in episodes.drain(..) {
        let who = |episode: &Episode| episode.first().map(|first| (first.app.clone(), first.owner.clone()));
        let same = |known: &&mut Episode| {
            known.kind == episode.kind
                && known.of == episode.of
                && who(known) == who(&episode)
                && known.is_honest() == episode.is_honest()
        };
        match kept.iter_mut().find(same) {
            Some(known) => {
                known.spans.extend(episode.spans);
                if episode.severity > known.severity {
                    (known.severity, known.said) = (episode.severity, episode.said);
                }
                known.at_work = known.at_work.zip(episode.at_work).map(|(a, b)| a + b);
                known.with_disk |= episode.with_disk;
                for culprit in episode.culprits {
                    match known.culprits.iter_mut().find(|one| one.app == culprit.app && one.owner == culprit.owner) {
                        Some(one) => one.did = one.did.and(&culprit.did),
                        None => known.culprits.push(culprit),
                    }
                }
                known.culprits.truncate(MOST);
            }
            None => kept.push(episode),
        }
    }
    *episodes = kept;
}

/// Whose memory grew: one episode an app, with each time that one of its processes did.
fn growing(stretch: &Stretch) -> Vec<Episode> {
    let known = |grew: &Grew| {
        let mut known = stretch.setting.checkup.known.iter().filter(|known| known.finding == FindingKind::Grows);
        known.any(|known| known.of.as_ref().is_none_or(|of| *of == grew.app))
    };
    let mut apps: BTreeMap<(String, String), Vec<Grew>> = BTreeMap::new();
    for grew in stretch.grown.iter().filter(|grew| !known(grew)) {
        apps.entry((grew.app.clone(), grew.owner.clone())).or_default().push(grew.clone());
    }
    let one = |((app, owner), mut grew): ((String, String), Vec<Grew>)| {
        grew.order_by_key(|grew| grew.from);
        let (from, until) = (grew.first()?.from, grew.iter().map(|grew| grew.until).max()?);
        let hours = stretch.rows_of(from, until).flat_map(|row| row.apps.iter());
        let own = hours.filter(|(known, _)| known.app == app && known.owner == owner);
        let did = own.fold(AppHour::default(), |did, (_, hour)| did.and(hour));
        // At that rate what could still be had at the worst moment would have been used up in.
        let available = stretch.worst(Watched::MemoryAvailable, from, until);
        let left = available.map(|percent| percent / 100.0 * stretch.machine.memory_total as f64);
        let fastest = grew.iter().map(Grew::a_minute).fold(0.0, f64::max);
        let soon = left.is_some_and(|left| left / fastest.max(1.0) <= DAY);
        let spans = grew.iter().map(|grew| (grew.from, grew.until)).collect();
        let id = grew.first().map(|grew| grew.id);
        Some(Episode {
            kind: FindingKind::Grows,
            severity: if soon { Severity::Warning } else { Severity::Notice },
            spans,
            said: String::new(),
            of: None,
            culprits: vec![Culprit { app, owner, id, did, held_before: grew.first()?.first }],
            grew,
            at_work: None,
            by_children: false,
            with_disk: false,
        })
    };
    apps.into_iter().filter_map(one).collect()
}
