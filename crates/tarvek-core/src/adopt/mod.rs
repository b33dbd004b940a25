//! From what the configuration of hosts says to a layout: one fact after another finds its place,
//! and what no configuration says is guessed, with its reason.

pub mod guess;
mod hosts;
mod network;
mod services;

use std::collections::{BTreeMap, HashMap, HashSet};

use crate::adopt::guess::Guess;
use crate::facts::configured::{Configuration, Fact};
use crate::layout::host::{Host, HostRole};
use crate::layout::mapping::Declared;
use crate::layout::site::Layout;
use crate::words::grammar::{self, Naming};
use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::path::AbsPath;
use crate::words::secret;
use crate::words::spot::Spot;
use crate::words::terms::Origin;

/// A layout that was made of configuration.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Adoption {
    /// It has no places in a file yet. `adopted` says where each part was read.
    pub layout: Layout,
    /// In the order of the hosts.
    pub guesses: Vec<Guess>,
    /// What a layout can't say, with the reason.
    pub left: Vec<(Spot, String)>,
}

/// Makes a layout of the configuration of some hosts. `known` is the layout that it will extend:
/// names that it has taken, and shares that mounts may refer to.
pub fn adopt(hosts: &[(Name, Configuration)], known: &Layout) -> Adoption {
    let (names, service_at, done) = Default::default();
    let mut adopting = Adopting { known, names, service_at, done };
    let hosts = &adopting.without_outside(hosts);
    for (name, configuration) in hosts {
        adopting.host(name, configuration, hosts);
    }
    for (name, configuration) in hosts {
        adopting.shares(name, configuration);
    }
    for (name, configuration) in hosts {
        adopting.mounts(name, configuration);
        adopting.services(name, configuration);
    }
    adopting.service_roles(hosts);
    adopting.roles();
    adopting.libraries(hosts);
    adopting.done
}

struct Adopting<'a> {
    known: &'a Layout,
    /// Names of services and shares that are taken.
    names: HashSet<String>,
    /// Where each service stands in the layout.
    service_at: HashMap<Name, usize>,
    done: Adoption,
}

