//! A person's helper: runs as that person, shows him notices, and hands back what he answers. It ends with its line, and takes down what
//! it has shown: nobody is left to hear an answer.

use std::io;
use std::os::unix::net::UnixStream;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Duration;

use futures_lite::StreamExt;
use sophron_core::sorted::SortedMap;
use sophron_core::telling::Notice;
use zbus::connection::Builder;
use zbus::{Connection, MessageStream};

use super::notices::{self, Service, Signal, of_key};
use super::{FromHelper, Terminals, ToHelper, login};

/// What was opened before its way out was closed.
#[derive(Debug)]
pub struct Opened {
    /// The user.
    pub uid: u32,
    /// The bus of his session; or why there is none.
    pub session: Result<UnixStream, String>,
    /// The machine's, where the login service is.
    pub machine: Option<UnixStream>,
    /// Those of his terminals that he is asked at.
    pub terminals: Terminals,
}

/// How it hears and speaks.
pub trait Speaks: Send + Sync {
    /// Says one thing.
    ///
    /// # Errors
    /// Nobody listens.
    fn say(&self, message: &[u8]) -> io::Result<()>;

    /// Waits for one thing; nothing at the end of the line.
    fn hear(&self) -> Option<Vec<u8>>;
}

/// How often a notice is shown anew when the program that shows notices is another one.
const MOST_AGAIN: u32 = 3;

/// Signals of others that are told of, for each notice.
const MOST_FORGED: u32 = 3;

/// What happens.
enum Event {
    Told(ToHelper),
    Signal(Signal),
    End,
}

/// A notice that is shown.
struct Seen {
    notice: Box<Notice>,
    nonce: String,
    number: u32,
    again: u32,
    forged: u32,
}

/// Both buses, as far as they are there.
struct Buses {
    session: Result<Connection, String>,
    machine: Option<Connection>,
}

struct Helper<'l> {
    uid: u32,
    buses: Buses,
    terminals: Terminals,
    line: &'l dyn Speaks,
    service: Option<Service>,
    seen: SortedMap<u64, Seen>,
}

/// Serves until the line ends.
pub fn serve(opened: Opened, line: &Arc<dyn Speaks>) {
    let (events, happens) = channel();
    let (ear, told) = (Arc::clone(line), events.clone());
    // First, since all that follows takes threads as well.
    if let Err(error) = std::thread::Builder::new().name("line".to_owned()).spawn(move || hear(&*ear, &told)) {
        return decline(&**line, &format!("there are as many processes of that user as may be: {error}"));
    }
    let Opened { uid, session, machine, terminals } = opened;
    let buses = connect(session, machine, &events);
    let helper = Helper { uid, buses, terminals, line: &**line, service: None, seen: SortedMap::new() };
    helper.run(&happens);
}

/// Says of all that it is not shown, and why.
fn decline(line: &dyn Speaks, why: &str) {
    while let Some(message) = line.hear() {
        if let Ok(ToHelper::Show { notice, nonce }) = serde_json::from_slice(&message) {
            let said = FromHelper::NotShown { case: notice.case, nonce, why: why.to_owned() };
            let _ = serde_json::to_vec(&said).map(|said| line.say(&said));
        }
    }
}

fn hear(line: &dyn Speaks, events: &Sender<Event>) {
    while let Some(message) = line.hear() {
        if let Ok(told) = serde_json::from_slice(&message) {
            let _ = events.send(Event::Told(told));
        }
    }
    let _ = events.send(Event::End);
}

fn connect(session: Result<UnixStream, String>, machine: Option<UnixStream>, events: &Sender<Event>) -> Buses {
    let machine = machine.and_then(|stream| built(stream, login::PATIENCE)?.ok());
    let silent = || format!("the bus of the session does not answer within {} s", notices::PATIENCE.as_secs());
    let refuses = |error: zbus::Error| format!("the bus of the session refuses: {error}");
    let session = session
        .and_then(|stream| built(stream, notices::PATIENCE).ok_or_else(silent)?.map_err(refuses))
        .and_then(|bus| follow(bus, events));
    Buses { session, machine }
}

/// A connection to a bus; none where that takes longer. Each call on it may take as long.
fn built(stream: UnixStream, patience: Duration) -> Option<zbus::Result<Connection>> {
    let (sends, built) = channel();
    let build = move || pollster::block_on(Builder::unix_stream(stream).method_timeout(patience).build());
    // Whoever never answers is left to a thread that can be done without.
    std::thread::Builder::new().name("bus".to_owned()).spawn(move || sends.send(build())).ok()?;
    built.recv_timeout(patience).ok()
}

/// Hands on what is signalled, on a thread of its own.
fn follow(bus: Connection, events: &Sender<Event>) -> Result<Connection, String> {
    let mut messages = MessageStream::from(&bus);
    let events = events.clone();
    let reading = std::thread::Builder::new().name("signals".to_owned()).spawn(move || {
        while let Some(Ok(message)) = pollster::block_on(messages.next()) {
            if let Some(signal) = Signal::of(&message)
                && events.send(Event::Signal(signal)).is_err()
            {
                return;
            }
        }
        // The session is over.
        let _ = events.send(Event::End);
    });
    reading.map_err(|error| format!("no thread can be started: {error}"))?;
    pollster::block_on(notices::listen(&bus)).map_err(|error| format!("the bus of the session refuses: {error}"))?;
    Ok(bus)
}

