//! Services and system containers with what they see, and the libraries that their folders speak
//! of.

use std::collections::BTreeMap;

use super::guess::is_intake;
use super::{Adopting, absolute, declared, fitting, source as source_of};
use crate::facts::configured::{
    Configuration, Configured, Fact, IdMapFact, IdOf, ServiceFact, VolumeFact,
};
use crate::facts::mounts::network_protocol;
use crate::kernel::subject::IdRange;
use crate::layout::mapping::{EngineMount, MapSource, Mapping};
use crate::layout::mount::MountSource;
use crate::layout::service::{GroupRef, Library, RunAs, Service, ServiceRole, UserNs};
use crate::words::kind_names::{kind_by_name, usual_library_name};
use crate::words::name::Name;
use crate::words::options::MountOptions;
use crate::words::part::{MappedInto, Part};
use crate::words::path::AbsPath;
use crate::words::prefer::Prefer;
use crate::words::secret_key::HIDDEN;
use crate::words::spot::Spot;
use crate::words::terms::{Access, Kind, Origin, Protocol, id};

/// Folders, each on its host.
type Places = Vec<(Name, AbsPath)>;

/// What facts call a service, and what the layout calls it.
type Names = BTreeMap<Name, (Name, bool)>;

impl Adopting<'_> {
    /// Takes what runs on a host.
    pub(super) fn services(&mut self, host: &Name, configuration: &Configuration) {
        let mut names = Names::new();
        for found in &configuration.facts {
            if let Fact::Service(fact) = &found.fact {
                self.service(host, fact, &found.spot, &mut names);
            }
        }
        for found in &configuration.facts {
            self.of_service(host, found, &names);
        }
    }

    /// Guesses what each service does, once everything is known that its folders could be.
    pub(super) fn service_roles(&mut self, hosts: &[(Name, Configuration)]) {
        let intakes: Places = self
            .places(hosts)
            .into_iter()
            .filter(|(_, path)| path.name().is_some_and(is_intake))
            .collect();
        let services: Vec<(Name, Name)> =
            self.done.layout.services.iter().map(|s| (s.host.clone(), s.name.clone())).collect();
        for (host, name) in services {
            self.service_role(&host, &name, &intakes);
        }
    }

    fn service(&mut self, host: &Name, fact: &ServiceFact, spot: &Spot, names: &mut Names) {
        if fact.is_host {
            let name = Name::from(fitting(fact.name.raw()));
            self.part(Part::Host(name.clone()), spot);
            self.host_named(&name).inside = Some(host.clone());
            names.insert(fact.name.clone(), (name, true));
            return;
        }
        let known = self.known.services.iter().find(|s| s.name == fact.name && s.host == *host);
        let recorded = || self.recorded(Part::Service, fact.name.raw(), spot);
        let name = match known.map(|service| service.name.clone()).or_else(recorded) {
            Some(name) => name,
            None => {
                let others: Vec<Name> =
                    self.known.services.iter().map(|s| s.name.clone()).collect();
                self.free_name("service", fact.name.raw(), host, |name| others.contains(name))
            }
        };
        self.part(Part::Service(name.clone()), spot);
        names.insert(fact.name.clone(), (name.clone(), false));
        let about = Part::Service(name.clone());
        let runs_as = match (fact.uid, fact.gid, &fact.user) {
            (Some(uid), gid, _) => RunAs::Numbers(uid, gid),
            (None, _, Some(user)) => {
                let account = user.raw().split(':').next().unwrap_or_default();
                let what = format!("it runs as the account {} of {host}", Name::from(account));
                let because = format!(
                    "{user} is a name; only the image knows its number, if it has an account of its \
                     own by that name"
                );
                self.guess(host, about, what, because);
                RunAs::Account(account.into())
            }
            (None, ..) => RunAs::Unset,
        };
        let userns = fact.userns.as_ref().and_then(|userns| {
            let read = namespace(userns.raw());
            if read.is_none() {
                let why = format!("whose ids the namespace {userns} has is not said there");
                self.leave(spot, why);
            }
            read.flatten()
        });
        // `service:…` and `container:…` in Compose files; its ports are published by the other one.
        let shares = |network: &&Name| network.raw().contains(':');
        if let Some(network) = fact.network.as_ref().filter(shares) {
            let why = format!("a layout has networks by name, and this is that of {network}");
            self.leave(spot, why);
        }
        let network = fact.network.as_ref().filter(|network| !shares(network));
        let group =
            |group: &Name| id(group.raw()).map_or(GroupRef::Name(group.clone()), GroupRef::Gid);
        self.service_at.insert(name.clone(), self.done.layout.services.len());
        self.done.layout.services.push(Service {
            name,
            host: host.clone(),
            roles: Vec::new(),
            runs_as,
            groups: fact.groups.iter().map(group).collect(),
            umask: fact.umask,
            waits_for: fact.waits_for.iter().filter_map(|path| AbsPath::new(path).ok()).collect(),
            userns,
            map: Some(Vec::new()),
            translate: Vec::new(),
            ports: Vec::new(),
            network: network.map(|network| network.raw().to_owned()),
            config: None,
            config_volume: None,
            backup: None,
            libraries: Vec::new(),
            origin: Origin::default(),
        });
    }

    /// Takes a mapping, volume, port or range of ids.
    fn of_service(&mut self, host: &Name, found: &Configured, names: &Names) {
        let spot = &found.spot;
        let named = |service: &Name| names.get(service).cloned();
        match &found.fact {
            Fact::Mapping(fact) => {
                let Some((name, is_host)) = named(&fact.service) else { return };
                let (Some(from), Some(to)) = (source_of(&fact.from), declared(&fact.to)) else {
                    return self.leave(spot, "the path is no UTF-8, and a layout is");
                };
                let mapping = Mapping {
                    source: MapSource::Folder(from),
                    to,
                    access: fact.access,
                    label: fact.label,
                    propagation: fact.propagation.clone(),
                    nested: None,
                    idmap: fact.idmap,
                    origin: Origin::default(),
                };
                self.mapping(&name, is_host, mapping, spot);
            }
            Fact::Volume(fact) => {
                let Some((name, is_host)) = named(&fact.service) else { return };
                let Some(to) = declared(&fact.to) else {
                    return self.leave(spot, "the path is no UTF-8, and a layout is");
                };
                let mapping = Mapping {
                    source: self.volume(&name, fact),
                    to,
                    access: fact.access,
                    label: fact.label,
                    propagation: None,
                    nested: None,
                    idmap: false,
                    origin: Origin::default(),
                };
                self.mapping(&name, is_host, mapping, spot);
            }
            Fact::Port(fact) => {
                let Some((name, false)) = named(&fact.service) else { return };
                let Some(published) = fact.published else {
                    return self.leave(spot, "which port the engine picks is not known before");
                };
                let ip = match &fact.host_ip {
                    Some(ip) if ip.raw().contains(':') => format!("[{}]:", ip.raw()),
                    Some(ip) if ip.raw() != "0.0.0.0" => format!("{}:", ip.raw()),
                    _ => String::new(),
                };
                let range = |first: u16| match fact.more {
                    0 => first.to_string(),
                    more => format!("{first}-{}", first + more),
                };
                let target = if fact.target == published && ip.is_empty() {
                    String::new()
                } else {
                    format!(":{}", range(fact.target))
                };
                let published = range(published);
                let protocol = match fact.transport.word() {
                    "tcp" => "",
                    "udp" => "/udp",
                    other => return self.leave(spot, format!("a layout has no ports of {other}")),
                };
                let port = format!("{ip}{published}{target}{protocol}");
                let part = Part::Port { service: name.clone(), port: port.as_str().into() };
                if self.part(part, spot)
                    && let Some(service) = self.service_named(&name)
                {
                    service.ports.push(port);
                }
            }
            Fact::IdMap(fact) => {
                let Some((name, true)) = named(&fact.service) else { return };
                self.idmap(host, &name, fact, spot);
            }
            _ => {}
        }
    }

    fn service_named(&mut self, name: &Name) -> Option<&mut Service> {
        self.done.layout.services.get_mut(*self.service_at.get(name)?)
    }

    fn mapping(&mut self, name: &Name, is_host: bool, mapping: Mapping, spot: &Spot) {
        let of = if is_host { MappedInto::Host } else { MappedInto::Service }(name.clone());
        let part = Part::Mapping { of, to: mapping.to.written.clone() };
        if !self.part(part, spot) {
            return;
        }
        if is_host {
            self.host_named(name).map.push(mapping);
            return;
        }
        let Some(service) = self.service_named(name) else { return };
        // What a program keeps of its own is usually there.
        if mapping.to.written == "/config" && service.config.is_none() {
            match &mapping.source {
                MapSource::Folder(from) => service.config = from.path.clone().ok(),
                MapSource::Volume(volume) => service.config_volume = Some(volume.clone()),
                MapSource::Share(_) => {}
            }
        }
        service.map.get_or_insert_default().push(mapping);
    }

    /// What a volume attaches.
    fn volume(&self, service: &Name, fact: &VolumeFact) -> MapSource {
        let plain = |text: &str| -> String {
            let kept =
                |c: char| if c.is_ascii_alphanumeric() || "_.-".contains(c) { c } else { '-' };
            text.chars()
                .take(100)
                .map(kept)
                .collect::<String>()
                .trim_start_matches(['-', '.', '_'])
                .to_owned()
        };
        let last = || {
            let to = String::from_utf8_lossy(&fact.to);
            plain(&format!("{}-{}", service.raw(), to.trim_matches('/')))
        };
        let called = fact.volume.as_ref().map(|volume| Name::from(plain(volume.raw())));
        let kept = || MapSource::Volume(called.clone().unwrap_or_else(|| last().into()));
        let Some(source) = &fact.source else { return kept() };
        let empty = MountOptions::default();
        let options = fact.options.as_ref().unwrap_or(&empty);
        let protocol =
            match fact.filesystem.as_ref().map(|kind| (network_protocol(kind), kind.raw())) {
                Some((Some(protocol), _)) => protocol,
                Some((None, "smb")) => Protocol::Smb,
                _ if options.has("bind")
                    || source.raw().starts_with('/') && !source.raw().starts_with("//") =>
                {
                    return source_of(source.raw().as_bytes()).map_or_else(kept, MapSource::Folder);
                }
                _ => return kept(),
            };
        let whole = source.raw();
        let from = self.source(protocol, whole);
        let user = ["username", "user"].iter().find_map(|key| options.value(key)).map(Name::from);
        let credentials = ["credentials", "cred"].iter().find_map(|key| options.value(key));
        let apart = ["username", "user", "credentials", "cred", "password", "pass", "addr"];
        let others = options.iter().filter(|option| {
            let key = option.split('=').next().unwrap_or(option);
            !(option.contains(HIDDEN) || apart.contains(&key) && option.contains('='))
        });
        MapSource::Share(Box::new(EngineMount {
            from: match from {
                MountSource::Literal(_) => MountSource::Literal(source.clone()),
                share => share,
            },
            below: None,
            protocol,
            options: others.collect(),
            user: user.filter(|_| protocol == Protocol::Smb),
            credentials: credentials.and_then(|path| absolute(path.as_bytes())),
            volume: called,
        }))
    }

    /// A layout has one list of ranges for users and groups of a system container.
    fn idmap(&mut self, host: &Name, name: &Name, fact: &IdMapFact, spot: &Spot) {
        let range = IdRange { inside: fact.inside, outside: fact.outside, count: fact.count };
        let known = self.host_named(name).idmap.contains(&range);
        match fact.of {
            IdOf::Uid if !known => self.host_named(name).idmap.push(range),
            IdOf::Gid if !known => {
                let why =
                    format!("on {host} the groups of {name} are shifted otherwise than its users");
                self.leave(spot, why);
            }
            _ => {}
        }
    }

    /// Guesses what a service does from the folders that it sees, and how.
    fn service_role(&mut self, host: &Name, name: &Name, intakes: &[(Name, AbsPath)]) {
        let Some(service) = self.service_at.get(name).map(|at| &self.done.layout.services[*at])
        else {
            return;
        };
        let named = |mapping: &Mapping, what: fn(&[u8]) -> bool| {
            let sides = [mapping.to.path.as_ref().ok(), source_path(mapping)];
            sides.into_iter().flatten().any(|path| path.components().any(what))
        };
        let (mut intake, mut shelf, mut files) = (false, false, false);
        for mapping in service.maps() {
            let writable = mapping.access == Access::ReadWrite;
            let of_intake = named(mapping, is_intake);
            let media =
                |part: &[u8]| kind_by_name(part).is_some() || part.eq_ignore_ascii_case(b"media");
            let of_media = !of_intake && named(mapping, media);
            // Downloads of another service may lie below what this one sees.
            let seen = self.mapped_folders(host, mapping);
            let holds = intakes
                .iter()
                .any(|(on, path)| seen.iter().any(|(of, top)| of == on && path.within(top)));
            intake |= writable && (of_intake || holds);
            shelf |= of_media;
            files |= writable && of_media;
        }
        let (role, because) = match (intake, shelf, files) {
            (true, _, true) => (ServiceRole::Sort, "it can write both to downloads and to media"),
            (true, _, false) => (ServiceRole::Fetch, "it can write to downloads, and to no media"),
            (false, true, false) => (ServiceRole::Serve, "it only reads media"),
            (false, true, true) => (ServiceRole::Serve, "it sees media, and no downloads"),
            (false, false, _) => (ServiceRole::Serve, "nothing says what it does"),
        };
        if let Some(service) = self.service_named(name) {
            service.roles = vec![role];
        }
        let words = match role {
            ServiceRole::Serve => "serves",
            ServiceRole::Fetch => "fetches",
            ServiceRole::Sort => "sorts",
        };
        let about = Part::Service(name.clone());
        self.guess(host, about, format!("service {name} {words}"), because.to_owned());
    }

    /// Guesses the libraries of services that serve: folders whose names speak of a kind, below
    /// what they see.
    pub(super) fn libraries(&mut self, hosts: &[(Name, Configuration)]) {
        let known = self.places(hosts);
        let mut found: Vec<(Name, Name, Kind, AbsPath)> = Vec::new();
        let mut places: Vec<(Name, Name, AbsPath)> = Vec::new();
        for service in &self.done.layout.services {
            if service.roles != [ServiceRole::Serve] {
                continue;
            }
            for mapping in service.maps() {
                let Ok(to) = &mapping.to.path else { continue };
                let mut roots: Vec<(Kind, AbsPath, Places)> = Vec::new();
                if let Some(kind) = to.name().and_then(kind_by_name) {
                    roots.push((kind, to.clone(), self.mapped_folders(&service.host, mapping)));
                } else {
                    for (host, path) in self.mapped_folders(&service.host, mapping) {
                        for place in
                            known.iter().filter(|(of, place)| *of == host && *place != path)
                        {
                            let Some(rest) = place.1.below(&path) else { continue };
                            if let Some(kind) = place.1.name().and_then(kind_by_name) {
                                roots.push((kind, to.join(rest), vec![place.clone()]));
                            }
                        }
                    }
                }
                roots.sort_by(|a, b| a.1.cmp(&b.1));
                roots.dedup();
                for (kind, root, at) in roots {
                    // Below a library there is no other, and one folder is one library.
                    let inside = found
                        .iter()
                        .any(|(of, _, _, known)| *of == service.name && root.within(known));
                    let same = |place: &(Name, AbsPath)| {
                        places.iter().any(|(of, host, path)| {
                            *of == service.name && *host == place.0 && *path == place.1
                        })
                    };
                    if !inside && !at.iter().any(same) {
                        found.push((service.name.clone(), service.host.clone(), kind, root));
                        let of = &service.name;
                        places.extend(at.into_iter().map(|(host, path)| (of.clone(), host, path)));
                    }
                }
            }
        }
        for (service, host, kind, root) in found {
            let Some(root) = declared(root.as_bytes()) else { continue };
            let because = format!("{} speaks of {}", root.written, kind.word());
            let Some(service_of) = self.service_named(&service) else { continue };
            let mut name = usual_library_name(kind).to_owned();
            if service_of.libraries.iter().any(|library| library.name == *name.as_str()) {
                name = format!("{name} {}", service_of.libraries.len() + 1);
            }
            service_of.libraries.push(Library {
                name: name.as_str().into(),
                kind,
                roots: vec![root],
                original: false,
                backup: None,
                prefer: Prefer::default(),
                origin: Origin::default(),
            });
            let about = Part::Service(service.clone());
            self.guess(&host, about, format!("service {service} has a library {name}"), because);
        }
    }

    /// Folders that configuration speaks of, on the host that has them.
    fn places(&self, hosts: &[(Name, Configuration)]) -> Places {
        let mut places = Vec::new();
        for (host, configuration) in hosts {
            for found in &configuration.facts {
                let path = match &found.fact {
                    Fact::Dataset(dataset) => dataset.at.as_deref(),
                    Fact::Folder(folder) => Some(folder.path.as_slice()),
                    Fact::Export(export) => Some(export.path.as_slice()),
                    Fact::Share(share) => Some(share.path.as_slice()),
                    _ => None,
                };
                places.extend(path.and_then(absolute).map(|path| (host.clone(), path)));
            }
        }
        for service in &self.done.layout.services {
            for mapping in service.maps() {
                places.extend(self.mapped_folders(&service.host, mapping));
            }
        }
        places.sort();
        places.dedup();
        places
    }

    /// The folder that a mapping shows: on its own host, and on the one that it is mounted from.
    fn mapped_folders(&self, host: &Name, mapping: &Mapping) -> Places {
        let mut places = Vec::new();
        let share = |from: &MountSource, rest: &[u8], places: &mut Places| {
            let MountSource::Share(name) = from else { return };
            let shares = self.done.layout.shares.iter().chain(&self.known.shares);
            if let Some(share) = shares.into_iter().find(|share| share.name == *name) {
                places.push((share.host.clone(), share.path.join(rest)));
            }
        };
        match &mapping.source {
            MapSource::Folder(from) => {
                let Ok(path) = &from.path else { return places };
                places.push((host.clone(), path.clone()));
                let mounts = self.done.layout.mounts.iter().chain(&self.known.mounts);
                let above = mounts.filter(|mount| mount.host == *host && path.within(&mount.at));
                if let Some(mount) = above.max_by_key(|mount| mount.at.components().count()) {
                    share(&mount.from, path.below(&mount.at).unwrap_or_default(), &mut places);
                }
            }
            MapSource::Share(mount) => share(&mount.from, b"", &mut places),
            MapSource::Volume(_) => {}
        }
        places
    }
}

fn source_path(mapping: &Mapping) -> Option<&AbsPath> {
    match &mapping.source {
        MapSource::Folder(from) => from.path.as_ref().ok(),
        _ => None,
    }
}

/// A user namespace as an engine writes it: `Some(None)` is the host's own, `None` is not
/// understood.
fn namespace(written: &str) -> Option<Option<UserNs>> {
    if matches!(written, "" | "host") {
        return Some(None);
    }
    let mut map = crate::kernel::subject::IdMap::default();
    for range in written.split(',') {
        let (of, numbers) = range.split_at_checked(2)?;
        let numbers: Vec<u32> =
            numbers.split(':').map(str::parse).collect::<Result<_, _>>().ok()?;
        let [inside, outside, count] = numbers[..] else { return None };
        let range = IdRange { inside, outside, count };
        match of {
            "u:" => map.uids.push(range),
            "g:" => map.gids.push(range),
            _ => return None,
        }
    }
    Some(Some(UserNs::Ranges(map)))
}