impl Adopting<'_> {
    /// The hosts without what holds only for whoever asks now.
    fn without_outside(&mut self, hosts: &[(Name, Configuration)]) -> Vec<(Name, Configuration)> {
        let mut hosts = hosts.to_vec();
        for (_, configuration) in &mut hosts {
            let outside: HashSet<Spot> = configuration.outside.iter().cloned().collect();
            configuration.facts.retain(|found| {
                let stays = !outside.contains(&found.spot);
                if !stays {
                    let what = match &found.fact {
                        Fact::Service(service) => format!("the service {} has", service.name),
                        _ => "it has".to_owned(),
                    };
                    self.leave(
                        &found.spot,
                        format!(
                            "{what} a value from the environment: write it into the `.env` \
                                 beside the file"
                        ),
                    );
                }
                stays
            });
        }
        hosts
    }

    fn leave(&mut self, spot: &Spot, why: impl Into<String>) {
        self.done.left.push((spot.clone(), secret::hide(&why.into())));
    }

    /// Notes where a part was read; of two places the first counts. Whether the part is new.
    fn part(&mut self, part: Part, spot: &Spot) -> bool {
        let parts = &mut self.done.layout.adopted.parts;
        if parts.contains_key(&part) {
            return false;
        }
        parts.insert(part, spot.clone());
        true
    }

    fn guess(&mut self, host: &Name, about: Part, what: String, because: String) {
        // Whoever wrote the file may have put a secret anywhere.
        let (what, because) = (secret::hide(&what), secret::hide(&because));
        self.done.guesses.push(Guess { host: host.clone(), about, what, because });
    }

    /// The host of that name, which is there already or made now.
    fn host_named(&mut self, name: &Name) -> &mut Host {
        let hosts = &mut self.done.layout.hosts;
        let at = hosts.iter().position(|host| host.name == *name).unwrap_or_else(|| {
            hosts.push(Host { name: name.clone(), ..Host::default() });
            hosts.len() - 1
        });
        &mut hosts[at]
    }

    /// What hosts are for: those that offer something store it, those that run something are for
    /// that, others watch.
    fn roles(&mut self) {
        let layout = &self.done.layout;
        let mut roles: BTreeMap<Name, (Vec<HostRole>, &str)> = BTreeMap::new();
        for host in &layout.hosts {
            let stores =
                !host.datasets.is_empty() || layout.shares.iter().any(|s| s.host == host.name);
            let runs = layout.services.iter().any(|service| service.host == host.name)
                || host.inside.is_some()
                || layout.hosts.iter().any(|other| other.inside.as_ref() == Some(&host.name));
            let found = match (stores, runs) {
                (true, true) => (
                    vec![HostRole::Storage, HostRole::Apps],
                    "it offers shares, and containers of it were read",
                ),
                (true, false) => (vec![HostRole::Storage], "it offers shares or keeps datasets"),
                (false, true) => (vec![HostRole::Apps], "containers of it were read"),
                (false, false) => {
                    (vec![HostRole::Client], "it offers nothing, and runs nothing that was read")
                }
            };
            roles.insert(host.name.clone(), found);
        }
        for (name, (found, because)) in roles {
            self.host_named(&name).roles.clone_from(&found);
            // A host that is there has its roles from whoever wrote them.
            if self.known.host(&name).is_none() {
                let word = |role: &HostRole| match role {
                    HostRole::Storage => "stores",
                    HostRole::Apps => "runs services",
                    HostRole::Client => "only watches",
                };
                let words: Vec<&str> = found.iter().map(word).collect();
                let what = format!("host {name} {}", words.join(" and "));
                self.guess(&name, Part::Host(name.clone()), what, because.to_owned());
            }
        }
    }

    /// The name under which something was adopted before from the same file: as it is there, or
    /// with a host's before it.
    fn recorded(&self, sort: fn(Name) -> Part, name: &str, spot: &Spot) -> Option<Name> {
        let name = fitting(name);
        self.known.adopted.parts.iter().find_map(|(part, known)| {
            let (Part::Service(called) | Part::Share(called)) = part else { return None };
            let raw = called.raw();
            let same = raw == name || raw.strip_suffix(&name)?.ends_with('-');
            let same = same && known.file == spot.file && *part == sort(called.clone());
            same.then(|| called.clone())
        })
    }

    /// A name that nothing else has: as it is, or with the host's before it.
    fn free_name(
        &mut self,
        sort: &str,
        name: &str,
        host: &Name,
        taken: impl Fn(&Name) -> bool,
    ) -> Name {
        let mut name = fitting(name);
        let is_free = |adopting: &Self, name: &str| {
            !adopting.names.contains(&format!("{sort} {name}")) && !taken(&Name::from(name))
        };
        if !is_free(self, &name) {
            name = format!("{}-{name}", host.raw());
            let mut n = 2;
            while !is_free(self, &name) {
                name = format!("{name}-{n}");
                n += 1;
            }
        }
        self.names.insert(format!("{sort} {name}"));
        name.into()
    }
}

/// A text as a name of a layout: what has no place in one becomes a hyphen.
fn fitting(text: &str) -> String {
    if grammar::fault(Naming::Thing, text).is_none() {
        return text.to_owned();
    }
    let kept = |c: char| if c.is_alphanumeric() || matches!(c, '_' | '-' | '.') { c } else { '-' };
    let text: String = text.chars().take(60).map(kept).collect();
    let text = text.trim_matches(['-', '.']);
    if grammar::fault(Naming::Thing, text).is_none() {
        text.to_owned()
    } else {
        "unnamed".to_owned()
    }
}

/// A path as a layout holds it; `None` if it is no text.
fn declared(path: &[u8]) -> Option<Declared> {
    let written = std::str::from_utf8(path).ok()?;
    Some(Declared {
        written: written.into(),
        path: AbsPath::of_client(path),
        origin: Origin::default(),
    })
}

/// The source of a mapping as a layout holds it; `None` if it is no text.
fn source(path: &[u8]) -> Option<Declared> {
    let written = std::str::from_utf8(path).ok()?;
    Some(Declared::source(written.into(), Origin::default()))
}

/// An absolute path as a layout holds it.
fn absolute(path: &[u8]) -> Option<AbsPath> {
    std::str::from_utf8(path).ok()?;
    AbsPath::of_client(path).ok()
}
