//! `layout/*`: the shape of the site.

use super::{Rule, RuleId, Severity};
use crate::check::{Case, Finding, Where};
use crate::facts::HostFacts;
use crate::layout::{GroupRef, Host, HostRole, Kind, MountSource, Origin, Protocol};
use crate::path::AbsPath;
use crate::route::{End, Evidence, View, follow};
use crate::site::Site;

/// A name that nobody has.
pub static UNKNOWN_REFERENCE: Rule = Rule {
    id: "layout/unknown-reference",
    severity: Severity::Blocker,
    title: "A name that nobody has",
    means: "A share, a folder or a service names an account or group that its host does not have. (A name of a host, share or \
            service that does not exist keeps a layout from being read at all.)",
    hurts: "Whoever was meant gets nothing: a server refuses them, a command that sets owners fails, a right is given to nobody.",
    fix: "Write the name as the host has it, or declare the account or group there.",
    example: "write = [\"@keeper\"], where the group is called keepers.",
};

/// Every kind needs a mapping of its own.
pub static SCATTERED_KINDS: Rule = Rule {
    id: "layout/scattered-kinds",
    severity: Severity::Note,
    title: "Every kind lies under a parent of its own",
    means: "The libraries of the site lie under as many unrelated folders as there are kinds, so that each needs a mapping, and \
            often a mount and a share, of its own.",
    hurts: "Each new kind is work in several places, services come to know one folder under different paths, and nothing can be \
            hard-linked from one parent to another.",
    fix: "Put the kinds into one parent folder or dataset, and give services the parent in one mapping. tarvek draft shows how.",
    example: "Films are in /silo/films, music in /tank/music, and every service has two mappings.",
};

/// Nobody can reach it over the network.
pub static OUTSIDE_SHARE: Rule = Rule {
    id: "layout/outside-share",
    severity: Severity::Risk,
    title: "A library lies in a folder that no share offers",
    means: "The storage host offers shares, but none of them holds this library.",
    hurts: "People who look after the library can't reach it, services on other hosts can't either, and whoever cleans up the \
            storage host takes it for somebody's leftovers.",
    fix: "Move the library into a folder that is shared, or share the folder above it.",
    example: "The share is /silo/media; the books were put into /silo/books by hand.",
};

/// Media on the disk of the system.
pub static ON_SYSTEM_DISK: Rule = Rule {
    id: "layout/on-system-disk",
    severity: Severity::Risk,
    title: "A library lies on the system disk of its host",
    means: "The way of a library ends in the host's root filesystem and not in a dataset or volume for media.",
    hurts: "Media fills the disk that the system needs to run, is not on the storage that is backed up and checked, and is lost \
            when the system is set up anew.",
    fix: "Move it to the dataset for media, and map that.",
    example: "A mapping names /srv/books of the application host instead of the share's folder.",
};

/// A service's own files among the media.
pub static CONFIG_IN_MEDIA: Rule = Rule {
    id: "layout/config-in-media",
    severity: Severity::Risk,
    title: "A service keeps its configuration inside a media share",
    means: "The configuration folder of a service lies in a folder that is shared.",
    hurts: "Whoever browses the share can read and delete it, scans may take its pictures for media, and databases do badly over \
            a network.",
    fix: "Give it a folder of its own, on the local disk of the host that runs the service.",
    example: "lantern's configuration is in /silo/media/.lantern.",
};

/// What would be lost.
pub static NO_BACKUP: Rule = Rule {
    id: "layout/no-backup",
    severity: Severity::Note,
    title: "Nothing is said of a backup",
    means: "A configuration folder, or a library that can't be replaced, has no declared backup.",
    hurts: "To restore a server, both are needed: the originals, and what the service knows about everything else.",
    fix: "Back it up, and say where to: backup = \"…\" of the service or the library.",
    example: "The photos are original = true, and nobody wrote down where their copy is.",
};

