//! A made-up machine whose time passes by hand.

use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use sophron_core::model::{Basis, Boot, Machine, Moment, Names, Origin, Process, ProcessId, Snapshot};

/// The boot that the world runs in.
const BOOT: Boot = Boot(0x6d6f_7373);

/// A machine of the Mossgate Arboretum. Change its processes, let time pass, take snapshots.
#[derive(Debug, Clone)]
pub struct World {
    /// Now.
    pub moment: Moment,
    /// The machine's figures.
    pub machine: Machine,
    /// The processes, by PID.
    pub processes: Vec<Process>,
}

impl World {
    /// `mossgate-desk-03`, Monday morning, with these processes.
    pub fn new(processes: Vec<Process>) -> World {
        let wall = Timestamp::from_second(1_795_505_400).unwrap_or_default();
        let clock = Duration::from_secs(5000);
        World {
            moment: Moment { wall, monotonic: clock, boottime: clock },
            machine: Machine {
                host: "mossgate-desk-03".to_owned(),
                boot: BOOT,
                cores: 4,
                cpu: Some(30.0),
                memory_total: 8 << 30,
                memory_available: Some(3 << 30),
                ..Machine::default()
            },
            processes,
        }
    }

    /// Lets that much time pass.
    pub fn pass(&mut self, time: Duration) {
        self.moment.wall = self.moment.wall.checked_add(time).unwrap_or(self.moment.wall);
        self.moment.monotonic += time;
        self.moment.boottime += time;
    }

    /// Lets the machine nap: only the boot clock and the wall clock run.
    pub fn nap(&mut self, time: Duration) {
        self.moment.wall = self.moment.wall.checked_add(time).unwrap_or(self.moment.wall);
        self.moment.boottime += time;
    }

    /// The process of that PID.
    ///
    /// # Panics
    /// There is none.
    pub fn process(&mut self, pid: u32) -> &mut Process {
        self.processes.iter_mut().find(|process| process.id.pid == pid).unwrap_or_else(|| panic!("no process {pid}"))
    }

    /// A sample of this very moment.
    pub fn snapshot(&self) -> Snapshot {
        Snapshot {
            moment: self.moment,
            interval: Some(Duration::from_secs(1)),
            machine: self.machine.clone(),
            processes: self.processes.clone(),
        }
    }
}

/// A quiet, proven process of `ines`.
pub fn process(pid: u32, app: &str) -> Process {
    let names = Names {
        name: app.to_owned(),
        app: app.to_owned(),
        command_unread: false,
        app_rests_on: Basis::Proof,
        path: Some(format!("/opt/mossgate/{app}")),
        path_rests_on: Basis::Proof,
        replaced: false,
        command: Some(app.to_owned()),
        unmasked: None,
        owner: "ines".to_owned(),
        person: None,
        tty: String::new(),
        group: Some("/user.slice".to_owned()),
        unit: Some(String::new()),
        origin: Some(Origin::Other),
    };
    Process {
        names: Arc::new(names),
        parent: 1,
        uid: 1001,
        session: pid,
        cpu: Some(0.0),
        waited: Some(0.0),
        memory: Some(40 << 20),
        memory_held: Some(30 << 20),
        memory_shared: Some(0),
        memory_swapped: Some(0),
        memory_virtual: Some(90 << 20),
        disk_read: Some(0.0),
        disk_write: Some(0.0),
        faults: Some(0.0),
        threads: 1,
        age: Duration::from_secs(600),
        ..Process::unread(ProcessId { pid, start: u64::from(pid) * 10, boot: BOOT })
    }
}
