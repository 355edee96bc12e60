//! Whatever happens between any two steps of an act: a stand-in for the kernel lets the process end, make threads, be resumed
//! by somebody, get stuck or change hands at any moment, and what the act reports has to be true.

use std::cell::RefCell;
use std::io;
use std::time::Duration;

use proptest::prelude::*;
use rustix::io::Errno;
use rustix::process::Signal;
use sophron_core::model::{Boot, ProcessId};
use sophron_core::state::State;
use sophron_linux::act::{self, ActError, Ending, Grip, Only};
use sophron_linux::handle::Thread;

/// What happens by itself.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Event {
    Ends,
    NewThread,
    /// A thread that has its niceness, and can be seen a little later.
    ThreadBeingStarted,
    ThreadEnds,
    SomebodyResumes,
    SomebodySuspends,
    GetsStuck,
    ComesBack,
    ChangesHands,
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Done {
    Signal(i32, Duration),
    Nice,
}

#[derive(Debug)]
struct Kernel {
    clock: Duration,
    steps: u32,
    due: Vec<(u32, Event)>,
    threads: Vec<(u32, i32, u32)>,
    next_thread: u32,
    being_started: Vec<(Duration, (u32, i32, u32))>,
    suspended: bool,
    stuck: bool,
    deaf: bool,
    foreign: bool,
    ended: bool,
    /// The signals that wait for it to come back from the kernel.
    pending: Vec<i32>,
    done: Vec<Done>,
}

/// A process that is none.
struct Pretended(RefCell<Kernel>);

impl Pretended {
    fn step<T>(&self, work: impl FnOnce(&mut Kernel) -> T) -> T {
        let mut kernel = self.0.borrow_mut();
        kernel.steps += 1;
        kernel.clock += Duration::from_micros(300);
        kernel.show();
        let now = kernel.steps;
        let due: Vec<Event> = kernel.due.iter().filter(|(step, _)| *step == now).map(|(_, event)| *event).collect();
        due.into_iter().for_each(|event| kernel.happen(event));
        kernel.deliver();
        work(&mut kernel)
    }
}

impl Kernel {
    fn happen(&mut self, event: Event) {
        match event {
            Event::Ends => self.ended = true,
            // A new thread inherits from the one that makes it; nobody makes one while he stands still.
            Event::NewThread | Event::ThreadBeingStarted if !self.suspended && !self.stuck => {
                let (_, nice, disk) = self.threads[0];
                let unseen = if event == Event::NewThread { Duration::ZERO } else { Duration::from_millis(2) };
                self.being_started.push((self.clock + unseen, (self.next_thread, nice, disk)));
                self.next_thread += 1;
                self.show();
            }
            Event::NewThread | Event::ThreadBeingStarted => {}
            Event::ThreadEnds if self.threads.len() > 1 => {
                self.threads.pop();
            }
            Event::ThreadEnds => {}
            Event::SomebodyResumes => self.suspended = false,
            Event::SomebodySuspends => self.suspended = true,
            Event::GetsStuck => self.stuck = true,
            Event::ComesBack => self.stuck = false,
            Event::ChangesHands => self.foreign = true,
        }
    }

    fn show(&mut self) {
        let now = self.clock;
        let seen = self.being_started.extract_if(.., |(from, _)| *from <= now);
        self.threads.extend(seen.map(|(_, thread)| thread));
    }

    fn deliver(&mut self) {
        if self.stuck {
            return;
        }
        for signal in std::mem::take(&mut self.pending) {
            if signal == Signal::KILL.as_raw() {
                self.ended = true;
            } else if signal == Signal::STOP.as_raw() {
                self.suspended = true;
            } else if signal == Signal::CONT.as_raw() {
                self.suspended = false;
            } else if self.suspended {
                // The polite signal waits for the resume.
                self.pending.push(signal);
            } else if !self.deaf {
                self.ended = true;
            }
        }
        if !self.suspended && !self.deaf && self.pending.contains(&Signal::TERM.as_raw()) {
            self.ended = true;
        }
    }

    /// The niceness of every thread, of those as well that are just being started.
    fn nices(&self) -> Vec<i32> {
        self.threads.iter().chain(self.being_started.iter().map(|(_, thread)| thread)).map(|thread| thread.1).collect()
    }