/// What is declared is not what is there.
pub static DIFFERS_FROM_HOST: Rule = Rule {
    id: "layout/differs-from-host",
    severity: Severity::Risk,
    title: "The layout and the host disagree",
    means: "The layout declares one thing, and the survey of the host saw another: an account's number, a dataset's place, what is \
            mounted and how, the folder of a share.",
    hurts: "Verdicts that rest on the layout are about a site that is not this one.",
    fix: "Change whichever of the two is wrong.",
    example: "The layout says lantern has uid 972; on granary it has 1003.",
};

/// Judges the whole layout.
pub(super) fn judge_site(site: &Site, cases: &[Case], findings: &mut Vec<Finding>) {
    unknown(site, findings);
    scattered(cases, findings);
    for case in cases {
        places(site, case, findings);
    }
    configs(site, findings);
    backups(site, findings);
    for (host, facts) in site.observed() {
        if let Some(declared) = site.layout.host(host) {
            Disagreements { site, host: declared, facts, findings }.all();
        }
    }
}

/// Names of accounts and groups, on hosts of which accounts are known at all.
fn unknown(site: &Site, findings: &mut Vec<Finding>) {
    let mut names: Vec<(&str, String, String, Origin)> = Vec::new();
    for share in &site.layout.shares {
        let Some(smb) = &share.smb else { continue };
        let lists = smb.only.iter().chain(&smb.read).chain(&smb.write);
        let forced =
            smb.force_group.iter().map(|group| format!("@{}", group.trim_start_matches('+')));
        for name in lists.chain(&smb.force_user).cloned().chain(forced) {
            names.push((&share.host, name, format!("share:{}", share.name), share.origin));
        }
    }
    for folder in &site.layout.folders {
        let rights = folder.rights.iter().map(|(who, _)| who.clone());
        let group = folder.group.iter().map(|group| format!("@{group}"));
        for name in folder.owner.iter().cloned().chain(group).chain(rights) {
            names.push((&folder.host, name, format!("host:{}", folder.host), folder.origin));
        }
    }
    for service in &site.layout.services {
        for group in &service.groups {
            if let GroupRef::Name(name) = group {
                let subject = format!("service:{}", service.name);
                names.push((&service.host, format!("@{name}"), subject, service.origin));
            }
        }
    }
    let mut told: Vec<(&str, String)> = Vec::new();
    for (host, written, subject, origin) in names {
        let known = Known::on(site, host);
        if known.is_empty() || known.has(&written) || told.contains(&(host, written.clone())) {
            continue;
        }
        let what = if written.starts_with('@') { "group" } else { "account" };
        let name = written.trim_start_matches('@');
        let remedy = match crate::text::nearest(name, known.names(&written)) {
            Some(near) => format!("did you mean {near}?"),
            None => format!("declare the {what} {name} on {host}"),
        };
        let message = format!("{host} has no {what} {name}");
        findings.push(finding(
            &UNKNOWN_REFERENCE,
            subject,
            place(host, None, origin),
            message,
            remedy,
        ));
        told.push((host, written));
    }
}

/// Names that mean somebody on a host: what the layout declares, what a survey saw, and services, which go by their accounts.
struct Known<'a> {
    accounts: Vec<&'a str>,
    groups: Vec<&'a str>,
    services: Vec<&'a str>,
}

impl<'a> Known<'a> {
    fn on(site: &'a Site, host: &str) -> Self {
        let facts = site.facts(host);
        let declared = site.layout.host(host);
        let accounts = declared.into_iter().flat_map(|host| &host.accounts);
        let accounts = accounts.chain(facts.into_iter().flat_map(|facts| &facts.accounts));
        let groups = declared.into_iter().flat_map(|host| &host.groups);
        let groups = groups.chain(facts.into_iter().flat_map(|facts| &facts.groups));
        Self {
            accounts: accounts.map(|account| account.name.as_str()).collect(),
            groups: groups.map(|group| group.name.as_str()).collect(),
            services: site.layout.services.iter().map(|service| service.name.as_str()).collect(),
        }
    }

    fn is_empty(&self) -> bool {
        self.accounts.is_empty() && self.groups.is_empty()
    }