impl Helper<'_> {
    fn run(mut self, happens: &Receiver<Event>) {
        while let Ok(event) = happens.recv() {
            match event {
                Event::Told(ToHelper::Show { notice, nonce }) => self.show(notice, nonce),
                Event::Told(ToHelper::TakeDown { case }) => self.take_down(case),
                Event::Told(ToHelper::Leave { case }) => drop(self.seen.remove(&case)),
                Event::Signal(signal) => self.signalled(signal),
                Event::End => break,
            }
        }
        let open: Vec<u64> = self.seen.keys().copied().collect();
        open.into_iter().for_each(|case| self.take_down(case));
    }

    fn say(&self, what: &FromHelper) {
        if let Ok(message) = serde_json::to_vec(what) {
            // Nobody listens any more: the end of the line follows.
            let _ = self.line.say(&message);
        }
    }

    fn show(&mut self, notice: Box<Notice>, nonce: String) {
        let case = notice.case;
        let (known, again) = self.seen.get(&case).map_or((0, 0), |seen| (seen.number, seen.again));
        let shown = pollster::block_on(self.at_the_desk(&notice, &nonce, known));
        let said = match shown {
            Ok((number, place)) => {
                self.seen.insert(case, Seen { notice, nonce: nonce.clone(), number, again, forged: 0 });
                FromHelper::Shown { case, nonce, place }
            }
            // Only a question is worth a line on a terminal.
            Err(why) if notice.question.is_some() => match self.terminals.write(&notice) {
                0 => FromHelper::NotShown { case, nonce, why },
                1 => FromHelper::Shown { case, nonce, place: "on 1 terminal".to_owned() },
                many => FromHelper::Shown { case, nonce, place: format!("on {many} terminals") },
            },
            Err(why) => FromHelper::NotShown { case, nonce, why },
        };
        self.say(&said);
    }

    async fn at_the_desk(&mut self, notice: &Notice, nonce: &str, known: u32) -> Result<(u32, String), String> {
        let sessions = login::sessions(self.buses.machine.as_ref(), self.uid).await;
        let place = match &sessions {
            // Nobody can say: then the bus decides.
            None => "at the desk".to_owned(),
            Some(sessions) => format!("at the desk (session {})", login::in_front(sessions)?.id),
        };
        let bus = self.buses.session.as_ref().map_err(String::clone)?;
        // He may be another one by now.
        let service = notices::find(bus, true).await?;
        let instead = if self.service.as_ref().is_some_and(|before| before.name == service.name) { known } else { 0 };
        let number = service.show(bus, notice, nonce, instead).await?;
        let place = match notice.answers.is_empty() || service.has_buttons() {
            true => place,
            false => format!("{place}, without anything to press"),
        };
        self.service = Some(service);
        Ok((number, place))
    }

    fn take_down(&mut self, case: u64) {
        let Some(seen) = self.seen.remove(&case) else { return };
        if let (Some(service), Ok(bus)) = (&self.service, &self.buses.session) {
            pollster::block_on(service.take_down(bus, seen.number));
        }
    }

    fn signalled(&mut self, signal: Signal) {
        let genuine = |by: &String| self.service.as_ref().is_some_and(|service| service.name == *by);
        match signal {
            Signal::Answered { number, key, by } => {
                let Some((answer, nonce)) = of_key(&key) else { return };
                let answer = answer.to_owned();
                let genuine = genuine(&by);
                let Some((case, seen)) = self.seen.iter_mut().find(|(_, seen)| seen.number == number) else { return };
                let case = *case;
                if genuine && seen.nonce == nonce {
                    let nonce = seen.nonce.clone();
                    let sessions = pollster::block_on(login::sessions(self.buses.machine.as_ref(), self.uid));
                    let session =
                        sessions.as_deref().and_then(|all| all.iter().max_by_key(|one| (one.active, !one.locked)));
                    let (session, locked) = (session.map(|one| one.id.clone()), session.map(|one| one.locked));
                    self.say(&FromHelper::Answer { case, nonce, answer, session, locked });
                } else {
                    seen.forged += 1;
                    let nonce = seen.nonce.clone();
                    if seen.forged <= MOST_FORGED {
                        self.say(&FromHelper::Forged { case, nonce, answer, by });
                    }
                }
            }
            Signal::Closed { number, by } if genuine(&by) => {
                // Whoever puts a question away has not answered it: it is over when its time is.
                self.seen.retain(|_, seen| seen.number != number);
            }
            Signal::Closed { .. } => {}
            Signal::Replaced => self.show_again(),
        }
    }

    /// Whoever shows notices now has shown none of these.
    fn show_again(&mut self) {
        let open: Vec<(Box<Notice>, String)> = self
            .seen
            .values_mut()
            .filter(|seen| seen.again < MOST_AGAIN)
            .map(|seen| {
                seen.again += 1;
                (seen.notice.clone(), seen.nonce.clone())
            })
            .collect();
        for (notice, nonce) in open {
            self.show(notice, nonce);
        }
    }
}
