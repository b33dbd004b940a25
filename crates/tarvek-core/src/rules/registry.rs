//! Every rule with what makes it fire: `check`, `explain` and the documentation are fed from this
//! list.

use std::collections::BTreeSet;

use rayon::prelude::*;

use crate::remedy::verified_fix::JudgeAgain;
use crate::rules::library::nothing_found;
#[cfg(test)]
use crate::rules::promise::Promise;
use crate::rules::{
    access, dataset, identity, label, layout, library, link, mount, name, path, port, share, space,
    survey,
};
use crate::site::join::Site;
use crate::used::used_path::{UsedPath, used_paths};
use crate::words::finding::Finding;
use crate::words::remedy::{Command, Remedy, Step};
use crate::words::rule::{Rule, RuleId};

/// What a rule finds about one place that a service uses.
type OfCase = fn(&Site, &UsedPath) -> Vec<Finding>;
/// What a rule finds about the rest of a site.
type OfSite = fn(&Site, &[UsedPath]) -> Vec<Finding>;

/// As [`OfSite`], with what judges a changed site again.
type OfTrials = fn(&Site, &[UsedPath], JudgeAgain) -> Vec<Finding>;

/// A rule and what makes it fire.
#[derive(Debug)]
pub struct Entry {
    pub rule: RuleId,
    of_case: Option<OfCase>,
    /// Whether it is about libraries only.
    of_libraries: bool,
    of_site: Option<OfSite>,
    /// Of rules whose remedies are tried on changed sites.
    of_trials: Option<OfTrials>,
}

impl Entry {
    const fn case(rule: RuleId, find: OfCase) -> Self {
        Self { rule, of_case: Some(find), of_libraries: false, of_site: None, of_trials: None }
    }

    const fn site(rule: RuleId, find: OfSite) -> Self {
        Self { rule, of_case: None, of_libraries: false, of_site: Some(find), of_trials: None }
    }

    const fn trying(rule: RuleId, find: OfTrials) -> Self {
        let of_trials = Some(find);
        Self { rule, of_case: None, of_libraries: false, of_site: None, of_trials }
    }

    const fn library(rule: RuleId, find: OfCase) -> Self {
        Self { of_libraries: true, ..Self::case(rule, find) }
    }

    const fn and_site(self, find: OfSite) -> Self {
        Self { of_site: Some(find), ..self }
    }
}

/// The rules, and what tests need to know of each: from one list. A line is a family, in it each rule
/// with what it is asked for: a `case` (a place that a service uses), a place of a `library`, the
/// `site`, `both` a case and the site, or the site with trials of what would be (`trying`).
macro_rules! registry {
    ($($family:ident { $($kind:ident $rule:ident,)+ })+) => {
        /// Every rule, family by family.
        pub static ALL: &[Entry] = &[$($(registry!(@$kind $family::$rule)),+),+];

        /// Of every rule a site on which it fires, and what its remedy leaves to a person.
        #[cfg(test)]
        pub(super) static PROMISES: &[(RuleId, Promise)] =
            &[$($((&$family::$rule::RULE, $family::$rule::tests::PROMISE)),+),+];
    };
    (@both $family:ident::$rule:ident) => {
        Entry::case(&$family::$rule::RULE, $family::$rule::find)
            .and_site($family::$rule::find_in_site)
    };
    (@$kind:ident $family:ident::$rule:ident) => {
        Entry::$kind(&$family::$rule::RULE, $family::$rule::find)
    };
}

registry! {
    layout {
        site unknown_reference,
        site scattered_kinds,
        site outside_share,
        site on_system_disk,
        site config_in_media,
        site no_backup,
        site no_library,
        site differs_from_host,
        site not_applied,
    }
    dataset {
        site access_times,
        site record_size,
        site acl_lost_on_chmod,
        site case_insensitive_mix,
        site nearly_full,
    }
    path {
        case missing,
        case case,
        case not_a_folder,
        case written_as_host_path,
        case uncovered,
        both not_absolute,
        case shadowed,
        site wrong_translation,
        case link_escapes,
        case dangling_link,
        site source_missing,
        site wider_than_needed,
    }
    mount {
        site not_mounted,
        site wrong_source,
        site not_permanent,
        site files_beneath,
        site boot_hang,
        site by_address,
        site no_share_named,
        site unknown_server,
        site contradiction,
        site local_disk,
        site same_host,
        site soft_writes,
        site inline_password,
        site open_credentials,
        case client_ids,
        site old_protocol,
        site service_before_mount,
        site wider_than_needed,
    }
    share {
        site not_offered,
        site everyone_writes,
        site guests_read,
        site any_client,
        site stray_space,
        site file_refused,
        site root_trusted,
        case read_only,
        both child_dataset_hidden,
        site recycle_kept,
        site nested,
    }
    port {
        site taken_twice,
        site in_use,
    }
    label {
        site missing,
        site private_but_shared,
        site network_mount,
    }
    identity {
        site not_as_declared,
        site unknown_account,
        site number_mismatch,
        site runs_as_root,
        site run_as_unset,
        case shifted,
        site squashed,
        case too_many_groups,
        site shared_account,
    }
    access {
        library root_unreadable,
        library entries_unreadable,
        site cannot_add,
        site cannot_remove,
        library more_than_needed,
        site world_writable,
        site not_inherited,
        site not_as_declared,
        site moved_stays_private,
        site per_user_grants,
        site orphaned_owner,
    }
    link {
        site different_filesystem,
        trying different_mount,
        site different_quota_tree,
        site unsupported,
        trying source_protected,
        site target_unwritable,
        trying partial_elsewhere,
        site path_disagreement,
        site category_mismatch,
        site copied_imports,
    }
    library {
        library nothing_found,
        site overlap,
        site inside_intake,
        library too_deep,
        library too_high,
        library mixed_kinds,
        library loose_files,
        library unrecognised_names,
        site same_title_twice,
    }
    name {
        library case_collision,
        library unicode_twins,
        library not_share_safe,
        library too_long,
        library not_utf8,
        library unseen_characters,
    }
    space {
        site copies,
        site unlinked,
        site versions,
        site leftovers,
        site hollow,
        site held_by_snapshots,
    }
    survey {
        site none,
        both not_seen,
        site too_old,
        site partial,
        site no_acls,
    }
}