    fn names(&self, written: &str) -> impl Iterator<Item = &'a str> {
        let group = written.starts_with('@');
        let all = if group { &self.groups } else { &self.accounts };
        all.clone().into_iter()
    }

    fn has(&self, written: &str) -> bool {
        let name = written.trim_start_matches('@');
        // An account's own group goes by the account's name.
        let group = written.starts_with('@') && self.groups.contains(&name);
        name == "root" || group || self.accounts.contains(&name) || self.services.contains(&name)
    }
}

/// Where the way of a case ends, if it ends in a folder.
fn end(case: &Case) -> Option<(String, AbsPath)> {
    let route = case.route.as_ref().filter(|route| route.end == End::Reached)?;
    Some(route.here())
}

fn finding(
    rule: RuleId,
    subject: String,
    place: Where,
    message: String,
    remedy: String,
) -> Finding {
    Finding {
        rule,
        severity: rule.severity,
        evidence: Evidence::Declared,
        subject,
        message,
        place,
        remedy,
        affects: Vec::new(),
        effects: Vec::new(),
        because: None,
    }
}

fn place(host: &str, path: Option<AbsPath>, origin: Origin) -> Where {
    Where { host: Some(host.to_owned()), path, line: Some(origin.line) }
}

fn scattered(cases: &[Case], findings: &mut Vec<Finding>) {
    let mut kinds: Vec<Kind> = Vec::new();
    let mut parents: Vec<(String, AbsPath)> = Vec::new();
    for case in cases {
        let Some((host, path)) = end(case) else { continue };
        let Some(parent) = path.parent() else { continue };
        if !kinds.contains(&case.library.kind) {
            kinds.push(case.library.kind);
        }
        if !parents.iter().any(|(h, other)| *h == host && parent.within(other)) {
            parents.retain(|(h, other)| *h != host || !other.within(&parent));
            parents.push((host, parent));
        }
    }
    if kinds.len() < 2 || parents.len() < kinds.len() {
        return;
    }
    let named: Vec<String> = parents.iter().map(|(host, path)| format!("{host}:{path}")).collect();
    let message = format!(
        "{} kinds lie under {} unrelated folders: {}",
        kinds.len(),
        parents.len(),
        named.join(", ")
    );
    let remedy = "put them under one parent, and map that".to_owned();
    let subject = format!("host:{}", parents[0].0);
    findings.push(finding(&SCATTERED_KINDS, subject, Where::default(), message, remedy));
}

fn places(site: &Site, case: &Case, findings: &mut Vec<Finding>) {
    let Some((host, path)) = end(case) else { return };
    let Some(declared) = site.layout.host(&host) else { return };
    let at = place(&host, Some(path.clone()), case.root.origin);
    let mut add = |rule, evidence, message, remedy| {
        findings.push(Finding {
            evidence,
            affects: vec![case.affected()],
            ..finding(rule, case.subject_text(), at.clone(), message, remedy)
        });
    };
    let shares: Vec<_> = site.layout.shares.iter().filter(|share| share.host == host).collect();
    let storage = declared.roles.contains(&HostRole::Storage);
    if storage && !shares.is_empty() && !shares.iter().any(|share| path.within(&share.path)) {
        let names: Vec<String> =
            shares.iter().map(|s| format!("{} ({})", s.name, s.path)).collect();
        add(
            &OUTSIDE_SHARE,
            Evidence::Declared,
            format!("{path} on {host} lies in none of its shares: {}", names.join(", ")),
            format!("move it below {}, or share the folder above it", shares[0].path),
        );
    }
    let system = match site.facts(&host).and_then(|facts| facts.mounts.as_ref()) {
        Some(table) => table
            .at(&path)
            .is_some_and(|m| m.point == AbsPath::root())
            .then_some(Evidence::Observed),
        None => (!declared.datasets.is_empty()
            && !declared.datasets.iter().any(|dataset| path.within(&dataset.at)))
        .then_some(Evidence::Declared),
    };
    if let Some(evidence) = system {
        let better = site
            .layout
            .hosts
            .iter()
            .filter(|other| other.roles.contains(&HostRole::Storage))
            .find_map(|other| other.datasets.first().map(|d| format!("{}:{}", other.name, d.at)));
        add(
            &ON_SYSTEM_DISK,
            evidence,
            format!("{path} lies on the system disk of {host}"),
            match better {
                Some(better) => format!("move it to {better}, and map that"),
                None => "move it to a dataset or volume for media, and map that".to_owned(),
            },
        );
    }
}

