//! `[figures]`: a thread that counts what stands in the trail, and writes it for others' monitoring: into a file, and to a helper that
//! answers whoever asks on this machine.

use std::net::{SocketAddr, TcpListener};
use std::os::fd::OwnedFd;
use std::process::{Child, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, SyncSender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use sophron_core::audit::{InForce, ToldBy};
use sophron_core::figures::{Figures, Pulse};
use sophron_core::rules::{Figures as Settings, RuleSet};
use sophron_core::sorted::SortedSet;
use sophron_core::text::with_causes;
use sophron_deliver::serve::framed;
use sophron_linux::fence::Fence;
use sophron_linux::trail::Tail;
use sophron_linux::{files, here, own_life, sys, talk};

use super::errand;
use super::helpers::Helpers;
use super::{Wake, Watcher};

/// The word by which the program that we are starts as a helper.
pub const WORD: &str = "figures";

/// So many records are taken in at once.
const AT_ONCE: usize = 1024;

/// How long a helper may take to read a text.
const PATIENCE: Duration = Duration::from_secs(2);

/// How the watcher does, as its thread tells it.
pub type Shared = Arc<Mutex<Pulse>>;

/// Of a watcher that begins.
pub fn begun() -> Shared {
    Arc::new(Mutex::new(Pulse {
        began: here::now().wall,
        sampled: None,
        samples: 0,
        spent: Duration::ZERO,
        cpu: Duration::ZERO,
        memory: 0,
        can_act: true,
    }))
}

/// The thread.
pub struct Giver {
    stop: Sender<()>,
    thread: JoinHandle<()>,
}

impl Giver {
    /// Ends it: nobody reads figures of a watcher that is no more.
    pub fn end(self) {
        drop(self.stop);
        // A panic in it has been printed.
        let _ = self.thread.join();
    }
}

impl Watcher {
    /// Starts the thread, where figures are asked for.
    pub(super) fn begin_figures(&self, rules: &RuleSet, in_force: &InForce, ends: Tail) -> Option<Giver> {
        let settings = rules.figures.clone()?;
        let is_down = |name: &&String| in_force.told_by(name).and_then(ToldBy::down_since).is_some();
        let down: SortedSet<String> =
            rules.telling.channels.iter().map(|channel| &channel.name).filter(is_down).cloned().collect();
        let (stop, stopped) = channel();
        let mut keeper = Keeper {
            settings,
            user: rules.telling.as_user.clone(),
            figures: Figures::new(rules, &down),
            trail: ends,
            pulse: Arc::clone(&self.pulse),
            helpers: self.helpers.clone(),
            listens: None,
            helper: None,
            said: SortedSet::new(),
        };
        let news = self.wake.clone();
        let run = move || keeper.run(&stopped, &news);
        match std::thread::Builder::new().name("figures".to_owned()).spawn(run) {
            Ok(thread) => Some(Giver { stop, thread }),
            Err(error) => {
                // The watcher is about to listen.
                let _ = self.wake.try_send(Wake::Figures(format!("no thread can be started: {error}")));
                None
            }
        }
    }
}

struct Keeper {
    settings: Settings,
    user: String,
    figures: Figures,
    trail: Tail,
    pulse: Shared,
    helpers: Helpers,
    listens: Option<TcpListener>,
    helper: Option<Child>,
    /// What has been said of it already.
    said: SortedSet<String>,
}

impl Keeper {
    fn run(&mut self, stopped: &Receiver<()>, news: &SyncSender<Wake>) {
        own_life::stand_back();
        loop {
            let text = self.text();
            let to_file = self.settings.file.as_ref().map(|file| files::replace(file, text.as_bytes()));
            let to_file = to_file.transpose().map_err(|error| with_causes(&error));
            let served = self.settings.serve.map(|address| self.serve(address, &text)).transpose();
            for why in [to_file.err(), served.err()].into_iter().flatten() {
                // Once is enough: it is tried again each time.
                if self.said.insert(why.clone()) {
                    let _ = news.try_send(Wake::Figures(why));
                }
            }
            match stopped.recv_timeout(self.settings.every) {
                Err(RecvTimeoutError::Timeout) => {}
                _ => break,
            }
        }
        self.dismiss();
        if let Some(file) = &self.settings.file {
            // It may never have been written.
            let _ = std::fs::remove_file(file);
        }
    }

    fn text(&mut self) -> String {
        loop {
            let records = self.trail.more(AT_ONCE);
            records.iter().for_each(|record| self.figures.note(record));
            if records.len() < AT_ONCE {
                break;
            }
        }
        let pulse = *self.pulse.lock().unwrap_or_else(PoisonError::into_inner);
        let cpu = sys::process_cpu_time(std::process::id()).unwrap_or_default();
        self.figures.text(&Pulse { cpu, memory: here::own_memory().unwrap_or(0), ..pulse })
    }

    /// Tells the helper, which is started where there is none.
    fn serve(&mut self, address: SocketAddr, text: &str) -> Result<(), String> {
        let failed = |why: String| format!("nobody is answered at {address}: {why}");
        if self.helper.as_mut().is_none_or(|helper| !matches!(helper.try_wait(), Ok(None))) {
            self.dismiss();
            let (helper, fence) = self.start(address).map_err(failed)?;
            self.helper = Some(helper);
            self.tell(fence.as_bytes()).map_err(failed)?;
        }
        self.tell(&framed(text)).map_err(failed)
    }

    /// A helper, and what it is told first: behind which fence.
    fn start(&mut self, address: SocketAddr) -> Result<(Child, String), String> {
        let user = errand::user(&self.user)?;
        let listener = match &self.listens {
            Some(listener) => listener.try_clone().map_err(|error| error.to_string())?,
            None => {
                let listener = TcpListener::bind(address).map_err(|error| error.to_string())?;
                self.listens.insert(listener).try_clone().map_err(|error| error.to_string())?
            }
        };
        let fence = serde_json::to_string(&Fence { user, ..Fence::default() }).map_err(|e| e.to_string())?;
        let mut start = own_life::helper(WORD);
        start.stdin(Stdio::piped()).stdout(Stdio::from(OwnedFd::from(listener))).stderr(Stdio::null());
        sys::as_we_were(&mut start);
        sys::contain(&mut start);
        self.helpers
            .start(start)
            .map(|helper| (helper, fence + "\n"))
            .map_err(|error| format!("no helper can be started: {error}"))
    }

    fn tell(&mut self, told: &[u8]) -> Result<(), String> {
        let Some(to) = self.helper.as_mut().and_then(|helper| helper.stdin.as_mut()) else { return Ok(()) };
        talk::tell(to, told, PATIENCE).map_err(|error| {
            self.dismiss();
            format!("its helper does not read: {error}")
        })
    }

    fn dismiss(&mut self) {
        if let Some(mut helper) = self.helper.take() {
            // Nothing is done to one that has been collected already.
            let _ = helper.kill();
            let _ = helper.wait();
            self.helpers.ended(helper.id());
        }
    }
}
