//! Network mounts, wherever they are written: in the layout, in what an engine mounts for a
//! service, in fstab or in the mount table of a host.

use std::collections::HashSet;

use crate::facts::mounts::network_protocol;
use crate::layout::mapping::{EngineMount, MapSource, Mapping};
use crate::layout::mount::{Mount, MountSource};
use crate::layout::service::Service;
use crate::remedy::apply_on_host::recreate_container;
use crate::route::source::Remote;
use crate::rules::mount::{affected_through, is_made_by_others, of_mount, set_options};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::options::MountOptions;
use crate::words::part::Part;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::remedy::Step;
use crate::words::rule::RuleId;
use crate::words::terms::{Access, Protocol};

/// A mount of what another machine offers.
#[derive(Debug)]
pub(in crate::rules) struct NetworkMount<'s> {
    /// The host that mounts it.
    pub host: &'s Name,
    /// Where the host, or the service for which an engine mounts it, sees it.
    pub at: &'s AbsPath,
    pub protocol: Protocol,
    pub options: &'s MountOptions,
    pub is_read_only: bool,
    /// Its source, where it is written out and is no share of the layout.
    pub source: Option<Name>,
    written: Written<'s>,
}

/// Where a mount is written.
#[derive(Debug)]
enum Written<'s> {
    /// In the layout.
    Layout(&'s Mount),
    /// In the layout, as what an engine mounts for a service.
    Engine { service: &'s Service, nth: usize, mapping: &'s Mapping, engine: &'s EngineMount },
    /// On the host alone.
    Host,
}

/// All of a site, each once. What the layout has is taken from there, not from its host once more.
pub(in crate::rules) fn network_mounts(site: &Site) -> Vec<NetworkMount<'_>> {
    let declared = site.layout.mounts.iter().filter(|mount| mount.protocol.is_network());
    let mut all: Vec<NetworkMount> = declared.map(of_layout).collect();
    for service in &site.layout.services {
        all.extend(service.maps().iter().enumerate().filter_map(|(nth, mapping)| {
            let MapSource::Share(engine) = &mapping.source else { return None };
            Some(NetworkMount {
                host: &service.host,
                at: mapping.to.path.as_ref().ok()?,
                protocol: engine.protocol,
                options: &engine.options,
                is_read_only: mapping.access == Access::ReadOnly || engine.options.read_only(),
                source: literal(&engine.from),
                written: Written::Engine { service, nth, mapping, engine },
            })
        }));
    }
    let on_hosts = all.iter().filter(|mount| mount.is_on_host());
    let mut known: HashSet<(&Name, &AbsPath)> = on_hosts.map(|m| (m.host, m.at)).collect();
    for (host, facts) in site.observed() {
        let lines = facts.fstab.iter().filter_map(|line| {
            let protocol = network_protocol(&line.filesystem)?;
            let is_read_only = line.options.read_only();
            Some((&line.point, protocol, &line.options, is_read_only, line.source.clone()))
        });
        let table = facts.mounts.iter().flat_map(|table| table.entries()).filter_map(|mount| {
            let source = Name::from(String::from_utf8_lossy(&mount.source).as_ref());
            let is_read_only = mount.access() == Access::ReadOnly;
            Some((&mount.point, mount.network()?, &mount.super_options, is_read_only, source))
        });
        for (at, protocol, options, is_read_only, source) in lines.chain(table) {
            if !is_made_by_others(at) && known.insert((host, at)) {
                let (source, written) = (Some(source), Written::Host);
                all.push(NetworkMount {
                    host,
                    at,
                    protocol,
                    options,
                    is_read_only,
                    source,
                    written,
                });
            }
        }
    }
    all
}

fn of_layout(mount: &Mount) -> NetworkMount<'_> {
    NetworkMount {
        host: &mount.host,
        at: &mount.at,
        protocol: mount.protocol,
        options: &mount.options,
        is_read_only: mount.options.read_only(),
        source: literal(&mount.from),
        written: Written::Layout(mount),
    }
}

fn literal(from: &MountSource) -> Option<Name> {
    match from {
        MountSource::Literal(source) => Some(source.clone()),
        MountSource::Share(_) => None,
    }
}

impl<'s> NetworkMount<'s> {
    /// Whether its mount point is a place of its host, not one in a service.
    pub(in crate::rules) fn is_on_host(&self) -> bool {
        !matches!(self.written, Written::Engine { .. })
    }

