//! Remedies of links as promises: a changed site is judged again before the change is advised.

use std::collections::{BTreeSet, HashMap};

use crate::judge::verdict::Need;
use crate::kernel::subject::Subject;
use crate::layout::intake::Intake;
use crate::link::filing::filing_of;
use crate::link::hard::hardlink;
use crate::link::intake::ways_of;
use crate::link::link_paths::LinkPaths;
use crate::link::moved::rename;
use crate::link::verdict::{Reason, Verdict};
use crate::remedy::access_request::{AccessRequest, repaired};
use crate::remedy::one_mapping::{OneMapping, one_mapping};
use crate::route::follow;
use crate::route::hops::View;
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::remedy::Remedy;

/// A change after which a file can be linked.
#[derive(Debug)]
pub struct Mended {
    pub remedy: Remedy,
    /// The two paths afterwards.
    pub from: AbsPath,
    pub to: AbsPath,
    /// What is possible then.
    pub hardlink: Verdict,
    pub rename: Verdict,
}

/// What is found in a site, by rule and subject: how a change is judged again. Whoever knows the
/// rules hands it in.
pub type JudgeAgain = fn(&Site) -> BTreeSet<(&'static str, String)>;

/// Whether nothing is found in a changed site that was not found before. What has nothing to do
/// with the services that were changed is left out on both sides, so that many findings do not each
/// ask for the whole site: of services those stay that share an intake with them, and that serve
/// what such an intake files.
pub(crate) fn brings_nothing_about(
    before: &Site,
    after: &Site,
    changed: &[&Name],
    judge_again: JudgeAgain,
) -> bool {
    let services = concerned(before, changed);
    let found = |site: &Site| {
        let mut site = site.as_trial();
        site.layout.intakes.retain(|intake| is_of(intake, changed));
        site.layout.services.retain(|service| services.contains(&service.name));
        judge_again(&site)
    };
    found(after).is_subset(&found(before))
}

/// Whether an intake is fetched or sorted by one of some services.
fn is_of(intake: &Intake, services: &[&Name]) -> bool {
    let fetcher = intake.fetch.as_ref().map(|fetch| &fetch.service);
    let sorter = intake.sort.as_ref().map(|sort| &sort.service);
    fetcher.into_iter().chain(sorter).any(|service| services.contains(&service))
}

/// The services that have to do with the intakes of some others, and those themselves.
fn concerned(site: &Site, changed: &[&Name]) -> BTreeSet<Name> {
    let mut all: BTreeSet<Name> = changed.iter().map(|name| (*name).clone()).collect();
    let mut filed = Vec::new();
    for intake in site.layout.intakes.iter().filter(|intake| is_of(intake, changed)) {
        all.extend(intake.fetch.iter().map(|fetch| fetch.service.clone()));
        all.extend(intake.sort.iter().map(|sort| sort.service.clone()));
        filed.extend(ways_of(site, intake).files_into.map(|way| way.route.here().clone()));
    }
    for service in site.layout.services.iter().filter(|service| !service.libraries.is_empty()) {
        let (subject, _) = site.subject_of(service);
        let roots = service.libraries.iter().flat_map(|library| &library.roots);
        let mut roots = roots.filter_map(|root| root.path.as_ref().ok());
        let serves = roots.any(|root| {
            let end = follow(site, &View::service(&service.name), root, &subject);
            let end = end.here();
            let mut filed = filed.iter().filter(|place| place.host == end.host);
            filed.any(|place| place.path.within(&end.path) || end.path.within(&place.path))
        });
        if serves {
            all.insert(service.name.clone());
        }
    }
    all
}

/// What one mapping in place of two would be, judged again; each pair of mappings once.
#[derive(Default)]
pub(crate) struct OneMappings(HashMap<(Name, AbsPath, AbsPath), Option<OneMapping>>);

impl OneMappings {
    /// Of two folders of a service, if it holds what it promises: nothing else comes of it, and
    /// they lie on one mount.
    pub(crate) fn of(
        &mut self,
        judge_again: JudgeAgain,
        site: &Site,
        service: &Name,
        from: &AbsPath,
        to: &AbsPath,
    ) -> Option<&OneMapping> {
        let (one, other) = mapped(site, service, from, to)?;
        let known = self.0.entry((service.clone(), one, other)).or_insert_with(|| {
            let one = one_mapping(site, service, from, to)?;
            let changed: Vec<&Name> = one.changed.iter().collect();
            brings_nothing_about(site, &one.site, &changed, judge_again).then_some(one)
        });
        known.as_ref()
    }
}

/// Where a service sees the mappings of two of its folders.
fn mapped(site: &Site, service: &Name, from: &AbsPath, to: &AbsPath) -> Option<(AbsPath, AbsPath)> {
    let declared = site.layout.service(service)?;
    let (subject, _) = site.subject_of(declared);
    let view = View::service(service);
    let place = |path: &AbsPath| {
        let index = follow(site, &view, path, &subject).mapping?;
        declared.maps().get(index)?.to.path.clone().ok()
    };
    Some((place(from)?, place(to)?))
}

/// Whether the filing step of an intake does what is wanted.
pub(crate) fn files_well(site: &Site, intake: &Name) -> bool {
    let mut intakes = site.layout.intakes.iter().filter(|known| known.name == *intake);
    let filing = intakes.find_map(|intake| filing_of(site, ways_of(site, intake)));
    filing.is_some_and(|filing| filing.verdict().is_possible())
}

/// The smallest change after which whoever asks can link the source to the target; `None` if
/// nothing refuses it now, or if nothing that is known helps.
pub fn mended(
    site: &Site,
    view: &View,
    subject: &Subject,
    from: &AbsPath,
    to: &AbsPath,
    verdict: &Verdict,
    judge_again: JudgeAgain,
) -> Option<Mended> {
    if verdict.possible != Some(false) {
        return None;
    }
    let after = |site: &Site, subject: &Subject, remedy: Remedy, from: AbsPath, to: AbsPath| {
        let ends = LinkPaths::of(site, view, subject, from.as_bytes(), to.as_bytes());
        let (hardlink, rename) = (hardlink(&ends), rename(&ends));
        // A folder stays one; what it holds can then be linked.
        let linked = hardlink.is_possible() || hardlink.reason == Reason::IsFolder;
        linked.then_some(Mended { remedy, from, to, hardlink, rename })
    };
    let rights = |path: &AbsPath, needs: &[Need]| {
        let wish = AccessRequest { view, path: path.as_bytes(), subject, needs, below: false };
        let repaired = repaired(site, &wish)?;
        after(&repaired.site, &repaired.subject, repaired.remedy, from.clone(), to.clone())
    };
    match (verdict.reason, view) {
        (Reason::DifferentMount, View::Service(service)) => {
            let mut all = OneMappings::default();
            let one = all.of(judge_again, site, service, from, to)?;
            let remedy = Remedy { steps: one.steps.clone(), effects: one.effects.clone() };
            after(&one.site, subject, remedy, one.from.clone(), one.to.clone())
        }
        (Reason::SourceProtected, _) => rights(from, &[Need::Read, Need::Write]),
        (Reason::TargetUnwritable, _) => rights(to, &[Need::Add]),
        _ => None,
    }
}