/// Every rule.
pub fn rules() -> impl Iterator<Item = RuleId> {
    ALL.iter().map(|entry| entry.rule)
}

/// The rule of that id.
pub fn named(id: &str) -> Option<&'static Rule> {
    rules().find(|rule| rule.id == id)
}

/// What the rules find about one place that a service uses.
pub fn find_of(site: &Site, case: &UsedPath) -> Vec<Finding> {
    find_of_but(site, case, |_| false)
}

fn find_of_but(site: &Site, case: &UsedPath, left_out: impl Fn(RuleId) -> bool) -> Vec<Finding> {
    let concerns =
        |entry: &&Entry| (!entry.of_libraries || case.library().is_some()) && !left_out(entry.rule);
    let finds = ALL.iter().filter(concerns).filter_map(|entry| entry.of_case);
    let mut findings: Vec<Finding> = finds.flat_map(|find| find(site, case)).collect();
    if !site.is_trial {
        promise(site, case, &mut findings);
    }
    findings
}

/// Keeps of each finding the first remedy that holds: with its edits made, the rule no longer fires
/// there, and no other does that did not before.
fn promise(site: &Site, case: &UsedPath, findings: &mut [Finding]) {
    let before: Vec<RuleId> = findings.iter().map(|finding| finding.rule).collect();
    for finding in findings {
        let mut all = vec![std::mem::take(&mut finding.remedy)];
        all.append(&mut finding.or_else);
        // Best is what leads to something; next best is what at least clears this.
        let found = all.iter().position(|remedy| {
            holds(site, case, finding.rule, &before, remedy)
                .is_some_and(|found| !found.contains(&nothing_found::RULE.id))
        });
        let found = found.or_else(|| {
            all.iter().position(|r| holds(site, case, finding.rule, &before, r).is_some())
        });
        finding.remedy = match found {
            Some(index) => all.swap_remove(index),
            None => {
                let view = format!("service:{}", case.service.name.raw());
                let trace = Command::new("tarvek trace").arg(case.root.written.raw());
                Step::words(format!(
                    "see where the way breaks off: {}",
                    trace.arg("--from").arg(view)
                ))
                .into()
            }
        };
    }
}

/// What is still found at the place after the edits of a remedy; `None` if the rule still fires, or
/// another one newly does. What is no edit of the layout is taken at its word here.
fn holds(
    site: &Site,
    case: &UsedPath,
    rule: RuleId,
    before: &[RuleId],
    remedy: &Remedy,
) -> Option<Vec<&'static str>> {
    if remedy.edits().next().is_none() {
        return Some(Vec::new());
    }
    let after = site.after(&remedy.steps)?;
    let found = find_of(&after, &case.again(&after)?);
    let held = found.iter().all(|finding| finding.rule != rule && before.contains(&finding.rule));
    held.then(|| found.iter().map(|finding| finding.rule.id).collect())
}

/// What says nothing of mappings, umasks and accounts of services, or compares the layout with what
/// still runs as it was.
fn is_beside(rule: RuleId) -> bool {
    const FAMILIES: [&str; 4] = ["dataset/", "survey/", "port/", "share/"];
    const RULES: [&str; 6] = [
        "layout/not-applied",
        "layout/differs-from-host",
        "access/world-writable",
        "access/per-user-grants",
        "access/orphaned-owner",
        "access/not-as-declared",
    ];
    FAMILIES.iter().any(|family| rule.id.starts_with(family)) || RULES.contains(&rule.id)
}

/// What is found in a changed site, without what its change has nothing to do with.
pub fn judge_again(site: &Site) -> BTreeSet<(&'static str, String)> {
    let all = find_but(site, &used_paths(site), is_beside).into_iter();
    all.map(|finding| (finding.rule.id, finding.about.to_string())).collect()
}

/// Everything that the rules find: first what is wrong with the site, then with each place that is
/// used.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    find_but(site, cases, |_| false)
}

/// As [`find`], without some rules.
pub(super) fn find_but(
    site: &Site,
    cases: &[UsedPath],
    left_out: impl Fn(RuleId) -> bool + Sync,
) -> Vec<Finding> {
    let asked = ALL.par_iter().filter(|entry| !left_out(entry.rule));
    let of_site = asked.flat_map_iter(|entry| {
        let of_site = entry.of_site.into_iter().flat_map(|find| find(site, cases));
        of_site.chain(entry.of_trials.into_iter().flat_map(|find| find(site, cases, judge_again)))
    });
    let of_cases = cases.par_iter().flat_map_iter(|case| find_of_but(site, case, &left_out));
    of_site.chain(of_cases).collect()
}
