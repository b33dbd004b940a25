//! Briefs: small TOML files that say what is wanted, read with positions like a layout.

use std::collections::BTreeMap;
use std::sync::OnceLock;

use schemars::JsonSchema;
use serde::Deserialize;
use tarvek_core::draft::brief::{
    Apps, Brief, Client, Containers, Filesystem, Person, Reach, Storage, Team, Wanted,
    contradictions,
};
use tarvek_core::layout::intake::Want;
use tarvek_core::layout::service::ServiceRole;
use tarvek_core::words::grammar::Text;
use tarvek_core::words::name::Name;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::secret;
use tarvek_core::words::terms::{Access, Kind, Origin, Os};
use tarvek_core::words::text::{nearest, shown};

use crate::forms::{Address, Clients, checked_port};
use crate::guard::refusing;
use crate::keyword::Keyword;
use crate::layout::text_of;
use crate::lines::Lines;
use crate::mistake::{Mistakes, Refused};
use crate::read_toml::read_toml;
use crate::structure::{At, Form, OneOrMany, Structure};

/// What is wanted, before there is a layout.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(title = "Brief for a layout", rename = "Brief")]
struct Raw {
    /// The version of this format: 1.
    #[schemars(extend("x-required" = true), range(min = 1, max = 1))]
    brief: Option<i64>,
    /// The site's name.
    #[schemars(extend("x-required" = true))]
    site: Option<String>,
    /// What is to be kept.
    #[schemars(extend("x-required" = true), length(min = 1), with = "Vec<Keyword<Kind>>")]
    kinds: Option<Vec<Keyword<Kind>>>,
    /// Of those, what can't be replaced.
    originals: Vec<At<Keyword<Kind>>>,
    /// Kinds that need snapshots or a quota of their own.
    apart: Vec<At<Keyword<Kind>>>,
    /// How downloads get into libraries: hardlink unless said otherwise.
    want: Option<At<Keyword<Want>>>,
    /// What runs the services: docker unless said otherwise.
    containers: Option<Keyword<Containers>>,
    /// Whether rights are given by ACLs (true), or by one group and mode bits.
    acls: Option<bool>,
    /// Where what can't be replaced is backed up to.
    backup: Option<String>,
    /// The storage host.
    #[schemars(extend("x-required" = true), with = "RawStorage")]
    storage: Option<RawStorage>,
    /// Other hosts that run services, by name.
    apps: BTreeMap<At<String>, RawApps>,
    /// Services, by name.
    service: BTreeMap<At<String>, RawService>,
    /// People.
    people: RawPeople,
    /// The group of services that write.
    helpers: RawTeam,
    /// Machines that people watch on, by name.
    client: BTreeMap<At<String>, RawClient>,
}

/// The storage host.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Storage")]
struct RawStorage {
    /// Its name.
    #[schemars(extend("x-required" = true), with = "String")]
    host: Option<At<String>>,
    /// The ZFS pool, or the label of the volume.
    #[schemars(extend("x-required" = true), with = "String")]
    pool: Option<At<String>>,
    /// What it is made of.
    #[schemars(extend("x-required" = true), with = "Keyword<Filesystem>")]
    filesystem: Option<Keyword<Filesystem>>,
    /// Where it is mounted: /POOL unless said otherwise.
    at: Option<At<String>>,
    /// Under which others reach it: its name unless said otherwise.
    address: Option<Address>,
    /// Another pool for downloads on their way.
    intake_pool: Option<At<String>>,
    /// The network of the hosts that mount over NFS; each host by itself unless given.
    subnet: Option<Clients>,
    /// Whether SELinux enforces.
    selinux: bool,
}

/// A host that runs services and reaches the storage over the network.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Apps")]
struct RawApps {
    /// How it reaches the storage: nfs unless said otherwise.
    reach: Option<Keyword<Reach>>,
    /// Under which the storage host sees it: its name unless said otherwise.
    address: Option<Address>,
    /// Whether SELinux enforces.
    selinux: bool,
}