    /// Whether the layout has it.
    pub(in crate::rules) fn is_declared(&self) -> bool {
        !matches!(self.written, Written::Host)
    }

    /// What is behind it.
    pub(in crate::rules) fn remote(&self, site: &Site) -> Option<Remote> {
        match &self.written {
            Written::Layout(mount) => Remote::of_mount(site, mount),
            Written::Engine { engine, .. } => Remote::of_engine(site, engine),
            Written::Host => {
                Remote::parse(site, self.source.as_ref()?.raw().as_bytes(), self.protocol)
            }
        }
    }

    /// How it is called: by its mount point.
    pub(in crate::rules) fn name(&self) -> String {
        match &self.written {
            Written::Layout(_) => self.at.to_string(),
            Written::Engine { service, .. } => format!("{} of {}", self.at, service.name),
            Written::Host => format!("{} of {}", self.at, self.host),
        }
    }

    /// A finding about it, which affects what leads through it.
    pub(in crate::rules) fn finding(&self, rule: RuleId, cases: &[UsedPath]) -> Finding {
        let at = Place::new(self.host, self.at);
        match &self.written {
            Written::Layout(mount) => of_mount(rule, mount, cases),
            Written::Engine { service, nth, mapping, .. } => {
                let through = |case: &&UsedPath| {
                    let mapping = case.route.as_ref().and_then(|route| route.mapping);
                    case.service.name == service.name && mapping == Some(*nth)
                };
                rule.finding(About::Service(service.name.clone()))
                    .on(self.host)
                    .line(mapping.origin.line)
                    .affects(cases.iter().filter(through).map(UsedPath::affected))
            }
            Written::Host => rule
                .finding(About::Mount { host: self.host.clone(), at: self.at.clone() })
                .at(&at)
                .known(Evidence::Observed)
                .affects(affected_through(cases, &at)),
        }
    }

    /// What gives it another source: the layout, and what really mounts it.
    pub(in crate::rules) fn set_source(&self, site: &Site, source: &str) -> Vec<Step> {
        match &self.written {
            Written::Layout(mount) => {
                let part = Part::mount(&mount.host, &mount.at);
                vec![site.layout.set(part, "from", source), self.on_host(source)]
            }
            Written::Engine { service, mapping, .. } => {
                let part = Part::mapping(&service.name, &mapping.to.written);
                vec![site.layout.set(part, "source", source), recreate_container(service)]
            }
            Written::Host => vec![self.on_host(source)],
        }
    }

    /// The source, in what mounts it on its host.
    fn on_host(&self, source: &str) -> Step {
        let source = Name::from(source);
        let words = format!(
            "write {source} as the source into the line of fstab or the unit that mounts {}, and \
             mount it again",
            self.at
        );
        Step::on(self.host, words)
    }

    /// What a person has to say of its source, where nobody else can.
    pub(in crate::rules) fn source_by_hand(&self, wanted: &str) -> Vec<Step> {
        let name = self.name();
        match &self.written {
            Written::Layout(_) => vec![
                Step::words(format!("in the layout, {wanted} in the source of {name}")),
                Step::on(self.host, format!("{wanted} in what mounts {name} as well")),
            ],
            Written::Engine { service, .. } => vec![
                Step::words(format!("in the layout, {wanted} in the source of {name}")),
                recreate_container(service),
            ],
            Written::Host => {
                vec![Step::on(self.host, format!("{wanted} in what mounts {}", self.at))]
            }
        }
    }

    /// What takes options off it and gives it others: the layout, and what really mounts it.
    pub(in crate::rules) fn change_options(
        &self,
        site: &Site,
        off: &[&str],
        on: &[&str],
    ) -> Vec<Step> {
        let options = self.options.without(off).with(on);
        match &self.written {
            Written::Layout(mount) => set_options(site, mount, &options),
            Written::Engine { service, mapping, .. } => {
                let edit = if options.hide_a_secret() {
                    let name = self.name();
                    Step::words(format!("in the layout, make the options of {name} {options}"))
                } else {
                    let part = Part::mapping(&service.name, &mapping.to.written);
                    site.layout.set(part, "options", options.to_string())
                };
                vec![edit, recreate_container(service)]
            }
            Written::Host => {
                let words = format!(
                    "set {} in place of {} in the line of fstab or the unit that mounts {}, and \
                     mount it again",
                    on.join(","),
                    off.join(", "),
                    self.at
                );
                vec![Step::on(self.host, words)]
            }
        }
    }
}
