//! Every rule with what makes it fire: `check`, `explain` and the documentation are fed from this
//! list.

use std::collections::BTreeSet;

use rayon::prelude::*;

use crate::remedy::verified_fix::JudgeAgain;
use crate::rules::library::nothing_found;
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

/// Every rule, family by family.
pub static ALL: &[Entry] = &[
    Entry::site(&layout::unknown_reference::RULE, layout::unknown_reference::find),
    Entry::site(&layout::scattered_kinds::RULE, layout::scattered_kinds::find),
    Entry::site(&layout::outside_share::RULE, layout::outside_share::find),
    Entry::site(&layout::on_system_disk::RULE, layout::on_system_disk::find),
    Entry::site(&layout::config_in_media::RULE, layout::config_in_media::find),
    Entry::site(&layout::no_backup::RULE, layout::no_backup::find),
    Entry::site(&layout::differs_from_host::RULE, layout::differs_from_host::find),
    Entry::site(&layout::not_applied::RULE, layout::not_applied::find),
    Entry::site(&dataset::access_times::RULE, dataset::access_times::find),
    Entry::site(&dataset::record_size::RULE, dataset::record_size::find),
    Entry::site(&dataset::acl_lost_on_chmod::RULE, dataset::acl_lost_on_chmod::find),
    Entry::site(&dataset::case_insensitive_mix::RULE, dataset::case_insensitive_mix::find),
    Entry::site(&dataset::nearly_full::RULE, dataset::nearly_full::find),
    Entry::case(&path::missing::RULE, path::missing::find),
    Entry::case(&path::case::RULE, path::case::find),
    Entry::case(&path::not_a_folder::RULE, path::not_a_folder::find),
    Entry::case(&path::uncovered::RULE, path::uncovered::find),
    Entry::case(&path::not_absolute::RULE, path::not_absolute::find)
        .and_site(path::not_absolute::find_mappings),
    Entry::case(&path::shadowed::RULE, path::shadowed::find),
    Entry::site(&path::wrong_translation::RULE, path::wrong_translation::find),
    Entry::site(&mount::not_mounted::RULE, mount::not_mounted::find),
    Entry::site(&mount::wrong_source::RULE, mount::wrong_source::find),
    Entry::case(&path::link_escapes::RULE, path::link_escapes::find),
    Entry::case(&path::dangling_link::RULE, path::dangling_link::find),
    Entry::site(&mount::not_permanent::RULE, mount::not_permanent::find),
    Entry::site(&mount::files_beneath::RULE, mount::files_beneath::find),
    Entry::site(&mount::boot_hang::RULE, mount::boot_hang::find),
    Entry::site(&mount::by_address::RULE, mount::by_address::find),
    Entry::site(&mount::no_share_named::RULE, mount::no_share_named::find),
    Entry::site(&mount::soft_writes::RULE, mount::soft_writes::find),
    Entry::site(&mount::inline_password::RULE, mount::inline_password::find),
    Entry::site(&mount::open_credentials::RULE, mount::open_credentials::find),
    Entry::case(&mount::client_ids::RULE, mount::client_ids::find),
    Entry::site(&mount::old_protocol::RULE, mount::old_protocol::find),
    Entry::site(&mount::service_before_mount::RULE, mount::service_before_mount::find),
    Entry::site(&mount::wider_than_needed::RULE, mount::wider_than_needed::find),
    Entry::site(&share::not_offered::RULE, share::not_offered::find),
    Entry::site(&share::everyone_writes::RULE, share::everyone_writes::find),
    Entry::site(&share::guests_read::RULE, share::guests_read::find),
    Entry::site(&share::any_client::RULE, share::any_client::find),
    Entry::site(&share::stray_space::RULE, share::stray_space::find),
    Entry::site(&share::file_refused::RULE, share::file_refused::find),
    Entry::site(&share::root_trusted::RULE, share::root_trusted::find),
    Entry::case(&share::read_only::RULE, share::read_only::find),
    Entry::case(&share::child_dataset_hidden::RULE, share::child_dataset_hidden::find),
    Entry::site(&share::recycle_kept::RULE, share::recycle_kept::find),
    Entry::site(&share::nested::RULE, share::nested::find),
    Entry::site(&port::taken_twice::RULE, port::taken_twice::find),
    Entry::site(&port::in_use::RULE, port::in_use::find),
    Entry::site(&label::missing::RULE, label::missing::find),
    Entry::site(&label::private_but_shared::RULE, label::private_but_shared::find),
    Entry::site(&label::network_mount::RULE, label::network_mount::find),
    Entry::site(&identity::unknown_account::RULE, identity::unknown_account::find),
    Entry::site(&identity::number_mismatch::RULE, identity::number_mismatch::find),
    Entry::site(&identity::runs_as_root::RULE, identity::runs_as_root::find),
    Entry::site(&identity::run_as_unset::RULE, identity::run_as_unset::find),
    Entry::case(&identity::shifted::RULE, identity::shifted::find),
    Entry::site(&identity::squashed::RULE, identity::squashed::find),
    Entry::case(&identity::too_many_groups::RULE, identity::too_many_groups::find),
    Entry::site(&identity::shared_account::RULE, identity::shared_account::find),
    Entry::library(&access::root_unreadable::RULE, access::root_unreadable::find),
    Entry::library(&access::entries_unreadable::RULE, access::entries_unreadable::find),
    Entry::site(&access::cannot_add::RULE, access::cannot_add::find),
    Entry::site(&access::cannot_remove::RULE, access::cannot_remove::find),
    Entry::library(&access::more_than_needed::RULE, access::more_than_needed::find),
    Entry::site(&access::world_writable::RULE, access::world_writable::find),
    Entry::site(&access::not_inherited::RULE, access::not_inherited::find),
    Entry::site(&access::not_as_declared::RULE, access::not_as_declared::find),
    Entry::site(&access::moved_stays_private::RULE, access::moved_stays_private::find),
    Entry::site(&access::per_user_grants::RULE, access::per_user_grants::find),
    Entry::site(&access::orphaned_owner::RULE, access::orphaned_owner::find),
    Entry::site(&link::different_filesystem::RULE, link::different_filesystem::find),
    Entry::trying(&link::different_mount::RULE, link::different_mount::find),
    Entry::site(&link::different_quota_tree::RULE, link::different_quota_tree::find),
    Entry::site(&link::unsupported::RULE, link::unsupported::find),
    Entry::trying(&link::source_protected::RULE, link::source_protected::find),
    Entry::site(&link::target_unwritable::RULE, link::target_unwritable::find),
    Entry::trying(&link::partial_elsewhere::RULE, link::partial_elsewhere::find),
    Entry::site(&link::path_disagreement::RULE, link::path_disagreement::find),
    Entry::site(&link::category_mismatch::RULE, link::category_mismatch::find),
    Entry::site(&link::copied_imports::RULE, link::copied_imports::find),
    Entry::library(&library::nothing_found::RULE, library::nothing_found::find),
    Entry::site(&library::overlap::RULE, library::overlap::find),
    Entry::site(&library::inside_intake::RULE, library::inside_intake::find),
    Entry::library(&library::too_deep::RULE, library::too_deep::find),
    Entry::library(&library::too_high::RULE, library::too_high::find),
    Entry::library(&library::mixed_kinds::RULE, library::mixed_kinds::find),
    Entry::library(&library::loose_files::RULE, library::loose_files::find),
    Entry::library(&library::unrecognised_names::RULE, library::unrecognised_names::find),
    Entry::site(&library::same_title_twice::RULE, library::same_title_twice::find),
    Entry::library(&name::case_collision::RULE, name::case_collision::find),
    Entry::library(&name::unicode_twins::RULE, name::unicode_twins::find),
    Entry::library(&name::not_share_safe::RULE, name::not_share_safe::find),
    Entry::library(&name::too_long::RULE, name::too_long::find),
    Entry::library(&name::not_utf8::RULE, name::not_utf8::find),
    Entry::library(&name::unseen_characters::RULE, name::unseen_characters::find),
    Entry::site(&space::copies::RULE, space::copies::find),
    Entry::site(&space::unlinked::RULE, space::unlinked::find),
    Entry::site(&space::versions::RULE, space::versions::find),
    Entry::site(&space::leftovers::RULE, space::leftovers::find),
    Entry::site(&space::hollow::RULE, space::hollow::find),
    Entry::site(&space::held_by_snapshots::RULE, space::held_by_snapshots::find),
    Entry::site(&survey::none::RULE, survey::none::find),
    Entry::case(&survey::not_seen::RULE, survey::not_seen::find),
    Entry::site(&survey::too_old::RULE, survey::too_old::find),
    Entry::site(&survey::partial::RULE, survey::partial::find),
    Entry::site(&survey::no_acls::RULE, survey::no_acls::find),
];

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