/// A service.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Service")]
struct RawService {
    /// What it does.
    #[schemars(extend("x-required" = true), with = "OneOrMany<Keyword<ServiceRole>>")]
    role: Option<OneOrMany<Keyword<ServiceRole>>>,
    /// Its uid.
    #[schemars(extend("x-required" = true), with = "u32")]
    id: Option<u32>,
    /// Where it runs: the only other host, else the storage host, unless said otherwise.
    host: Option<At<String>>,
    /// What it handles: everything it serves, or everything that is no original.
    kinds: Option<Vec<Keyword<Kind>>>,
    /// What it is to be allowed; its role decides unless said.
    access: Option<Keyword<Access>>,
    /// Ports to publish.
    ports: Vec<At<String>>,
}

/// People and their groups.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "People")]
struct RawPeople {
    /// The group of those who may add and change: keepers unless said otherwise.
    group: Option<At<String>>,
    /// Its number: 2100 unless said otherwise.
    gid: Option<At<u32>>,
    /// The group of those who only watch: viewers unless said otherwise.
    viewers: Option<At<String>>,
    /// Its number: 2101 unless said otherwise.
    viewers_gid: Option<At<u32>>,
    /// Who may add and change, with their uids.
    add: BTreeMap<At<String>, u32>,
    /// Who only watches, with their uids.
    watch: BTreeMap<At<String>, u32>,
}

/// A group.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Team")]
struct RawTeam {
    /// Its name: helpers unless said otherwise.
    group: Option<At<String>>,
    /// Its number: 2200 unless said otherwise.
    gid: Option<At<u32>>,
}

/// A machine that people watch on.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Client")]
struct RawClient {
    /// Its system: windows unless said otherwise.
    os: Option<Keyword<Os>>,
    /// Who uses it: the first of those who may add unless said otherwise.
    person: Option<At<String>>,
}

fn structure() -> &'static Structure {
    static STRUCTURE: OnceLock<Structure> = OnceLock::new();
    STRUCTURE.get_or_init(Structure::of::<Raw>)
}

/// The JSON Schema of a brief.
pub fn schema() -> serde_json::Value {
    structure().schema.clone()
}

const FORM: Form =
    Form { structure, called: "brief", version: "brief", text: |_| Text::Line, missing };

fn missing(name: &str, _: Option<&str>) -> String {
    match name {
        "brief" => "start the file with: brief = 1".to_owned(),
        "site" => "name the site: site = \"Kestrel Hollow\"".to_owned(),
        "kinds" => "say what is to be kept: kinds = [\"films\", \"music\"]".to_owned(),
        "storage" => {
            "describe the storage host: [storage] with host, pool and filesystem".to_owned()
        }
        "role" => "add role; it may be serve, fetch, sort".to_owned(),
        "filesystem" => "add filesystem; it may be zfs, btrfs, xfs, ext4".to_owned(),
        "id" => "add its uid: id = 840".to_owned(),
        name => format!("add {name} = …"),
    }
}

/// Reads a brief.
///
/// # Errors
/// Everything that is wrong with it, and everything in it that can't be had together.
pub fn read(file: &str, bytes: &[u8]) -> Result<Brief, Refused> {
    refusing(file, || read_unguarded(file, bytes))
}

fn read_unguarded(file: &str, bytes: &[u8]) -> Result<Brief, Refused> {
    let text = text_of(file, "brief", bytes)?;
    let mut mistakes = Mistakes::new(text);
    let raw: Raw = read_toml(&FORM, text, &mut mistakes);
    let brief = Reader { lines: Lines::of(text), mistakes: &mut mistakes }.brief(raw);
    for found in brief.as_ref().map(contradictions).unwrap_or_default() {
        let start = Lines::of(text).offset(found.origin);
        let word = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-');
        let length = text.as_bytes()[start..].iter().take_while(|&&b| word(b)).count();
        mistakes.add(start..start + length.max(1), found.message, Some(found.choose));
    }
    match brief {
        Some(brief) if mistakes.is_empty() => Ok(brief),
        _ => Err(mistakes.into_refused(file)),
    }
}

