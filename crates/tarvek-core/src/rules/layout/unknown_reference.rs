//! `layout/unknown-reference`.

use crate::layout::service::GroupRef;
use crate::layout::site::Layout;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Origin;
use crate::words::text::nearest;

/// A name that nobody has.
pub static RULE: Rule = Rule {
    id: "layout/unknown-reference",
    severity: Severity::Blocker,
    title: "A name that nobody has",
    means: "A share, a folder or a service names an account or group that its host does not have. \
            (A name of a host, share or \
            service that does not exist keeps a layout from being read at all.)",
    hurts: "Whoever was meant gets nothing: a server refuses them, a command that sets owners \
            fails, a right is given to nobody.",
    fix: "Write the name as the host has it, or declare the account or group there.",
    example: "write = [\"@keeper\"], where the group is called keepers.",
};

/// A name of an account or group, `@` before the latter, and who speaks of it.
struct Reference<'a> {
    host: &'a Name,
    name: Name,
    by: About,
    origin: Origin,
}

/// Judges names of accounts and groups, on hosts of which accounts are known at all.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut told: Vec<(&Name, Name)> = Vec::new();
    let mut findings = Vec::new();
    for Reference { host, name: written, by, origin } in references(&site.layout) {
        let known = Known::on(site, host);
        let seen = (host, written.clone());
        if known.is_empty() || known.has(&written) || told.contains(&seen) {
            continue;
        }
        told.push(seen);
        let group = written.raw().starts_with('@');
        let what = if group { "group" } else { "account" };
        let name = Name::from(written.raw().trim_start_matches('@'));
        let names = if group { &known.groups } else { &known.accounts };
        let remedy = match nearest(name.raw(), names.iter().map(|name| name.raw())) {
            Some(near) => format!("did you mean {}?", Name::from(near)),
            None => format!("declare the {what} {name} on {host}"),
        };
        let message = format!("{host} has no {what} {name}");
        findings.push(RULE.finding(by).on(host).line(origin.line).says(message).remedy(remedy));
    }
    findings
}

fn references(layout: &Layout) -> Vec<Reference<'_>> {
    let group = |name: &Name| Name::from(format!("@{}", name.raw().trim_start_matches('+')));
    let mut references = Vec::new();
    for share in &layout.shares {
        let Some(smb) = &share.smb else { continue };
        let lists = smb.only.iter().chain(&smb.read).chain(&smb.write).chain(&smb.force_user);
        let names = lists.cloned().chain(smb.force_group.iter().map(group));
        references.extend(names.map(|name| Reference {
            host: &share.host,
            name,
            by: About::Share(share.name.clone()),
            origin: share.origin,
        }));
    }
    for folder in &layout.folders {
        let rights = folder.rights.iter().map(|(who, _)| who.clone());
        let owners = folder.owner.iter().cloned().chain(folder.group.iter().map(group));
        references.extend(owners.chain(rights).map(|name| Reference {
            host: &folder.host,
            name,
            by: About::Host(folder.host.clone()),
            origin: folder.origin,
        }));
    }
    for service in &layout.services {
        let named = service.groups.iter().filter_map(|group| match group {
            GroupRef::Name(name) => Some(name),
            GroupRef::Gid(_) => None,
        });
        references.extend(named.map(|name| Reference {
            host: &service.host,
            name: group(name),
            by: About::Service(service.name.clone()),
            origin: service.origin,
        }));
    }
    references
}

/// Names that mean somebody on a host: what the layout declares, what a survey saw, and services,
/// which go by their accounts.
struct Known<'a> {
    accounts: Vec<&'a Name>,
    groups: Vec<&'a Name>,
    services: Vec<&'a Name>,
}

impl<'a> Known<'a> {
    fn on(site: &'a Site, host: &Name) -> Self {
        Self {
            accounts: site.accounts(host).map(|account| &account.name).collect(),
            groups: site.groups(host).map(|group| &group.name).collect(),
            services: site.layout.services.iter().map(|service| &service.name).collect(),
        }
    }

    fn is_empty(&self) -> bool {
        self.accounts.is_empty() && self.groups.is_empty()
    }

    fn has(&self, written: &Name) -> bool {
        let name = written.raw().trim_start_matches('@');
        let among = |names: &[&Name]| names.iter().any(|known| known.raw() == name);
        // An account's own group goes by the account's name.
        let group = written.raw().starts_with('@') && among(&self.groups);
        name == "root" || group || among(&self.accounts) || among(&self.services)
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::folder::Folder;
    use crate::layout::service::GroupRef;
    use crate::rules::promise::{FILMS, Promise, local};
    use crate::tests::Scene;
    use crate::tests::folder;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                scene
                    .layout
                    .folders
                    .push(Folder { group: Some("keeper".into()), ..folder(FILMS, &[]) })
            })
        },
        by_hand: |scene| scene.layout.folders[0].group = Some("keepers".into()),
    };

    #[test]
    fn lists_owners_and_groups_name_somebody() {
        let mut scene = Scene::over(Protocol::Smb);
        let smb = scene.layout.shares[0].smb.as_mut().unwrap();
        smb.write = vec!["@keepers".into(), "mira".into(), "@mira".into(), "root".into()];
        assert_eq!(scene.messages_of(&RULE), "");
        let smb = scene.layout.shares[0].smb.as_mut().unwrap();
        smb.read = vec!["@keeper".into(), "oskar".into(), "oskar".into()];
        smb.force_group = Some("+stagehands".into());
        let told = "granary has no group keeper → did you mean keepers?\n\
                    granary has no account oskar → declare the account oskar on granary\n\
                    granary has no group stagehands → declare the group stagehands on granary";
        assert_eq!(scene.messages_of(&RULE), told);
        let mut scene = Scene::local();
        scene.service("lantern").groups = vec![GroupRef::Name("keepers".into()), GroupRef::Gid(7)];
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("lantern").groups.push(GroupRef::Name("keeprs".into()));
        assert_eq!(scene.messages_of(&RULE), "granary has no group keeprs → did you mean keepers?");
    }
}
