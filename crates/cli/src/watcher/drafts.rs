//! Drafts of records: who, where, and about whom.

use sophron_core::audit::{ActionRecord, Draft, Evidence, Kind, ResultRecord, SubjectRecord, Who};
use sophron_core::judge::Case;
use sophron_core::model::Boot;
use sophron_core::rules::Rule;
use sophron_linux::here;

/// What every record of this run has in common.
#[derive(Debug, Clone)]
pub struct Drafter {
    pub host: String,
    pub boot: Boot,
    pub who: Who,
}

impl Drafter {
    /// A record about nobody.
    pub fn plain(&self, kind: Kind) -> Draft {
        Draft {
            at: here::now().wall,
            host: self.host.clone(),
            boot: self.boot.to_string(),
            case: None,
            kind,
            who: self.who.clone(),
            rule: None,
            subject: None,
            evidence: None,
            action: None,
            result: None,
        }
    }

    /// A record of a case.
    pub fn of_case(&self, kind: Kind, case: &Case, rule: &Rule) -> Draft {
        Draft {
            case: Some(case.number),
            rule: Some(rule.name.clone()),
            subject: SubjectRecord::of_case(case),
            ..self.plain(kind)
        }
    }

    /// A record of a case with what it rests on.
    pub fn with_evidence(&self, kind: Kind, case: &Case, rule: &Rule) -> Draft {
        Draft { evidence: Some(Evidence::of(case, rule)), ..self.of_case(kind, case, rule) }
    }
}

/// Small additions to a draft.
pub trait DraftExt {
    fn doing(self, action: ActionRecord) -> Draft;
    fn came_of_it(self, outcome: &str, seen: impl Into<String>) -> Draft;
    /// The same story, now told by a record of another kind.
    fn as_kind(&self, kind: Kind) -> Draft;
}

impl DraftExt for Draft {
    fn doing(self, action: ActionRecord) -> Draft {
        Draft { action: Some(action), ..self }
    }

    fn came_of_it(self, outcome: &str, seen: impl Into<String>) -> Draft {
        let result = ResultRecord { outcome: outcome.to_owned(), seen: seen.into(), took: None };
        Draft { result: Some(result), ..self }
    }

    fn as_kind(&self, kind: Kind) -> Draft {
        Draft { at: here::now().wall, kind, evidence: None, ..self.clone() }
    }
}