fn configs(site: &Site, findings: &mut Vec<Finding>) {
    for service in &site.layout.services {
        let Some(config) = &service.config else { continue };
        let (subject, _) = site.subject_of(service);
        let route = follow(site, &View::Host(service.host.clone()), config, &subject);
        let (host, path) = route.here();
        let shared = site.layout.shares.iter().find(|s| s.host == host && path.within(&s.path));
        if let Some(share) = shared {
            findings.push(finding(
                &CONFIG_IN_MEDIA,
                format!("service:{}", service.name),
                place(&host, Some(path.clone()), service.origin),
                format!(
                    "the configuration of {} lies in the share {}: {path}",
                    service.name, share.name
                ),
                format!(
                    "move it to a folder of {}'s own disk, such as /srv/{}",
                    service.host, service.name
                ),
            ));
        }
    }
}

fn backups(site: &Site, findings: &mut Vec<Finding>) {
    for service in &site.layout.services {
        let subject = format!("service:{}", service.name);
        if let (Some(config), None) = (&service.config, &service.backup) {
            findings.push(finding(
                &NO_BACKUP,
                subject.clone(),
                place(&service.host, Some(config.clone()), service.origin),
                format!("nothing is said of a backup of {}'s configuration", service.name),
                "back it up, and write backup = \"…\" into the service".into(),
            ));
        }
        for library in service.libraries.iter().filter(|l| l.original && l.backup.is_none()) {
            findings.push(Finding {
                affects: vec![format!("library:{}", library.name)],
                ..finding(
                    &NO_BACKUP,
                    format!("{subject} library:{}", library.name),
                    Where { line: Some(library.origin.line), ..Where::default() },
                    format!(
                        "{} can't be replaced, and nothing is said of its backup",
                        library.name
                    ),
                    "back it up, and write backup = \"…\" into the library".into(),
                )
            });
        }
    }
}

/// What a host's survey saw otherwise than the layout says.
struct Disagreements<'a> {
    site: &'a Site,
    host: &'a Host,
    facts: &'a HostFacts,
    findings: &'a mut Vec<Finding>,
}