    fn alive(&self) -> io::Result<()> {
        if self.ended { Err(Errno::SRCH.into()) } else { Ok(()) }
    }

    fn ours(&self) -> io::Result<()> {
        self.alive()?;
        if self.foreign { Err(Errno::PERM.into()) } else { Ok(()) }
    }
}

impl Grip for Pretended {
    fn id(&self) -> ProcessId {
        ProcessId { pid: 100, start: 1, boot: Boot(1) }
    }

    fn signal(&self, signal: Signal) -> io::Result<()> {
        self.step(|kernel| {
            kernel.ours()?;
            let now = kernel.clock;
            kernel.done.push(Done::Signal(signal.as_raw(), now));
            kernel.pending.push(signal.as_raw());
            kernel.deliver();
            Ok(())
        })
    }

    fn wait_for_end(&self, at_most: Duration) -> io::Result<bool> {
        let until = self.step(|kernel| kernel.clock) + at_most;
        loop {
            let (ended, now) = self.step(|kernel| {
                // Time passes in steps that events can fall between.
                kernel.clock = (kernel.clock + Duration::from_millis(50)).min(until);
                (kernel.ended, kernel.clock)
            });
            if ended || now >= until {
                return Ok(ended);
            }
        }
    }

    fn has_ended(&self) -> bool {
        self.step(|kernel| kernel.ended)
    }

    fn threads(&self) -> io::Result<Vec<Thread>> {
        self.step(|kernel| {
            kernel.alive().map_err(|_| io::Error::from(io::ErrorKind::NotFound))?;
            let state = match () {
                () if kernel.stuck => State::Waiting,
                () if kernel.suspended => State::Suspended,
                () => State::Running,
            };
            Ok(kernel.threads.iter().map(|(id, nice, _)| Thread { id: *id, nice: *nice, state }).collect())
        })
    }

    fn set_nice(&self, thread: u32, nice: i32) -> io::Result<()> {
        self.step(|kernel| {
            kernel.ours()?;
            let found = kernel.threads.iter_mut().find(|(id, ..)| *id == thread).ok_or(Errno::SRCH)?;
            found.1 = nice;
            kernel.done.push(Done::Nice);
            Ok(())
        })
    }

    fn io_priority(&self, thread: u32) -> io::Result<u32> {
        self.step(|kernel| {
            kernel.alive()?;
            Ok(kernel.threads.iter().find(|(id, ..)| *id == thread).ok_or(Errno::SRCH)?.2)
        })
    }

    fn set_io_priority(&self, thread: u32, value: u32) -> io::Result<()> {
        self.step(|kernel| {
            kernel.ours()?;
            kernel.threads.iter_mut().find(|(id, ..)| *id == thread).ok_or(Errno::SRCH)?.2 = value;
            Ok(())
        })
    }

    fn clock(&self) -> Duration {
        self.0.borrow().clock
    }

    fn pause(&self, time: Duration) {
        self.step(|kernel| kernel.clock += time);
    }
}

fn events() -> impl Strategy<Value = Vec<(u32, Event)>> {
    let event = prop_oneof![
        3 => Just(Event::Ends),
        3 => Just(Event::NewThread),
        2 => Just(Event::ThreadBeingStarted),
        2 => Just(Event::ThreadEnds),
        2 => Just(Event::SomebodyResumes),
        1 => Just(Event::SomebodySuspends),
        2 => Just(Event::GetsStuck),
        2 => Just(Event::ComesBack),
        1 => Just(Event::ChangesHands),
    ];
    proptest::collection::vec((1u32..60, event), 0..6)
}

fn pretended(due: Vec<(u32, Event)>, threads: u32, suspended: bool, deaf: bool) -> Pretended {
    Pretended(RefCell::new(Kernel {
        clock: Duration::from_secs(100),
        steps: 0,
        due,
        threads: (0..threads).map(|thread| (100 + thread, 0, 0)).collect(),
        next_thread: 500,
        being_started: Vec::new(),
        suspended,
        stuck: false,
        deaf,
        foreign: false,
        ended: false,
        pending: Vec::new(),
        done: Vec::new(),
    }))
}

