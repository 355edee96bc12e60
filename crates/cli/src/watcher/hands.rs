//! Hands at work beside the watcher: what people do to processes, by the trail that both write to. Rules stand back from
//! those for a while, since somebody knows something that they do not.

use std::path::Path;

use sophron_core::audit::{Kind, Record};
use sophron_linux::trail::Tail;

/// Most records that are read at a tick.
const MOST: usize = 4096;

/// Follows the trail from where it ends now.
#[derive(Debug)]
pub struct Hands(Tail);

impl Hands {
    pub fn of(state: &Path) -> Hands {
        Hands(Tail::at_end(state))
    }

    /// What people have written since the last look: intents, and that a loss is accepted. A trail that cannot be read has none:
    /// the recorder says so.
    pub fn news(&mut self) -> Vec<Record> {
        let mut records = self.0.more(MOST);
        // What a watcher takes back by itself is no hand at work.
        records.retain(|record| record.is_by_hand() && matches!(record.kind, Kind::Intent | Kind::LossAccepted));
        records
    }
}

#[cfg(test)]
mod tests {
    use sophron_core::audit::{By, Draft, Link, Who};
    use sophron_linux::trail;

    use super::*;

    #[test]
    fn a_trail_that_is_begun_anew_is_followed() {
        let state = tempfile::tempdir().unwrap();
        let folder = trail::folder(state.path());
        std::fs::create_dir(&folder).unwrap();
        let who = Who { uid: 0, user: "root".to_owned(), login_uid: None, by: Some(By::Hand) };
        let accepted = Draft::new(jiff::Timestamp::UNIX_EPOCH, Kind::LossAccepted, "mossgate-desk-03", "7", who);
        let line = Link::default().seal(&accepted).unwrap();
        std::fs::write(folder.join(trail::name(3)), &line).unwrap();
        let mut hands = Hands::of(state.path());
        assert!(hands.news().is_empty(), "what was there before is no news");
        std::fs::remove_file(folder.join(trail::name(3))).unwrap();
        std::fs::write(folder.join(trail::name(1)), &line).unwrap();
        assert_eq!(hands.news().len(), 1);
        assert!(hands.news().is_empty());
    }
}