impl Disagreements<'_> {
    fn add(&mut self, origin: Origin, path: Option<AbsPath>, what: &str, layout: &str, host: &str) {
        let name = &self.host.name;
        self.findings.push(Finding {
            evidence: Evidence::Observed,
            ..finding(
                &DIFFERS_FROM_HOST,
                format!("host:{name}"),
                place(name, path, origin),
                format!("{what}: the layout says {layout}, {name} has {host}"),
                format!("write {host} into the layout, or change {name}"),
            )
        });
    }

    fn all(mut self) {
        for account in &self.host.accounts {
            let seen = self.facts.accounts.iter().find(|seen| seen.name == account.name);
            if let Some(seen) = seen.filter(|seen| seen.uid != account.uid) {
                let what = format!("the uid of {}", account.name);
                self.add(
                    self.host.origin,
                    None,
                    &what,
                    &account.uid.to_string(),
                    &seen.uid.to_string(),
                );
            }
        }
        for group in &self.host.groups {
            let seen = self.facts.groups.iter().find(|seen| seen.name == group.name);
            if let Some(seen) = seen.filter(|seen| seen.gid != group.gid) {
                let what = format!("the gid of {}", group.name);
                self.add(
                    self.host.origin,
                    None,
                    &what,
                    &group.gid.to_string(),
                    &seen.gid.to_string(),
                );
            }
        }
        self.datasets();
        self.mounts();
        self.shares();
    }

    fn datasets(&mut self) {
        for dataset in &self.host.datasets {
            let property = super::dataset::observed(self.facts, &dataset.name, "mountpoint");
            if let Some(seen) = property.filter(|seen| *seen != dataset.at.to_string()) {
                let what = format!("the mount point of {}", dataset.name);
                let (said, seen) = (dataset.at.to_string(), seen.to_owned());
                self.add(dataset.origin, Some(dataset.at.clone()), &what, &said, &seen);
            }
            let mount = self.facts.mounts.as_ref().and_then(|table| table.at(&dataset.at));
            if let (Some(mount), Some(said)) = (mount.filter(|m| m.point == dataset.at), &dataset.filesystem)
                // ZFS through FUSE is ZFS all the same.
                && mount.filesystem.trim_start_matches("fuse.") != said
            {
                let what = format!("the filesystem at {}", dataset.at);
                let seen = mount.filesystem.clone();
                self.add(dataset.origin, Some(dataset.at.clone()), &what, said, &seen);
            }
        }
    }

    fn mounts(&mut self) {
        let Some(table) = &self.facts.mounts else { return };
        for mount in self.site.layout.mounts.iter().filter(|mount| mount.host == self.host.name) {
            let Some(seen) = table.at(&mount.at).filter(|seen| seen.point == mount.at) else {
                continue;
            };
            let at = Some(mount.at.clone());
            let read_only =
                seen.options.iter().chain(&seen.super_options).any(|option| option == "ro");
            let declared = mount.options.iter().any(|option| option == "ro");
            if read_only != declared {
                let word = |ro: bool| if ro { "ro" } else { "rw" };
                let what = format!("the mode of {}", mount.at);
                self.add(mount.origin, at.clone(), &what, word(declared), word(read_only));
            }
            let source = String::from_utf8_lossy(&seen.source).into_owned();
            let wanted = match (&mount.from, mount.protocol) {
                (MountSource::Share(name), Protocol::Nfs) => self
                    .site
                    .layout
                    .share(name)
                    .map(|share| (share.host.clone(), share.path.to_string())),
                (MountSource::Share(name), Protocol::Smb) => {
                    self.site.layout.share(name).map(|share| (share.host.clone(), name.clone()))
                }
                _ => None,
            };
            let Some((server, folder)) = wanted else { continue };
            let same = match mount.protocol {
                Protocol::Smb => {
                    let mut parts = source.trim_start_matches('/').splitn(2, '/');
                    let named = parts.next().unwrap_or_default();
                    self.site.host_named(named) == Some(&server)
                        && parts.next().is_some_and(|share| share.eq_ignore_ascii_case(&folder))
                }
                _ => source.rsplit_once(':').is_some_and(|(named, path)| {
                    self.site.host_named(named) == Some(&server)
                        && path.trim_end_matches('/') == folder
                }),
            };
            if !same {
                let what = format!("the source of {}", mount.at);
                let said = format!("{server}:{folder}");
                self.add(mount.origin, at, &what, &said, &source);
            }
        }
    }

    /// The folder of an SMB share, in what the server says of its configuration.
    fn shares(&mut self) {
        let Some(text) = self.facts.document("smb").map(|document| document.text.clone()) else {
            return;
        };
        for share in &self.site.layout.shares {
            if share.host != self.host.name || share.smb.is_none() {
                continue;
            }
            let header = format!("[{}]", share.name);
            let section =
                text.lines().skip_while(|line| !line.trim().eq_ignore_ascii_case(&header));
            let path =
                section.skip(1).take_while(|line| !line.trim().starts_with('[')).find_map(|line| {
                    let (name, value) = line.split_once('=')?;
                    (name.trim() == "path").then(|| value.trim().to_owned())
                });
            if let Some(seen) = path.filter(|seen| *seen != share.path.to_string()) {
                let what = format!("the folder of the share {}", share.name);
                let said = share.path.to_string();
                self.add(share.origin, Some(share.path.clone()), &what, &said, &seen);
            }
        }
    }
}
