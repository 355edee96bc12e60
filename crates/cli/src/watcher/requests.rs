//! What is asked of a running watcher by its control socket, and what is answered.

use std::sync::PoisonError;
use std::sync::mpsc::Sender;
use std::time::Duration;

use sophron_core::dispatch::{Back, Input, Inquiry, Request, Standing, Wanted, Word};
use sophron_core::model::{Needs, Process, ProcessId, Reader};
use sophron_core::stand_back::{StandBack, Whom};
use sophron_core::text::clean;
use sophron_linux::here;

use super::Watcher;
use super::control::{Answer, Asked, Reply, Report, Said};
use super::reload::Reason;

impl Watcher {
    pub(super) fn ask(&mut self, asked: Asked) {
        let Asked { request, by, reply } = asked;
        let refused = |why: String| {
            // Whoever asked may have gone.
            let _ = reply.send(Reply::Refused(why));
        };
        match request {
            Request::Why(wanted) => self.why(&wanted, reply),
            Request::Status => {
                let _ = reply.send(Reply::Status(Box::new(self.report())));
            }
            Request::Reload => self.reread(Reason::Asked(by.user), Some(reply)),
            Request::StandBack(back) => match back.check().and_then(|()| self.meant(&back)) {
                Ok(whom) => {
                    let length = Some(Duration::from_secs(back.seconds));
                    self.take_word(Word { ticket: 0, whom, length, by, because: because(&back) }, reply);
                }
                Err(why) => refused(why),
            },
            Request::ActAgain(back) => match self.meant(&back) {
                Ok(whom) => self.take_word(Word { ticket: 0, whom, length: None, by, because: because(&back) }, reply),
                Err(why) => refused(why),
            },
        }
    }

    /// Whom somebody means: who is there, and which rules there are.
    fn meant(&self, back: &Back) -> Result<Vec<Whom>, String> {
        let mut whom = Vec::new();
        if back.all {
            whom.push(Whom::All);
        }
        for rule in &back.rules {
            let known = self.rule_set.rule(rule).is_some()
                || self.dispatcher.stand_backs().iter().any(|one| one.whom == Whom::Rule(rule.clone()));
            if !known {
                let all: Vec<&str> = self.rule_set.rules.iter().map(|rule| &*rule.name).collect();
                return Err(format!("this watcher has no rule {}; it has {}", clean(rule.as_bytes()), all.join(", ")));
            }
            whom.push(Whom::Rule(rule.clone()));
        }
        for (pid, start) in &back.processes {
            let id = ProcessId { pid: *pid, start: *start, boot: self.scribe.boot };
            let process = self.snapshot.find(&id);
            let process = process.ok_or(format!("{}: this watcher has not seen that process yet", id.checked()))?;
            whom.push(Whom::process(process));
        }
        Ok(whom)
    }

    fn take_word(&mut self, word: Word, reply: Sender<Reply>) {
        let ticket = self.said.keys().next_back().map_or(1, |last| last + 1);
        self.said.insert(ticket, reply);
        self.step(Input::Word(Box::new(Word { ticket, ..word })));
    }

    /// His word is taken; he hears of it once it is kept for the next run as well.
    pub(super) fn heard(&mut self, ticket: u64, ended: Vec<StandBack>) {
        let Some(reply) = self.said.remove(&ticket) else { return };
        let stand_backs = self.dispatcher.stand_backs().to_vec();
        self.keep_what_is_open(Some(Box::new(move |kept| {
            let said = Said { stand_backs, ended, forgotten: kept.err() };
            let _ = reply.send(Reply::StandBack(Box::new(said)));
        })));
    }

    fn why(&mut self, wanted: &Wanted, reply: Sender<Reply>) {
        let id = ProcessId { pid: wanted.pid, start: wanted.start, boot: self.scribe.boot };
        let Some(mut process) = self.snapshot.find(&id).cloned() else {
            let _ = reply.send(Reply::Why(Box::new(self.answer(None, None))));
            return;
        };
        self.sampler.read(&mut process, Needs::FILES);
        let ticket = self.asked.keys().next_back().map_or(0, |last| last + 1);
        self.asked.insert(ticket, (id, reply));
        let (rule, machine) = (wanted.rule.as_str().into(), self.snapshot.machine.clone());
        self.step(Input::Inquiry(Box::new(Inquiry { ticket, rule, process, machine })));
    }

    pub(super) fn answer(&self, standing: Option<Standing>, about: Option<&Process>) -> Answer {
        let running = self.dispatcher.running(about.map(|process| (process, &self.snapshot.machine)));
        Answer { standing, running, until: self.until }
    }

    fn report(&self) -> Report {
        let pulse = *self.pulse.lock().unwrap_or_else(PoisonError::into_inner);
        let cpu = sophron_linux::sys::process_cpu_time(std::process::id()).unwrap_or_default();
        Report {
            host: self.scribe.host.clone(),
            version: env!("CARGO_PKG_VERSION").to_owned(),
            pid: std::process::id(),
            service: self.is_service,
            began: pulse.began,
            until: self.until,
            sampled: pulse.sampled,
            samples: pulse.samples,
            every: self.every.as_secs_f64(),
            cpu: cpu.as_secs_f64(),
            memory: here::own_memory(),
            rules: self.rules.clone(),
            status: self.dispatcher.status(here::now(), &self.snapshot),
        }
    }
}

fn because(back: &Back) -> Option<String> {
    back.because.as_ref().map(|because| clean(because.as_bytes()))
}
