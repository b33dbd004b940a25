//! The rules: one definition each, with its long text, and beside it what makes it fire.
//!
//! A family is a file; [`ALL`] is the registry from which `check`, `explain` and the documentation are fed.

pub mod access;
pub mod dataset;
pub mod identity;
pub mod layout;
pub mod library;
pub mod mount;
pub mod path;
pub mod share;
pub mod survey;

use std::fmt;

use crate::check::{Case, Finding};
use crate::site::Site;

/// How much a finding matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// Worth knowing.
    Note,
    /// Something will go wrong some day.
    Risk,
    /// The scan, import or mount will fail, or data is at stake.
    Blocker,
}

impl Severity {
    /// `blocker`, `risk` or `note`.
    pub fn word(self) -> &'static str {
        match self {
            Self::Blocker => "blocker",
            Self::Risk => "risk",
            Self::Note => "note",
        }
    }
}

/// A rule, as it is documented.
#[derive(Debug)]
pub struct Rule {
    /// `family/name`.
    pub id: &'static str,
    /// Unless a layout changes it.
    pub severity: Severity,
    /// In one line.
    pub title: &'static str,
    /// What a finding of this rule means.
    pub means: &'static str,
    /// Why it hurts.
    pub hurts: &'static str,
    /// How to clear it.
    pub fix: &'static str,
    /// One example, as an administrator would meet it.
    pub example: &'static str,
}

/// A rule by its definition.
pub type RuleId = &'static Rule;

impl PartialEq for Rule {
    fn eq(&self, other: &Self) -> bool {
        self.id == other.id
    }
}

impl fmt::Display for Rule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.id)
    }
}

/// Every rule, family by family.
pub static ALL: &[RuleId] = &[
    &layout::UNKNOWN_REFERENCE,
    &layout::SCATTERED_KINDS,
    &layout::OUTSIDE_SHARE,
    &layout::ON_SYSTEM_DISK,
    &layout::CONFIG_IN_MEDIA,
    &layout::NO_BACKUP,
    &layout::DIFFERS_FROM_HOST,
    &dataset::ACCESS_TIMES,
    &dataset::RECORD_SIZE,
    &dataset::ACL_LOST_ON_CHMOD,
    &dataset::CASE_INSENSITIVE_MIX,
    &dataset::NEARLY_FULL,
    &path::MISSING,
    &path::CASE,
    &path::NOT_A_FOLDER,
    &path::UNCOVERED,
    &path::NOT_ABSOLUTE,
    &path::SHADOWED,
    &mount::NOT_MOUNTED,
    &share::CHILD_DATASET_HIDDEN,
    &identity::UNKNOWN_ACCOUNT,
    &identity::NUMBER_MISMATCH,
    &identity::RUNS_AS_ROOT,
    &identity::RUN_AS_UNSET,
    &identity::SHIFTED,
    &identity::SQUASHED,
    &identity::TOO_MANY_GROUPS,
    &identity::SHARED_ACCOUNT,
    &access::ROOT_UNREADABLE,
    &access::ENTRIES_UNREADABLE,
    &access::CANNOT_ADD,
    &access::CANNOT_REMOVE,
    &access::MORE_THAN_NEEDED,
    &access::WORLD_WRITABLE,
    &access::NOT_INHERITED,
    &access::NOT_AS_DECLARED,
    &access::MOVED_STAYS_PRIVATE,
    &access::PER_USER_GRANTS,
    &access::ORPHANED_OWNER,
    &library::NOTHING_FOUND,
    &survey::NONE,
    &survey::NOT_SEEN,
    &survey::TOO_OLD,
    &survey::PARTIAL,
    &survey::NO_ACLS,
];

/// The rule of that id.
pub fn named(id: &str) -> Option<RuleId> {
    ALL.iter().find(|rule| rule.id == id).copied()
}

/// What a judge of one case looks like: it reads the case and adds its findings.
type CaseJudge = fn(&Site, &Case, &mut Vec<Finding>);
/// What a judge of the whole site looks like.
type SiteJudge = fn(&Site, &[Case], &mut Vec<Finding>);

const CASE_JUDGES: &[CaseJudge] =
    &[path::judge, share::judge, identity::judge, access::judge, library::judge, survey::judge];
const SITE_JUDGES: &[SiteJudge] = &[
    path::judge_mappings,
    mount::judge_site,
    survey::judge_site,
    layout::judge_site,
    dataset::judge_site,
    identity::judge_site,
    access::judge_site,
];

/// Everything that the rules find.
pub(crate) fn judge(site: &Site, cases: &[Case]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for judge in SITE_JUDGES {
        judge(site, cases, &mut findings);
    }
    for case in cases {
        for judge in CASE_JUDGES {
            judge(site, case, &mut findings);
        }
    }
    findings
}