struct Reader<'a, 'm, 't> {
    lines: Lines<'a>,
    mistakes: &'m mut Mistakes<'t>,
}

impl Reader<'_, '_, '_> {
    fn at<T>(&self, at: &At<T>) -> Origin {
        self.lines.origin(&at.span)
    }

    /// A name that goes into paths, units and configuration of all sorts.
    fn name(&mut self, name: &At<String>) -> Option<Name> {
        let word =
            |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || matches!(b, b'_' | b'-' | b'.');
        let fine = name.value.bytes().all(word)
            && name.value.bytes().next().is_some_and(|b| b.is_ascii_lowercase())
            && name.value.len() <= 32;
        if fine {
            return Some(name.value.as_str().into());
        }
        let message = format!("{:?} can't be a name everywhere", shown(name.value.as_bytes()));
        let remedy = "use up to 32 small letters, digits, -, _ and ., a letter first";
        self.mistakes.add(name.span.clone(), message, Some(remedy.into()));
        None
    }

    fn names<T>(&mut self, map: BTreeMap<At<String>, T>) -> Vec<(Name, Origin, T)> {
        let mut items: Vec<_> = map.into_iter().collect();
        items.sort_by_key(|(name, _)| name.span.start);
        let mut named = Vec::new();
        for (name, value) in items {
            if let Some(text) = self.name(&name) {
                named.push((text, self.at(&name), value));
            }
        }
        named
    }

    fn brief(&mut self, raw: Raw) -> Option<Brief> {
        let kinds: Vec<Kind> = unique(raw.kinds?.into_iter().map(|kind| kind.0));
        let storage = self.storage(raw.storage?)?;
        let apps: Vec<Apps> = self
            .names(raw.apps)
            .into_iter()
            .map(|(host, origin, apps)| Apps {
                address: apps.address.map_or_else(|| host.clone(), |address| address.0.into()),
                host,
                reach: apps.reach.map_or(Reach::Nfs, |reach| reach.0),
                selinux: apps.selinux,
                origin,
            })
            .collect();
        let mut services = Vec::new();
        for (name, origin, service) in self.names(raw.service) {
            services.extend(self.service(name, origin, service, &storage, &apps));
        }
        let person = |(name, origin, uid): (Name, Origin, u32)| Person { name, uid, origin };
        let people = raw.people;
        let lines = Lines::of(self.lines.text);
        let [keepers, viewers, helpers] =
            [people.group, people.viewers, raw.helpers.group].map(|name| self.name(&name?));
        let team = |name: Option<Name>, gid: Option<At<u32>>, usual: (&str, u32)| Team {
            name: name.unwrap_or_else(|| usual.0.into()),
            origin: gid
                .as_ref()
                .map_or(Origin { line: 1, column: 1 }, |gid| lines.origin(&gid.span)),
            gid: gid.map_or(usual.1, |gid| gid.value),
        };
        let add: Vec<Person> = self.names(people.add).into_iter().map(person).collect();
        let watch: Vec<Person> = self.names(people.watch).into_iter().map(person).collect();
        let anybody = add.first().or(watch.first()).map(|person| person.name.clone());
        let clients = self
            .names(raw.client)
            .into_iter()
            .map(|(host, origin, client)| Client {
                host,
                os: client.os.map_or(Os::Windows, |os| os.0),
                person: client.person.and_then(|name| self.name(&name)).or_else(|| anybody.clone()),
                origin,
            })
            .collect();
        let writes = services.iter().any(Wanted::writes);
        let want = match raw.want {
            Some(want) => (want.value.0, self.at(&want)),
            None => (if writes { Want::Hardlink } else { Want::Copy }, Origin::default()),
        };
        Some(Brief {
            site: secret::hide(&raw.site?).into(),
            storage,
            apps,
            kinds,
            originals: raw.originals.iter().map(|at| (at.value.0, self.at(at))).collect(),
            apart: raw.apart.iter().map(|at| (at.value.0, self.at(at))).collect(),
            want,
            containers: raw.containers.map_or(Containers::Docker, |containers| containers.0),
            acls: raw.acls.unwrap_or(true),
            backup: raw.backup.as_deref().map(secret::hide),
            services,
            keepers: team(keepers, people.gid, ("keepers", 2100)),
            viewers: team(viewers, people.viewers_gid, ("viewers", 2101)),
            helpers: team(helpers, raw.helpers.gid, ("helpers", 2200)),
            add,
            watch,
            clients,
        })
    }

    fn storage(&mut self, raw: RawStorage) -> Option<Storage> {
        let host = self.name(&raw.host?);
        let pool = self.name(&raw.pool?);
        let at = match &raw.at {
            Some(at) => match AbsPath::new(at.value.as_bytes()) {
                Ok(path) if path != AbsPath::root() => Some(path),
                Ok(_) => {
                    let remedy = "media on the system disk fills it some day; name the mount point \
                                  of a pool or volume";
                    self.mistakes.add(
                        at.span.clone(),
                        "the storage is mounted at /",
                        Some(remedy.into()),
                    );
                    None
                }
                Err(fault) => {
                    let message = format!("the path {:?} {fault}", shown(at.value.as_bytes()));
                    self.mistakes.add(
                        at.span.clone(),
                        message,
                        Some("write it as an absolute path".into()),
                    );
                    None
                }
            },
            None => pool.as_ref().map(|pool| {
                AbsPath::new(format!("/{}", pool.raw()).as_bytes()).expect("a name makes a path")
            }),
        };
        let intake_pool = match &raw.intake_pool {
            Some(pool) => Some((self.name(pool)?, self.at(pool))),
            None => None,
        };
        let host = host?;
        Some(Storage {
            address: raw.address.map_or_else(|| host.clone(), |address| address.0.into()),
            host,
            pool: pool?,
            at: at?,
            filesystem: raw.filesystem?.0,
            intake_pool,
            subnet: raw.subnet.map(|subnet| subnet.0.into()),
            selinux: raw.selinux,
        })
    }

    fn service(
        &mut self,
        name: Name,
        origin: Origin,
        raw: RawService,
        storage: &Storage,
        apps: &[Apps],
    ) -> Option<Wanted> {
        let hosts: Vec<&str> = std::iter::once(storage.host.raw())
            .chain(apps.iter().map(|apps| apps.host.raw()))
            .collect();
        let host = match raw.host {
            Some(host) if hosts.contains(&host.value.as_str()) => host.value.into(),
            Some(host) => {
                let remedy = match nearest(&host.value, hosts.iter().copied()) {
                    Some(near) => format!("did you mean {near:?}?"),
                    None => format!("known hosts: {}", hosts.join(", ")),
                };
                let message =
                    format!("the host {:?} is not declared", shown(host.value.as_bytes()));
                self.mistakes.add(host.span, message, Some(remedy));
                return None;
            }
            None if apps.len() == 1 => apps[0].host.clone(),
            None => storage.host.clone(),
        };
        Some(Wanted {
            name,
            roles: unique(raw.role?.0.into_iter().map(|role| role.0)),
            host,
            id: raw.id?,
            kinds: raw.kinds.map(|kinds| unique(kinds.into_iter().map(|kind| kind.0))),
            access: raw.access.map(|access| access.0),
            ports: raw
                .ports
                .into_iter()
                .filter_map(|port| checked_port(port, self.mistakes))
                .collect(),
            origin,
        })
    }
}

fn unique<T: PartialEq>(items: impl Iterator<Item = T>) -> Vec<T> {
    let mut all = Vec::new();
    for item in items {
        if !all.contains(&item) {
            all.push(item);
        }
    }
    all
}
