//! `sophron rules reload`: has the running watcher read its rules anew.

use std::path::Path;

use sophron_core::dispatch::Request;

use crate::commands::stand_back::{other_version, unanswered};
use crate::exit::{Exit, Failure};
use crate::ui;
use crate::watcher::control::{self, Reloaded, Reply};

pub fn run(state: Option<&Path>) -> Result<Exit, Failure> {
    match control::request(state, &Request::Reload).map_err(unanswered)? {
        Reply::Reload(Reloaded { seen: Ok(seen), .. }) => {
            ui::out(format_args!("{seen}\n"));
            Ok(Exit::Fine)
        }
        Reply::Reload(Reloaded { seen: Err(why), diagnostics }) => {
            ui::err(&diagnostics);
            Err(Failure::new(Exit::Found, format!("{why}; nothing of it is used, and the rules from before count on"))
                .hint("mend it, and do this once more; `sophron status` tells which rules are in use"))
        }
        Reply::Refused(why) => Err(Failure::new(Exit::Failed, why)),
        _ => Err(other_version()),
    }
}
