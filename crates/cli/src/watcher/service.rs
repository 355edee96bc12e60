//! A watcher that a service manager has started: it says when it is ready, that it is alive, and what it does. Only then does its
//! environment name anything.

use std::time::Duration;

use sophron_linux::here;
use sophron_linux::notify::Notify;

/// As the manager set it, it is a watcher that hangs when it has said nothing for so long.
const VARIABLES: [&str; 3] = ["NOTIFY_SOCKET", "WATCHDOG_USEC", "WATCHDOG_PID"];

/// A manager that lets us be silent for less than so many ticks is asked for more.
const TICKS: u32 = 5;

/// What is told to the manager.
#[derive(Debug, Default)]
pub struct Service {
    notify: Option<Notify>,
    /// How long we may be silent.
    watchdog: Option<Duration>,
    /// Until when nothing needs to be said, on the monotonic clock.
    quiet_until: Duration,
    ready: bool,
}

impl Service {
    /// By the environment that the manager has set; nothing where there is none. Why it cannot be told, where that is so.
    pub fn begin() -> (Service, Option<String>) {
        let [socket, watchdog, of] = VARIABLES.map(std::env::var_os);
        let number = |value: Option<std::ffi::OsString>| value?.to_str()?.parse::<u64>().ok();
        let ours = number(of).is_none_or(|pid| pid == u64::from(std::process::id()));
        let watchdog = number(watchdog).filter(|_| ours).map(Duration::from_micros);
        let (notify, why) = match socket.as_deref().map(Notify::to) {
            Some(Ok(notify)) => (Some(notify), None),
            Some(Err(error)) => (None, Some(format!("the service manager cannot be told anything: {error}"))),
            None => (None, None),
        };
        (Service { notify, watchdog, ..Service::default() }, why)
    }

    fn tell(&self, lines: &str) {
        // A manager that does not listen learns by the process itself how it stands.
        let _ = self.notify.as_ref().map(|notify| notify.tell(lines));
    }

    /// A tick is over, and what was recorded is on its way.
    pub fn ticked(&mut self, every: Duration, status: impl Fn() -> String) {
        if self.notify.is_none() {
            return;
        }
        let now = here::monotonic();
        if !std::mem::replace(&mut self.ready, true) {
            self.tell(&format!("READY=1\nSTATUS={}", status()));
            self.paces(every);
        }
        let often =
            self.watchdog.map_or(Duration::from_secs(10), |watchdog| (watchdog / 4).min(every.max(watchdog / 10)));
        if now >= self.quiet_until {
            self.tell(&format!("WATCHDOG=1\nSTATUS={}", status()));
            self.quiet_until = now + often;
        }
    }

    /// Samples come that far apart from now on: the manager has to wait for longer than that.
    pub fn paces(&mut self, every: Duration) {
        let least = every * TICKS;
        if let Some(watchdog) = self.watchdog.filter(|watchdog| *watchdog < least) {
            self.tell(&format!("WATCHDOG_USEC={}", least.as_micros()));
            self.watchdog = Some(watchdog.max(least));
        }
    }

    /// The rules are being read anew.
    pub fn reloading(&self) {
        let now = here::monotonic().as_micros();
        self.tell(&format!("RELOADING=1\nMONOTONIC_USEC={now}\nSTATUS=reading the rules anew"));
    }

    /// They were.
    pub fn reloaded(&self) {
        self.tell("READY=1");
    }

    /// It ends.
    pub fn stopping(&self) {
        self.tell("STOPPING=1\nSTATUS=undoing what is in force");
    }
}