/// When a signal was sent first, and its place among what was done.
fn sent(kernel: &Kernel, signal: Signal) -> Option<(usize, Duration)> {
    kernel.done.iter().enumerate().find_map(|(place, done)| match done {
        Done::Signal(number, at) if *number == signal.as_raw() => Some((place, *at)),
        _ => None,
    })
}

fn true_of<T>(kernel: &Kernel, came: &Result<T, ActError>) -> Result<(), TestCaseError> {
    match came {
        Err(ActError::Gone) => prop_assert!(kernel.ended, "said to be gone, and is there"),
        Err(ActError::NotPermitted(_) | ActError::MayNotRaise) => prop_assert!(kernel.foreign),
        Err(ActError::Kernel(error) | ActError::Unguarded(error) | ActError::NotWhole(error)) => {
            prop_assert!(false, "{error}")
        }
        Ok(_) => {}
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 2000, ..ProptestConfig::default() })]

    #[test]
    fn an_end_is_what_it_is_said_to_be(
        due in events(),
        suspended: bool,
        deaf: bool,
        force in proptest::option::of(0u64..3000),
    ) {
        let process = pretended(due, 2, suspended, deaf);
        let force = force.map(Duration::from_millis);
        let came = act::terminate(&process, force, &mut || true);
        let kernel = process.0.borrow();
        true_of(&kernel, &came)?;
        if let Ok(ending) = came {
            let gone = matches!(ending, Ending::Ended(_) | Ending::Forced(_));
            prop_assert!(!gone || kernel.ended, "{ending:?}");
            prop_assert!(force.is_some() || !matches!(ending, Ending::Forced(_) | Ending::PendingInTheKernel));
        }
        // By force only as asked, and only after the time that was given.
        if let Some((_, killed)) = sent(&kernel, Signal::KILL) {
            let (_, asked) = sent(&kernel, Signal::TERM).expect("asked first");
            prop_assert!(killed.saturating_sub(asked) >= force.expect("force was asked for"));
        }
        // Told to end first, and resumed then: none of its own code runs before the signal.
        if let Some((resumed, _)) = sent(&kernel, Signal::CONT) {
            prop_assert!(sent(&kernel, Signal::TERM).is_some_and(|(told, _)| told < resumed));
        }
        prop_assert!(sent(&kernel, Signal::STOP).is_none());
    }

    #[test]
    fn what_is_said_to_stand_still_does(due in events(), threads in 1u32..20) {
        let process = pretended(due, threads, false, false);
        let came = act::suspend(&process);
        let kernel = process.0.borrow();
        true_of(&kernel, &came)?;
        if matches!(came, Ok(Some(_))) {
            prop_assert!(kernel.suspended || kernel.ended);
        }
        prop_assert!(kernel.done.iter().all(|done| matches!(done, Done::Signal(signal, _) if *signal == Signal::STOP.as_raw())));
    }

    #[test]
    fn every_thread_is_lowered_or_it_is_said(due in events(), threads in 1u32..20, nice in 1i32..=19) {
        let process = pretended(due, threads, false, false);
        let before = act::originals(&process, Only::Both);
        true_of(&process.0.borrow(), &before)?;
        let Ok(before) = before else { return Ok(()) };
        let came = act::lower(&process, nice, Only::Both);
        {
            let kernel = process.0.borrow();
            true_of(&kernel, &came)?;
            if came.as_ref().is_ok_and(|lowering| lowering.complete) && !kernel.ended {
                // One that was made after the last look has inherited.
                prop_assert!(kernel.nices().iter().all(|had| *had >= nice), "{kernel:?}");
            }
            prop_assert!(kernel.done.iter().all(|done| *done == Done::Nice), "lowering sends no signal");
        }
        let back = act::restore(&process, nice, &before, None);
        let kernel = process.0.borrow();
        match &back {
            Err(ActError::MayNotRaise) => prop_assert!(kernel.foreign),
            other => true_of(&kernel, other)?,
        }
        if back.is_ok() && !kernel.ended && came.is_ok() {
            prop_assert!(kernel.nices().iter().all(|had| *had == 0), "{kernel:?}");
        }
    }
}
